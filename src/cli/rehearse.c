/* tawny rehearse: what a camera's settings would have made of recorded footage. */
#include <stdio.h>
#include <string.h>
#include <sys/resource.h>

#include "output.h"

static const char ABOUT[] =
    "Runs recorded footage through a camera's settings, as fast as it can be read, and "
    "says\n"
    "which sightings there would have been. FILE is a video, a folder of JPEG pictures, "
    "or a\n"
    "source such as sim:kerb. Without --settings the built-in values hold.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny rehearse yard.mp4\n"
    "  tawny rehearse --set start_at=0.5% --trace --json night.mkv\n"
    "  tawny rehearse --settings station.ini --camera kerb --keep tried/ night.mkv";

/* One rehearsal on its way. */
typedef struct rehearsal {
    const tw_camera_settings *camera;
    const char *path;
    const char *file_key; /* for JSON, where there are several files */
    gboolean json, trace;
    gboolean any;    /* a frame was read */
    int64_t zero_us; /* its time */
    out_progress progress;
} rehearsal;

static double since(const rehearsal *r, int64_t t_us)
{
    return (double)(t_us - r->zero_us) / 1e6;
}

static void show_reading(rehearsal *r, const tw_event *e)
{
    if (!r->any)
        r->zero_us = e->reading->t_us;
    r->any = TRUE;
    out_progress_at(&r->progress, e->reading->t_us - r->zero_us);
    if (!r->trace)
        return;
    if (r->json) {
        out_json_reading(r->file_key, e->reading, e->state, r->zero_us);
        return;
    }
    out_progress_clear(&r->progress);
    (void)printf("%10.3f s  activity %6.2f %%  travel %6.2f %%  sway %6.2f %%  "
                 "light %6.2f %%  blobs %2u  %s\n",
                 since(r, e->reading->t_us), e->reading->activity_ppm / 1e4,
                 e->reading->travel_ppm / 1e4, e->reading->sway_ppm / 1e4,
                 e->reading->light_ppm / 1e4, e->reading->blobs_found,
                 tw_watch_state_name(e->state));
}

static void show_sighting(const rehearsal *r, const tw_sighting *s)
{
    if (r->json) {
        out_json_sighting(r->camera->name, r->file_key, s, r->zero_us);
        return;
    }
    (void)printf(
        "  sighting %-3u %9.3f s to %9.3f s  peak %5.2f %%  %5u frames  clip %.3f s "
        "to %.3f s%s\n",
        s->number, since(r, s->start_us), since(r, s->end_us), s->peak_ppm / 1e4,
        s->frames, since(r, s->clip_start_us), since(r, s->clip_end_us),
        s->why == TW_END_LONGEST ? ", split" : "");
}

static void on_event(void *ctx, const tw_event *e)
{
    rehearsal *r = ctx;
    char size[24];
    switch (e->kind) {
    case TW_EVENT_OPENED:
        out_progress_start(&r->progress, r->camera->name, e->stream->length_us);
        break;
    case TW_EVENT_READING: show_reading(r, e); break;
    case TW_EVENT_ENDED:
        out_progress_clear(&r->progress);
        show_sighting(r, e->sighting);
        break;
    case TW_EVENT_STORED:
        if (!r->json)
            (void)printf("  stored %s (%s)\n", e->file, out_bytes(e->bytes, size));
        break;
    case TW_EVENT_PROBLEM:
        out_progress_clear(&r->progress);
        (void)fprintf(stderr, "%s: %s\n", r->path, e->text);
        break;
    case TW_EVENT_BEGAN:
    case TW_EVENT_CLOSED: break;
    }
}

static double cpu_seconds(void)
{
    struct rusage u;
    (void)getrusage(RUSAGE_SELF, &u);
    return (double)u.ru_utime.tv_sec + (double)u.ru_utime.tv_usec / 1e6 +
           (double)u.ru_stime.tv_sec + (double)u.ru_stime.tv_usec / 1e6;
}

static void show_summary(const tw_rehearsal_result *all, gboolean json, double cpu)
{
    const double length = (double)all->length_us / 1e6;
    if (json) {
        (void)printf("{\"type\":\"summary\",\"frames\":%llu,\"seconds\":%.3f,"
                     "\"sightings\":%u,\"cpu_seconds\":%.3f}\n",
                     (unsigned long long)all->frames, length, all->sightings, cpu);
        return;
    }
    (void)printf("%u %s in %.1f s of footage, %llu frames", all->sightings,
                 all->sightings == 1 ? "sighting" : "sightings", length,
                 (unsigned long long)all->frames);
    if (all->bad_frames > 0)
        (void)printf(", %llu damaged", (unsigned long long)all->bad_frames);
    (void)printf("; %.2f s of CPU, %.0f times faster than it was recorded\n", cpu,
                 cpu > 0 ? length / cpu : 0);
}

/* "file:PATH" unless it is a source already. */
static char *source_of(const char *arg)
{
    if (g_str_has_prefix(arg, "sim:") || g_str_has_prefix(arg, "file:"))
        return g_strdup(arg);
    return g_strdup_printf("file:%s", arg);
}

/* How all files are to be rehearsed. */
typedef struct plan {
    cli_common common;
    const char *camera;
    gboolean trace, several;
    const tw_card *card;
} plan;

static tw_status rehearse_one(const plan *p, const char *arg, const volatile int *stop,
                              tw_rehearsal_result *all)
{
    tw_settings *settings = NULL;
    tw_camera_settings camera;
    tw_station_settings station;
    tw_rehearsal_result result = {0};
    tw_error err = {0};
    g_autofree char *source = source_of(arg);
    tw_status st = cli_camera(&p->common, p->camera, source, &settings, &camera);
    if (st != TW_OK)
        return st;
    rehearsal r = {.camera = &camera,
                   .path = arg,
                   .file_key = p->several ? arg : NULL,
                   .json = p->common.json,
                   .trace = p->trace};
    tw_board board = cli_board();
    board.card = p->card;
    tw_settings_station(settings, &station);
    if (p->several && !p->common.json)
        (void)printf("%s\n", arg);
    st = tw_rehearse(&board, &camera, &station, stop, on_event, &r, &result, &err);
    out_progress_clear(&r.progress);
    if (st != TW_OK && st != TW_ESTOPPED)
        (void)cli_say(CLI_FAILED, "%s", err.text);
    all->frames += result.frames;
    all->bad_frames += result.bad_frames;
    all->length_us += result.length_us;
    all->sightings += result.sightings;
    tw_settings_free(settings);
    return st;
}

static int rehearse_all(const plan *p, int count, char **files)
{
    tw_rehearsal_result all = {0};
    const volatile int *stop = cli_catch_signals(NULL);
    const double cpu = cpu_seconds();
    int code = CLI_DONE;
    for (int i = 0; i < count && !*stop; i++) {
        const int one = cli_exit(rehearse_one(p, files[i], stop, &all));
        code = one > code ? one : code;
    }
    if (code != CLI_USAGE)
        show_summary(&all, p->common.json, cpu_seconds() - cpu);
    return code;
}

int cli_rehearse(int argc, char **argv)
{
    g_autofree char *camera = NULL;
    g_autofree char *keep = NULL;
    gboolean trace = FALSE;
    const GOptionEntry own[] = {
        {"camera", 'c', 0, G_OPTION_ARG_STRING, &camera,
         "Take this camera's settings from the settings file", "NAME"},
        {"keep", 'k', 0, G_OPTION_ARG_FILENAME, &keep,
         "Store stills and clips in this folder, as the real run would", "DIR"},
        {"trace", 0, 0, G_OPTION_ARG_NONE, &trace, "Print the reading of every frame",
         NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    plan p = {0};
    tw_card card = {0};
    int code = cli_parse(&argc, &argv, "FILE…", ABOUT, EXAMPLE, own, &p.common);
    if (code == CLI_DONE && argc < 2)
        code = cli_say(CLI_USAGE, "name the footage: tawny rehearse FILE…");
    if (code == CLI_DONE && keep) {
        tw_error err = {0};
        if (tw_linux_card(keep, &card, &err) != TW_OK)
            code = cli_say(CLI_FAILED, "%s", err.text);
        p.card = &card;
    }
    if (code == CLI_DONE) {
        p.camera = camera;
        p.trace = trace;
        p.several = argc > 2;
        code = rehearse_all(&p, argc - 1, argv + 1);
    }
    if (card.ops)
        card.ops->destroy(card.ctx);
    cli_clear(&p.common);
    return code;
}
