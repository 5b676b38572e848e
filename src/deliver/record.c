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
