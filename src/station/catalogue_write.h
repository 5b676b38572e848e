/* The catalogue for who writes captures, and looks after them. */
#ifndef TWI_CATALOGUE_WRITE_H
#define TWI_CATALOGUE_WRITE_H

#include "../core/trace.h"
#include "tawny/catalogue.h"
#include "tawny/sighting.h"
#include "../core/naming.h"

/* A capture that something is to be done with. */
typedef struct twi_catalogue_oldest {
    int64_t id, start_us;
    uint64_t bytes;
    char file[512];
} twi_catalogue_oldest;

/** A new run of the station: numbers of sightings begin anew. What an earlier run left
 * open is closed.
 * @param boot  Stands for the run of the board; "": not known.
 * @return TW_OK; TW_EIO... */
tw_status twi_catalogue_begin_run(tw_catalogue *catalogue, int64_t wall_us,
                                  const char *boot, tw_error *err);

/* How a run that nobody ended was cut off, as far as is known. */
typedef enum twi_cut_off {
    TWI_CUT_OFF,
    TWI_CUT_OFF_WITH_BOARD, /* the board was started anew since */
    TWI_CUT_OFF_ALONE       /* the board has run on */
} twi_cut_off;

/** When the run before the one that was begun had begun, microseconds since 1970 UTC, if
 * nobody ended it: power was lost, or its program was killed or died. 0: it was ended.
 * @param how  Set. */
int64_t twi_catalogue_cut_off(const tw_catalogue *catalogue, twi_cut_off *how);

/** What is written of a sighting, while it runs and at its end. */
typedef struct twi_sighting_entry {
    const char *camera;
    const tw_sighting *sighting;
    int64_t wall_offset_us; /* wall time less capture time */
    uint32_t start_ppm, stay_ppm;
    const char *why;
    bool over;
    int64_t order_us; /* as in tw_capture_record; it counts when the entry is new */
    bool unsure;      /* likewise */
    bool by_number;   /* its number is the store's, and so its id as well */
} twi_sighting_entry;

/** Write a sighting, or what is new of it. @param id  Set on TW_OK; may be NULL. */
tw_status twi_catalogue_put(tw_catalogue *catalogue, const twi_sighting_entry *entry,
                            int64_t *id, tw_error *err);

/** Write a capture that is complete on the card; its id is not used. */
tw_status twi_catalogue_add(tw_catalogue *catalogue, const tw_capture_record *capture,
                            tw_error *err);

/** Write a piece of a camera's trace. @param seconds  As twi_trace_minute has them. */
tw_status twi_catalogue_add_trace(tw_catalogue *catalogue, const char *camera,
                                  const twi_trace_minute *minute, bool unsure,
                                  tw_error *err);

/** Drop the trace of a camera from before a time. */
tw_status twi_catalogue_drop_trace(tw_catalogue *catalogue, const char *camera,
                                   int64_t before_us, tw_error *err);

/** Write what a sensor said, in millionths of its unit, and drop what it said before a
 * time. */
tw_status twi_catalogue_add_value(tw_catalogue *catalogue, const tw_sensor_value *value,
                                  int64_t keep_from_us, tw_error *err);

/* What a word about the store is made of. */
typedef struct twi_catalogue_sums {
    int64_t sightings; /* that began since a time */
    int64_t alarms;    /* in the log since then */
    int64_t bytes;     /* of captures since a longer time ... */
    int64_t first_us;  /* ... and when the first of them began; 0: there are none */
} twi_catalogue_sums;

tw_status twi_catalogue_sum(tw_catalogue *catalogue, int64_t since_us,
                            int64_t bytes_since_us, twi_catalogue_sums *out,
                            tw_error *err);

/** Write down what happened; the oldest of too many (TW_LOG_MAX) go. */
tw_status twi_catalogue_happened(tw_catalogue *catalogue, const tw_log_entry *entry,
                                 tw_error *err);

/** @return the newest order_us of all, 0: there is none. */
int64_t twi_catalogue_newest(tw_catalogue *catalogue);

/** The clock has been set: what this run wrote as unsure is that much later in truth. For
 * all but captures, whose files have names. @param changed How many; may be NULL. */
tw_status twi_catalogue_set_times(tw_catalogue *catalogue, int64_t later_us,
                                  uint32_t *changed, tw_error *err);

/** The oldest unsure capture of this run with an id above one.
 * @return TW_OK; TW_ENOENT: there is none; TW_EIO... */
tw_status twi_catalogue_find_unsure(tw_catalogue *catalogue, int64_t above,
                                    twi_catalogue_oldest *out, tw_error *err);

/** Its file has another name and its time is sure. @return TW_OK; TW_ENOENT; TW_EIO. */
tw_status twi_catalogue_rename(tw_catalogue *catalogue, int64_t capture, const char *file,
                               uint64_t bytes, int64_t start_us, tw_error *err);

/** Take a capture out, as its file is gone. @return TW_OK; TW_ENOENT; TW_EIO. */
tw_status twi_catalogue_drop(tw_catalogue *catalogue, int64_t capture, tw_error *err);

/** Say that a file is on the card; name NULL: forget what was said so far. */
tw_status twi_catalogue_seen(tw_catalogue *catalogue, const char *file, tw_error *err);

/** Take captures out whose file was not seen. @param gone  How many; may be NULL. */
tw_status twi_catalogue_forget_unseen(tw_catalogue *catalogue, uint32_t *gone,
                                      tw_error *err);

#define TWI_LOG_ORDERED "ordered" /* what the log says of what somebody has done */

/** Whether a file is known, by its name below the store.
 * @param cameras  Of one of these, with blanks between; NULL or "": any. */
bool twi_catalogue_knows(tw_catalogue *catalogue, const char *file, const char *cameras);

/** Bytes of the captures of one camera (NULL: of all) and one kind (TWI_KIND_COUNT: of
 * all). */
tw_status twi_catalogue_bytes(tw_catalogue *catalogue, const char *camera, twi_kind kind,
                              uint64_t *bytes, tw_error *err);

/** The oldest capture that may go: of a sighting that is over and not starred, or of
 * none. Which camera and kind: as in twi_catalogue_bytes.
 *
 * @param unsent  Also one that a destination still waits for.
 * @return TW_OK; TW_ENOENT: none may go; TW_EIO... */
tw_status twi_catalogue_find_oldest(tw_catalogue *catalogue, const char *camera,
                                    twi_kind kind, bool unsent, twi_catalogue_oldest *out,
                                    tw_error *err);

/** Add a capture that is on the card but not in the catalogue: to the sighting of that
 * camera and number that it lies in, else to one that is made for it.
 * @param number  Of the sighting; 0 unknown. capture->sighting is not used. */
tw_status twi_catalogue_adopt(tw_catalogue *catalogue, const tw_capture_record *capture,
                              uint32_t number, tw_error *err);

#endif
