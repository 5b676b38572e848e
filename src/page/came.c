/* What the view of the last night needs beside sightings: the nights, and who looks. */
#include <jansson.h>

#include "../core/hours.h"
#include "../station/visits.h"
#include "page_state.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

#define DAY_US (INT64_C(86400) * 1000000)

enum { NIGHTS_MAX = 32, DUSK_MDEG = -6000 };

/* Of the first camera that has one: the others are near. */
static bool find_place(tw_settings *s, twi_hours_place *out)
{
    twi_camera_settings c;
    const char *name = NULL;
    for (size_t i = 0; (name = tw_settings_camera_name(s, i)); i++) {
        if (twi_settings_camera(s, name, &c) != TW_OK || c.latitude == TWI_NOWHERE ||
            c.longitude == TWI_NOWHERE)
            continue;
        *out = (twi_hours_place){c.latitude, c.longitude, true};
        return true;
    }
    return false;
}

/* From dusk to dawn, where there are both: [milliseconds, milliseconds]. */
static void add_night(json_t *list, const twi_hours_place *place, int64_t noon_us)
{
    int64_t dusk_us = 0, dawn_us = 0;
    if (twi_sun_passes(place, noon_us, DUSK_MDEG, false, &dusk_us) == TW_OK &&
        twi_sun_passes(place, noon_us + DAY_US, DUSK_MDEG, true, &dawn_us) == TW_OK)
        (void)json_array_append_new(list, json_pack("[II]", (json_int_t)(dusk_us / 1000),
                                                    (json_int_t)(dawn_us / 1000)));
}

void twi_answer_nights(const twi_hours_place *place, int64_t from_us, int64_t until_us,
                       twi_web_answer *out)
{
    if (from_us <= 0 || until_us <= from_us || until_us - from_us > NIGHTS_MAX * DAY_US) {
        twi_answer_error(400, "from and until are milliseconds, at most 32 days apart",
                         out);
        return;
    }
    json_t *list = json_array();
    /* Noon there, of the day before: its night may reach into the span. The sun takes 240
     * microseconds for a millionth of a degree. */
    int64_t noon_us = from_us - from_us % DAY_US - DAY_US / 2 - place->longitude * 240;
    for (; place->known && noon_us < until_us; noon_us += DAY_US)
        add_night(list, place, noon_us);
    twi_answer_json(json_pack("{so}", "nights", list), 200, out);
}

void twi_show_nights(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    twi_hours_place place = {0};
    tw_settings *s = twi_page_settings(p);
    (void)rest;
    if (s)
        (void)find_place(s, &place);
    tw_settings_free(s);
    twi_answer_nights(&place, twi_time_of(p, r, "from"), twi_time_of(p, r, "until"), out);
}

void twi_note_visit(twi_page *p, const twi_asked *r, const char *rest,
                    twi_web_answer *out)
{
    int64_t since_us = 0;
    tw_error err = {0};
    tw_status st = TW_ENOENT;
    (void)rest;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c)
        st = twi_catalogue_visit(c, r->who, twi_page_wall(p), &since_us, &err);
    (void)pthread_mutex_unlock(&p->store_lock);
    if (st == TW_OK)
        twi_answer_json(json_pack("{sI}", "since", (json_int_t)(since_us / 1000)), 200,
                        out);
    else
        twi_answer_status(st, "there is no catalogue", &err, out);
}
