/* Each row of the table of settings is changed in the middle of a sighting: what it may
 * cost is what the row says, and no more. */
#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../../src/settings/state.h"
#include "../support/support.h"
#include "../../src/core/naming.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

enum {
    W = 96,
    H = 64,
    STEP_US = 100000,
    REAL_US = 300,    /* that a frame really takes */
    TRIGGER_AT = 70,  /* it has settled by then */
    CHANGE_AFTER = 5, /* frames, once the sighting has begun */
    GO_ON = 12,       /* and so many after the change */
    MOST_FRAMES = 3000
};

/* ---- a camera that gives the same picture forever --------------------------------- */

typedef struct still_life {
    uint8_t *jpeg;
    size_t bytes;
    bool small; /* a second stream, beside the first */
} still_life;

/* Settings are given and not taken over yet: frames wait, at most seconds, as on a busy
 * machine they would be through before. */
static atomic_bool applying;

static atomic_int given; /* frames of first streams: their times go on */

static tw_status begin_life(void *ctx, tw_stream *stream, tw_error *err)
{
    (void)ctx;
    (void)err;
    *stream = (tw_stream){.codec = TW_CODEC_MJPEG,
                          .codec_name = "mjpeg",
                          .width = W,
                          .height = H,
                          .fps_num = 10,
                          .fps_den = 1};
    return TW_OK;
}

static tw_status next_picture(void *ctx, tw_frame *frame, tw_error *err)
{
    const still_life *c = ctx;
    const tw_clock clock = tw_linux_clock();
    (void)err;
    for (int i = 0; i == 0 || (i < 5000 && atomic_load(&applying)); i++)
        clock.ops->sleep_until(clock.ctx, clock.ops->now_us(clock.ctx) + REAL_US);
    memset(frame, 0, sizeof *frame);
    frame->packet.data = c->jpeg;
    frame->packet.size = c->bytes;
    frame->packet.key = true;
    frame->packet.t_us = frame->packet.dts_us =
        (int64_t)(c->small ? atomic_load(&given) : atomic_fetch_add(&given, 1)) * STEP_US;
    frame->packet.wall_us = clock.ops->wall_us(clock.ctx);
    return TW_OK;
}

static void end_life(void *ctx)
{
    (void)ctx;
}

static void destroy_life(void *ctx)
{
    still_life *c = ctx;
    free(c->jpeg);
    free(c);
}

static tw_status make_camera(const tw_camera_request *request, tw_camera *out,
                             tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops,   "still life", TW_LIVE,
                                      begin_life,   next_picture, end_life,
                                      destroy_life, NULL};
    still_life *c = calloc(1, sizeof *c);
    (void)err;
    assert_non_null(c);
    if (strncmp(request->source, "life:", 5) != 0) {
        free(c);
        return TW_ENOTSUP;
    }
    c->jpeg = plain_jpeg(W, H, 90, &c->bytes);
    c->small = strcmp(request->source, "life:small") == 0;
    *out = (tw_camera){&ops, c};
    return TW_OK;
}

/* ---- a station that is changed ------------------------------------------------------
 */

static const char BASE[] =
    "[destination mail]\nurl = smtp://h\nto = a@b.example\nfrom = c@b.example\n"
    "[destination shed]\nurl = file:/tmp\n[profile night]\n"
    "[profile close]\n";
static const char CAMERA[] =
    "[cameras]\nsource = life:\nsettle = 6 s\npre_event = 1 s\n"
    "post_event = 3 s\nclip_video = mjpeg\nstills = none\n[camera mere]\n";

typedef enum phase { WARM, BEGUN, CHANGED, ENDED, RESTORED, AGAIN, OVER } phase;

typedef struct changing {
    tw_station *station;
    const char *first, *second; /* settings before, and in the middle */
    size_t jpeg_bytes;
    bool stays; /* what holds in the first sighting holds in the second, too */
    phase phase;
    int left; /* frames, until the next phase */
    size_t opened, began, ended, reloaded;
    size_t opened_at_end; /* of the first sighting */
    size_t broken;        /* readings that were no sighting's, while one ran */
    tw_watch_state after; /* state, of the first reading behind it */
    bool after_known;
    int frames[2]; /* that clips of the two sightings should have ... */
    double had[2]; /* ... and have, by their bytes */
    uint32_t number[2];
    size_t clips;
    char name[2][TWI_NAME_MAX];
    uint16_t width, height; /* of the still of the second sighting */
    problems faults, notes;
} changing;

static void apply(changing *c, const char *text)
{
    atomic_store(&applying, true);
    assert_int_equal(tw_station_apply(c->station, settings_of(text)), TW_OK);
}

static void go_to(changing *c, phase next, int frames)
{
    c->phase = next;
    c->left = frames;
}

/* What happens next, so many frames later. */
static void turn(changing *c)
{
    switch (c->phase) {
    case WARM:
        assert_int_equal(tw_station_trigger(c->station, "mere"), TW_OK);
        go_to(c, BEGUN, CHANGE_AFTER);
        break;
    case BEGUN:
        apply(c, c->second);
        go_to(c, CHANGED, MOST_FRAMES); /* it ends by itself */
        break;
    case ENDED:
        if (!c->stays)
            apply(c, c->first);
        go_to(c, RESTORED, c->stays ? 3 * GO_ON : MOST_FRAMES);
        break;
    case RESTORED:
        assert_int_equal(tw_station_trigger(c->station, "mere"), TW_OK);
        go_to(c, AGAIN, MOST_FRAMES);
        break;
    case CHANGED:
    case AGAIN:
    case OVER:
        fail_msg("nothing more comes in phase %d; told: %s", (int)c->phase,
                 c->notes.text);
    }
}

static void on_reading(changing *c, const tw_event *e)
{
    const bool runs = c->began > c->ended;
    c->broken += runs && e->state != TW_SIGHTING;
    if (c->ended == 1 && !c->after_known) {
        c->after = e->state;
        c->after_known = true;
    }
    if ((c->phase != BEGUN || runs) && c->left-- <= 0)
        turn(c);
}

static void on_stored(changing *c, const tw_event *e)
{
    if (strcmp(e->file_kind, "clip") != 0)
        return;
    const int which = e->sighting->number == c->number[0] ? 0 : 1;
    c->had[which] = (double)e->bytes / (double)c->jpeg_bytes;
    (void)snprintf(c->name[which], TWI_NAME_MAX, "%s", e->file);
    c->clips++;
}

static void on_ended(changing *c, const tw_event *e)
{
    const size_t which = c->ended++ == 0 ? 0 : 1;
    c->frames[which] =
        (int)((e->sighting->clip_end_us - e->sighting->clip_start_us) / STEP_US);
    c->number[which] = e->sighting->number;
    if (c->ended == 1) {
        c->opened_at_end = c->opened;
        go_to(c, ENDED, GO_ON);
    } else {
        tw_station_stop(c->station);
        go_to(c, OVER, MOST_FRAMES);
    }
}

static void on_event(void *ctx, const tw_event *e)
{
    changing *c = ctx;
    switch (e->kind) {
    case TW_EVENT_OPENED: c->opened++; break;
    case TW_EVENT_BEGAN: c->began++; break;
    case TW_EVENT_ENDED: on_ended(c, e); break;
    case TW_EVENT_READING: on_reading(c, e); break;
    case TW_EVENT_STORED: on_stored(c, e); break;
    case TW_EVENT_RELOADED:
        atomic_store(&applying, false);
        c->reloaded++;
        collect_problem(&c->notes, e->text);
        if (c->phase == RESTORED)
            c->left = GO_ON;
        break;
    case TW_EVENT_LOST:
    case TW_EVENT_PROBLEM:
        collect_problem(is_fault(e) || e->kind == TW_EVENT_LOST ? &c->faults : &c->notes,
                        e->text);
        break;
    default: break;
    }
}

/* What the still of the second sighting shows. */
static void examine_still(changing *c, const tw_card *card)
{
    const char *name = NULL;
    const uint8_t *data = NULL;
    size_t bytes = 0;
    for (size_t i = 0; tw_sim_card_file(card, i, &name, &data, &bytes) == TW_OK; i++)
        if (strstr(name, "002-still"))
            assert_int_equal(twi_brightness_size(data, bytes, &c->width, &c->height),
                             TW_OK);
}

/* Run through two sightings: other settings come in the middle of the first, and those of
 * before after it. */
static changing *run(const char *first, const char *second, bool stays)
{
    static const tw_camera_make_fn makers[] = {make_camera, NULL};
    changing *c = calloc(1, sizeof *c);
    tw_error err = {0};
    tw_card card;
    assert_non_null(c);
    tw_settings *settings = settings_of(first);
    c->first = first;
    c->second = second;
    c->stays = stays;
    c->left = TRIGGER_AT;
    free(plain_jpeg(W, H, 90, &c->jpeg_bytes));
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    const tw_platform platform = {
        .makers = makers, .clock = tw_linux_clock(), .card = &card};
    if (tw_station_new(&platform, settings, on_event, c, &c->station, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(tw_station_run(c->station), TW_OK);
    tw_station_free(c->station);
    assert_int_equal(tw_sim_card_open(&card), 0);
    examine_still(c, &card);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    return c;
}

static changing *change(const char *first, const char *second)
{
    return run(first, second, false);
}

/* ---- each row -----------------------------------------------------------------------
 */

/* Where the row's example is what is built in, or means nothing here. */
static const char *const OTHERWISE[][2] = {
    {"source", "life:2"},      {"detect_source", "life:small"},
    {"hours", "22:00-06:30"},  {"stay_at", "0.02 %"},
    {"confirm", "3 of 4"},     {"memory", "40 s"},
    {"settle", "9 s"},         {"difference", "30"},
    {"pre_event", "2 s"},      {"clip_quality", "70"},
    {"still_quality", "80"},   {"clip_video", "copy"},
    {"post_event", "4 s"},     {"longest", "6 min"},
    {"sensor_starts", "both"}, {"dark_by", "colour"},
    {"store", "elsewhere"},    {"listen", "127.0.0.1:8421"},
};

/* @return a value that is not the one in the settings of before. */
static void other_value(const twi_row *row, const char *mask, char out[TWI_VALUE_MAX])
{
    const char *value = row->example;
    if (row->type == &twi_type_switch)
        value = strcmp(row->preset, "yes") == 0 ? "no" : "yes";
    for (size_t i = 0; i < sizeof OTHERWISE / sizeof *OTHERWISE; i++)
        if (strcmp(OTHERWISE[i][0], row->key) == 0)
            value = OTHERWISE[i][1];
    if (strcmp(row->key, "mask") == 0)
        value = mask;
    (void)snprintf(out, TWI_VALUE_MAX, "%s", value);
}

/* A clip in a whole number of frames, its head and index aside. */
static void check_clip(const changing *c, int which, const char *what)
{
    const double lost = c->frames[which] - c->had[which];
    if (lost > 0.5)
        fail_msg("%s: %.1f of %d frames are missing in clip %d; told: %s%s", what, lost,
                 c->frames[which], which + 1, c->notes.text, c->faults.text);
}

static void check_row(const changing *c, const char *what, tw_applied applied)
{
    if (c->faults.count > 0)
        fail_msg("%s: %s", what, c->faults.text);
    if (c->broken > 0)
        fail_msg("%s: the sighting did not go on", what);
    assert_int_equal(c->reloaded, 2);
    assert_int_equal(c->ended, 2);
    assert_int_equal(c->clips, 2);
    check_clip(c, 0, what); /* whatever it is, the sighting that ran is whole */
    check_clip(c, 1, what);
    assert_true(c->number[1] == c->number[0] + 1);
    if (c->opened_at_end != 1)
        fail_msg("%s: the camera was opened again while the sighting ran", what);
    if ((c->opened > 1) != (applied == TW_APPLIED_REOPEN))
        fail_msg("%s: opened %zu times", what, c->opened);
    if (applied == TW_APPLIED_RELEARN
            ? c->after != TW_SETTLING
            : applied < TW_APPLIED_REOPEN && c->after == TW_SETTLING)
        fail_msg("%s: state %s behind the sighting", what, tw_watch_state_name(c->after));
    const bool told = strstr(c->notes.text, "from the next start on") != NULL;
    if (told != (applied == TW_APPLIED_START))
        fail_msg("%s: told: %s", what, c->notes.text);
}

static void change_row(const twi_row *row, const char *mask)
{
    char value[TWI_VALUE_MAX], what[TWI_VALUE_MAX + 64], first[1024], second[2048];
    const bool station = strcmp(row->section, "station") == 0;
    other_value(row, mask, value);
    (void)snprintf(what, sizeof what, "%s = %s", row->key, value);
    (void)snprintf(first, sizeof first, "%s%s", BASE, CAMERA);
    if (station)
        (void)snprintf(second, sizeof second, "[station]\n%s\n%s%s", what, BASE, CAMERA);
    else
        (void)snprintf(second, sizeof second, "%s%s%s\n", BASE, CAMERA, what);
    changing *c = change(first, second);
    const tw_applied applied = twi_row_applied(row);
    check_row(c, what, applied);
    assert_true(applied != TW_APPLIED_NOT);
    if (strcmp(row->key, "use") != 0 && !station) /* the profiles say nothing */
        assert_null(strstr(c->notes.text, "no camera differs"));
    free(c);
}

static void change_rows(const char *head)
{
    char *folder = make_folder();
    char *mask = join(folder, "mask.pgm");
    write_text(mask, "P2\n2 1\n255\n255 0\n");
    size_t count = 0, seen = 0;
    const twi_row *rows = twi_table(&count);
    for (size_t i = 0; i < count; i++)
        if (strcmp(rows[i].section, head) == 0) {
            change_row(&rows[i], mask);
            seen++;
        }
    assert_true(seen > 0);
    free(mask);
    remove_folder(folder);
}

/* What holds by light alone is taken over as what always does. */
static void test_each_row_by_light(void **state)
{
    size_t count = 0, seen = 0;
    const twi_row *rows = twi_table(&count);
    char *folder = make_folder();
    char *mask = join(folder, "mask.pgm");
    (void)state;
    write_text(mask, "P2\n2 1\n255\n255 0\n");
    for (size_t i = 0; i < count; i++) {
        char value[TWI_VALUE_MAX], first[1024], second[2048];
        if (!twi_row_changes(&rows[i]))
            continue;
        other_value(&rows[i], mask, value);
        (void)snprintf(first, sizeof first, "%s%s[camera mere when dark]\nclips = no\n",
                       BASE, CAMERA);
        (void)snprintf(second, sizeof second, "%s[camera mere when light]\n%s = %s\n",
                       first, rows[i].key, value);
        changing *c = change(first, second);
        check_row(c, rows[i].key, twi_row_applied(&rows[i]));
        assert_null(strstr(c->notes.text, "no camera differs"));
        free(c);
        seen++;
    }
    assert_true(seen > 30);
    free(mask);
    remove_folder(folder);
}

static void test_each_row_of_the_station(void **state)
{
    (void)state;
    change_rows("station");
}

static void test_each_row_of_a_camera(void **state)
{
    (void)state;
    change_rows("camera");
}

static void test_zones(void **state)
{
    static const char *const ZONES[] = {
        "[zone mere/lane]\nkind = ignored\narea = 0,0 50,0 50,50\n",
        "[zone mere/lane]\nkind = watched\narea = 0,0 50,0 50,50\n",
        "[zone mere/lane]\nkind = own\nstart_at = 5 %\nstay_at = 4 %\narea = 0,0 50,0 "
        "50,50\n",
        "[zone mere/lane]\nkind = own\nstart_at = 5 %\nstay_at = 4 %\narea = 0,0 60,0 "
        "60,60\n",
        ""};
    (void)state;
    for (size_t i = 0; i + 1 < sizeof ZONES / sizeof *ZONES; i++) {
        char first[1024], second[1024];
        (void)snprintf(first, sizeof first, "%s%s%s", BASE, CAMERA, ZONES[i]);
        (void)snprintf(second, sizeof second, "%s%s%s", BASE, CAMERA, ZONES[i + 1]);
        changing *c = change(first, second);
        check_row(c, ZONES[i + 1], TW_APPLIED_LIVE);
        assert_has(c->notes.text, "cameras changed 1");
        free(c);
    }
}

/* ---- and it holds -------------------------------------------------------------------
 */

/* What holds in the middle of the first sighting. */
static changing *with(const char *lines, const char *station)
{
    static char first[1024], second[2048];
    (void)snprintf(first, sizeof first, "%s%s", BASE, CAMERA);
    (void)snprintf(second, sizeof second, "%s%s%s%s", station, BASE, CAMERA, lines);
    return change(first, second);
}

static void test_what_holds_at_once(void **state)
{
    (void)state;
    changing *c = with("post_event = 5 s\n", "");
    assert_in_range(c->frames[0], 59, 61); /* 1 s before, 5 s after; were 3 */
    assert_in_range(c->frames[1], 39, 41);
    free(c);
    c = with("rotate = 90\nsettle = 1 s\n", ""); /* it has settled again by its end */
    assert_int_equal(c->after, TW_ARMED);
    free(c);
}

static void test_what_holds_with_the_next_file(void **state)
{
    (void)state;
    static char first[1024], second[1024];
    (void)snprintf(first, sizeof first, "[station]\nnames = new-{sighting}-{kind}\n%s%s",
                   BASE, CAMERA);
    (void)snprintf(second, sizeof second,
                   "[station]\nnames = old-{sighting}-{kind}\n%s%s", BASE, CAMERA);
    changing *c = change(first, second);
    assert_has(c->name[0], "new-001-clip"); /* it had begun already */
    assert_has(c->name[1], "new-002-clip");
    free(c);
    c = with("", "[station]\nnames = odd-{nothing}\n");
    assert_has(c->faults.text, "names = odd-{nothing}");
    assert_int_equal(c->clips, 2); /* by the old ones */
    free(c);
}

/* What holds from the first sighting on. */
static changing *staying_with(const char *lines)
{
    static char first[1024], second[1024];
    (void)snprintf(first, sizeof first, "%s%s", BASE, CAMERA);
    (void)snprintf(second, sizeof second, "%s%s%s", BASE, CAMERA, lines);
    return run(first, second, true);
}

static void test_what_holds_for_the_next_sighting(void **state)
{
    (void)state;
    changing *c = staying_with("pre_event = 3 s\n");
    assert_in_range(c->frames[1], 59, 61); /* were 1 s before and 3 s after */
    check_clip(c, 1, "pre_event");
    free(c);
    c = staying_with("clips = no\n");
    assert_int_equal(c->clips, 1);
    free(c);
    c = staying_with("stills = first\nrotate = 90\n"); /* which the writer turns */
    assert_int_equal(c->width, H);
    assert_int_equal(c->height, W);
    free(c);
    c = staying_with("stills = first\ncrop = 0,0 50,100\n");
    assert_in_range(c->width, W / 2 - 8, W / 2 + 8);
    assert_int_equal(c->height, H);
    free(c);
}

/* What cannot hold costs nothing, and is told. */
/* What holds by light goes to the writer, too: it turns stills by it. */
static void test_the_writer_works_by_the_light(void **state)
{
    (void)state;
    changing *c = staying_with("stills = first\n[camera mere when light]\nrotate = 90\n"
                               "[camera mere when dark]\nrotate = 180\n");
    assert_int_equal(c->width, H);
    assert_int_equal(c->height, W);
    free(c);
}

static void test_what_cannot_hold(void **state)
{
    (void)state;
    changing *c = with("mask = /none/at/all.png\n", "");
    assert_has(c->faults.text, "its new settings do not hold: ");
    assert_has(c->faults.text, "/none/at/all.png");
    assert_int_equal(c->opened, 1);
    check_clip(c, 0, "mask");
    check_clip(c, 1, "mask");
    free(c);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_each_row_of_the_station),
        cmocka_unit_test(test_each_row_of_a_camera),
        cmocka_unit_test(test_each_row_by_light),
        cmocka_unit_test(test_zones),
        cmocka_unit_test(test_what_holds_at_once),
        cmocka_unit_test(test_what_holds_with_the_next_file),
        cmocka_unit_test(test_what_holds_for_the_next_sighting),
        cmocka_unit_test(test_the_writer_works_by_the_light),
        cmocka_unit_test(test_what_cannot_hold),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
