/* A store with two cameras, on a simulated card and a clock that is set by hand. */
#ifndef TW_TEST_PLACE_H
#define TW_TEST_PLACE_H

#include "../../src/station/writer.h"
#include "support.h"
#include "../../src/settings/sections.h"

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S) /* 2027-03-13 20:30 UTC */
#define DAY (INT64_C(86400) * S)
#define NO_LIMIT                                                                         \
    ((twi_by_kind){0, {-1, -1, -1, -1, -1, -1, -1, -1, -1}}) /* TWI_AS_ALL each          \
                                                              */
#define NAMES "%Y-%m-%d/{camera}/{camera}-%Y%m%dT%H%M%S.{ms}-{sighting}-{kind}{n}"

typedef struct place {
    tw_sim_time time;
    tw_card card;
    twi_station_settings station;
    twi_camera_settings camera[2];
    twi_channel channel[2];
    twi_writer writer;
    uint32_t number;
    char freed[1024], alarms[1024];
    problems problems;
} place;

/** @param faults  Of the card; may be NULL. Open its writer when settings are made. */
place *make_place(const tw_sim_faults *faults);
void open_writer(place *p);
void leave(place *p);

/** A still of a sighting of its own, now; then a minute passes.
 * @return the sighting's number, which is its id where the catalogue is new. */
int64_t capture(place *p, int camera);

/** @return files on the card with so much in their names. */
size_t held(const place *p, const char *part);

#endif
