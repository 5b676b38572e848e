/* tawny rehearse: what a camera's settings would have made of recorded footage. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>

#include "../json/json.h"
#include "footage.h"
#include "output.h"
#include "store.h"
#include "truth.h"
#include "../settings/sections.h"
#include "../station/rehearse.h"
#include "../station/sheet.h"
#include "../station/why.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

static const char ABOUT[] =
    "Runs recorded footage through a camera's settings, as fast as it can be read, and "
    "says\n"
    "which sightings there would have been. FILE is a video, a folder of JPEG pictures, "
    "or a\n"
    "source such as sim:kerb. Without --settings the built-in values hold.";
static const char EXAMPLE[] =
    "Examples:\n"
    "  tawny rehearse --why yard.mp4\n"
    "  tawny rehearse --why-not 1:12 --set start_at=0.5% yard.mp4\n"
    "  tawny rehearse --camera kerb --why-not \"2027-03-13 21:40:05\"\n"
    "  tawny rehearse --plot night.png --sheet night.jpg night.mkv\n"
    "  tawny rehearse --truth truth.csv footage/*.mp4\n"
    "  tawny rehearse --settings station.ini --camera kerb --keep tried/ night.mkv";

enum { MOMENTS_MAX = 32 };                    /* that --why-not asks for */
#define LONGEST_US (INT64_C(86400) * 1000000) /* of a recording */

/* The best frame of a sighting, for the contact sheet. */
typedef struct best_frame {
    uint8_t *jpeg;
    size_t bytes;
    uint32_t activity_ppm;
    int64_t t_us;
    gboolean boxed;
    tw_blob blob;
    twi_best rank;
} best_frame;

/* A moment that is asked for. */
typedef struct asked {
    int64_t t_us;
    gboolean answered;
} asked;

/* How all files are to be rehearsed, and what they come to. */
typedef struct plan {
    cli_common common;
    char *camera, *keep, *plot, *sheet, *truth_path;
    char **why_not;
    gboolean trace, why, as_live, stored; /* it is the store's own footage */
    gboolean several, outlasted;          /* a moment lay beyond the end */
    asked ask[MOMENTS_MAX];
    size_t asks;
    FILE *say; /* where lines for people go */
    const tw_card *card;
    cli_truth *truth;
    const volatile int *stop;
    tw_rehearsal_result all;
    twi_score score;
    GArray *late; /* int64_t: how late each found event was seen */
} plan;

/* One rehearsal on its way. */
typedef struct rehearsal {
    plan *plan;
    const twi_camera_settings *camera;
    cli_footage footage;
    best_frame best; /* of the sighting that runs */
    GArray *frames;  /* best_frame of each sighting; NULL: no sheet is wanted */
    out_progress progress;
} rehearsal;

static double since(const rehearsal *r, int64_t t_us)
{
    return cli_footage_seconds(&r->footage, t_us);
}

/* The name that a file has in JSON and CSV, where there are several. */
static const char *file_key(const rehearsal *r)
{
    return r->plan->several ? r->footage.name : NULL;
}

/* ---- frames ---------------------------------------------------------------------- */

static void print_csv(const rehearsal *r, const tw_reading *d, tw_watch_state state)
{
    out_csv_text(stdout, r->footage.name);
    (void)printf(",%.3f,%.4f,%.4f,%.4f,%.4f,%.4f,%.4f,%.4f,%.4f,%.4f,%.4f,%u,%u,%s\r\n",
                 since(r, d->t_us), d->activity_ppm / 1e4, d->raw_ppm / 1e4,
                 d->light_ppm / 1e4, d->sway_ppm / 1e4, d->shake_ppm / 1e4,
                 d->colour_ppm / 1e4, d->unlike_ppm / 1e4, d->travel_ppm / 1e4,
                 d->size_ppm / 1e4, d->ignored_ppm / 1e4, d->blobs_found, d->subjects,
                 tw_watch_state_name(state));
}

static void answer(rehearsal *r, const tw_reading *d, tw_watch_state state, asked *a)
{
    char text[512];
    const int64_t t_us = d->t_us - r->footage.zero_us;
    if (a->answered || t_us < a->t_us)
        return;
    a->answered = TRUE;
    (void)twi_why_not(d, state, r->camera, text, sizeof text);
    out_progress_clear(&r->progress);
    if (r->plan->common.json)
        out_json_moment(file_key(r), (double)t_us / 1e6, text);
    else
        (void)fprintf(r->plan->say, "  at %.3f s: %s\n", (double)t_us / 1e6, text);
}

/* Encoding a picture is dear where the camera sends no JPEG: only for clearly better
 * ones. */
static void keep_best(rehearsal *r, const tw_event *e)
{
    enum { DEAR_PCT = 12 };
    best_frame b = {.activity_ppm = e->reading->activity_ppm, .t_us = e->reading->t_us};
    if (r->best.jpeg)
        b.rank = r->best.rank;
    if (!twi_best_take(&b.rank, e->reading, e->luma, DEAR_PCT))
        return;
    if (tw_event_picture(e, &b.jpeg, &b.bytes, NULL) != TW_OK)
        return;
    for (uint16_t i = e->reading->blob_count; i > 0; i--) { /* the largest last */
        if (!e->reading->blob[i - 1].counted)
            continue;
        b.boxed = TRUE;
        b.blob = e->reading->blob[i - 1];
    }
    free(r->best.jpeg);
    r->best = b;
}

static void take_reading(rehearsal *r, const tw_event *e)
{
    cli_footage_reading(&r->footage, e->reading);
    out_progress_at(&r->progress, e->reading->t_us - r->footage.zero_us);
    for (size_t i = 0; i < r->plan->asks; i++)
        answer(r, e->reading, e->state, &r->plan->ask[i]);
    if (r->frames && e->sighting)
        keep_best(r, e);
    if (!r->plan->trace)
        return;
    if (r->plan->common.json)
        out_json_of(file_key(r),
                    twi_json_reading(e->reading, e->state, &r->footage.zero_us));
    else
        print_csv(r, e->reading, e->state);
}

/* ---- sightings ------------------------------------------------------------------- */

static void show_sighting(const rehearsal *r, const tw_sighting *s)
{
    char why[256];
    FILE *say = r->plan->say;
    if (r->plan->common.json) {
        out_json(twi_json_found(r->camera->name, file_key(r), s, r->footage.zero_us,
                                r->plan->why));
        return;
    }
    (void)fprintf(say,
                  "  sighting %-3u %9.3f s to %9.3f s  peak %5.2f %%  %5u frames  clip "
                  "%.3f s to %.3f s%s\n",
                  s->number, since(r, s->start_us), since(r, s->end_us),
                  s->peak_ppm / 1e4, s->frames, since(r, s->clip_start_us),
                  since(r, s->clip_end_us), s->why == TW_END_LONGEST ? ", split" : "");
    if (r->plan->why)
        (void)fprintf(say, "    %s\n", twi_why_began(s, why, sizeof why));
}

static void take_sighting(rehearsal *r, const tw_sighting *s)
{
    g_array_append_val(r->footage.sightings, *s);
    if (r->frames)
        g_array_append_val(r->frames, r->best);
    else
        free(r->best.jpeg);
    r->best = (best_frame){0};
    show_sighting(r, s);
}

static void on_event(void *ctx, const tw_event *e)
{
    rehearsal *r = ctx;
    char size[24];
    switch ((enum tw_event_kind_values)e->kind) {
    case TW_EVENT_OPENED:
        out_progress_start(&r->progress, r->camera->name, e->stream->length_us);
        break;
    case TW_EVENT_READING: take_reading(r, e); break;
    case TW_EVENT_ENDED:
        out_progress_clear(&r->progress);
        take_sighting(r, e->sighting);
        break;
    case TW_EVENT_STORED:
        if (!r->plan->common.json)
            (void)fprintf(r->plan->say, "  stored %s (%s)\n", e->file,
                          out_bytes(e->bytes, size));
        break;
    case TW_EVENT_HOLDS:
        out_progress_clear(&r->progress);
        if (!r->plan->common.json)
            (void)fprintf(r->plan->say, "  from %.3f s on %s\n", since(r, e->t_us),
                          e->text);
        break;
    case TW_EVENT_FREED:
    case TW_EVENT_PROBLEM:
        out_progress_clear(&r->progress);
        (void)fprintf(stderr, "%s: %s\n", r->footage.name, e->text);
        break;
    case TW_EVENT_BEGAN:
    case TW_EVENT_LOST:
    case TW_EVENT_BACK:
    case TW_EVENT_RELOADED:
    case TW_EVENT_ORDERED:
    case TW_EVENT_STOPPED:
    case TW_EVENT_ALARM:
    case TW_EVENT_DAILY:
    case TW_EVENT_CLOSED: break;
    }
}

/* ---- truth ----------------------------------------------------------------------- */

static void show_event(const rehearsal *r, size_t i)
{
    const twi_truth_event *e = &r->footage.events[i];
    if (e->unclear)
        return;
    if (e->found) {
        g_array_append_val(r->plan->late, e->late_us);
        return;
    }
    if (!r->plan->common.json)
        (void)fprintf(r->plan->say, "  missed: %s, %.1f to %.1f s\n", r->footage.what[i],
                      (double)e->when.start_us / 1e6, (double)e->when.end_us / 1e6);
    else
        out_json_verdict("missed", r->footage.name, &e->when, r->footage.what[i]);
}

static void show_judged(const rehearsal *r, guint i)
{
    const twi_score_sighting *s = &r->footage.judged[i];
    const unsigned number = g_array_index(r->footage.sightings, tw_sighting, i).number;
    const gboolean overran = s->overrun_us >= TWI_SCORE_OVERRUN_US;
    if (!s->is_false && !overran)
        return;
    if (r->plan->common.json) {
        out_json_verdict(s->is_false ? "false" : "overrun", r->footage.name, &s->when,
                         NULL);
        return;
    }
    (void)fprintf(r->plan->say, "  %s: sighting %u, %.1f to %.1f s",
                  s->is_false ? "false" : "overrun", number,
                  (double)s->when.start_us / 1e6, (double)s->when.end_us / 1e6);
    if (overran)
        (void)fprintf(r->plan->say, ", %.1f s of it with nothing to see",
                      (double)s->overrun_us / 1e6);
    (void)fputc('\n', r->plan->say);
}

static void judge(rehearsal *r)
{
    cli_footage_judge(&r->footage, &r->plan->score);
    for (size_t i = 0; i < r->footage.event_count; i++)
        show_event(r, i);
    for (guint i = 0; i < r->footage.sightings->len; i++)
        show_judged(r, i);
}

static void show_score(const plan *p)
{
    const twi_score *s = &p->score;
    g_array_sort(p->late, cli_by_number);
    const int64_t late =
        p->late->len > 0 ? g_array_index(p->late, int64_t, p->late->len / 2) : 0;
    if (p->common.json) {
        out_json_score(s, late);
        return;
    }
    (void)fprintf(p->say,
                  "found %u of %u events (recall %.1f %%), %u false of %u sightings "
                  "(%.1f an hour), F1 %.3f\n"
                  "start latency %.2f s (median), %.1f %% of the events' time covered\n",
                  s->found, s->events, twi_score_recall_ppm(s) / 1e4, s->is_false,
                  s->sightings, (double)twi_score_false_per_1000h(s) / 1e3,
                  twi_score_f1_ppm(s) / 1e6, (double)late / 1e6,
                  twi_score_cover_ppm(s) / 1e4);
}

/* ---- the sheet and the plot ------------------------------------------------------ */

/* "night.png" for one file; "night-yard.png" where there are several. */
static char *path_for(const rehearsal *r, const char *path)
{
    if (!r->plan->several || strcmp(path, "-") == 0)
        return g_strdup(path);
    const char *dot = strrchr(path, '.');
    const int stem = dot ? (int)(dot - path) : (int)strlen(path);
    return g_strdup_printf("%.*s-%s%s", stem, path, r->camera->name, dot ? dot : "");
}

static tw_status draw_sheet(const rehearsal *r, const char *path)
{
    const guint count = MIN(r->frames->len, (guint)TWI_SHEET_MAX);
    twi_sheet_entry *entries = g_new0(twi_sheet_entry, count + 1);
    guint used = 0;
    for (guint i = 0; i < count; i++) {
        const best_frame *b = &g_array_index(r->frames, best_frame, i);
        const tw_sighting *s = &g_array_index(r->footage.sightings, tw_sighting, i);
        if (!b->jpeg)
            continue;
        entries[used++] = (twi_sheet_entry){
            .jpeg = b->jpeg,
            .bytes = b->bytes,
            .boxed = b->boxed,
            .blob = b->blob,
            .title = g_strdup_printf("%u   %.1f s", s->number, since(r, s->start_us)),
            .line = g_strdup_printf(
                "%.0f s, peak %.2f %%, %s; the picture is of %.1f s",
                since(r, s->end_us) - since(r, s->start_us), s->peak_ppm / 1e4,
                twi_place_words(s->cause.x_ppm, s->cause.y_ppm), since(r, b->t_us))};
    }
    g_autofree char *title =
        g_strdup_printf("%s: %u sighting%s", r->footage.name, r->footage.sightings->len,
                        out_s(r->footage.sightings->len));
    uint8_t *file = NULL;
    size_t bytes = 0;
    tw_error err = {0};
    tw_status st = twi_sheet_draw(entries, used, title, g_str_has_suffix(path, ".png"),
                                  &file, &bytes, &err);
    if (st != TW_OK)
        (void)cli_say(CLI_FAILED, "%s", err.text);
    else if (out_file(path, file, bytes) != CLI_DONE)
        st = TW_EIO;
    for (guint i = 0; i < used; i++) {
        g_free((char *)entries[i].title);
        g_free((char *)entries[i].line);
    }
    g_free(entries);
    free(file);
    return st;
}

static tw_status draw(const rehearsal *r)
{
    tw_status st = TW_OK, one = TW_OK;
    if (r->plan->plot) {
        g_autofree char *path = path_for(r, r->plan->plot);
        st = cli_plot(&r->footage, r->camera, path);
    }
    if (r->plan->sheet && r->frames->len > 0) {
        g_autofree char *path = path_for(r, r->plan->sheet);
        one = draw_sheet(r, path);
    } else if (r->plan->sheet) {
        (void)fprintf(r->plan->say, "  no contact sheet: there was no sighting\n");
    }
    return st == TW_OK ? one : st;
}

/* ---- the command ----------------------------------------------------------------- */

static double cpu_seconds(void)
{
    struct rusage u;
    (void)getrusage(RUSAGE_SELF, &u);
    return (double)u.ru_utime.tv_sec + (double)u.ru_utime.tv_usec / 1e6 +
           (double)u.ru_stime.tv_sec + (double)u.ru_stime.tv_usec / 1e6;
}

static void show_summary(const plan *p, double cpu)
{
    const tw_rehearsal_result *all = &p->all;
    const double length = (double)all->length_us / 1e6;
    if (p->common.json) {
        (void)printf("{\"type\":\"summary\",\"frames\":%llu,\"seconds\":%.3f,"
                     "\"sightings\":%u,\"cpu_seconds\":%.3f}\n",
                     (unsigned long long)all->frames, length, all->sightings, cpu);
        return;
    }
    (void)fprintf(p->say, "%u sighting%s in %.1f s of footage, %llu frames",
                  all->sightings, out_s(all->sightings), length,
                  (unsigned long long)all->frames);
    if (all->bad_frames > 0)
        (void)fprintf(p->say, ", %llu damaged", (unsigned long long)all->bad_frames);
    (void)fprintf(p->say, "; %.2f s of CPU, %.0f times faster than it was recorded\n",
                  cpu, cpu > 0 ? length / cpu : 0);
}

static void add_result(plan *p, const tw_rehearsal_result *result)
{
    p->all.frames += result->frames;
    p->all.bad_frames += result->bad_frames;
    p->all.length_us += result->length_us;
    p->all.sightings += result->sightings;
}

/* Moments that lie beyond the end of a file, or are asked of it anew. */
static void close_asks(plan *p, const rehearsal *r)
{
    for (size_t i = 0; i < p->asks; i++) {
        p->outlasted = p->outlasted || !p->ask[i].answered;
        if (!p->ask[i].answered && !p->stored)
            (void)cli_say(CLI_DONE, "%s: there is no frame at %.3f s, it is %.1f s long",
                          r->footage.name, (double)p->ask[i].t_us / 1e6,
                          (double)r->footage.length_us / 1e6);
        p->ask[i].answered = FALSE;
    }
}

/* What was not looked at, as it looks as if there were nothing. */
static void say_unwatched(const rehearsal *r, const tw_rehearsal_result *result)
{
    const double settle = (double)r->camera->settle_us / 1e6,
                 length = (double)result->length_us / 1e6;
    if (r->plan->common.json || settle <= 0 || result->frames == 0)
        return;
    if (length <= settle)
        (void)fprintf(r->plan->say,
                      "  NOTHING of it was looked at: it lasts %.1f s, and as live no "
                      "sighting begins in the first %.0f s, in which the detector learns "
                      "the place (settle)\n",
                      length, settle);
    else
        (void)fprintf(r->plan->say,
                      "  its first %.0f s were not looked at: the detector learns the "
                      "place then (settle)\n",
                      settle);
}

static tw_status run(rehearsal *r, const twi_station_settings *station)
{
    plan *p = r->plan;
    tw_rehearsal_result result = {0};
    tw_error err = {0};
    tw_platform platform = cli_platform();
    g_autofree char *plain = cli_plain(g_strdup(r->footage.name));
    platform.card = p->card;
    if (p->several && !p->common.json)
        (void)fprintf(p->say, "%s\n", plain);
    tw_status st =
        twi_rehearse(&platform, r->camera, station, p->stop, on_event, r, &result, &err);
    out_progress_clear(&r->progress);
    r->footage.length_us = result.length_us;
    add_result(p, &result);
    if (st != TW_OK && st != TW_ESTOPPED)
        (void)cli_say(CLI_FAILED, "%s", err.text);
    if (st != TW_OK)
        return st;
    say_unwatched(r, &result);
    close_asks(p, r);
    if (p->truth)
        judge(r);
    return draw(r);
}

static void free_frames(GArray *frames)
{
    for (guint i = 0; frames && i < frames->len; i++)
        free(g_array_index(frames, best_frame, i).jpeg);
    if (frames)
        (void)g_array_free(frames, TRUE);
}

/* Whether --set has a word on settling. */
static void find_settle(void *ctx, const tw_setting *s)
{
    gboolean *found = ctx;
    *found = *found || (strcmp(s->key, "settle") == 0 && strcmp(s->origin, "--set") == 0);
}

/* Footage is looked at from its first frame on, unless it is asked for: a station that
 * waits some seconds loses nothing, clips of ten seconds have nothing else. */
static void check_at_once(const plan *p, tw_settings *settings,
                          twi_camera_settings *camera)
{
    gboolean settles = p->as_live;
    (void)tw_settings_walk(settings, camera->name, find_settle, &settles);
    if (!settles)
        camera->settle_us = 0;
}

static tw_status rehearse_one(plan *p, const char *arg)
{
    tw_settings *settings = NULL;
    twi_camera_settings camera;
    twi_station_settings station;
    g_autofree char *source = cli_source_of(arg);
    tw_status st = cli_camera(&p->common, p->camera, source, &settings, &camera);
    if (st != TW_OK)
        return st;
    check_at_once(p, settings, &camera);
    if (p->stored)
        store_fit(&camera);
    rehearsal r = {.plan = p, .camera = &camera};
    cli_footage_init(&r.footage, arg);
    if (p->sheet)
        r.frames = g_array_new(FALSE, FALSE, sizeof(best_frame));
    twi_settings_station(settings, &station);
    r.footage.names = station.names;
    if (p->truth)
        st = cli_truth_of(p->truth, arg, &r.footage.event_count, &r.footage.events,
                          &r.footage.what);
    st = st == TW_OK ? run(&r, &station) : TW_ESYNTAX;
    free(r.best.jpeg);
    free_frames(r.frames);
    cli_footage_clear(&r.footage);
    tw_settings_free(settings);
    return st;
}

static int rehearse_all(plan *p, int count, char **files)
{
    const double cpu = cpu_seconds();
    int code = CLI_DONE;
    p->stop = cli_catch_signals(NULL);
    p->several = count > 1;
    p->say = p->trace && !p->common.json ? stderr : stdout;
    if (p->trace && !p->common.json)
        (void)puts("file,t,activity,raw,light,sway,shake,colour,unlike,travel,size,"
                   "ignored,blobs,subjects,state\r");
    for (int i = 0; i < count && !*p->stop; i++) {
        const int one = cli_exit(rehearse_one(p, files[i]));
        code = one > code ? one : code;
    }
    if (code == CLI_USAGE)
        return code;
    if (p->truth)
        show_score(p);
    show_summary(p, cpu_seconds() - cpu);
    return code;
}

static int take_asks(plan *p)
{
    for (char **text = p->why_not; text && *text; text++) {
        if (p->asks == MOMENTS_MAX)
            return cli_say(CLI_USAGE, "--why-not: at most %d moments", MOMENTS_MAX);
        if (!cli_seconds(*text, &p->ask[p->asks++].t_us))
            return cli_say(CLI_USAGE,
                           "--why-not %s: expected seconds, such as 72.5 or 1:12.5",
                           *text);
    }
    return CLI_DONE;
}

/* ---- of what a station has stored ------------------------------------------------- */

/* The highest activity of some seconds. */
typedef struct highest {
    gboolean any;
    uint32_t ppm;
} highest;

static bool take_point(void *ctx, const tw_trace_point *point)
{
    highest *h = ctx;
    h->any = TRUE;
    h->ppm = MAX(h->ppm, point->max_ppm);
    return true;
}

/* What is left where no footage is: the trace. */
static int answer_by_trace(const plan *p, tw_catalogue *catalogue, const char *text,
                           int64_t at_us)
{
    highest h = {0};
    tw_error err = {0};
    if (tw_catalogue_trace(catalogue, p->camera, at_us - G_USEC_PER_SEC + 1, at_us + 1,
                           take_point, &h, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    if (!h.any)
        return cli_say(CLI_FAILED, "at %s nothing was looked at by %s", text, p->camera);
    if (p->common.json)
        (void)printf("{\"type\":\"moment\",\"at\":\"%s\",\"activity\":%.4f}\n", text,
                     h.ppm / 1e4);
    else
        (void)printf("  at %s: no footage is stored; by the trace %.2f %% of the watched "
                     "area moved at most in that second\n",
                     text, h.ppm / 1e4);
    return CLI_DONE;
}

/* A moment on the wall: the recording that has it is rehearsed. */
static int ask_store(plan *p, const char *store, tw_catalogue *catalogue,
                     const char *text)
{
    const tw_clock clock = tw_linux_clock();
    g_autofree char *file = NULL;
    int64_t at_us = 0, start_us = 0;
    tw_error err = {0};
    const int code = store_time(&clock, "--why-not", text, &at_us);
    if (code != CLI_DONE)
        return code;
    if (store_recording(catalogue, p->camera, at_us, &file, &start_us, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    p->asks = 1;
    p->ask[0] = (asked){.t_us = at_us - start_us};
    if (!file || at_us - start_us > LONGEST_US)
        return answer_by_trace(p, catalogue, text, at_us);
    g_autofree char *path = g_build_filename(store, file, NULL);
    char *files[] = {path};
    p->outlasted = FALSE;
    const int done = rehearse_all(p, 1, files);
    return done == CLI_DONE && p->outlasted ? answer_by_trace(p, catalogue, text, at_us)
                                            : done;
}

static int ask_stored(plan *p)
{
    g_autofree char *store = NULL;
    tw_catalogue *catalogue = NULL;
    p->stored = TRUE;
    int code = store_find(&p->common, &store);
    if (code == CLI_DONE)
        code = store_open(store, &catalogue);
    for (char **text = p->why_not; *text && code == CLI_DONE; text++)
        code = ask_store(p, store, catalogue, *text);
    tw_catalogue_close(catalogue);
    return code;
}

static int check_endings(const plan *p)
{
    if (p->plot && !cli_plot_name_fits(p->plot))
        return CLI_USAGE;
    if (p->sheet && !g_str_has_suffix(p->sheet, ".png") &&
        !g_str_has_suffix(p->sheet, ".jpg"))
        return cli_say(CLI_USAGE, "--sheet %s: the name must end in .png or .jpg",
                       p->sheet);
    return CLI_DONE;
}

static void clear(plan *p)
{
    g_free(p->camera);
    g_free(p->keep);
    g_free(p->plot);
    g_free(p->sheet);
    g_free(p->truth_path);
    g_strfreev(p->why_not);
    cli_truth_free(p->truth);
    (void)g_array_free(p->late, TRUE);
    cli_clear(&p->common);
}

int cli_rehearse(int argc, char **argv)
{
    plan p = {.late = g_array_new(FALSE, FALSE, sizeof(int64_t))};
    const GOptionEntry own[] = {
        {"camera", 'c', 0, G_OPTION_ARG_STRING, &p.camera,
         "Take this camera's settings from the settings file", "NAME"},
        {"keep", 'k', 0, G_OPTION_ARG_FILENAME, &p.keep,
         "Store stills and clips in this folder, as the real run would", "DIR"},
        {"why", 'y', 0, G_OPTION_ARG_NONE, &p.why, "Say why each sighting began", NULL},
        {"why-not", 'n', 0, G_OPTION_ARG_STRING_ARRAY, &p.why_not,
         "Say what was seen at this time and why it began nothing; may be repeated. "
         "Without FILE: a local time, answered from what the store has of --camera",
         "TIME"},
        {"truth", 't', 0, G_OPTION_ARG_FILENAME, &p.truth_path,
         "Score the sightings against what really happens: file,start,end,what", "CSV"},
        {"plot", 'p', 0, G_OPTION_ARG_FILENAME, &p.plot,
         "Draw activity, limits, sightings and what the guards took; -: here",
         "PNG|SVG|-"},
        {"sheet", 0, 0, G_OPTION_ARG_FILENAME, &p.sheet,
         "Draw a contact sheet of the sightings", "PNG|JPG"},
        {"as-live", 0, 0, G_OPTION_ARG_NONE, &p.as_live,
         "Begin as a station does: no sighting before settle is over", NULL},
        {"trace", 0, 0, G_OPTION_ARG_NONE, &p.trace,
         "Print the reading of every frame as CSV, or with --json as objects", NULL},
        {NULL, 0, 0, G_OPTION_ARG_NONE, NULL, NULL, NULL}};
    tw_card card = {0};
    int code = cli_parse(&argc, &argv, "FILE…", ABOUT, EXAMPLE, own, &p.common);
    const gboolean of_store = argc < 2 && p.why_not && p.camera;
    if (code == CLI_DONE && argc < 2 && !of_store)
        code = cli_say(CLI_USAGE, "name the footage: tawny rehearse FILE…; or, for what "
                                  "is stored, --camera and --why-not");
    if (code == CLI_DONE && !of_store)
        code = take_asks(&p);
    if (code == CLI_DONE)
        code = check_endings(&p);
    if (code == CLI_DONE && p.truth_path)
        code = cli_exit(cli_truth_read(p.truth_path, &p.truth));
    if (code == CLI_DONE && p.keep) {
        tw_error err = {0};
        if (tw_linux_card(p.keep, &card, &err) != TW_OK)
            code = cli_say(CLI_FAILED, "%s", err.text);
        p.card = &card;
    }
    if (code == CLI_DONE)
        code = of_store ? ask_stored(&p) : rehearse_all(&p, argc - 1, argv + 1);
    if (card.ops)
        card.ops->destroy(card.ctx);
    clear(&p);
    return code;
}
