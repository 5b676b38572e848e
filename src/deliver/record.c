/* The record of a sighting, as JSON. docs/sending.md documents it. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "destination.h"

static bool take_facts(void *ctx, const tw_sighting_record *r)
{
    sighting_facts *f = ctx;
    *f = (sighting_facts){.id = r->id,
                          .start_us = r->start_us,
                          .end_us = r->end_us,
                          .peak_ppm = r->peak_ppm,
                          .frames = r->frames,
                          .over = r->end_us > 0,
                          .unsure = r->unsure};
    (void)snprintf(f->camera, sizeof f->camera, "%s", r->camera);
    (void)snprintf(f->why, sizeof f->why, "%s", r->why);
    return false;
}

tw_status twi_record_facts(tw_catalogue *catalogue, int64_t sighting, sighting_facts *out,
                           tw_error *err)
{
    const tw_sighting_filter filter = {.id = sighting};
    memset(out, 0, sizeof *out);
    const tw_status st = tw_catalogue_sightings(catalogue, &filter, take_facts, out, err);
    return st == TW_OK && out->id == 0 ? TW_ENOENT : st;
}

json_t *twi_record_json(tw_catalogue *catalogue, const char *station, int64_t sighting,
                        const char *phase)
{
    json_t *o = twi_json_record(catalogue, sighting, station);
    if (o)
        (void)json_object_set_new(o, "phase", json_string(phase));
    return o;
}

char *twi_record_text(tw_catalogue *catalogue, const char *station, int64_t sighting,
                      const char *phase)
{
    return twi_json_text(twi_record_json(catalogue, station, sighting, phase));
}

char *twi_record_test(const char *station)
{
    return twi_json_text(json_pack("{ss ss}", "type", "test", "station", station));
}
