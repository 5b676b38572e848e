/* Everything that is given as JSON, in one form wherever it goes: the socket, the page,
 * brokers, hooks, destinations and --json. docs/page-api.json names each form; the tests
 * hold what is made here against it.
 *
 * Times are RFC 3339 in UTC, with milliseconds; a key of a time that is not known is left
 * out. Shares are percent, rates a second, sizes bytes. Each function gives what is the
 * caller's, to json_decref(); NULL: out of memory. Any thread. */
#ifndef TWI_JSON_H
#define TWI_JSON_H

#include <jansson.h>

#include "../net/finding.h"
#include "../station/drafts.h"
#include "../station/outbox.h"
#include "../station/plan.h"
#include "tawny/catalogue.h"
#include "tawny/station.h"
#include "tawny/events.h"

/** As one line of text, the caller's to free(). @param json  Taken over; may be NULL.
 * @return NULL: out of memory, or json is NULL. */
char *twi_json_text(json_t *json);

/** Values as they are everywhere: seconds to the millisecond, a share in percent. */
json_t *twi_json_seconds(int64_t us);
json_t *twi_json_percent(uint32_t ppm);

/* ---- how things are --------------------------------------------------------------- */

/** @param station  Its name; NULL: left out, as whoever asked knows. */
json_t *twi_json_camera(const tw_camera_status *camera, const char *station);
json_t *twi_json_store(const tw_store_status *store);

json_t *twi_json_sensor(const tw_sensor_status *sensor);

/** A camera of a station that is going; of what it last was, name and place are said. */
json_t *twi_json_camera_down(const tw_camera_status *last, const char *station);

/** A station as a broker and the page are told of it.
 * @param state    "up", "down"...
 * @param stopped  Taken over: twi_json_all_stopped; NULL: left out.
 * @param store    NULL: left out. */
json_t *twi_json_station(const char *station, const char *state, json_t *stopped,
                         const tw_store_status *store);

/** A destination to which nothing is sent any more. */
json_t *twi_json_stopped(const char *destination, int64_t since_us, const char *why);

/** What became of settings that came from afar, or of what was said of a sighting. */
json_t *twi_json_answer(const char *station, const twi_draft_word *word);

/** The settings of a station, as others may see them. @param digest  Stands for them. */
json_t *twi_json_settings(const char *station, const char *digest, const char *text);

/** All of them, as an array. @param catalogue  NULL: there are none. */
json_t *twi_json_all_stopped(tw_catalogue *catalogue);

/* ---- what happens ----------------------------------------------------------------- */

/** @param station  NULL: left out.
 * @param now_us  Wall time, for an event that has no time of its own; 0: left out. */
json_t *twi_json_event(const tw_event *event, const char *station, int64_t now_us);

/** @param zero_us  What its time counts from, in seconds; NULL: that is left out. */
json_t *twi_json_reading(const tw_reading *reading, tw_watch_state state,
                         const int64_t *zero_us);

/** A sighting in recorded footage: its times are seconds from zero_us on.
 * @param file  NULL: left out. @param why  Whether to say why it began. */
json_t *twi_json_found(const char *camera, const char *file, const tw_sighting *sighting,
                       int64_t zero_us, bool why);

/* ---- what is kept ----------------------------------------------------------------- */

/** What the user says was missed. */
json_t *twi_json_missed(const tw_missed_record *record);

/** A sighting as the catalogue has it. */
json_t *twi_json_sighting(const tw_sighting_record *sighting);
json_t *twi_json_capture(const tw_capture_record *capture);

/** A sighting with all of its captures, as it is sent.
 * @param station  NULL: left out.
 * @return NULL: there is no such sighting, too, or the catalogue cannot be read. */
json_t *twi_json_record(tw_catalogue *catalogue, int64_t sighting, const char *station);

/** The same as a part of a message. @param phase  "end", "update"... */
json_t *twi_json_record_of(tw_catalogue *catalogue, int64_t sighting, const char *station,
                           const char *phase);

/** Several of them in one message. @param sightings  An array, taken over. */
/* What a phone is told. */
typedef struct twi_told {
    const char *title, *body, *tag, *url;
    const char *picture; /* address on the page; "": none */
    unsigned missed;
    int64_t wall_us;
} twi_told;

json_t *twi_json_told(const twi_told *told);

json_t *twi_json_digest(const char *station, json_t *sightings);

/** A capture that belongs to no sighting, as it is sent. */
json_t *twi_json_capture_of(const tw_capture_record *capture, const char *station);

/** A sighting that is no more in its catalogue. */
json_t *twi_json_gone(const char *station, const char *series, uint32_t number);

/** What is sent to try a destination. */
json_t *twi_json_test(const char *station);

/** What a sensor said. */
json_t *twi_json_value(const tw_sensor_value *value);

/** Something of the log that the catalogue keeps. */
json_t *twi_json_log_entry(const tw_log_entry *entry);

/** One second of a camera's activity. */
json_t *twi_json_second(const tw_trace_point *point);

/* ---- what is sent ----------------------------------------------------------------- */

json_t *twi_json_item(const twi_outbox_item *item);

/** A line about a "hook", a "destination" or the "page". */
json_t *twi_json_notice(const char *of, bool good, const char *line);

/** @return "waiting", "given up"...; static. */
const char *twi_json_item_state(twi_item_state state);
json_t *twi_json_destination(const char *name, const twi_outbox_fill *fill);

/** A camera that was found on the network. */
json_t *twi_json_nearby(const twi_found_camera *camera);

/** What one camera is expected to make. */
json_t *twi_json_plan(const twi_plan_camera *camera, const twi_plan_rates *rates);

#endif
