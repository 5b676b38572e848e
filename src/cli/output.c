/* How the commands say what happens. */
#include "output.h"

#include <inttypes.h>
#include <jansson.h>
#include <math.h>
#include <unistd.h>

enum { BAR_CELLS = 30 };

const char *out_s(unsigned count)
{
    return count == 1 ? "" : "s";
}

const char *out_percent(uint32_t ppm, char buffer[24])
{
    (void)snprintf(buffer, 24, "%.2f %%", ppm / 1e4);
    return buffer;
}

const char *out_bytes(uint64_t bytes, char buffer[24])
{
    if (bytes >= 10000000000)
        (void)snprintf(buffer, 24, "%.1f GB", (double)bytes / 1e9);
    else if (bytes >= 1000000)
        (void)snprintf(buffer, 24, "%.1f MB", (double)bytes / 1e6);
    else
        (void)snprintf(buffer, 24, "%.0f kB", ceil((double)bytes / 1e3));
    return buffer;
}

/* ---- JSON ------------------------------------------------------------------------ */

const char *out_lost(uint64_t dropped, uint64_t damaged, uint64_t late, char out[160])
{
    (void)snprintf(out, 160, "no frame lost");
    if (dropped + damaged + late > 0)
        (void)snprintf(out, 160,
                       "frames dropped by the driver: %llu, damaged: %llu, too late for "
                       "the card: %llu",
                       (unsigned long long)dropped, (unsigned long long)damaged,
                       (unsigned long long)late);
    return out;
}

void out_json(void *json)
{
    char *text = json_dumps(json, JSON_COMPACT | JSON_REAL_PRECISION(10));
    if (text)
        (void)puts(text);
    free(text);
    json_decref(json);
}

/* Milliseconds are what frames can be told apart by. */
static json_t *seconds(int64_t us)
{
    return json_real((double)((us + (us < 0 ? -500 : 500)) / 1000) / 1000.0);
}

static json_t *percent(uint32_t ppm)
{
    return json_real((double)ppm / 1e4);
}

static void set_file(json_t *object, const char *file)
{
    if (file)
        (void)json_object_set_new(object, "file", json_string(file));
}

void out_json_sighting(const char *camera, const char *file, const tw_sighting *s,
                       int64_t zero_us, gboolean why)
{
    char text[256];
    json_t *o = json_pack("{ss ss so so so so so si}", "type", "sighting", "camera",
                          camera, "start", seconds(s->start_us - zero_us), "end",
                          seconds(s->end_us - zero_us), "clip_start",
                          seconds(s->clip_start_us - zero_us), "clip_end",
                          seconds(s->clip_end_us - zero_us), "peak", percent(s->peak_ppm),
                          "frames", (int)s->frames);
    set_file(o, file);
    if (why)
        (void)json_object_set_new(o, "why",
                                  json_string(tw_why_began(s, text, sizeof text)));
    out_json(o);
}

void out_json_reading(const char *file, const tw_reading *r, tw_watch_state state,
                      int64_t zero_us)
{
    json_t *o =
        json_pack("{ss so so so so so so so so so si si ss}", "type", "reading", "t",
                  seconds(r->t_us - zero_us), "activity", percent(r->activity_ppm), "raw",
                  percent(r->raw_ppm), "light", percent(r->light_ppm), "sway",
                  percent(r->sway_ppm), "shake", percent(r->shake_ppm), "size",
                  percent(r->size_ppm), "travel", percent(r->travel_ppm), "ignored",
                  percent(r->ignored_ppm), "blobs", (int)r->blobs_found, "subjects",
                  (int)r->subjects, "state", tw_watch_state_name(state));
    set_file(o, file);
    out_json(o);
}

void out_json_moment(const char *file, double t_s, const char *why)
{
    json_t *o = json_pack("{ss sf ss}", "type", "moment", "t", t_s, "why", why);
    set_file(o, file);
    out_json(o);
}

void out_json_verdict(const char *verdict, const char *file, const tw_span *when,
                      const char *what)
{
    json_t *o = json_pack("{ss so so}", "type", verdict, "start", seconds(when->start_us),
                          "end", seconds(when->end_us));
    if (what)
        (void)json_object_set_new(o, "what", json_string(what));
    set_file(o, file);
    out_json(o);
}

void out_json_score(const tw_score *s, int64_t late_us)
{
    out_json(json_pack(
        "{ss si si si si so sf sf so so}", "type", "score", "events", (int)s->events,
        "found", (int)s->found, "sightings", (int)s->sightings, "false", (int)s->is_false,
        "recall", percent(tw_score_recall_ppm(s)), "false_per_hour",
        (double)tw_score_false_per_1000h(s) / 1e3, "f1", tw_score_f1_ppm(s) / 1e6,
        "latency", seconds(late_us), "covered", percent(tw_score_cover_ppm(s))));
}

static const char *type_of(tw_event_kind kind)
{
    switch (kind) {
    case TW_EVENT_OPENED: return "opened";
    case TW_EVENT_READING: return "reading";
    case TW_EVENT_BEGAN: return "began";
    case TW_EVENT_ENDED: return "ended";
    case TW_EVENT_STORED: return "stored";
    case TW_EVENT_FREED: return "freed";
    case TW_EVENT_PROBLEM: return "problem";
    case TW_EVENT_LOST: return "lost";
    case TW_EVENT_BACK: return "back";
    case TW_EVENT_RELOADED: return "reloaded";
    case TW_EVENT_ORDERED: return "ordered";
    case TW_EVENT_STOPPED: return "stopped";
    case TW_EVENT_CLOSED: break;
    }
    return "closed";
}

void out_json_event(const tw_event *e)
{
    char time[TW_UTC_MAX];
    json_t *o = json_pack("{ss}", "type", type_of(e->kind));
    if (e->camera)
        (void)json_object_set_new(o, "camera", json_string(e->camera));
    if (e->wall_us != 0)
        (void)json_object_set_new(o, "time", json_string(tw_utc(e->wall_us, time)));
    if (e->sighting)
        (void)json_object_set_new(o, "sighting", json_integer(e->sighting->number));
    if (e->kind == TW_EVENT_BEGAN && e->sighting) {
        char why[256];
        (void)json_object_set_new(
            o, "why", json_string(tw_why_began(e->sighting, why, sizeof why)));
    }
    if (e->kind == TW_EVENT_ENDED && e->sighting) {
        const tw_sighting *s = e->sighting;
        (void)json_object_set_new(o, "seconds", seconds(s->end_us - s->start_us));
        (void)json_object_set_new(o, "peak", percent(s->peak_ppm));
    }
    if (e->reading)
        (void)json_object_set_new(o, "activity", percent(e->reading->activity_ppm));
    if (e->file) {
        (void)json_object_set_new(o, "kind", json_string(e->file_kind));
        (void)json_object_set_new(o, "file", json_string(e->file));
        (void)json_object_set_new(o, "bytes", json_integer((json_int_t)e->bytes));
    }
    if (e->text)
        (void)json_object_set_new(o, "text", json_string(e->text));
    out_json(o);
}

/* ---- progress -------------------------------------------------------------------- */

void out_progress_start(out_progress *p, const char *what, int64_t total_us)
{
    *p = (out_progress){what, isatty(STDERR_FILENO) ? total_us : 0, -1};
}

void out_progress_at(out_progress *p, int64_t done_us)
{
    if (p->total_us <= 0)
        return;
    const int64_t share = done_us * 100 / p->total_us;
    const int now = (int)(share > 100 ? 100 : share < 0 ? 0 : share);
    if (now == p->shown)
        return;
    p->shown = now;
    const int full = now * BAR_CELLS / 100;
    (void)fprintf(stderr, "\r%s [", p->what);
    for (int i = 0; i < BAR_CELLS; i++)
        (void)fputc(i < full ? '#' : '.', stderr);
    (void)fprintf(stderr, "] %3d %%", now);
    (void)fflush(stderr);
}

void out_progress_clear(out_progress *p)
{
    if (p->shown >= 0)
        (void)fprintf(stderr, "\r\033[K");
    p->shown = -1;
}
