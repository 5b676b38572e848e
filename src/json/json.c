/* The one place where something becomes JSON. */
#include "json.h"

#include <stdlib.h>
#include <string.h>

#include "../core/naming.h"
#include "../station/why.h"
#include "tawny/events.h"

enum { DIGITS = 10 }; /* that tell apart all that is ever measured */

char *twi_json_text(json_t *json)
{
    char *text =
        json ? json_dumps(json, JSON_COMPACT | JSON_REAL_PRECISION(DIGITS)) : NULL;
    json_decref(json);
    return text;
}

/* ---- values ----------------------------------------------------------------------- */

static void put(json_t *o, const char *key, json_t *value)
{
    (void)json_object_set_new(o, key, value);
}

/* A name of a file, or what a library said, need not be UTF-8; it is told all the same.
 */
static json_t *text_of(const char *text)
{
    json_t *made = json_string(text);
    char *plain = made ? NULL : strdup(text);
    if (!plain)
        return made;
    for (char *c = plain; *c; c++)
        if ((unsigned char)*c >= 0x80)
            *c = '?';
    made = json_string(plain);
    free(plain);
    return made;
}

static void put_text(json_t *o, const char *key, const char *text)
{
    put(o, key, text_of(text));
}

/* NULL, or "": left out. */
static void put_some_text(json_t *o, const char *key, const char *text)
{
    if (text && text[0])
        put_text(o, key, text);
}

static void put_count(json_t *o, const char *key, uint64_t count)
{
    put(o, key, json_integer((json_int_t)count));
}

json_t *twi_json_percent(uint32_t ppm)
{
    return json_real((double)ppm / 1e4);
}

static void put_percent(json_t *o, const char *key, uint32_t ppm)
{
    put(o, key, twi_json_percent(ppm));
}

static void put_rate(json_t *o, const char *key, uint32_t milli)
{
    put(o, key, json_real((double)milli / 1e3));
}

static void put_flag(json_t *o, const char *key, bool flag)
{
    put(o, key, json_boolean(flag));
}

/* Milliseconds are what frames can be told apart by. */
json_t *twi_json_seconds(int64_t us)
{
    return json_real((double)((us + (us < 0 ? -500 : 500)) / 1000) / 1000.0);
}

static void put_seconds(json_t *o, const char *key, int64_t us)
{
    put(o, key, twi_json_seconds(us));
}

/* 0: not known, and left out. */
static void put_time(json_t *o, const char *key, int64_t wall_us)
{
    char time[TWI_UTC_MAX];
    if (wall_us != 0)
        put_text(o, key, twi_utc(wall_us, time));
}

static json_t *object(const char *type)
{
    json_t *o = json_object();
    put_text(o, "type", type);
    return o;
}

/* ---- how things are --------------------------------------------------------------- */

static void put_pictures(json_t *o, const tw_camera_status *c)
{
    put_text(o, "format", c->format);
    put_count(o, "width", c->width);
    put_count(o, "height", c->height);
    put_rate(o, "wanted_fps", c->wanted_milli);
    put_rate(o, "fps", c->real_milli);
    put_percent(o, "busy", c->busy_ppm);
    put_percent(o, "light", c->light_ppm);
    put(o, "noise", json_real(c->noise / 16.0));
    put_count(o, "frames", c->frames);
    put_count(o, "dropped", c->dropped);
    put_count(o, "damaged", c->damaged);
    put_count(o, "kept_bytes", c->kept_bytes);
    put_flag(o, "kept_raw", c->kept_raw);
    if (c->sound_level != TW_SOUND_UNKNOWN)
        put(o, "sound", json_real(c->sound_level / 10.0));
    if (c->darkness != TW_DARKNESS_UNKNOWN)
        put_flag(o, "dark", c->darkness == TW_DARK);
    if (c->holds[0])
        put_text(o, "holds", c->holds);
    put_time(o, "frame", c->frame_us);
}

static void put_kept(json_t *o, const tw_camera_status *c)
{
    put_count(o, "sightings", c->sightings);
    put_time(o, "last", c->last_us);
    put_count(o, "stored", c->stored);
    put_count(o, "stored_bytes", c->stored_bytes);
    put_count(o, "not_stored", c->not_stored);
    put_count(o, "lost_frames", c->lost_frames);
    put_count(o, "problems", c->problems);
}

static void put_micro(json_t *o, const char *key, int64_t micro)
{
    put(o, key, json_real((double)micro / 1e6));
}

static void put_place(json_t *o, const tw_camera_status *c)
{
    if (!c->placed)
        return;
    put_micro(o, "latitude", c->latitude);
    put_micro(o, "longitude", c->longitude);
}

static void put_lost(json_t *o, const tw_camera_status *c)
{
    put_time(o, "lost", c->lost_us);
    put_time(o, "next_try", c->next_us);
    put_text(o, "lost_why", c->lost_why);
}

json_t *twi_json_camera(const tw_camera_status *c, const char *station)
{
    json_t *o = object("camera");
    put_some_text(o, "station", station);
    put_text(o, "camera", c->name);
    put_text(o, "state", tw_camera_state_name(c));
    put_flag(o, "open", c->open);
    put_percent(o, "activity", c->activity_ppm);
    put_text(o, "arming", tw_arming_name(c->arming));
    put_time(o, "arming_until", c->arming_until_us);
    put_some_text(o, "ordered_by", c->ordered_by[0] ? c->ordered_by : NULL);
    put_kept(o, c);
    put_pictures(o, c);
    put_place(o, c);
    if (c->lost_us > 0)
        put_lost(o, c);
    return o;
}

json_t *twi_json_store(const tw_store_status *s)
{
    json_t *o = object("store");
    put_flag(o, "card", s->card);
    put_count(o, "free_bytes", s->free_bytes);
    put_count(o, "total_bytes", s->total_bytes);
    put_count(o, "waiting_bytes", s->waiting_bytes);
    put_flag(o, "catalogue", s->catalogue);
    put_count(o, "dropped", s->dropped);
    put_count(o, "problems", s->problems);
    return o;
}

json_t *twi_json_sensor(const tw_sensor_status *s)
{
    json_t *o = object("sensor");
    put_text(o, "sensor", s->name);
    put_text(o, "unit", s->unit);
    if (s->known)
        put_micro(o, "value", s->value);
    put_time(o, "at", s->at_us);
    put_flag(o, "beyond", s->beyond);
    put_some_text(o, "why", s->why);
    return o;
}

json_t *twi_json_camera_down(const tw_camera_status *last, const char *station)
{
    json_t *o = object("camera");
    put_text(o, "station", station);
    put_text(o, "camera", last->name);
    put_text(o, "state", "down");
    put_place(o, last);
    return o;
}

json_t *twi_json_station(const char *station, const char *state, json_t *stopped,
                         const tw_store_status *store)
{
    json_t *o = object("station");
    put_text(o, "station", station);
    put_text(o, "state", state);
    if (stopped)
        (void)json_object_set_new(o, "stopped", stopped);
    if (store)
        (void)json_object_set_new(o, "store", twi_json_store(store));
    return o;
}

json_t *twi_json_stopped(const char *destination, int64_t since_us, const char *why)
{
    json_t *o = object("stopped");
    put_text(o, "destination", destination);
    put_time(o, "since", since_us);
    put_text(o, "why", why);
    return o;
}

static void take_stopped(void *ctx, const char *name, int64_t since_us, const char *why)
{
    (void)json_array_append_new(ctx, twi_json_stopped(name, since_us, why));
}

json_t *twi_json_all_stopped(tw_catalogue *catalogue)
{
    json_t *list = json_array();
    if (catalogue)
        (void)twi_outbox_stopped(catalogue, take_stopped, list, NULL);
    return list;
}

/* ---- what happens ----------------------------------------------------------------- */

static void put_sighting_of(json_t *o, const tw_event *e)
{
    const tw_sighting *s = e->sighting;
    char why[256];
    put_count(o, "sighting", s->number);
    put_count(o, "part", s->part);
    if (e->kind == TW_EVENT_BEGAN)
        put_text(o, "why", twi_why_began(s, why, sizeof why));
    if (e->kind == TW_EVENT_ENDED) {
        put_seconds(o, "seconds", s->end_us - s->start_us);
        put_percent(o, "peak", s->peak_ppm);
    }
}

json_t *twi_json_event(const tw_event *e, const char *station, int64_t now_us)
{
    json_t *o = object(tw_event_name(e->kind));
    put_some_text(o, "station", station);
    put_some_text(o, "camera", e->camera);
    put_time(o, "time", e->wall_us != 0 ? e->wall_us : now_us);
    if (e->sighting)
        put_sighting_of(o, e);
    if (e->reading)
        put_percent(o, "activity", e->reading->activity_ppm);
    if (e->file) {
        put_text(o, "kind", e->file_kind);
        put_text(o, "file", e->file);
        put_count(o, "bytes", e->bytes);
    }
    put_some_text(o, "text", e->text);
    return o;
}

json_t *twi_json_reading(const tw_reading *r, tw_watch_state state,
                         const int64_t *zero_us)
{
    json_t *o = object("reading");
    if (zero_us)
        put_seconds(o, "t", r->t_us - *zero_us);
    put_percent(o, "activity", r->activity_ppm);
    put_percent(o, "raw", r->raw_ppm);
    put_percent(o, "light", r->light_ppm);
    put_percent(o, "sway", r->sway_ppm);
    put_percent(o, "shake", r->shake_ppm);
    put_percent(o, "colour", r->colour_ppm);
    put_percent(o, "unlike", r->unlike_ppm);
    put_percent(o, "size", r->size_ppm);
    put_percent(o, "travel", r->travel_ppm);
    put_percent(o, "ignored", r->ignored_ppm);
    put_count(o, "blobs", r->blobs_found);
    put_count(o, "subjects", r->subjects);
    put_text(o, "state", tw_watch_state_name(state));
    return o;
}

json_t *twi_json_found(const char *camera, const char *file, const tw_sighting *s,
                       int64_t zero_us, bool why)
{
    char text[256];
    json_t *o = object("sighting");
    put_text(o, "camera", camera);
    put_seconds(o, "start", s->start_us - zero_us);
    put_seconds(o, "end", s->end_us - zero_us);
    put_seconds(o, "clip_start", s->clip_start_us - zero_us);
    put_seconds(o, "clip_end", s->clip_end_us - zero_us);
    put_percent(o, "peak", s->peak_ppm);
    put_count(o, "frames", s->frames);
    put_some_text(o, "file", file);
    if (why)
        put_text(o, "why", twi_why_began(s, text, sizeof text));
    return o;
}

/* ---- what is kept ----------------------------------------------------------------- */

/* Who was seen, where it was said, and by whom. */
static void put_naming(json_t *o, const tw_sighting_record *r)
{
    if (r->named_us == 0)
        return;
    put_text(o, "name", r->name);
    if (r->count > 0)
        put_count(o, "count", r->count);
    if (r->note[0])
        put_text(o, "note", r->note);
    put_text(o, "named_by", r->named_by[0] ? r->named_by : "human");
    if (r->sure_ppm > 0)
        put_percent(o, "sure", r->sure_ppm);
    put_time(o, "named", r->named_us);
}

json_t *twi_json_sighting(const tw_sighting_record *r)
{
    json_t *o = object("sighting");
    put_count(o, "number", (uint64_t)r->id);
    put_text(o, "camera", r->camera);
    put_count(o, "part", r->part);
    put_time(o, "start", r->start_us);
    put_time(o, "end", r->end_us);
    if (r->end_us > 0)
        put_seconds(o, "seconds", r->end_us - r->start_us);
    put_percent(o, "peak", r->peak_ppm);
    put_count(o, "frames", r->frames);
    put_text(o, "why", r->why);
    put_flag(o, "starred", r->starred);
    put_flag(o, "unsure", r->unsure);
    put_count(o, "stills", r->stills);
    put_count(o, "clips", r->clips);
    put_count(o, "bytes", r->bytes);
    put_count(o, "sent", r->sent);
    put_count(o, "unsent", r->unsent);
    put_text(o, "mark", tw_mark_name(r->mark));
    put_naming(o, r);
    return o;
}

json_t *twi_json_missed(const tw_missed_record *r)
{
    json_t *o = object("missed");
    put_count(o, "number", (uint64_t)r->id);
    put_text(o, "camera", r->camera);
    put_time(o, "at", r->at_us);
    return o;
}

json_t *twi_json_capture(const tw_capture_record *c)
{
    json_t *o = object("capture");
    put_text(o, "camera", c->camera);
    put_text(o, "kind", c->kind);
    put_text(o, "file", c->file);
    put_time(o, "start", c->start_us);
    put_count(o, "bytes", c->bytes);
    return o;
}

static bool take_sighting(void *ctx, const tw_sighting_record *r)
{
    json_t **made = ctx;
    *made = twi_json_sighting(r);
    return false;
}

static bool take_capture(void *ctx, const tw_capture_record *c)
{
    (void)json_array_append_new(ctx, twi_json_capture(c));
    return true;
}

json_t *twi_json_record(tw_catalogue *catalogue, int64_t sighting, const char *station)
{
    const tw_sighting_filter filter = {.id = sighting};
    json_t *o = NULL, *captures = json_array();
    tw_status st =
        sighting > 0 ? tw_catalogue_sightings(catalogue, &filter, take_sighting, &o, NULL)
                     : TW_EINVAL;
    if (st == TW_OK && o)
        st = tw_catalogue_captures(catalogue, sighting, take_capture, captures, NULL);
    if (st == TW_OK && o) {
        put_some_text(o, "station", station);
        (void)json_object_set(o, "captures", captures);
    } else {
        json_decref(o);
        o = NULL;
    }
    json_decref(captures);
    return o;
}

json_t *twi_json_value(const tw_sensor_value *v)
{
    json_t *o = object("value");
    put_text(o, "sensor", v->sensor);
    put_time(o, "at", v->at_us);
    put_micro(o, "value", v->value);
    put_flag(o, "unsure", v->unsure);
    return o;
}

json_t *twi_json_log_entry(const tw_log_entry *h)
{
    json_t *o = object("log_entry");
    put_time(o, "time", h->at_us);
    put_some_text(o, "camera", h->camera);
    put_text(o, "what", h->what);
    put_text(o, "text", h->text);
    put_flag(o, "unsure", h->unsure);
    return o;
}

json_t *twi_json_second(const tw_trace_point *p)
{
    json_t *o = object("second");
    put_time(o, "time", p->t_us);
    put_percent(o, "max", p->max_ppm);
    put_percent(o, "mean", p->mean_ppm);
    return o;
}

/* ---- what is sent ----------------------------------------------------------------- */

const char *twi_json_item_state(twi_item_state state)
{
    static const char *const words[] = {"waiting", "sent", "given up"};
    return words[state];
}

json_t *twi_json_item(const twi_outbox_item *item)
{
    json_t *o = object("item");
    put_count(o, "id", (uint64_t)item->id);
    put_text(o, "destination", item->destination);
    put_text(o, "what", item->what);
    put_text(o, "state", twi_json_item_state(item->state));
    put_text(o, "camera", item->camera);
    if (item->sighting > 0)
        put_count(o, "sighting", (uint64_t)item->sighting);
    put_time(o, "start", item->start_us);
    put_some_text(o, "file", item->file);
    put_some_text(o, "text", item->text);
    put_count(o, "bytes", item->bytes);
    put_count(o, "tries", item->tries);
    put_some_text(o, "why", item->why);
    return o;
}

static json_t *found_stream(const twi_found_stream *stream)
{
    json_t *o = json_object();
    put_text(o, "url", stream->url);
    put_some_text(o, "name", stream->name);
    put_some_text(o, "codec", stream->codec);
    put_count(o, "width", stream->width);
    put_count(o, "height", stream->height);
    put_count(o, "fps", stream->fps);
    return o;
}

json_t *twi_json_nearby(const twi_found_camera *camera)
{
    char section[TWI_FOUND_SECTION];
    json_t *o = object("nearby"), *by = json_array(), *streams = json_array();
    const twi_found_stream *second = twi_found_second(camera);
    twi_found_section(camera, section);
    put_text(o, "address", camera->address);
    put_text(o, "name", camera->name);
    put_text(o, "section", section);
    if (camera->probed)
        (void)json_array_append_new(by, json_string("WS-Discovery"));
    if (camera->named)
        (void)json_array_append_new(by, json_string("DNS-SD"));
    (void)json_object_set_new(o, "by", by);
    (void)json_object_set_new(o, "can_be_asked", json_boolean(camera->at[0] != '\0'));
    for (size_t i = 0; i < camera->stream_count; i++)
        (void)json_array_append_new(streams, found_stream(&camera->streams[i]));
    (void)json_object_set_new(o, "streams", streams);
    if (camera->stream_count > 0)
        put_text(o, "source", camera->streams[0].url);
    if (second)
        put_text(o, "detect_source", second->url);
    put_some_text(o, "why", camera->why);
    return o;
}

json_t *twi_json_destination(const char *name, const twi_outbox_fill *f)
{
    json_t *o = object("destination");
    put_text(o, "destination", name);
    put_count(o, "waiting", f->waiting);
    put_count(o, "sightings", f->sightings);
    put_count(o, "given_up", f->given_up);
    put_count(o, "sent_day", f->sent);
    put_time(o, "oldest", f->oldest_us);
    put_time(o, "last", f->last_us);
    put_time(o, "stopped", f->stopped_us);
    put_some_text(o, "why", f->why);
    return o;
}

json_t *twi_json_plan(const twi_plan_camera *camera, const twi_plan_rates *rates)
{
    json_t *o = object("plan");
    put_text(o, "camera", camera->name);
    put_count(o, "sightings", camera->sightings);
    put(o, "bytes_a_day", json_real(rates->day));
    put(o, "bytes_an_hour_of_sightings", json_real(rates->sighting_hour));
    put(o, "bytes_an_hour_of_recording", json_real(rates->recorded_hour));
    put(o, "uplink_bits", json_real(rates->uplink));
    put(o, "uplink_peak_bits", json_real(rates->uplink_peak));
    return o;
}

/* ---- messages ---------------------------------------------------------------------- */

json_t *twi_json_record_of(tw_catalogue *catalogue, int64_t sighting, const char *station,
                           const char *phase)
{
    json_t *o = twi_json_record(catalogue, sighting, station);
    put_text(o, "phase", o ? phase : NULL);
    return o;
}

json_t *twi_json_told(const twi_told *told)
{
    json_t *o = json_object();
    put_text(o, "title", told->title);
    put_text(o, "body", told->body);
    put_text(o, "tag", told->tag);
    put_text(o, "url", told->url);
    put_some_text(o, "picture", told->picture);
    put_count(o, "missed", told->missed);
    put(o, "time", json_integer((json_int_t)(told->wall_us / 1000)));
    return o;
}

json_t *twi_json_digest(const char *station, json_t *sightings)
{
    json_t *o = object("digest");
    put_text(o, "station", station);
    (void)json_object_set_new(o, "sightings", sightings);
    return o;
}

json_t *twi_json_capture_of(const tw_capture_record *capture, const char *station)
{
    json_t *o = twi_json_capture(capture);
    put_text(o, "station", station);
    return o;
}

json_t *twi_json_gone(const char *station, const char *series, uint32_t number)
{
    json_t *o = object("gone");
    put_text(o, "station", station);
    put_text(o, "series", series);
    put_count(o, "number", number);
    return o;
}

json_t *twi_json_answer(const char *station, const twi_draft_word *word)
{
    json_t *o = object("answer");
    put_text(o, "station", station);
    (void)json_object_set_new(o, "id", json_integer(word->id));
    (void)json_object_set_new(o, "taken", json_boolean(word->taken));
    put_text(o, "text", word->text);
    return o;
}

json_t *twi_json_settings(const char *station, const char *digest, const char *text)
{
    json_t *o = object("settings");
    put_text(o, "station", station);
    put_text(o, "settings", digest);
    put_text(o, "text", text);
    return o;
}

json_t *twi_json_test(const char *station)
{
    json_t *o = object("test");
    put_text(o, "station", station);
    return o;
}

json_t *twi_json_notice(const char *of, bool good, const char *line)
{
    json_t *o = object("notice");
    put_text(o, "of", of);
    (void)json_object_set_new(o, "good", json_boolean(good));
    put_text(o, "text", line);
    return o;
}
