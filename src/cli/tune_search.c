/* Trying settings on pieces of footage. */
#include <stdio.h>
#include <string.h>

#include "output.h"
#include "prime.h"
#include "tune.h"
#include "../settings/sections.h"
#include "../station/rehearse.h"
#include "../station/why.h"
#include "tawny/rehearse.h"

/* Limits that are tried with each variant, beside the one that is set, ppm. */
static const uint32_t TRIED[] = {200,  300,  500,   700,   1000,  1500,  2000, 3000,
                                 5000, 7000, 10000, 15000, 20000, 30000, 50000};
enum { LIMITS = G_N_ELEMENTS(TRIED) };

/* ---- footage --------------------------------------------------------------------- */

tune_piece *tune_add_piece(tune_engine *t, const char *name)
{
    tune_piece p = {.name = g_strdup(name), .source = cli_source_of(name)};
    cli_footage_init(&p.footage, p.name);
    g_array_append_val(t->pieces, p);
    return &g_array_index(t->pieces, tune_piece, t->pieces->len - 1);
}

void tune_init(tune_engine *t)
{
    *t = (tune_engine){.pieces = g_array_new(FALSE, FALSE, sizeof(tune_piece))};
}

void tune_clear(tune_engine *t)
{
    for (guint i = 0; t->pieces && i < t->pieces->len; i++) {
        tune_piece *p = &g_array_index(t->pieces, tune_piece, i);
        cli_footage_clear(&p->footage);
        g_free(p->source);
        g_free(p->name);
    }
    if (t->pieces)
        (void)g_array_free(t->pieces, TRUE);
    *t = (tune_engine){0};
}

void tune_set_event(tune_piece *p, int64_t start_us, int64_t end_us)
{
    g_free(p->footage.events);
    g_free(p->footage.what);
    p->footage.events = g_new0(twi_truth_event, 1);
    p->footage.what = g_new0(const char *, 1);
    p->footage.what[0] = "something";
    p->footage.events[0].when = (twi_span){start_us, end_us};
    p->footage.event_count = 1;
}

/* ---- reading it ------------------------------------------------------------------ */

/* Of a beginning that is shown several times, only the last counts. */
static void take_reading(tune_engine *t, tune_piece *p, const tw_event *e)
{
    const int64_t lead_us = p->quiet_us > 0 ? cli_prime_lead(p->quiet_us) : 0;
    p->first_us = t->begun ? p->first_us : e->reading->t_us;
    t->begun = TRUE;
    if (e->reading->t_us - p->first_us < lead_us)
        return;
    cli_footage_reading(&p->footage, e->reading);
    out_progress_at(&t->progress, e->reading->t_us - p->footage.zero_us);
    if (t->look)
        t->look(t->ctx, p, e);
}

static void on_event(void *ctx, const tw_event *e)
{
    tune_engine *t = ctx;
    cli_footage *f = &t->reading->footage;
    switch ((enum tw_event_kind_values)e->kind) {
    case TW_EVENT_OPENED:
        out_progress_start(&t->progress, f->name, e->stream->length_us);
        break;
    case TW_EVENT_READING:
        take_reading(t, t->reading, e);
        if (*t->stop)
            t->enough = 1;
        break;
    case TW_EVENT_BEGAN:
    case TW_EVENT_ENDED:
    case TW_EVENT_STORED:
    case TW_EVENT_FREED:
    case TW_EVENT_PROBLEM:
    case TW_EVENT_LOST:
    case TW_EVENT_BACK:
    case TW_EVENT_RELOADED:
    case TW_EVENT_ORDERED:
    case TW_EVENT_STOPPED:
    case TW_EVENT_ALARM:
    case TW_EVENT_HOLDS:
    case TW_EVENT_DAILY:
    case TW_EVENT_CLOSED: break;
    }
}

/* Run one piece through the detector. */
static int read_piece(tune_engine *t, tune_piece *p, const twi_camera_settings *camera)
{
    twi_camera_settings with = *camera;
    tw_rehearsal_result result = {0};
    tw_error err = {0};
    static const tw_camera_make_fn primed[] = {cli_prime_make, NULL};
    tw_platform platform = cli_platform();
    g_autofree char *source =
        p->quiet_us > 0 ? cli_prime_source(p->source, p->quiet_us) : NULL;
    with.source = source ? source : p->source;
    platform.makers = source ? primed : platform.makers;
    (void)g_array_set_size(p->footage.moments, 0);
    t->reading = p;
    t->enough = 0;
    t->begun = FALSE;
    const tw_status st =
        twi_rehearse(&platform, &with, NULL, &t->enough, on_event, t, &result, &err);
    out_progress_clear(&t->progress);
    p->footage.length_us = result.length_us - (source ? cli_prime_lead(p->quiet_us) : 0);
    if (*t->stop)
        return cli_say(CLI_FAILED, "stopped; nothing is proposed and nothing changed");
    if (st == TW_OK || st == TW_ESTOPPED)
        return CLI_DONE;
    p->unreadable = t->lenient;
    return cli_say(t->lenient ? CLI_DONE : CLI_FAILED, "%s", err.text);
}

/* ---- trying ---------------------------------------------------------------------- */

/* Limits from low to high, the one that is set among them. */
static size_t limits(uint32_t now_ppm, uint32_t out[LIMITS + 1])
{
    size_t n = 0;
    gboolean placed = FALSE;
    for (size_t i = 0; i < LIMITS; i++) {
        const uint32_t next = TRIED[i];
        if (!placed && now_ppm <= next)
            out[n++] = now_ppm;
        placed = placed || now_ppm <= next;
        if (next != now_ppm)
            out[n++] = next;
    }
    if (!placed)
        out[n++] = now_ppm;
    return n;
}

tw_sighting_config tune_limits(const twi_camera_settings *camera, uint32_t start_ppm)
{
    tw_sighting_config config = twi_sighting_config_of(camera);
    config.start_ppm = start_ppm;
    config.stay_ppm = MIN(config.stay_ppm, start_ppm);
    config.armed = true;
    return config;
}

static void try_limit(const tune_engine *t, tune_search *search, uint16_t variant,
                      uint32_t start)
{
    twi_trial trial = {.variant = variant, .start_ppm = start};
    const tw_sighting_config config = tune_limits(search->camera, start);
    for (guint i = 0; i < t->pieces->len; i++) {
        cli_footage *f = &g_array_index(t->pieces, tune_piece, i).footage;
        cli_footage_replay(f, &config);
        cli_footage_judge(f, &trial.score);
    }
    g_array_append_val(search->trials, trial);
}

int tune_read(tune_engine *t, const tune_search *search, uint16_t variant)
{
    twi_camera_settings camera;
    tune_apply(search->camera, &search->variants[variant], &camera);
    int code = CLI_DONE;
    for (guint i = 0; i < t->pieces->len && code == CLI_DONE; i++)
        if (!g_array_index(t->pieces, tune_piece, i).unreadable)
            code = read_piece(t, &g_array_index(t->pieces, tune_piece, i), &camera);
    return code;
}

void tune_try(const tune_engine *t, tune_search *search, uint16_t variant)
{
    uint32_t limit[LIMITS + 1];
    const size_t n = limits((uint32_t)search->camera->start_ppm, limit);
    for (guint i = 0; i < t->pieces->len && variant == 0; i++)
        search->length_us += g_array_index(t->pieces, tune_piece, i).footage.length_us;
    for (size_t i = 0; i < n; i++)
        try_limit(t, search, variant, limit[i]);
}

gboolean tune_found_any(const tune_search *s)
{
    for (guint i = 0; i < s->trials->len; i++)
        if (g_array_index(s->trials, twi_trial, i).score.found > 0)
            return TRUE;
    return FALSE;
}

void tune_choose(tune_search *s)
{
    const twi_trial *trials = (const twi_trial *)(void *)s->trials->data;
    s->choice =
        twi_tune_choose(trials, s->trials->len, s->worth, (uint32_t)s->camera->start_ppm);
    s->chosen = &trials[s->choice.chosen];
    for (guint i = 0; i < s->trials->len && !s->now; i++)
        if (trials[i].variant == 0 &&
            trials[i].start_ppm == (uint32_t)s->camera->start_ppm)
            s->now = &trials[i];
}
