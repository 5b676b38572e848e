/* tawny tune: proposes settings from footage, or from walking through the picture. */
#include "tune.h"

#include <limits.h>
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
    "what would\n"
    "have been false; changes nothing unless asked to with --write. The footage comes "
    "with a truth\n"
    "file, or is sorted into pieces in which nothing should be seen and pieces in "
    "which something\n"
    "should, or is made now by walking through the picture, or is what the store has "
    "of sightings\n"
    "that were marked as right or nothing (tawny sightings --mark).";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny tune --truth truth.csv --plot curve.png footage/*.mp4\n"
    "  tawny tune --nothing-in windy.mp4 --nothing-in rain.mp4 --something-in toad.mp4\n"
    "  tawny tune --settings station.ini --camera kerb --walk 20 --write\n"
    "  tawny tune --camera kerb --marked --draw zone.jpg";

enum {
    WALK_MAX_S = 600, /* seconds */
    KEEP_OUT_S = 5,   /* after settling, before the walk begins */
    WORTH = 3,
    UNSET = INT_MIN
};
#define S INT64_C(1000000)

static tune_variant VARIANTS[] = {
    {.travel_pct = 100, .margin_pct = 100}, {.travel_pct = 60, .margin_pct = 100},
    {.travel_pct = 150, .margin_pct = 100}, {.travel_pct = 250, .margin_pct = 100},
    {.travel_pct = 100, .margin_pct = 70},  {.travel_pct = 100, .margin_pct = 150},
    {.travel_pct = 100, .margin_pct = 220}};

typedef struct tuning {
    cli_common common;
    char *camera_name, *truth_path, *plot;
    char *store, *day, *draw; /* of marks */
    char **nothing_in, **something_in;
    int walk_s, worth;
    gboolean write, marked;
    tw_settings *settings;
    twi_camera_settings camera;
    char *settings_path;
    cli_truth *truth;
    tune_engine engine;
    int64_t walk_from_us;
    gboolean asked_to_walk;
} tuning;

/* ---- footage --------------------------------------------------------------------- */

static int gather(tuning *t, int count, char **files)
{
    for (int i = 0; i < count; i++) {
        tune_piece *p = tune_add_piece(&t->engine, files[i]);
        cli_footage *f = &p->footage;
        if (cli_truth_of(t->truth, files[i], &f->event_count, &f->events, &f->what) !=
            TW_OK)
            return CLI_USAGE;
    }
    for (char **f = t->nothing_in; f && *f; f++)
        (void)tune_add_piece(&t->engine, *f);
    for (char **f = t->something_in; f && *f; f++)
        tune_set_event(tune_add_piece(&t->engine, *f), 0, INT64_MAX / 4);
    return CLI_DONE;
}

/* ---- trying ---------------------------------------------------------------------- */

/* Say when to keep out and when to walk; stop when that is over. */
static void lead_the_walk(void *ctx, tune_piece *piece, const tw_event *e)
{
    tuning *t = ctx;
    const int64_t t_us = e->reading->t_us - piece->footage.zero_us;
    if (!t->asked_to_walk && t_us >= t->walk_from_us) {
        t->asked_to_walk = TRUE;
        (void)fprintf(stderr, "Now walk through the picture, within %d s.\n", t->walk_s);
    }
    if (t_us >= t->walk_from_us + t->walk_s * S)
        t->engine.enough = 1;
}

/* What is known once a piece has been read. */
static int place_events(const tuning *t)
{
    for (guint i = 0; i < t->engine.pieces->len; i++) {
        tune_piece *p = &g_array_index(t->engine.pieces, tune_piece, i);
        const int64_t length_us = p->footage.length_us;
        if (t->walk_s > 0 && !t->asked_to_walk)
            return cli_say(CLI_FAILED,
                           "%s ended after %.1f s, before the walk could begin",
                           p->footage.name, (double)length_us / 1e6);
        if (t->walk_s > 0)
            tune_set_event(p, t->walk_from_us, t->walk_from_us + t->walk_s * S);
        else if (p->footage.event_count == 1 &&
                 p->footage.events[0].when.end_us >= length_us)
            p->footage.events[0].when.end_us = length_us;
    }
    return CLI_DONE;
}

static int try_variant(tuning *t, tune_search *search, uint16_t variant)
{
    int code = tune_read(&t->engine, search, variant);
    if (code == CLI_DONE)
        code = place_events(t);
    if (code == CLI_DONE)
        tune_try(&t->engine, search, variant);
    return code;
}

/* ---- writing --------------------------------------------------------------------- */

static int write_back(const tuning *t, const tune_search *search)
{
    tune_change c[TUNE_CHANGES_MAX];
    const int n = tune_changes(search, c);
    twi_draft *draft = NULL;
    tw_error err = {0};
    g_autofree char *zone = tune_zone_section(search);
    if (n == 0)
        return CLI_DONE;
    tw_status st = twi_draft_open(t->settings_path, &draft, &err);
    for (int i = 0; i < n && st == TW_OK; i++) {
        const gboolean of_zone = strcmp(c[i].section, "zone") == 0;
        const twi_draft_change change = {c[i].section, of_zone ? zone : t->camera.name,
                                         c[i].key, c[i].value};
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

/* A walk cannot be walked again for each variant. */
static int search_footage(tuning *t, tune_search *search)
{
    const size_t count = t->walk_s > 0 ? 1 : G_N_ELEMENTS(VARIANTS);
    int code = CLI_DONE;
    search->variants = VARIANTS;
    search->files = t->engine.pieces->len;
    search->worth = (uint32_t)(t->worth > 0 ? t->worth : WORTH);
    for (size_t v = 0; v < count && code == CLI_DONE; v++)
        code = try_variant(t, search, (uint16_t)v);
    if (code == CLI_DONE && t->walk_s > 0 && !tune_found_any(search))
        code =
            cli_say(CLI_FAILED,
                    "I did not see you: nothing moved like a subject in those %d s, at "
                    "any limit, so nothing is proposed. Look whether you were in the "
                    "picture (tawny look), walk across it rather than towards the "
                    "camera, nearer or with more light, and look whether a zone, a "
                    "mask or smallest and largest shut you out",
                    t->walk_s);
    if (code != CLI_DONE)
        return code;
    tune_choose(search);
    if (t->common.json)
        tune_print_json(search);
    else
        tune_print(search);
    return CLI_DONE;
}

static int search_marks(tuning *t, tune_search *search)
{
    const tune_asked asked = {.common = &t->common,
                              .camera = &t->camera,
                              .store = t->store,
                              .day = t->day,
                              .draw = t->draw,
                              .worth = t->worth,
                              .stop = t->engine.stop};
    return tune_marked(&asked, search);
}

static int search_all(tuning *t)
{
    g_autofree char *title = t->camera_name ? g_strdup_printf("Camera %s", t->camera_name)
                                            : g_strdup("Built-in settings");
    tune_search search = {.camera = &t->camera,
                          .title = title,
                          .trials = g_array_new(FALSE, FALSE, sizeof(twi_trial))};
    int code = t->marked ? search_marks(t, &search) : search_footage(t, &search);
    if (code == CLI_DONE && t->plot)
        code = cli_exit(tune_plot(&search, t->plot));
    if (code == CLI_DONE && t->write)
        code = write_back(t, &search);
    tune_search_clear(&search);
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
    (void)tune_add_piece(&t->engine, count == 1 ? files[0] : t->camera.source);
    t->engine.look = lead_the_walk;
    t->engine.ctx = t;
    (void)fprintf(stderr, "Keep out of the picture for %.0f s.\n",
                  (double)t->walk_from_us / 1e6);
    return CLI_DONE;
}

static int check_arguments(const tuning *t, int count)
{
    const gboolean sorted = t->nothing_in || t->something_in;
    if (t->worth != UNSET && (t->worth < 1 || t->worth > 1000))
        return cli_say(CLI_USAGE, "--worth: from 1 to 1000");
    if (t->plot && !cli_plot_name_fits(t->plot))
        return CLI_USAGE;
    if (t->write && !t->camera_name)
        return cli_say(CLI_USAGE,
                       "--write changes the settings file: name the camera with "
                       "--camera NAME");
    if (!t->marked && (t->store || t->day || t->draw))
        return cli_say(CLI_USAGE, "--store, --day and --draw go with --marked");
    if (t->marked && (t->walk_s > 0 || count > 0 || sorted || t->truth_path))
        return cli_say(CLI_USAGE, "--marked takes what is in the store, and no other "
                                  "footage");
    if (t->marked)
        return t->camera_name
                   ? CLI_DONE
                   : cli_say(CLI_USAGE, "--marked: name the camera with --camera NAME");
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
    tuning t = {.worth = UNSET};
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
         "How many false sightings are as bad as a missed event (3; with --marked 1000)",
         "N"},
        {"marked", 0, 0, G_OPTION_ARG_NONE, &t.marked,
         "Learn from the sightings in the store that were marked", NULL},
        {"store", 'd', 0, G_OPTION_ARG_FILENAME, &t.store,
         "That store (else that of the settings)", "DIR"},
        {"day", 0, 0, G_OPTION_ARG_STRING, &t.day, "Marks of that day alone",
         "YYYY-MM-DD"},
        {"draw", 0, 0, G_OPTION_ARG_FILENAME, &t.draw,
         "Draw the zone that is proposed into a picture", "JPEG|PNG"},
        {"plot", 'p', 0, G_OPTION_ARG_FILENAME, &t.plot,
         "Draw what is found against what is false; -: here", "PNG|SVG|-"},
        {"write", 0, 0, G_OPTION_ARG_NONE, &t.write,
         "Write the proposal into the settings file; comments stay", NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    int code = cli_parse(&argc, &argv, "FILE…", ABOUT, EXAMPLE, own, &t.common);
    tune_init(&t.engine);
    t.engine.stop = cli_catch_signals(NULL);
    if (code == CLI_DONE)
        code = tune(&t, argc - 1, argv + 1);
    tune_clear(&t.engine);
    cli_truth_free(t.truth);
    tw_settings_free(t.settings);
    g_free(t.settings_path);
    g_free(t.camera_name);
    g_free(t.truth_path);
    g_free(t.plot);
    g_free(t.store);
    g_free(t.day);
    g_free(t.draw);
    g_strfreev(t.nothing_in);
    g_strfreev(t.something_in);
    cli_clear(&t.common);
    return code;
}
