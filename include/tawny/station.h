/* tawny/station.h - cameras watched end to end: frames in, sightings and captures out. */
#ifndef TW_STATION_H
#define TW_STATION_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/detector.h"
#include "tawny/error.h"
#include "tawny/port.h"
#include "tawny/settings.h"
#include "tawny/sighting.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { TW_SHEET_MAX = 200 }; /* pictures on a contact sheet */

typedef enum tw_event_kind {
    TW_EVENT_OPENED,  /* a camera delivers: stream */
    TW_EVENT_READING, /* one frame was read: reading, luma, state, and sighting if one
                         runs */
    TW_EVENT_BEGAN,   /* a sighting was confirmed: sighting, reading */
    TW_EVENT_ENDED,   /* it is over: sighting */
    TW_EVENT_STORED,  /* a capture is complete on the card: file, kind, bytes, sighting */
    TW_EVENT_FREED,   /* captures were dropped to make room: bytes, text */
    TW_EVENT_PROBLEM, /* something went wrong and the camera goes on: status, text */
    TW_EVENT_LOST,    /* a live camera gives nothing and is tried again: status, text */
    TW_EVENT_BACK,    /* it is back: text says after how long */
    TW_EVENT_RELOADED, /* new settings hold: settings; text says what that changed */
    TW_EVENT_STOPPED,  /* nothing is sent to a destination any more: text says why */
    TW_EVENT_ORDERED,  /* somebody has given an order: text says which */
    TW_EVENT_CLOSED    /* a camera has ended: status, text if that was an error */
} tw_event_kind;

/** @return "opened", "began"...: one word for each kind; static. */
TW_API const char *tw_event_name(tw_event_kind kind);

/* Something that happened. All pointers are borrowed and good for the call; those that do
 * not belong to the kind are NULL. */
typedef struct tw_event {
    tw_event_kind kind;
    tw_watch_state state;
    const char *camera; /* NULL: it concerns the station */
    int64_t t_us;       /* capture time of the frame it belongs to */
    int64_t wall_us;    /* the same on the wall clock */
    const tw_stream *stream;
    const tw_reading *reading;
    const tw_luma *luma; /* what the reading was taken of */
    const tw_sighting *sighting;
    const char *file;      /* name below the store */
    const char *file_kind; /* a tw_kind_name */
    uint64_t bytes;
    const char *text;            /* one line: what and where */
    const tw_settings *settings; /* of TW_EVENT_RELOADED: those that hold from now on */
    uint64_t lost_frames; /* of this camera so far: wanted in a file, and not there */
    const struct tw_event_frame *frame; /* for tw_event_picture */
    tw_status status;
    bool lost; /* a capture could not be stored: file_kind says which */
    /* What this subscriber was too slow for, so far: readings, and all else. */
    uint64_t missed_readings, missed_others;
} tw_event;

/** Told of each event, one at a time. Of a station: from a thread of the subscriber's
 * own, which holds no lock, so it may take its time and call whatever any thread may; who
 * falls behind misses readings, and is told how many. Of a rehearsal: from the thread
 * that rehearses. */
typedef void (*tw_event_fn)(void *ctx, const tw_event *event);

/* Somebody who is told of a station's events. */
typedef struct tw_subscriber {
    tw_event_fn callback; /* required */
    bool readings;        /* of all frames */
    /* Whether the next reading of a camera is wanted with luma and picture; asked in the
     * camera's thread, so it must not block. NULL: none is. */
    bool (*wants)(void *ctx, const char *camera);
    void *ctx;
} tw_subscriber;

/**
 * The frame of a TW_EVENT_READING as a JPEG picture: as the camera sent it where it sends
 * JPEG, else encoded. Only while the event is told, in the same thread; of a station only
 * for a subscriber that wants it.
 *
 * @param out  Set on TW_OK, the caller's to free().
 * @return TW_OK; TW_EINVAL: an event without one; else err says what is wrong.
 */
TW_API tw_status tw_event_picture(const tw_event *event, uint8_t **out, size_t *bytes,
                                  tw_error *err);

/**
 * How sharp a JPEG picture is, or a part of it, in full resolution. For
 * focusing: the higher the sharper, of one and the same place.
 *
 * @param box  NULL: all of it.
 * @param sharpness  Set on TW_OK: luma levels from pixel to pixel, in 256ths.
 * @return TW_OK; TW_EDAMAGED: it is no picture; TW_EINVAL; TW_ENOMEM.
 */
TW_API tw_status tw_picture_sharpness(const uint8_t *jpeg, size_t bytes,
                                      const tw_blob *box, uint32_t *sharpness,
                                      tw_error *err);

/* What a station or a rehearsal runs on. */
typedef struct tw_platform {
    const tw_camera_make_fn *makers; /* ended by NULL; NULL: there are none */
    tw_clock clock;
    const tw_card *card; /* where captures go; a station needs one; NULL: a rehearsal or a
                            look stores nothing */
    const tw_pins *pins; /* sensors, lamps...; NULL: there are none */
    tw_push *const *pushed; /* cameras of your own, ended by NULL; NULL: there are none */
} tw_platform;

typedef struct tw_rehearsal_result {
    uint64_t frames;       /* read by the detector */
    uint64_t decoded;      /* pictures; more than were read where check_every is set */
    uint64_t bad_frames;   /* that could not be read */
    int64_t first_us;      /* capture time of the first frame */
    int64_t length_us;     /* from the first to the end of the last frame */
    uint32_t sightings;    /* each split part counted */
    uint64_t packet_bytes; /* of all frames as they came */
} tw_rehearsal_result;

/**
 * Run recorded footage through a camera's settings, in this thread, as fast as it can be
 * read (camera->pace is not heeded, nor is camera->loop). The same footage and settings
 * give the same events and the same files.
 *
 * @param camera   Its source says what is read.
 * @param station  For the names of captures; may be NULL if board->card is.
 * @param stop     Set to nonzero, from a signal handler for one, to end early; may be
 * NULL.
 * @param callback     May be NULL.
 * @param result   Written on TW_OK and TW_ESTOPPED.
 * @return TW_OK; TW_ESTOPPED; else err says which file cannot be read and why.
 */
TW_API tw_status tw_rehearse(const tw_platform *platform,
                             const tw_camera_settings *camera,
                             const tw_station_settings *station, const volatile int *stop,
                             tw_event_fn callback, void *ctx, tw_rehearsal_result *result,
                             tw_error *err);

/**
 * Make the catalogue of a store again from its files, as far as their names tell: when,
 * by which camera, which captures belong together. The old one is kept beside it, as
 * catalogue.db.old-1. What no name tells (stars, peaks, reasons) is in the journal beside
 * it, sightings.jsonl. Not while a station writes to the store.
 *
 * @param callback  Is told what was done; may be NULL.
 * @return TW_OK; else err says why the store cannot be written.
 */
TW_API tw_status tw_store_rebuild(const tw_card *card,
                                  const tw_station_settings *settings, tw_clock clock,
                                  tw_event_fn callback, void *ctx, tw_error *err);

typedef struct tw_station tw_station;

/**
 * Make a station with all cameras of the settings. Nothing is opened yet. One whose
 * settings are not sound (tw_settings_sound) is not watched; it is told as closed.
 *
 * @param board     Copied; what it points to outlives the station. Its card is needed.
 * @param callback      Of all events, readings without pictures; while the station runs,
 * and of what went wrong here before this returns where it fails. May be NULL.
 * @param settings  Outlives the station, unchanged.
 * @param out       Set on TW_OK; free it with tw_station_free.
 * @return TW_OK; TW_ENOENT: no cameras; TW_ESYNTAX: bad pattern of names; TW_EACCES,
 *         TW_ENOSPC...: the card cannot be written; TW_ENOMEM.
 */
TW_API tw_status tw_station_new(const tw_platform *platform, tw_settings *settings,
                                tw_event_fn callback, void *ctx, tw_station **out,
                                tw_error *err);

/** Tell somebody else of events, too, from a thread of his own. Before tw_station_run.
 * @return TW_OK; TW_EINVAL; TW_ESIZE: there are sixteen already. */
TW_API tw_status tw_station_subscribe(tw_station *station, const tw_subscriber *who);

/** Who has this ctx is told nothing any more once this returns. Any thread, but not from
 * his own callback. */
TW_API void tw_station_unsubscribe(tw_station *station, const void *ctx);

/** NULL is fine. Not while tw_station_run runs. */
TW_API void tw_station_free(tw_station *station);

/**
 * Watch until all cameras have ended or tw_station_stop is called: one thread for each
 * camera, one that writes, one for each subscriber. All captures are complete, and all
 * events told, when it returns. Once only.
 *
 * @return TW_OK; TW_EIO: no camera could be opened, and events have said why; TW_ENOMEM.
 */
TW_API tw_status tw_station_run(tw_station *station);

/**
 * Have new settings hold while the station runs, each as its row of the table says
 * (tw_applied): between two frames, so that nothing is missed and a sighting that runs
 * goes on; with the detector beginning anew; or with the camera opened again, once no
 * sighting runs or it is over its longest. A camera that is not named any more ends, one
 * that is new begins, and one that has failed is tried again. One whose new settings are
 * not sound goes on with its old ones. What holds from the next start on only is told.
 * Returns at once; a TW_EVENT_RELOADED tells when it is done.
 *
 * @param settings  Taken over, whatever is returned. After tw_settings_check.
 * @return TW_OK; TW_EINVAL: they are not sound, or have no camera. Any thread.
 */
TW_API tw_status tw_station_apply(tw_station *station, tw_settings *settings);

/**
 * Arm or disarm cameras from outside, over what the settings say.
 *
 * @param camera  NULL: all of them.
 * @param armed   What they are.
 * @param for_us  After so long the settings hold again; 0: until told otherwise.
 * @return TW_OK; TW_EINVAL; TW_ENOENT: there is no such camera. Any thread.
 */
TW_API tw_status tw_station_arm(tw_station *station, const char *camera, bool armed,
                                int64_t for_us);

/** What the settings say holds again. Likewise. */
TW_API tw_status tw_station_arm_as_set(tw_station *station, const char *camera);

/** A sighting is to begin with the next frame, whatever moves. Likewise. */
TW_API tw_status tw_station_trigger(tw_station *station, const char *camera);

/** A still of the next frame is to be stored, of no sighting. Likewise. */
TW_API tw_status tw_station_snap(tw_station *station, const char *camera);

/** One of these by its word, as sockets, brokers and pages give them: "arm", "disarm",
 * "as-set", "trigger", "snap". @param for_us  Of the first two.
 * @return as they do; TW_ENOTSUP: there is no such order. */
TW_API tw_status tw_station_order(tw_station *station, const char *what,
                                  const char *camera, int64_t for_us);

/* Whether motion may begin a sighting, and what decides it. */
typedef enum tw_arming {
    TW_ARMED_BY_SETTING,
    TW_ARMED_BY_ORDER,
    TW_DISARMED_BY_SETTING, /* armed = no */
    TW_DISARMED_BY_ORDER,
    TW_DISARMED_BY_HOURS,
    TW_DISARMED_BY_DELAY /* arm_delay */
} tw_arming;

/** @return "armed", "armed by order", "disarmed by hours"...; static. */
TW_API const char *tw_arming_name(tw_arming arming);

/* How a camera fares. */
typedef struct tw_camera_status {
    char name[64];
    bool open;  /* it delivers */
    bool ended; /* it will not any more: it is closed, or could not be opened */
    tw_watch_state state;
    uint32_t activity_ppm; /* of the newest frame */
    uint64_t frames;       /* read by the detector */
    uint32_t sightings;    /* begun */
    int64_t last_us;       /* wall time of the last one's beginning; 0: none yet */
    uint32_t stored;       /* captures */
    uint64_t stored_bytes;
    uint32_t not_stored;  /* captures that the card did not take */
    uint64_t lost_frames; /* that belonged into a file, and the card was too slow */
    uint32_t problems;    /* told */
    int64_t lost_us; /* since when a live camera gives nothing, wall time; 0: it does */
    int64_t next_us; /* when it is tried again */
    char lost_why[160];
    int64_t frame_us; /* wall time at which a frame was read last; 0: none yet */
    /* Looked at every second: */
    char format[24];        /* "mjpeg" */
    uint16_t width, height; /* of its pictures */
    uint32_t wanted_milli;  /* rate that it promises, thousandths of a frame a second; 0:
                               it promises none */
    uint32_t real_milli;    /* that came in the last five seconds */
    uint32_t busy_ppm;      /* share of one processor that its thread took then */
    uint64_t dropped;       /* frames that its driver has lost since it was opened */
    uint64_t damaged;       /* frames that could not be read, likewise */
    uint64_t kept_bytes;    /* memory that its pre-event footage takes */
    bool kept_raw;          /* of pixels: as they are; else they are encoded for it */
    uint32_t light_ppm;     /* mean brightness of the place */
    uint32_t noise;         /* sixteenths of a luma level, see tw_detector_conditions */
    tw_arming arming;
    int64_t arming_until_us; /* wall time at which that changes by itself; 0: it does not,
                                or not within a week */
} tw_camera_status;

/** The state of a camera, in one word.
 * @return "starting", "settling", "armed", "sighting", "resting", "disarmed", "lost" or
 * "closed"; static. */
TW_API const char *tw_camera_state_name(const tw_camera_status *camera);

/** How a camera of a station fares. Any thread, also while it runs.
 * @return TW_OK; TW_EINVAL; TW_ENOENT: index is past the last. */
TW_API tw_status tw_station_camera(tw_station *station, size_t index,
                                   tw_camera_status *out);

/* How the store fares. */
typedef struct tw_store_status {
    uint64_t waiting_bytes; /* footage that is not written yet */
    uint64_t free_bytes, total_bytes;
    bool card;        /* it can be asked for its space */
    bool catalogue;   /* it is kept */
    uint32_t dropped; /* times that room was made */
    uint32_t problems;
} tw_store_status;

/** How the store fares. Any thread. @return TW_OK; TW_EINVAL. */
TW_API tw_status tw_station_store(tw_station *station, tw_store_status *out);

/** Ask tw_station_run to return. From any thread, and from a signal handler. */
TW_API void tw_station_stop(tw_station *station);

/* One picture that a camera gives, for aiming and for trying limits. */
typedef struct tw_look_options {
    int64_t after_us; /* watch for so long first, so that the detector knows the place */
    bool overlay;     /* draw zones, cells, blobs and levels */
    bool png;         /* PNG instead of JPEG */
} tw_look_options;

/**
 * Take one picture. Without overlay a camera that sends JPEG gives its own bytes.
 *
 * @param out     Set on TW_OK to a whole file, the caller's to free().
 * @param taken   Set to what the detector said of the frame; its cells are not kept.
 * @return TW_OK; else err says what and where.
 */
TW_API tw_status tw_look(const tw_platform *platform, const tw_camera_settings *camera,
                         const tw_look_options *options, uint8_t **out, size_t *bytes,
                         tw_reading *taken, tw_error *err);

/**
 * Write all frames of a camera into one MP4 file, encoded or copied as its clip_video and
 * clip_quality say, until it ends.
 *
 * @param path  Made or replaced.
 * @param stop  As in tw_rehearse.
 * @return TW_OK; TW_ESTOPPED: the file is complete as far as it goes; else err says what
 *         is wrong.
 */
TW_API tw_status tw_footage_write(const tw_platform *platform,
                                  const tw_camera_settings *camera, const char *path,
                                  const volatile int *stop, tw_error *err);

/** What a camera was found to deliver. */
typedef struct tw_camera_found {
    tw_stream stream; /* its pointers are NULL, but for codec_name */
    uint32_t
        own_milli; /* frames in 1000 s before fps leaves any out; 0: no need to look */
    bool grouped;  /* they depend on each other, and are left out at groups' ends */
} tw_camera_found;

/** Open a camera once and read one frame of it; where fps limits it, three seconds.
 * @param found  Set on TW_OK.
 * @return TW_OK; else err says what is wrong. */
TW_API tw_status tw_camera_try(const tw_platform *platform,
                               const tw_camera_settings *camera, tw_camera_found *found,
                               tw_error *err);

/** Try the names and the card as tw_station_new does: make, write and remove a file.
 * @return TW_OK; else err says what is wrong. */
TW_API tw_status tw_store_try(const tw_card *card, const tw_station_settings *station,
                              tw_error *err);

/** @return whether clips can be written and which codec module is missing if not (err).
 */
TW_API bool tw_clips_possible(tw_error *err);

/* One picture of a contact sheet. */
typedef struct tw_sheet_entry {
    const uint8_t *jpeg; /* any size; borrowed */
    size_t bytes;
    bool boxed; /* draw blob's box */
    tw_blob blob;
    const char *title; /* short: "1  35.2 s" */
    const char *line;  /* below it; may be longer */
} tw_sheet_entry;

/**
 * Draw a contact sheet, up to four pictures beside each other.
 *
 * @param count  1..TW_SHEET_MAX.
 * @param title  One line above them.
 * @param png    PNG instead of JPEG.
 * @param out    Set on TW_OK to a whole file, the caller's to free().
 * @return TW_OK; TW_EINVAL; TW_ENOTSUP: the drawing module is missing; TW_EDAMAGED: a
 *         picture cannot be read.
 */
TW_API tw_status tw_sheet_draw(const tw_sheet_entry *entries, size_t count,
                               const char *title, bool png, uint8_t **out, size_t *bytes,
                               tw_error *err);

/** How a camera's settings make sightings of readings, for tw_sighting_init. */
TW_API tw_sighting_config tw_sighting_config_of(const tw_camera_settings *camera);

/** Why a sighting began, in one line, from tw_sighting.cause: "2.10 % of the watched area
 * moved (start_at 0.05 %), one blob of 1.80 % at the left, 2 of 3 frames".
 * @param out  Caller's, capacity bytes, >= 1; 200 are enough. @return out. */
TW_API const char *tw_why_began(const tw_sighting *sighting, char *out, size_t capacity);

/** Why a frame began no sighting: what moved, and what took it away. Same terms; 500
 * bytes are enough. */
TW_API const char *tw_why_not(const tw_reading *reading, tw_watch_state state,
                              const tw_camera_settings *camera, char *out,
                              size_t capacity);

/** Where in the picture something is: "at the left", "in the middle"; static. */
TW_API const char *tw_place_words(int32_t x_ppm, int32_t y_ppm);

#ifdef __cplusplus
}
#endif

#endif
