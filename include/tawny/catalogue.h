/* tawny/catalogue.h - what is in a store: sightings, and the captures that belong to
 * them.
 *
 * An SQLite data base, catalogue.db, in the folder that is the store. The station writes
 * it while it runs; others may read and star at the same time. Each function is for one
 * thread at a time. Times are microseconds since 1970 UTC. */
#ifndef TW_CATALOGUE_H
#define TW_CATALOGUE_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/error.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { TW_LOG_MAX = 20000 };

typedef struct tw_catalogue tw_catalogue;

/* What the user says of a sighting. */
enum tw_mark_values {
    TW_MARK_NONE,
    TW_MARK_RIGHT,  /* it shows what it is there for */
    TW_MARK_NOTHING /* there was nothing */
};
typedef int32_t tw_mark; /* one of them */

/* A sighting as the catalogue has it. Texts are borrowed for the call. */
typedef struct tw_sighting_record {
    int64_t id; /* its number, for good; of what was adopted, number may differ */
    const char *camera;
    uint32_t number; /* in names of its files */
    uint16_t part;
    int64_t start_us, end_us; /* end_us 0: it is still running */
    uint32_t peak_ppm, frames;
    uint32_t start_ppm, stay_ppm; /* the limits it was held against; 0 unknown */
    const char *why;              /* it began */
    bool starred;
    bool unsure; /* the clock had not been set: times are wrong */
    uint32_t stills, clips;
    uint64_t bytes;        /* of all its captures */
    uint32_t sent, unsent; /* captures that a destination has, or waits for; a capture
                              counts once for each */
    tw_mark mark;
    /* Who was seen, see tw_naming. */
    const char *name, *note, *named_by;
    uint32_t count, sure_ppm;
    int64_t named_us;
} tw_sighting_record;

/* Who was seen, by whose word. Texts are borrowed for the call. */
typedef struct tw_naming {
    size_t size;       /* of this struct; 0: see version.h */
    const char *name;  /* one line, at most TW_NAME_MAX bytes; NULL or "": none */
    uint32_t count;    /* how many of them, at most TW_COUNT_MAX; 0: not said */
    const char *note;  /* one line, at most TW_NOTE_MAX bytes; NULL or "": none */
    const char *by;    /* the program that says so; NULL or "": somebody does */
    uint32_t sure_ppm; /* how sure it is of it; 0: it does not say */
    int64_t at_us;     /* when it was said */
} tw_naming;

enum { TW_NAME_MAX = 200, TW_NOTE_MAX = 1000, TW_COUNT_MAX = 100000 };

/* Something that the user says was there while no sighting was. */
typedef struct tw_missed_record {
    int64_t id; /* for good */
    const char *camera;
    int64_t at_us;
} tw_missed_record;

/* A capture. */
typedef struct tw_capture_record {
    int64_t id, sighting; /* sighting 0: it belongs to none */
    const char *camera;
    const char *kind; /* a twi_kind_name */
    const char *file; /* name below the store */
    uint64_t bytes;
    int64_t start_us; /* of its first frame */
    int64_t order_us; /* its place among captures, also where the clock was set back; 0:
                         by start_us */
    bool unsure;      /* the clock had not been set: start_us is wrong */
} tw_capture_record;

/* Which sightings. All zero: all of them. */
typedef struct tw_sighting_filter {
    size_t size;               /* of this struct; 0: see version.h */
    int64_t id;                /* that one only */
    const char *camera;        /* of one camera */
    int64_t from_us, until_us; /* begun at or after, and before */
    uint64_t least_bytes;
    bool starred;
    uint32_t most; /* the newest so many, oldest of them first */
    bool marked;
    const char *name; /* their name has this in it, in whatever case; NULL: any */
    tw_mark mark;     /* this one; TW_MARK_NONE: any */
    uint32_t least_peak_ppm, most_peak_ppm; /* highest activity; most 0: any */
    const char *cameras; /* of one of these, with blanks between; NULL or "": any */
} tw_sighting_filter;

/**
 * Open the catalogue of a store.
 *
 * @param path   Of the data base. NULL: one in memory, for a card that is no folder.
 * @param write  Make it if it is missing, and bring an older one up to date.
 * @return TW_OK: *out is the caller's, to close; TW_ENOENT: there is none; TW_EDAMAGED:
 * it is no catalogue, or damaged; TW_ENOTSUP: written by a newer version; TW_ENOMEM,
 *         TW_EIO.
 */
TW_API tw_status tw_catalogue_open(const char *path, bool write, tw_catalogue **out,
                                   tw_error *err);

/** NULL is fine. */
TW_API void tw_catalogue_close(tw_catalogue *catalogue);

/** Visit sightings, the oldest first, until visit says false. They come in the order in
 * which they happened, also where the clock was set back in between.
 * @return TW_OK, or err says why they cannot be read. */
TW_API tw_status tw_catalogue_sightings(
    tw_catalogue *catalogue, const tw_sighting_filter *filter,
    bool (*visit)(void *ctx, const tw_sighting_record *record), void *ctx, tw_error *err);

/** Visit captures, the oldest first, until visit says false.
 * @param sighting  Its id; 0: all captures. */
TW_API tw_status tw_catalogue_captures(tw_catalogue *catalogue, int64_t sighting,
                                       bool (*visit)(void *ctx,
                                                     const tw_capture_record *record),
                                       void *ctx, tw_error *err);

/* One second of a camera's activity. */
typedef struct tw_trace_point {
    int64_t t_us;               /* it begins, on the wall clock */
    uint32_t max_ppm, mean_ppm; /* of its frames */
} tw_trace_point;

/** Visit the trace of a camera from one time to another, in order, until visit says
 * false. Seconds without a frame are left out.
 * @param until_us  Past the last; 0: to the end. */
TW_API tw_status tw_catalogue_trace(tw_catalogue *catalogue, const char *camera,
                                    int64_t from_us, int64_t until_us,
                                    bool (*visit)(void *ctx, const tw_trace_point *point),
                                    void *ctx, tw_error *err);

/* Something that happened to a camera or to the station. */
typedef struct tw_log_entry {
    const char *camera; /* NULL: to the station */
    int64_t at_us;
    const char *what; /* "opened", "closed", "freed", "problem", "clock", "started" */
    const char *text; /* one line; may be "" */
    bool unsure;      /* the clock had not been set */
} tw_log_entry;

/* What a sensor said. */
typedef struct tw_sensor_value {
    const char *sensor; /* its name */
    int64_t at_us;
    int64_t value; /* millionths of its unit */
    bool unsure;   /* the clock had not been set */
} tw_sensor_value;

/** Visit what sensors said, in the order of time, until visit says false.
 * @param sensor  NULL: all of them. */
TW_API tw_status tw_catalogue_values(
    tw_catalogue *catalogue, const char *sensor, int64_t from_us, int64_t until_us,
    bool (*visit)(void *ctx, const tw_sensor_value *value), void *ctx, tw_error *err);

/** Visit what happened, the oldest first, until visit says false.
 * @param camera  NULL: to all of them and to the station. */
TW_API tw_status tw_catalogue_log(tw_catalogue *catalogue, const char *camera,
                                  int64_t from_us, int64_t until_us,
                                  bool (*visit)(void *ctx, const tw_log_entry *entry),
                                  void *ctx, tw_error *err);

/** Have the log say that somebody did something, while no station need run: see
 * tw_station_did.
 * @return TW_OK; TW_EINVAL; TW_EIO. */
TW_API tw_status tw_catalogue_did(tw_catalogue *catalogue, const char *camera,
                                  int64_t at_us, const char *text, tw_error *err);

/** A starred sighting is never dropped to make room.
 * @return TW_OK; TW_ENOENT: there is no such sighting; TW_EIO. */
TW_API tw_status tw_catalogue_star(tw_catalogue *catalogue, int64_t sighting, bool star,
                                   tw_error *err);

/** Say what a sighting was; the last word holds. tawny tune --marked proposes settings
 * from it.
 * @return TW_OK; TW_EINVAL: no tw_mark; TW_ENOENT: there is no such sighting; TW_EIO. */
TW_API tw_status tw_catalogue_mark(tw_catalogue *catalogue, int64_t sighting,
                                   tw_mark mark, tw_error *err);

/**
 * Say who was seen. What somebody has said is not changed by a program.
 *
 * @return TW_OK; TW_EINVAL: a text that is too long, or of more than one line, too many
 * of them; TW_ENOENT: there is no such sighting; TW_EEXIST: somebody has named it;
 *         TW_EIO.
 */
TW_API tw_status tw_catalogue_name(tw_catalogue *catalogue, int64_t sighting,
                                   const tw_naming *naming, tw_error *err);

/** Visit the names that were given, those of late first, until visit says false.
 * @param named  How many sightings have it. */
TW_API tw_status tw_catalogue_names(tw_catalogue *catalogue,
                                    bool (*visit)(void *ctx, const char *name,
                                                  uint32_t named),
                                    void *ctx, tw_error *err);

/** @return "none", "right" or "nothing"; "?" for what is no mark. Static. */
TW_API const char *tw_mark_name(tw_mark mark);

/** The mark of such a name. @return false: it is none, and out is left alone. */
TW_API bool tw_mark_find(const char *name, tw_mark *out);

/** Say that something was there, and no sighting.
 * @param at_us  When, > 0. @param id  Of the record; may be NULL.
 * @return TW_OK; TW_EINVAL: camera NULL or empty, or no time; TW_EIO... */
TW_API tw_status tw_catalogue_add_missed(tw_catalogue *catalogue, const char *camera,
                                         int64_t at_us, int64_t *id, tw_error *err);

/** Take that back.
 * @return TW_OK; TW_ENOENT: there is no such record; TW_EIO... */
TW_API tw_status tw_catalogue_remove_missed(tw_catalogue *catalogue, int64_t id,
                                            tw_error *err);

/** Visit what was missed, the oldest first, until visit says false.
 * @param camera    NULL: by any. @param until_us  Past the last; 0: to the end.
 * @return TW_OK, or err says why it cannot be read. */
TW_API tw_status tw_catalogue_missed(
    tw_catalogue *catalogue, const char *camera, int64_t from_us, int64_t until_us,
    bool (*visit)(void *ctx, const tw_missed_record *record), void *ctx, tw_error *err);

/** Remove a sighting with its files. A file that is gone already is no error; where one
 * cannot be removed, it and the sighting stay.
 * @return TW_OK; TW_ENOENT: there is no such sighting; TW_EIO... */
TW_API tw_status tw_catalogue_remove(tw_catalogue *catalogue, const tw_card *card,
                                     int64_t sighting, tw_error *err);

/**
 * Make the catalogue of a store again from its files, as far as their names tell: when,
 * by which camera, which captures belong together. The old one is kept beside it, as
 * catalogue.db.old-1. What no name tells (stars, marks, peaks, reasons) is in the journal
 * beside it, sightings.jsonl. Not while a station writes to the store.
 *
 * @param settings  For the names of captures.
 * @param callback  Is told what was done; may be NULL.
 * @return TW_OK; else err says why the store cannot be written.
 */
TW_API tw_status tw_store_rebuild(const tw_card *card, const tw_settings *settings,
                                  tw_clock clock, tw_event_fn callback, void *ctx,
                                  tw_error *err);

#ifdef __cplusplus
}
#endif

#endif
