/* A store for tests. */
#include "place.h"
#include "../../src/core/naming.h"
#include "../../src/settings/sections.h"
#include "tawny/events.h"

#include <stdlib.h>
#include <string.h>

static void on_event(void *ctx, const tw_event *e)
{
    place *p = ctx;
    if (e->kind == TW_EVENT_FREED)
        (void)snprintf(p->freed + strlen(p->freed), sizeof p->freed - strlen(p->freed),
                       "%s: %s\n", e->camera ? e->camera : "station", e->text);
    if (e->kind == TW_EVENT_ALARM)
        (void)snprintf(p->alarms + strlen(p->alarms),
                       sizeof p->alarms - strlen(p->alarms), "%s\n", e->text);
    if (e->kind == TW_EVENT_PROBLEM)
        collect_problem(&p->problems, e->text);
}

void open_writer(place *p)
{
    tw_error err = {0};
    p->writer =
        (twi_writer){.clock = tw_sim_clock(&p->time), .callback = on_event, .ctx = p};
    for (int i = 0; i < 2; i++)
        twi_writer_add_channel(&p->writer, &p->channel[i]);
    if (twi_writer_open(&p->writer, &p->card, &p->station, &err) != TW_OK)
        fail_msg("%s", err.text);
}

place *make_place(const tw_sim_faults *faults)
{
    place *p = calloc(1, sizeof *p);
    assert_non_null(p);
    p->time = (tw_sim_time){.wall_at_zero_us = WALL};
    p->station = (twi_station_settings){.name = "hollin", .names = NAMES};
    for (int i = 0; i < 2; i++) {
        p->camera[i] = (twi_camera_settings){.name = i ? "mere" : "kerb",
                                             .keep_for_us = NO_LIMIT,
                                             .keep_size = NO_LIMIT,
                                             .pre_us = S,
                                             .pre_bytes = 4000000,
                                             .clips = true,
                                             .confirm = {2, 3}};
        p->channel[i].camera = &p->camera[i];
    }
    assert_int_equal(tw_sim_card(faults, &p->card), TW_OK);
    return p;
}

void leave(place *p)
{
    twi_writer_close(&p->writer);
    p->card.ops->destroy(p->card.ctx);
    free(p);
}

int64_t capture(place *p, int camera)
{
    size_t bytes = 0;
    const int64_t now = p->time.now_us;
    const int64_t wall_us = p->time.wall_at_zero_us;
    uint8_t *jpeg = plain_jpeg(64, 48, 90, &bytes);
    twi_job job = {.channel = &p->channel[camera], .wall_offset_us = wall_us};
    job.sighting = (tw_sighting){
        .number = ++p->number, .part = 1, .start_us = now, .end_us = now + S};
    job.kind = TWI_JOB_ENDED;
    twi_writer_do(&p->writer, &job);
    job.kind = TWI_JOB_STILL;
    job.what = TWI_KIND_STILL;
    job.buffer = twi_buffer_adopt(jpeg, bytes);
    job.packet =
        (tw_packet){.data = jpeg, .size = bytes, .t_us = now, .wall_us = wall_us + now};
    job.width = 64;
    job.height = 48;
    twi_writer_do(&p->writer, &job);
    p->time.now_us += 60 * S;
    return p->number; /* the first id is 1, and each sighting takes one */
}

size_t held(const place *p, const char *part)
{
    size_t count = 0;
    for (size_t i = 0; i < tw_sim_card_count(&p->card); i++) {
        const char *name = NULL;
        const uint8_t *data = NULL;
        size_t bytes = 0;
        assert_int_equal(tw_sim_card_file(&p->card, i, &name, &data, &bytes), TW_OK);
        count += strstr(name, part) != NULL;
    }
    return count;
}
