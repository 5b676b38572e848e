/* What was read of one piece of footage. */
#include "footage.h"

#include <string.h>

void cli_footage_init(cli_footage *f, const char *name)
{
    *f = (cli_footage){.name = name,
                       .moments = g_array_new(FALSE, FALSE, sizeof(cli_moment)),
                       .sightings = g_array_new(FALSE, FALSE, sizeof(tw_sighting))};
}

void cli_footage_clear(cli_footage *f)
{
    if (f->moments)
        (void)g_array_free(f->moments, TRUE);
    if (f->sightings)
        (void)g_array_free(f->sightings, TRUE);
    g_free(f->events);
    g_free(f->what);
    g_free(f->judged);
    *f = (cli_footage){0};
}

void cli_footage_reading(cli_footage *f, const tw_reading *r)
{
    if (f->moments->len == 0)
        f->zero_us = r->t_us;
    cli_moment moment = {.t_us = r->t_us - f->zero_us,
                         .activity_ppm = r->activity_ppm,
                         .light_ppm = r->light_ppm,
                         .sway_ppm = r->sway_ppm,
                         .shake_ppm = r->shake_ppm,
                         .travel_ppm = r->travel_ppm,
                         .size_ppm = r->size_ppm,
                         .since_us = r->since_us - f->zero_us,
                         .subjects = r->subjects,
                         .whole_picture = r->whole_picture};
    memcpy(moment.area_ppm, r->area_ppm, sizeof moment.area_ppm);
    g_array_append_val(f->moments, moment);
}

double cli_footage_seconds(const cli_footage *f, int64_t t_us)
{
    return (double)(t_us - f->zero_us) / 1e6;
}

static void keep_ended(cli_footage *f, const tw_sighting_watch *watch, unsigned what)
{
    if (what & TW_SIGHTING_ENDED)
        g_array_append_val(f->sightings, watch->ended);
}

void cli_footage_replay(cli_footage *f, const tw_sighting_config *limits)
{
    tw_sighting_watch watch;
    (void)g_array_set_size(f->sightings, 0);
    if (tw_sighting_init(&watch, limits) != TW_OK)
        return;
    for (guint i = 0; i < f->moments->len; i++) {
        const cli_moment *m = &g_array_index(f->moments, cli_moment, i);
        tw_reading r = {.t_us = f->zero_us + m->t_us,
                        .since_us = f->zero_us + m->since_us,
                        .activity_ppm = m->activity_ppm,
                        .subjects = m->subjects,
                        .whole_picture = m->whole_picture};
        memcpy(r.area_ppm, m->area_ppm, sizeof r.area_ppm);
        keep_ended(f, &watch, tw_sighting_step(&watch, &r));
    }
    keep_ended(f, &watch, tw_sighting_finish(&watch));
}

void cli_footage_judge(cli_footage *f, twi_score *score)
{
    g_free(f->judged);
    f->judged = g_new0(twi_score_sighting, f->sightings->len + 1);
    for (guint i = 0; i < f->sightings->len; i++) {
        const tw_sighting *s = &g_array_index(f->sightings, tw_sighting, i);
        f->judged[i].when = (twi_span){s->start_us - f->zero_us, s->end_us - f->zero_us};
    }
    (void)twi_score_add(score, f->length_us, f->events, f->event_count, f->judged,
                        f->sightings->len);
}
