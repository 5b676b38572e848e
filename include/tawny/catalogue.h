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
#include "tawny/naming.h"
#include "tawny/port.h"
#include "tawny/sighting.h"
#include "tawny/trace.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { TW_HAPPENINGS_MAX = 20000 };

typedef struct tw_catalogue tw_catalogue;

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
} tw_sighting_record;

/* A capture. */
typedef struct tw_capture_record {
    int64_t id, sighting; /* sighting 0: it belongs to none */
    const char *camera;
    const char *kind; /* a tw_kind_name */
    const char *file; /* name below the store */
    uint64_t bytes;
    int64_t start_us; /* of its first frame */
    int64_t order_us; /* its place among captures, also where the clock was set back; 0:
                         by start_us */
    bool unsure;      /* the clock had not been set: start_us is wrong */
} tw_capture_record;

/* Which sightings. All zero: all of them. */
typedef struct tw_sighting_filter {
    int64_t id;                /* that one only */
    const char *camera;        /* of one camera */
    int64_t from_us, until_us; /* begun at or after, and before */
    uint64_t least_bytes;
    bool starred;
    uint32_t most; /* the newest so many, oldest of them first */
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
typedef struct tw_happening {
    const char *camera; /* NULL: to the station */
    int64_t at_us;
    const char *what; /* "opened", "closed", "freed", "problem", "clock", "started" */
    const char *text; /* one line; may be "" */
    bool unsure;      /* the clock had not been set */
} tw_happening;

/** Visit what happened, the oldest first, until visit says false.
 * @param camera  NULL: to all of them and to the station. */
TW_API tw_status tw_catalogue_happenings(
    tw_catalogue *catalogue, const char *camera, int64_t from_us, int64_t until_us,
    bool (*visit)(void *ctx, const tw_happening *happening), void *ctx, tw_error *err);

/** A starred sighting is never dropped to make room.
 * @return TW_OK; TW_ENOENT: there is no such sighting; TW_EIO. */
TW_API tw_status tw_catalogue_star(tw_catalogue *catalogue, int64_t sighting, bool star,
                                   tw_error *err);

/** Remove a sighting with its files. A file that is gone already is no error; where one
 * cannot be removed, it and the sighting stay.
 * @return TW_OK; TW_ENOENT: there is no such sighting; TW_EIO... */
TW_API tw_status tw_catalogue_remove(tw_catalogue *catalogue, const tw_card *card,
                                     int64_t sighting, tw_error *err);

/* A capture that something is to be done with. */
typedef struct tw_catalogue_oldest {
    int64_t id, start_us;
    uint64_t bytes;
    char file[512];
} tw_catalogue_oldest;

/* ---- for who writes captures ----------------------------------------------------- */

/** A new run of the station: numbers of sightings begin anew. What an earlier run left
 * open is closed. @return TW_OK; TW_EIO... */
TW_API tw_status tw_catalogue_begin_run(tw_catalogue *catalogue, int64_t wall_us,
                                        tw_error *err);

/** What is written of a sighting, while it runs and at its end. */
typedef struct tw_sighting_entry {
    const char *camera;
    const tw_sighting *sighting;
    int64_t wall_offset_us; /* wall time less capture time */
    uint32_t start_ppm, stay_ppm;
    const char *why;
    bool over;
    int64_t order_us; /* as in tw_capture_record; it counts when the entry is new */
    bool unsure;      /* likewise */
    bool by_number;   /* its number is the store's, and so its id as well */
} tw_sighting_entry;

/** Write a sighting, or what is new of it. @param id  Set on TW_OK; may be NULL. */
TW_API tw_status tw_catalogue_note(tw_catalogue *catalogue,
                                   const tw_sighting_entry *entry, int64_t *id,
                                   tw_error *err);

/** Write a capture that is complete on the card; its id is not used. */
TW_API tw_status tw_catalogue_add(tw_catalogue *catalogue,
                                  const tw_capture_record *capture, tw_error *err);

/** Write a piece of a camera's trace. @param seconds  As tw_trace_minute has them. */
TW_API tw_status tw_catalogue_add_trace(tw_catalogue *catalogue, const char *camera,
                                        const tw_trace_minute *minute, bool unsure,
                                        tw_error *err);

/** Drop the trace of a camera from before a time. */
TW_API tw_status tw_catalogue_drop_trace(tw_catalogue *catalogue, const char *camera,
                                         int64_t before_us, tw_error *err);

/** Write down what happened; the oldest of too many (TW_HAPPENINGS_MAX) go. */
TW_API tw_status tw_catalogue_happened(tw_catalogue *catalogue,
                                       const tw_happening *happening, tw_error *err);

/** @return the newest order_us of all, 0: there is none. */
TW_API int64_t tw_catalogue_newest(tw_catalogue *catalogue);

/** The clock has been set: what this run wrote as unsure is that much later in truth. For
 * all but captures, whose files have names. @param changed How many; may be NULL. */
TW_API tw_status tw_catalogue_set_times(tw_catalogue *catalogue, int64_t later_us,
                                        uint32_t *changed, tw_error *err);

/** The oldest unsure capture of this run with an id above one.
 * @return TW_OK; TW_ENOENT: there is none; TW_EIO... */
TW_API tw_status tw_catalogue_find_unsure(tw_catalogue *catalogue, int64_t above,
                                          tw_catalogue_oldest *out, tw_error *err);

/** Its file has another name and its time is sure. @return TW_OK; TW_ENOENT; TW_EIO. */
TW_API tw_status tw_catalogue_rename(tw_catalogue *catalogue, int64_t capture,
                                     const char *file, uint64_t bytes, int64_t start_us,
                                     tw_error *err);

/** Take a capture out, as its file is gone. @return TW_OK; TW_ENOENT; TW_EIO. */
TW_API tw_status tw_catalogue_drop(tw_catalogue *catalogue, int64_t capture,
                                   tw_error *err);

/** Say that a file is on the card; name NULL: forget what was said so far. */
TW_API tw_status tw_catalogue_seen(tw_catalogue *catalogue, const char *file,
                                   tw_error *err);

/** Take captures out whose file was not seen. @param gone  How many; may be NULL. */
TW_API tw_status tw_catalogue_forget_unseen(tw_catalogue *catalogue, uint32_t *gone,
                                            tw_error *err);

/** Whether a file is known, by its name below the store. */
TW_API bool tw_catalogue_knows(tw_catalogue *catalogue, const char *file);

/** Bytes of the captures of one camera (NULL: of all) and one kind (TW_KIND_COUNT: of
 * all). */
TW_API tw_status tw_catalogue_bytes(tw_catalogue *catalogue, const char *camera,
                                    tw_kind kind, uint64_t *bytes, tw_error *err);

/** The oldest capture that may go: of a sighting that is over and not starred, or of
 * none. Which camera and kind: as in tw_catalogue_bytes.
 *
 * @param unsent  Also one that a destination still waits for.
 * @return TW_OK; TW_ENOENT: none may go; TW_EIO... */
TW_API tw_status tw_catalogue_find_oldest(tw_catalogue *catalogue, const char *camera,
                                          tw_kind kind, bool unsent,
                                          tw_catalogue_oldest *out, tw_error *err);

/** Add a capture that is on the card but not in the catalogue: to the sighting of that
 * camera and number that it lies in, else to one that is made for it.
 * @param number  Of the sighting; 0 unknown. capture->sighting is not used. */
TW_API tw_status tw_catalogue_adopt(tw_catalogue *catalogue,
                                    const tw_capture_record *capture, uint32_t number,
                                    tw_error *err);

#ifdef __cplusplus
}
#endif

#endif
