/* What a station's settings cost in room and uplink, from what its
 * catalogue knows. */
#ifndef TWI_PLAN_H
#define TWI_PLAN_H

#include "tawny/catalogue.h"
#include "tawny/settings.h"
#include "../core/naming.h"

/* The hour by the clock in which most was made for sending; hours since 1970, UTC. */
typedef struct twi_plan_peak {
    int64_t hour, busiest_hour;
    uint64_t bytes, most_bytes; /* of the hour at hand, and of the busiest */
} twi_plan_peak;

/** Count what was made at a moment, microseconds since 1970. In order of time. */
void twi_plan_peak_add(twi_plan_peak *peak, int64_t wall_us, uint64_t bytes);

/* What one camera has made. */
typedef struct twi_plan_camera {
    char name[64];
    uint32_t sightings;
    int64_t seen_us;     /* length of all its sightings */
    int64_t recorded_us; /* of continuous recording */
    uint64_t bytes[TWI_KIND_COUNT];
    int64_t span_us; /* that all this is of */
    twi_plan_peak peak;
    bool recorded; /* continuous recording counts: the settings ask for it */
} twi_plan_camera;

typedef struct twi_plan {
    twi_plan_camera *cameras; /* owned */
    size_t count;
    int64_t first_us, last_us; /* what was made first and last; both 0: nothing was */
    twi_plan_peak peak;        /* of all cameras together */
} twi_plan;

/** Read what all cameras have made. Less than a minute tells little, and is taken for
 * one: span_us is a minute at least.
 * @param out  Set on TW_OK; twi_plan_free. @return TW_OK; TW_ENOMEM; TW_EIO... */
tw_status twi_plan_read(tw_catalogue *catalogue, tw_settings *settings, twi_plan *out,
                        tw_error *err);
void twi_plan_free(twi_plan *plan);

typedef struct twi_plan_rates {
    double sighting_hour, recorded_hour; /* bytes an hour of it; 0: there was none */
    double day;                          /* bytes of all that is kept */
    double uplink;                       /* bits a second, for what sightings make ... */
    double
        uplink_peak; /* ... and in the busiest hour; less than an hour is taken for it */
} twi_plan_rates;

twi_plan_rates twi_plan_rates_of(const twi_plan_camera *camera);

/** @return bits a second of the busiest hour, of span_us; no less than the mean. */
double twi_plan_peak_bits(const twi_plan_peak *peak, int64_t span_us, double mean);

/** @return for how many days a card takes captures at this rate before the oldest go. */
double twi_plan_days(uint64_t free_bytes, int64_t keep_free, double day_bytes);

#endif
