/* tawny tune: proposes settings from footage, or from walking through the picture. */
#include "tune.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "output.h"
#include "truth.h"
#include "../settings/sections.h"
#include "../station/rehearse.h"
#include "../station/why.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Proposes settings for a camera from footage, with what they would have found and "
    "what "
    "would\n"
    "have been false; changes nothing unless asked to with --write. The footage comes "
    "with "
    "a truth\n"
    "file, or is sorted into pieces in which nothing should be seen and pieces in which "
    "something\n"
    "should, or is made now by walking through the picture.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny tune --truth truth.csv --plot curve.png footage/*.mp4\n"
    "  tawny tune --nothing-in windy.mp4 --nothing-in rain.mp4 --something-in toad.mp4\n"
    "  tawny tune --settings station.ini --camera kerb --walk 20 --write";

enum {
    WALK_MAX_S = 600, /* seconds */
    KEEP_OUT_S = 5    /* after settling, before the walk begins */
};
#define S INT64_C(1000000)

/* Limits that are tried with each variant, beside the one that is set, ppm. */
static const uint32_t TRIED[] = {200,  300,  500,   700,   1000,  1500,  2000, 3000,
                                 5000, 7000, 10000, 15000, 20000, 30000, 50000};
enum { LIMITS = G_N_ELEMENTS(TRIED) };

static tune_variant VARIANTS[] = {{100, 100}, {60, 100},  {150, 100}, {250, 100},
                                  {100, 70},  {100, 150}, {100, 220}};

/* One piece of footage. */
typedef struct piece {
    cli_footage footage;
    char *source;
} piece;

typedef struct tuning {
    cli_common common;
    char *camera_name, *truth_path, *plot;
    char **nothing_in, **something_in;
    int walk_s, worth;
    gboolean write;
    tw_settings *settings;
    twi_camera_settings camera;
    char *settings_path;
    cli_truth *truth;
    GArray *pieces; /* of piece */
    const volatile int *stop;
    /* while one is read */
    piece *reading;
    out_progress progress;
    int64_t walk_from_us;
    gboolean asked_to_walk;
    volatile int enough;
} tuning;

/* ---- footage --------------------------------------------------------------------- */

static piece *add_piece(tuning *t, const char *name)
{
    piece p = {.source = cli_source_of(name)};
    cli_footage_init(&p.footage, name);
    g_array_append_val(t->pieces, p);
    return &g_array_index(t->pieces, piece, t->pieces->len - 1);
}

static void drop_pieces(tuning *t)
{
    for (guint i = 0; i < t->pieces->len; i++) {
        piece *p = &g_array_index(t->pieces, piece, i);
        cli_footage_clear(&p->footage);
        g_free(p->source);
    }
    (void)g_array_free(t->pieces, TRUE);
}

/* Something happens in it, at one time or another: known once its length is. */
static void set_event(piece *p, int64_t start_us, int64_t end_us)
{
    g_free(p->footage.events);
    g_free(p->footage.what);
    p->footage.events = g_new0(twi_truth_event, 1);
    p->footage.what = g_new0(const char *, 1);
    p->footage.what[0] = "something";
    p->footage.events[0].when = (twi_span){start_us, end_us};
    p->footage.event_count = 1;
}

static int gather(tuning *t, int count, char **files)
{
    for (int i = 0; i < count; i++) {
        piece *p = add_piece(t, files[i]);
        cli_footage *f = &p->footage;
        if (cli_truth_of(t->truth, files[i], &f->event_count, &f->events, &f->what) !=
            TW_OK)
            return CLI_USAGE;
    }
    for (char **f = t->nothing_in; f && *f; f++)
        (void)add_piece(t, *f);
    for (char **f = t->something_in; f && *f; f++)
        set_event(add_piece(t, *f), 0, INT64_MAX / 4);
    return CLI_DONE;
}

/* ---- reading it ------------------------------------------------------------------ */

/* Say when to keep out and when to walk; stop when that is over. */
static void lead_the_walk(tuning *t, int64_t t_us)
{
    if (!t->asked_to_walk && t_us >= t->walk_from_us) {
        t->asked_to_walk = TRUE;
        (void)fprintf(stderr, "Now walk through the picture, within %d s.\n", t->walk_s);
    }
    if (t_us >= t->walk_from_us + t->walk_s * S)
        t->enough = 1;
}

static void on_event(void *ctx, const tw_event *e)
{
    tuning *t = ctx;
    switch ((enum tw_event_kind_values)e->kind) {
    case TW_EVENT_OPENED:
        out_progress_start(&t->progress, t->reading->footage.name, e->stream->length_us);
        break;
    case TW_EVENT_READING:
        cli_footage_reading(&t->reading->footage, e->reading);
        out_progress_at(&t->progress, e->reading->t_us - t->reading->footage.zero_us);
        if (t->walk_s > 0)
            lead_the_walk(t, e->reading->t_us - t->reading->footage.zero_us);
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
    case TW_EVENT_CLOSED: break;
    }
}

/* Run one piece through the detector. */
static int read_piece(tuning *t, piece *p, const twi_camera_settings *camera)
{
    twi_camera_settings with = *camera;
    tw_rehearsal_result result = {0};
    tw_error err = {0};
    const tw_platform platform = cli_platform();
    with.source = p->source;
    (void)g_array_set_size(p->footage.moments, 0);
    t->reading = p;
    t->enough = 0;
    const tw_status st =
        twi_rehearse(&platform, &with, NULL, &t->enough, on_event, t, &result, &err);
    out_progress_clear(&t->progress);
    p->footage.length_us = result.length_us;
    if (*t->stop)
        return cli_say(CLI_FAILED, "stopped; nothing is proposed and nothing changed");
    if (st != TW_OK && st != TW_ESTOPPED)
        return cli_say(CLI_FAILED, "%s", err.text);
    if (t->walk_s > 0 && !t->asked_to_walk)
        return cli_say(CLI_FAILED, "%s ended after %.1f s, before the walk could begin",
                       p->footage.name, (double)result.length_us / 1e6);
    return CLI_DONE;
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

static void try_limit(tuning *t, tune_search *search, uint16_t variant, uint32_t start)
{
    twi_trial trial = {.variant = variant, .start_ppm = start};
    tw_sighting_config config = twi_sighting_config_of(&t->camera);
    config.start_ppm = start;
    config.stay_ppm = MIN(config.stay_ppm, start);
    config.armed = true;
    for (guint i = 0; i < t->pieces->len; i++) {
        cli_footage *f = &g_array_index(t->pieces, piece, i).footage;
        cli_footage_replay(f, &config);
        cli_footage_judge(f, &trial.score);
    }
    g_array_append_val(search->trials, trial);
}

static int try_variant(tuning *t, tune_search *search, uint16_t variant)
{
    twi_camera_settings camera;
    uint32_t limit[LIMITS + 1];
    tune_apply(&t->camera, &VARIANTS[variant], &camera);
    for (guint i = 0; i < t->pieces->len; i++) {
        piece *p = &g_array_index(t->pieces, piece, i);
        const int code = read_piece(t, p, &camera);
        if (code != CLI_DONE)
            return code;
        if (t->walk_s > 0)
            set_event(p, t->walk_from_us, t->walk_from_us + t->walk_s * S);
        else if (p->footage.event_count == 1 &&
                 p->footage.events[0].when.end_us >= p->footage.length_us)
            p->footage.events[0].when.end_us = p->footage.length_us;
        if (variant == 0)
            search->length_us += p->footage.length_us;
    }
    const size_t n = limits((uint32_t)t->camera.start_ppm, limit);
    for (size_t i = 0; i < n; i++)
        try_limit(t, search, variant, limit[i]);
    return CLI_DONE;
}

static gboolean any_found(const tune_search *s)
{
    for (guint i = 0; i < s->trials->len; i++)
        if (g_array_index(s->trials, twi_trial, i).score.found > 0)
            return TRUE;
    return FALSE;
}

static void choose(tune_search *s)
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

/* ---- writing --------------------------------------------------------------------- */

static int write_back(const tuning *t, const tune_search *search)
{
    tune_change c[TUNE_CHANGES_MAX];
    const int n = tune_changes(search, c);
    twi_draft *draft = NULL;
    tw_error err = {0};
    if (n == 0)
        return CLI_DONE;
    tw_status st = twi_draft_open(t->settings_path, &draft, &err);
    for (int i = 0; i < n && st == TW_OK; i++) {
        const twi_draft_change change = {"camera", t->camera.name, c[i].key, c[i].value};
        st = twi_draft_change_one(draft, &change, &err);
    }
    if (st == TW_OK)
        st = twi_draft_check(draft, cli_told, NULL, NULL);
    if (st == TW_OK)
        st = twi_draft_write(draft, &err);
    twi_draft_free(draft);
    if (st != TW_OK)
        return cli_say(CLI_FAILED, "%s was not changed%s%s", t->settings_path,
                       err.text[0] ? ": " : "", err.text);
    (void)printf("Written to %s; as it was before it is in %s.old.\n", t->settings_path,
                 t->settings_path);
    return CLI_DONE;
}

/* ---- the command ----------------------------------------------------------------- */

static int search_all(tuning *t)
{
    tune_search search = {.camera = &t->camera,
                          .variants = VARIANTS,
                          .trials = g_array_new(FALSE, FALSE, sizeof(twi_trial)),
                          .worth = (uint32_t)t->worth,
                          .files = t->pieces->len};
    /* a walk cannot be walked again for each variant */
    const size_t count = t->walk_s > 0 ? 1 : G_N_ELEMENTS(VARIANTS);
    int code = CLI_DONE;
    g_autofree char *title = t->camera_name ? g_strdup_printf("Camera %s", t->camera_name)
                                            : g_strdup("Built-in settings");
    search.title = title;
    for (size_t v = 0; v < count && code == CLI_DONE; v++)
        code = try_variant(t, &search, (uint16_t)v);
    if (code == CLI_DONE && t->walk_s > 0 && !any_found(&search))
        code =
            cli_say(CLI_FAILED,
                    "I did not see you: nothing moved like a subject in those %d s, at "
                    "any limit, so nothing is proposed. Look whether you were in the "
                    "picture (tawny look), walk across it rather than towards the "
                    "camera, nearer or with more light, and look whether a zone, a "
                    "mask or smallest and largest shut you out",
                    t->walk_s);
    if (code == CLI_DONE) {
        choose(&search);
        if (t->common.json)
            tune_print_json(&search);
        else
            tune_print(&search);
    }
    if (code == CLI_DONE && t->plot)
        code = cli_exit(tune_plot(&search, t->plot));
    if (code == CLI_DONE && t->write)
        code = write_back(t, &search);
    (void)g_array_free(search.trials, TRUE);
    return code;
}

/* A walk is in front of the camera itself, or of a source that stands for it. */
static int prepare_walk(tuning *t, int count, char **files)
{
    if (t->walk_s < 3 || t->walk_s > WALK_MAX_S)
        return cli_say(CLI_USAGE, "--walk: from 3 to %d seconds", WALK_MAX_S);
    if (count > 1 || t->truth_path || t->nothing_in || t->something_in)
        return cli_say(CLI_USAGE, "--walk takes the camera, and no other footage");
    t->walk_from_us = t->camera.settle_us + KEEP_OUT_S * S;
    (void)add_piece(t, count == 1 ? files[0] : t->camera.source);
    (void)fprintf(stderr, "Keep out of the picture for %.0f s.\n",
                  (double)t->walk_from_us / 1e6);
    return CLI_DONE;
}

static int check_arguments(const tuning *t, int count)
{
    const gboolean sorted = t->nothing_in || t->something_in;
    if (t->worth < 1 || t->worth > 1000)
        return cli_say(CLI_USAGE, "--worth: from 1 to 1000");
    if (t->plot && !cli_plot_name_fits(t->plot))
        return CLI_USAGE;
    if (t->write && !t->camera_name)
        return cli_say(CLI_USAGE,
                       "--write changes the settings file: name the camera with "
                       "--camera NAME");
    if (t->walk_s == 0 && count == 0 && !sorted)
        return cli_say(CLI_USAGE,
                       "name the footage, or say --walk SECONDS to make some now");
    if (t->walk_s == 0 && count > 0 && !t->truth_path)
        return cli_say(
            CLI_USAGE,
            "say what happens in the footage: --truth CSV, or --nothing-in and "
            "--something-in instead");
    return CLI_DONE;
}

static int find_camera(tuning *t, int count, char **files)
{
    g_autofree char *source = NULL;
    if (!t->camera_name) {
        const char *any = count > 0         ? files[0]
                          : t->nothing_in   ? t->nothing_in[0]
                          : t->something_in ? t->something_in[0]
                                            : NULL;
        if (!any)
            return cli_say(CLI_USAGE, "--walk: name the camera with --camera NAME");
        source = cli_source_of(any);
    }
    if (t->write) {
        tw_settings *unused = NULL;
        const tw_status st = cli_load(&t->common, TRUE, &unused, &t->settings_path);
        tw_settings_free(unused);
        if (st != TW_OK)
            return CLI_USAGE;
    }
    return cli_exit(
        cli_camera(&t->common, t->camera_name, source, &t->settings, &t->camera));
}

static int tune(tuning *t, int count, char **files)
{
    int code = check_arguments(t, count);
    if (code == CLI_DONE)
        code = find_camera(t, count, files);
    if (code == CLI_DONE && t->truth_path)
        code = cli_exit(cli_truth_read(t->truth_path, &t->truth));
    if (code == CLI_DONE)
        code = t->walk_s > 0 ? prepare_walk(t, count, files) : gather(t, count, files);
    return code == CLI_DONE ? search_all(t) : code;
}

int cli_tune(int argc, char **argv)
{
    tuning t = {.worth = 3, .pieces = g_array_new(FALSE, FALSE, sizeof(piece))};
    const GOptionEntry own[] = {
        {"camera", 'c', 0, G_OPTION_ARG_STRING, &t.camera_name,
         "Begin from this camera's settings in the settings file", "NAME"},
        {"truth", 't', 0, G_OPTION_ARG_FILENAME, &t.truth_path,
         "What happens in the footage: file,start,end,what", "CSV"},
        {"nothing-in", 0, 0, G_OPTION_ARG_FILENAME_ARRAY, &t.nothing_in,
         "Footage in which nothing should be seen; may be repeated", "FILE"},
        {"something-in", 0, 0, G_OPTION_ARG_FILENAME_ARRAY, &t.something_in,
         "Footage in which something should; may be repeated", "FILE"},
        {"walk", 'w', 0, G_OPTION_ARG_INT, &t.walk_s,
         "Walk through the picture when told to, within so many seconds", "SECONDS"},
        {"worth", 0, 0, G_OPTION_ARG_INT, &t.worth,
         "How many false sightings are as bad as a missed event (3)", "N"},
        {"plot", 'p', 0, G_OPTION_ARG_FILENAME, &t.plot,
         "Draw what is found against what is false; -: here", "PNG|SVG|-"},
        {"write", 0, 0, G_OPTION_ARG_NONE, &t.write,
         "Write the proposal into the settings file; comments stay", NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "FILE…", ABOUT, EXAMPLE, own, &t.common);
    t.stop = cli_catch_signals(NULL);
    if (code == CLI_DONE)
        code = tune(&t, argc - 1, argv + 1);
    drop_pieces(&t);
    cli_truth_free(t.truth);
    tw_settings_free(t.settings);
    g_free(t.settings_path);
    g_free(t.camera_name);
    g_free(t.truth_path);
    g_free(t.plot);
    g_strfreev(t.nothing_in);
    g_strfreev(t.something_in);
    cli_clear(&t.common);
    return code;
}
