/* The record of a sighting, as JSON. docs/sending.md documents it. */
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "deliver.h"

static bool take_facts(void *ctx, const tw_sighting_record *r)
{
    sighting_facts *f = ctx;
    *f = (sighting_facts){.id = r->id,
                          .start_us = r->start_us,
                          .end_us = r->end_us,
                          .number = r->number,
                          .peak_ppm = r->peak_ppm,
                          .frames = r->frames,
                          .over = r->end_us > 0,
                          .unsure = r->unsure};
    (void)snprintf(f->camera, sizeof f->camera, "%s", r->camera);
    (void)snprintf(f->why, sizeof f->why, "%s", r->why);
    return false;
}

tw_status tw_record_facts(tw_catalogue *catalogue, int64_t sighting, sighting_facts *out,
                          tw_error *err)
{
    const tw_sighting_filter filter = {.id = sighting};
    memset(out, 0, sizeof *out);
    const tw_status st = tw_catalogue_sightings(catalogue, &filter, take_facts, out, err);
    return st == TW_OK && out->id == 0 ? TW_ENOENT : st;
}

typedef struct files {
    json_t *stills, *clips;
} files;

static bool take_file(void *ctx, const tw_capture_record *r)
{
    files *f = ctx;
    const bool video = tw_kind_is_video(tw_kind_find(r->kind));
    (void)json_array_append_new(video ? f->clips : f->stills, json_string(r->file));
    return true;
}

/* Times to the millisecond, shares in percent. */
static json_t *describe(const sighting_facts *s, const char *station, const char *phase)
{
    char start[TW_UTC_MAX], end[TW_UTC_MAX];
    json_t *o = json_pack("{ss ss ss ss si sI ss sf si ss sb}", "type", "sighting",
                          "phase", phase, "station", station, "camera", s->camera,
                          "number", (int)s->number, "id", (json_int_t)s->id, "start",
                          tw_utc(s->start_us, start), "peak", s->peak_ppm / 1e4, "frames",
                          (int)s->frames, "why", s->why, "unsure", s->unsure);
    if (s->over) {
        (void)json_object_set_new(o, "end", json_string(tw_utc(s->end_us, end)));
        (void)json_object_set_new(
            o, "seconds", json_real((double)((s->end_us - s->start_us) / 1000) / 1000.0));
    }
    return o;
}

void *tw_record_json(tw_catalogue *catalogue, const char *station, int64_t sighting,
                     const char *phase)
{
    sighting_facts facts;
    files f = {json_array(), json_array()};
    json_t *o = NULL;
    if (f.stills && f.clips &&
        tw_record_facts(catalogue, sighting, &facts, NULL) == TW_OK &&
        tw_catalogue_captures(catalogue, sighting, take_file, &f, NULL) == TW_OK)
        o = describe(&facts, station, phase);
    if (o) {
        (void)json_object_set(o, "stills", f.stills);
        (void)json_object_set(o, "clips", f.clips);
    }
    json_decref(f.stills);
    json_decref(f.clips);
    return o;
}

char *tw_record_print(void *json)
{
    char *text = json ? json_dumps(json, JSON_COMPACT | JSON_REAL_PRECISION(10)) : NULL;
    json_decref(json);
    return text;
}

char *tw_record_text(tw_catalogue *catalogue, const char *station, int64_t sighting,
                     const char *phase)
{
    return tw_record_print(tw_record_json(catalogue, station, sighting, phase));
}

char *tw_record_test(const char *station)
{
    return tw_record_print(json_pack("{ss ss}", "type", "test", "station", station));
}
