/* tawny demo: the Hollin Lane toad crossing, simulated, held against what really happens
 * in the scene. */
#include <stdio.h>
#include <string.h>

#include "output.h"

static const char ABOUT[] = "Plays a simulated night at the Hollin Lane toad crossing "
                            "through the whole of it: camera,\n"
                            "detector, sightings, stills and clips; then holds the "
                            "sightings against what really\n"
                            "happens in the scene. Needs nothing set up. Exit 1 if a "
                            "subject is missed or one is seen\n"
                            "that is not there.";
static const char EXAMPLE[] = "Example:\n"
                              "  tawny demo --keep /tmp/hollin";

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
    const tw_camera_settings *camera;
    tw_sighting seen[SIGHTINGS_MAX];
    tw_score_sighting judged[SIGHTINGS_MAX];
    size_t count;
    tw_truth_event truth[SUBJECTS_MAX];
    int64_t zero_us;
    gboolean any;
    guint stored;
    uint64_t bytes;
    char clip[TW_NAME_MAX]; /* the first one, for the commands to try */
} demo;

static double since(const demo *d, int64_t t_us)
{
    return (double)(t_us - d->zero_us) / 1e6;
}

static void on_event(void *ctx, const tw_event *e)
{
    demo *d = ctx;
    char text[256], size[24];
    switch (e->kind) {
    case TW_EVENT_READING:
        d->zero_us = d->any ? d->zero_us : e->reading->t_us;
        d->any = TRUE;
        break;
    case TW_EVENT_BEGAN:
        (void)printf("%7.1f s  %s  sighting %u begins: %s\n",
                     since(d, e->sighting->start_us), e->camera, e->sighting->number,
                     tw_why_began(e->sighting, text, sizeof text));
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
    case TW_EVENT_PROBLEM: (void)fprintf(stderr, "%s: %s\n", e->camera, e->text); break;
    case TW_EVENT_OPENED:
    case TW_EVENT_CLOSED: break;
    }
    (void)fflush(stdout);
}

/* Hold what was seen against what really happens in the scene. */
static tw_score judge(demo *d, int64_t length_us)
{
    tw_score score = {0};
    for (size_t i = 0; i < d->count; i++)
        d->judged[i].when =
            (tw_span){d->seen[i].start_us - d->zero_us, d->seen[i].end_us - d->zero_us};
    for (size_t i = 0; i < d->scene->event_count; i++)
        d->truth[i].when =
            (tw_span){d->scene->events[i].start_us, d->scene->events[i].end_us};
    (void)tw_score_add(&score, length_us, d->truth, d->scene->event_count, d->judged,
                       d->count);
    return score;
}

/* The sighting during which something happens, -1: none. */
static int sighting_at(const demo *d, const tw_sim_event *event)
{
    for (size_t i = 0; i < d->count; i++)
        if (d->judged[i].when.start_us <= event->end_us + TW_SCORE_NEAR_US &&
            d->judged[i].when.end_us >= event->start_us - TW_SCORE_NEAR_US)
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
    const tw_score score = judge(d, length_us);
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
    tw_board board = cli_board();
    tw_camera_settings camera;
    tw_station_settings station;
    tw_rehearsal_result result;
    tw_error err = {0};
    board.card = card;
    tw_settings_station(settings, &station);
    if (tw_settings_camera(settings, "kerb", &camera) != TW_OK)
        return cli_say(CLI_FAILED, "out of memory");
    demo d = {.scene = tw_sim_scene_find("kerb"), .camera = &camera};
    (void)printf("Hollin Lane by night: %.0f s at the kerb, simulated.\n"
                 "Captures go to %s\n\n",
                 (double)d.scene->length_us / 1e6, folder);
    const tw_status st = tw_rehearse(&board, &camera, &station, cli_catch_signals(NULL),
                                     on_event, &d, &result, &err);
    if (st == TW_ESTOPPED)
        return cli_say(CLI_FAILED, "stopped; what was captured is in %s", folder);
    if (st != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    const int code = summarise(&d, result.length_us, folder);
    suggest(&d, folder);
    return code;
}

int cli_demo(int argc, char **argv)
{
    g_autofree char *keep = NULL;
    const GOptionEntry own[] = {{"keep", 'k', 0, G_OPTION_ARG_FILENAME, &keep,
                                 "Folder for the captures (hollin-demo)", "DIR"},
                                {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, NULL, ABOUT, EXAMPLE, own, NULL);
    if (code == CLI_DONE && argc > 1)
        code = cli_say(CLI_USAGE, "%s is not expected", argv[1]);
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
