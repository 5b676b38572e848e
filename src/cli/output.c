/* How the commands say what happens. */
#include "output.h"

#include <inttypes.h>
#include <jansson.h>
#include <math.h>
#include <unistd.h>

enum { BAR_CELLS = 30 };

const char *out_percent(uint32_t ppm, char buffer[24])
{
    (void)snprintf(buffer, 24, "%.2f %%", ppm / 1e4);
    return buffer;
}

const char *out_bytes(uint64_t bytes, char buffer[24])
{
    if (bytes >= 1000000)
        (void)snprintf(buffer, 24, "%.1f MB", (double)bytes / 1e6);
    else
        (void)snprintf(buffer, 24, "%.0f kB", ceil((double)bytes / 1e3));
    return buffer;
}

const char *out_place(const tw_blob *blob)
{
    static const char *const names[3][3] = {
        {"at the upper left", "at the top", "at the upper right"},
        {"at the left", "in the middle", "at the right"},
        {"at the lower left", "at the bottom", "at the lower right"}};
    const int column = blob->x_ppm < 333333 ? 0 : blob->x_ppm < 666667 ? 1 : 2;
    const int row = blob->y_ppm < 333333 ? 0 : blob->y_ppm < 666667 ? 1 : 2;
    return names[row][column];
}

const char *out_why(const tw_event *began, const tw_camera_settings *camera, char *buffer,
                    size_t capacity)
{
    char activity[24], start[24], blob[24] = "";
    const tw_reading *r = began->reading;
    const char *place = "";
    if (r->blob_count > 0) {
        (void)out_percent(r->blob[0].size_ppm, blob);
        place = out_place(&r->blob[0]);
    }
    (void)snprintf(buffer, capacity,
                   "activity %s, start_at %s, %u of %u frames; %u %s, the largest %s %s",
                   out_percent(r->activity_ppm, activity),
                   out_percent((uint32_t)camera->start_ppm, start), camera->confirm.k,
                   camera->confirm.n, r->blobs_found,
                   r->blobs_found == 1 ? "blob" : "blobs", blob, place);
    return buffer;
}

const char *out_utc(int64_t wall_us, char buffer[40])
{
    tw_civil t;
    tw_civil_split(wall_us, 0, &t);
    (void)snprintf(buffer, 40, "%04d-%02u-%02uT%02u:%02u:%02u.%03uZ", (int)t.year,
                   t.month, t.day, t.hour, t.minute, t.second,
                   (unsigned)(t.microsecond / 1000));
    return buffer;
}

/* ---- JSON ------------------------------------------------------------------------ */

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
                       int64_t zero_us)
{
    json_t *o = json_pack("{ss ss so so so so so si}", "type", "sighting", "camera",
                          camera, "start", seconds(s->start_us - zero_us), "end",
                          seconds(s->end_us - zero_us), "clip_start",
                          seconds(s->clip_start_us - zero_us), "clip_end",
                          seconds(s->clip_end_us - zero_us), "peak", percent(s->peak_ppm),
                          "frames", (int)s->frames);
    set_file(o, file);
    out_json(o);
}

void out_json_reading(const char *file, const tw_reading *r, tw_watch_state state,
                      int64_t zero_us)
{
    json_t *o = json_pack(
        "{ss so so so so so so so so si si ss}", "type", "reading", "t",
        seconds(r->t_us - zero_us), "activity", percent(r->activity_ppm), "raw",
        percent(r->raw_ppm), "light", percent(r->light_ppm), "sway", percent(r->sway_ppm),
        "size", percent(r->size_ppm), "travel", percent(r->travel_ppm), "ignored",
        percent(r->ignored_ppm), "blobs", (int)r->blobs_found, "subjects",
        (int)r->subjects, "state", tw_watch_state_name(state));
    set_file(o, file);
    out_json(o);
}

static const char *type_of(tw_event_kind kind)
{
    switch (kind) {
    case TW_EVENT_OPENED: return "opened";
    case TW_EVENT_READING: return "reading";
    case TW_EVENT_BEGAN: return "began";
    case TW_EVENT_ENDED: return "ended";
    case TW_EVENT_STORED: return "stored";
    case TW_EVENT_PROBLEM: return "problem";
    case TW_EVENT_CLOSED: break;
    }
    return "closed";
}

void out_json_event(const tw_event *e)
{
    char time[40];
    json_t *o = json_pack("{ss ss}", "type", type_of(e->kind), "camera", e->camera);
    if (e->wall_us != 0)
        (void)json_object_set_new(o, "time", json_string(out_utc(e->wall_us, time)));
    if (e->sighting)
        (void)json_object_set_new(o, "sighting", json_integer(e->sighting->number));
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
