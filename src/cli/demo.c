/* tawny demo: the Hollin Lane toad crossing, simulated, held against what really happens
 * in the scene. */
#include <errno.h>
#include <stdio.h>
#include <string.h>

#include "output.h"
#include "truth.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "../station/rehearse.h"
#include "../station/footage.h"
#include "../station/why.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

static const char ABOUT[] = "Plays a simulated night at the Hollin Lane toad crossing "
                            "through the whole of it: camera,\n"
                            "detector, sightings, stills and clips; then holds the "
                            "sightings against what really\n"
                            "happens in the scene. Needs nothing set up. Exit 1 if a "
                            "subject is missed or one is seen\n"
                            "that is not there.";
static const char EXAMPLE[] =
    "With --render the footage of all simulated scenes is written instead, each as an "
    "MP4 file,\n"
    "with truth.csv beside them.\n\n"
    "Examples:\n"
    "  tawny demo --keep /tmp/hollin\n"
    "  tawny demo --render scenes --size 960x540 --fps 15 --seed 7\n"
    "  tawny rehearse --truth scenes/truth.csv scenes/*.mp4";

enum { SIGHTINGS_MAX = 64, SUBJECTS_MAX = 64 };

/* H.264 is what browsers play; a real camera's JPEG packets would be copied by default.
 */
static const char SETTINGS[] = "[station]\n"
                               "name = hollin\n"
                               "[camera kerb]\n"
                               "source = sim:kerb\n"
                               "fps = 10\n"
                               "clip_video = h264\n";

typedef struct demo {
    const tw_sim_scene *scene;
    const twi_camera_settings *camera;
    tw_sighting seen[SIGHTINGS_MAX];
    twi_score_sighting judged[SIGHTINGS_MAX];
    size_t count;
    twi_truth_event truth[SUBJECTS_MAX];
    int64_t zero_us;
    gboolean any;
    guint stored;
    uint64_t bytes;
    char clip[TWI_NAME_MAX]; /* the first one, for the commands to try */
} demo;

static double since(const demo *d, int64_t t_us)
{
    return (double)(t_us - d->zero_us) / 1e6;
}

static void on_event(void *ctx, const tw_event *e)
{
    demo *d = ctx;
    char text[256], size[24];
    switch ((enum tw_event_kind_values)e->kind) {
    case TW_EVENT_READING:
        d->zero_us = d->any ? d->zero_us : e->reading->t_us;
        d->any = TRUE;
        break;
    case TW_EVENT_BEGAN:
        (void)printf("%7.1f s  %s  sighting %u begins: %s\n",
                     since(d, e->sighting->start_us), e->camera, e->sighting->number,
                     twi_why_began(e->sighting, text, sizeof text));
        break;
    case TW_EVENT_ENDED:
        (void)printf("%7.1f s  %s  sighting %u ends, peak %.2f %%\n",
                     since(d, e->sighting->end_us), e->camera, e->sighting->number,
                     e->sighting->peak_ppm / 1e4);
        if (d->count < SIGHTINGS_MAX)
            d->seen[d->count++] = *e->sighting;
        break;
    case TW_EVENT_STORED:
        (void)printf("           %s  %s stored: %s (%s)\n", e->camera, e->file_kind,
                     e->file, out_bytes(e->bytes, size));
        d->stored++;
        d->bytes += e->bytes;
        if (d->clip[0] == '\0' && strcmp(e->file_kind, "clip") == 0)
            (void)snprintf(d->clip, sizeof d->clip, "%s", e->file);
        break;
    case TW_EVENT_FREED:
    case TW_EVENT_PROBLEM:
        (void)fprintf(stderr, "%s: %s\n", e->camera ? e->camera : "station", e->text);
        break;
    case TW_EVENT_LOST:
    case TW_EVENT_BACK:
    case TW_EVENT_RELOADED:
    case TW_EVENT_ORDERED:
    case TW_EVENT_STOPPED:
    case TW_EVENT_ALARM:
    case TW_EVENT_HOLDS:
    case TW_EVENT_DAILY:
    case TW_EVENT_OPENED:
    case TW_EVENT_CLOSED: break;
    }
    (void)fflush(stdout);
}

/* Hold what was seen against what really happens in the scene. */
static twi_score judge(demo *d, int64_t length_us)
{
    twi_score score = {0};
    for (size_t i = 0; i < d->count; i++)
        d->judged[i].when =
            (twi_span){d->seen[i].start_us - d->zero_us, d->seen[i].end_us - d->zero_us};
    for (size_t i = 0; i < d->scene->event_count; i++)
        d->truth[i].when =
            (twi_span){d->scene->events[i].start_us, d->scene->events[i].end_us};
    (void)twi_score_add(&score, length_us, d->truth, d->scene->event_count, d->judged,
                        d->count);
    return score;
}

/* The sighting during which something happens, -1: none. */
static int sighting_at(const demo *d, const tw_sim_event *event)
{
    for (size_t i = 0; i < d->count; i++)
        if (d->judged[i].when.start_us <= event->end_us + TWI_SCORE_NEAR_US &&
            d->judged[i].when.end_us >= event->start_us - TWI_SCORE_NEAR_US)
            return (int)i;
    return -1;
}

static void print_when(const tw_sim_event *e)
{
    (void)printf("  %-11s %6.1f to %6.1f s   ", e->what, (double)e->start_us / 1e6,
                 (double)e->end_us / 1e6);
}

static void print_subject(const demo *d, size_t i)
{
    const tw_sim_event *e = &d->scene->events[i];
    const int at = sighting_at(d, e);
    print_when(e);
    if (d->truth[i].found && at >= 0)
        (void)printf("found: sighting %u, %.1f to %.1f s\n", d->seen[at].number,
                     since(d, d->seen[at].start_us), since(d, d->seen[at].end_us));
    else
        (void)printf("MISSED\n");
}

static void print_lure(const demo *d, const tw_sim_event *e)
{
    const int at = sighting_at(d, e);
    print_when(e);
    if (at < 0)
        (void)printf("rightly left alone\n");
    else if (d->judged[at].is_false)
        (void)printf("TAKEN FOR A SUBJECT: sighting %u\n", d->seen[at].number);
    else
        (void)printf("pass while sighting %u runs\n", d->seen[at].number);
}

static int summarise(demo *d, int64_t length_us, const char *folder)
{
    const twi_score score = judge(d, length_us);
    char size[24];
    (void)printf("\nWhat really happened at the kerb:\n");
    for (size_t i = 0; i < d->scene->event_count; i++)
        print_subject(d, i);
    for (size_t i = 0; i < d->scene->lure_count; i++)
        print_lure(d, &d->scene->lures[i]);
    (void)printf("\nFound %u of %u subjects, %u invented. %u captures (%s) in %s\n",
                 score.found, score.events, score.is_false, d->stored,
                 out_bytes(d->bytes, size), folder);
    return score.found == score.events && score.is_false == 0 ? CLI_DONE : CLI_FAILED;
}

static void suggest(const demo *d, const char *folder)
{
    const char *tool = cli_tool();
    (void)printf("\nTry next:\n");
    if (d->clip[0])
        (void)printf("  %s rehearse %s/%s\n", tool, folder, d->clip);
    (void)printf("  %s look --overlay --after 35 --output kerb.png sim:kerb\n"
                 "  %s settings --help-texts\n"
                 "  %s --help\n",
                 tool, tool, tool);
}

static int play(const tw_card *card, tw_settings *settings, const char *folder)
{
    tw_platform platform = cli_platform();
    twi_camera_settings camera;
    twi_station_settings station;
    tw_rehearsal_result result;
    tw_error err = {0};
    platform.card = card;
    twi_settings_station(settings, &station);
    if (twi_settings_camera(settings, "kerb", &camera) != TW_OK)
        return cli_say(CLI_FAILED, "out of memory");
    demo d = {.scene = tw_sim_scene_find("kerb"), .camera = &camera};
    (void)printf("Hollin Lane by night: %.0f s at the kerb, simulated.\n"
                 "Captures go to %s\n\n",
                 (double)d.scene->length_us / 1e6, folder);
    const tw_status st =
        twi_rehearse(&platform, &camera, &station, cli_catch_signals(NULL), on_event, &d,
                     &result, &err);
    if (st == TW_ESTOPPED)
        return cli_say(CLI_FAILED, "stopped; what was captured is in %s", folder);
    if (st != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    const int code = summarise(&d, result.length_us, folder);
    suggest(&d, folder);
    return code;
}

/* ---- footage of all scenes ------------------------------------------------------- */

typedef struct rendering {
    char *folder, *size;
    int fps, seed;
} rendering;

static void write_truth(FILE *out, const tw_sim_scene *scene, const char *file)
{
    for (size_t i = 0; i < scene->event_count; i++) {
        const twi_span when = {scene->events[i].start_us, scene->events[i].end_us};
        cli_truth_write(out, file, &when, scene->events[i].what);
    }
    if (scene->event_count == 0)
        cli_truth_write(out, file, NULL, NULL);
}

static int render_scene(const rendering *r, const tw_sim_scene *scene, FILE *truth,
                        const volatile int *stop)
{
    g_autofree char *file = g_strdup_printf("%s.mp4", scene->name);
    g_autofree char *path = g_build_filename(r->folder, file, NULL);
    g_autofree char *text = g_strdup_printf(
        "[camera %s]\nsource = sim:%s,size=%s,seed=%d\nfps = %d\nclip_video = h264\n",
        scene->name, scene->name, r->size, r->seed, r->fps);
    tw_settings *settings = tw_settings_new();
    twi_camera_settings camera;
    tw_error err = {0};
    const tw_platform platform = cli_platform();
    int code = CLI_USAGE;
    if (settings &&
        tw_settings_read_text(settings, "demo", text, strlen(text), cli_told, NULL) ==
            TW_OK &&
        twi_settings_camera(settings, scene->name, &camera) == TW_OK) {
        code = cli_exit(twi_footage_write(&platform, &camera, path, stop, &err));
        if (code != CLI_DONE)
            (void)cli_say(code, "%s", err.status != TW_OK ? err.text : "stopped");
    }
    if (code == CLI_DONE) {
        write_truth(truth, scene, file);
        (void)printf("%s  %.0f s, %zu event%s\n", path, (double)scene->length_us / 1e6,
                     scene->event_count, out_s((unsigned)scene->event_count));
        (void)fflush(stdout);
    }
    tw_settings_free(settings);
    return code;
}

static int render(const rendering *r)
{
    g_autofree char *path = g_build_filename(r->folder, "truth.csv", NULL);
    const volatile int *stop = cli_catch_signals(NULL);
    int code = CLI_DONE;
    FILE *truth = NULL;
    if (r->fps < 1 || r->fps > 240 || r->seed < 0)
        return cli_say(CLI_USAGE, "--fps: from 1 to 240; --seed: not negative");
    if (g_mkdir_with_parents(r->folder, 0777) != 0 || !(truth = fopen(path, "w")))
        return cli_say(CLI_FAILED, "%s cannot be written: %s", path, g_strerror(errno));
    cli_truth_begin(truth);
    for (size_t i = 0; tw_sim_scene_at(i) && code == CLI_DONE; i++)
        code = render_scene(r, tw_sim_scene_at(i), truth, stop);
    if (fclose(truth) != 0 && code == CLI_DONE)
        code = cli_say(CLI_FAILED, "%s cannot be written: %s", path, g_strerror(errno));
    if (code == CLI_DONE)
        (void)printf("%s\n", path);
    return code;
}

int cli_demo(int argc, char **argv)
{
    g_autofree char *keep = NULL;
    rendering r = {.fps = 10, .seed = 1};
    const GOptionEntry own[] = {
        {"keep", 'k', 0, G_OPTION_ARG_FILENAME, &keep,
         "Folder for the captures (hollin-demo)", "DIR"},
        {"render", 0, 0, G_OPTION_ARG_FILENAME, &r.folder,
         "Write the footage of all scenes into this folder instead", "DIR"},
        {"size", 0, 0, G_OPTION_ARG_STRING, &r.size, "Of that footage (640x360)", "WxH"},
        {"fps", 0, 0, G_OPTION_ARG_INT, &r.fps, "Its frames a second (10)", "N"},
        {"seed", 0, 0, G_OPTION_ARG_INT, &r.seed, "Another seed, other footage (1)", "N"},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, NULL, ABOUT, EXAMPLE, own, NULL);
    if (code == CLI_DONE && argc > 1)
        code = cli_say(CLI_USAGE, "%s is not expected", argv[1]);
    if (code == CLI_DONE && r.folder) {
        r.size = r.size ? r.size : g_strdup("640x360");
        code = render(&r);
        g_free(r.folder);
        g_free(r.size);
        return code;
    }
    g_free(r.size);
    if (code != CLI_DONE)
        return code;
    const char *folder = keep ? keep : "hollin-demo";
    tw_card card = {0};
    tw_error err = {0};
    if (tw_linux_card(folder, &card, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    tw_settings *settings = tw_settings_new();
    code = CLI_FAILED;
    if (settings && tw_settings_read_text(settings, "demo", SETTINGS, strlen(SETTINGS),
                                          cli_told, NULL) == TW_OK)
        code = play(&card, settings, folder);
    tw_settings_free(settings);
    card.ops->destroy(card.ctx);
    return code;
}
