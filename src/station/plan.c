/* What a station's settings cost. */
#include "plan.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#define LEAST_US (INT64_C(60) * 1000000) /* of history, to make a day of it */
#define DAY_US INT64_C(86400000000)
#define HOUR_US INT64_C(3600000000)

typedef struct reading {
    twi_plan *plan;
    tw_settings *settings;
    bool failed; /* out of memory */
} reading;

/* @return NULL: out of memory. */
static twi_plan_camera *find(reading *r, const char *name)
{
    twi_plan *p = r->plan;
    for (size_t i = 0; i < p->count; i++)
        if (strcmp(p->cameras[i].name, name) == 0)
            return &p->cameras[i];
    twi_plan_camera *more = realloc(p->cameras, (p->count + 1) * sizeof *more);
    r->failed = r->failed || !more;
    if (!more)
        return NULL;
    p->cameras = more;
    twi_plan_camera *c = &p->cameras[p->count++];
    memset(c, 0, sizeof *c);
    (void)snprintf(c->name, sizeof c->name, "%s", name);
    c->recorded = true;
    return c;
}

static void extend(twi_plan *p, int64_t start_us, int64_t end_us)
{
    if (p->first_us == 0 || start_us < p->first_us)
        p->first_us = start_us;
    if (start_us > p->last_us)
        p->last_us = start_us;
    if (end_us > p->last_us)
        p->last_us = end_us;
}

void twi_plan_peak_add(twi_plan_peak *peak, int64_t wall_us, uint64_t bytes)
{
    const int64_t hour = wall_us / HOUR_US;
    if (hour != peak->hour)
        peak->bytes = 0;
    peak->hour = hour;
    peak->bytes += bytes;
    if (peak->bytes <= peak->most_bytes)
        return;
    peak->most_bytes = peak->bytes;
    peak->busiest_hour = hour;
}

double twi_plan_peak_bits(const twi_plan_peak *peak, int64_t span_us, double mean)
{
    const double bits = (double)peak->most_bytes * 8 / 3600;
    return span_us < HOUR_US || bits < mean ? mean : bits;
}

static bool take_sighting(void *ctx, const tw_sighting_record *s)
{
    reading *r = ctx;
    twi_plan_camera *c = find(r, s->camera);
    if (!c)
        return false;
    c->sightings++;
    c->seen_us += s->end_us > s->start_us ? s->end_us - s->start_us : 0;
    extend(r->plan, s->start_us, s->end_us);
    return true;
}

static bool take_capture(void *ctx, const tw_capture_record *record)
{
    reading *r = ctx;
    const twi_kind kind = twi_kind_find(record->kind);
    twi_plan_camera *c = find(r, record->camera);
    twi_camera_settings camera;
    if (!c)
        return false;
    if (kind == TWI_KIND_COUNT)
        return true;
    c->bytes[kind] += record->bytes;
    if (kind == TWI_KIND_SEGMENT &&
        twi_settings_camera(r->settings, record->camera, &camera) == TW_OK)
        c->recorded_us += camera.segment_us;
    if (twi_kind_of_sighting(kind)) {
        twi_plan_peak_add(&c->peak, record->start_us, record->bytes);
        twi_plan_peak_add(&r->plan->peak, record->start_us, record->bytes);
    }
    extend(r->plan, record->start_us, record->start_us);
    return true;
}

tw_status twi_plan_read(tw_catalogue *catalogue, tw_settings *settings, twi_plan *out,
                        tw_error *err)
{
    const tw_sighting_filter all = {0};
    twi_plan plan = {0};
    reading r = {.plan = &plan, .settings = settings};
    if (!catalogue || !settings || !out)
        return tw_fail(err, TW_EINVAL, "no catalogue");
    tw_status st = tw_catalogue_sightings(catalogue, &all, take_sighting, &r, err);
    if (st == TW_OK)
        st = tw_catalogue_captures(catalogue, 0, take_capture, &r, err);
    if (st == TW_OK && r.failed)
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    const int64_t span_us = plan.last_us - plan.first_us;
    for (size_t i = 0; i < plan.count; i++)
        plan.cameras[i].span_us = span_us > LEAST_US ? span_us : LEAST_US;
    if (st == TW_OK)
        *out = plan;
    else
        twi_plan_free(&plan);
    return st;
}

void twi_plan_free(twi_plan *plan)
{
    free(plan->cameras);
    *plan = (twi_plan){0};
}

/* Bytes in so long, scaled to another length; 0: there was none of it. */
static double scaled(uint64_t bytes, int64_t length_us, int64_t to_us)
{
    return length_us > 0 ? (double)bytes * (double)to_us / (double)length_us : 0;
}

twi_plan_rates twi_plan_rates_of(const twi_plan_camera *c)
{
    uint64_t sightings = 0, all = 0;
    for (int k = 0; k < TWI_KIND_COUNT; k++) {
        if (twi_kind_of_sighting((twi_kind)k))
            sightings += c->bytes[k];
        if (k != TWI_KIND_SEGMENT || c->recorded)
            all += c->bytes[k];
    }
    const double uplink = scaled(sightings, c->span_us, DAY_US) * 8 / 86400;
    return (twi_plan_rates){
        .sighting_hour = scaled(sightings, c->seen_us, HOUR_US),
        .recorded_hour = scaled(c->bytes[TWI_KIND_SEGMENT], c->recorded_us, HOUR_US),
        .day = scaled(all, c->span_us, DAY_US),
        .uplink = uplink,
        .uplink_peak = twi_plan_peak_bits(&c->peak, c->span_us, uplink)};
}

double twi_plan_days(uint64_t free_bytes, int64_t keep_free, double day_bytes)
{
    const double room = (double)free_bytes - (double)keep_free;
    return day_bytes > 0 && room > 0 ? room / day_bytes : 0;
}
