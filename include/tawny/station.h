/* tawny/station.h - cameras watched end to end: frames in, sightings and captures out.
 *
 * A station is made, run and freed by one thread; everything that says "any thread" may
 * be called meanwhile, from callbacks too. Settings that tw_station_apply takes are the
 * station's from then on; all else that is given is borrowed, for as long as it says. */
#ifndef TW_STATION_H
#define TW_STATION_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/error.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct tw_station tw_station;

/**
 * Make a station with all cameras of the settings. Nothing is opened yet. One whose
 * settings are not sound (twi_settings_sound) is not watched; it is told as closed.
 *
 * @param platform  Copied; what it points to outlives the station. Its card is needed.
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

/** Another callback hears of events, too, in a thread of its own. Before tw_station_run.
 * @return TW_OK; TW_EINVAL; TW_ESIZE: there are sixteen already. */
TW_API tw_status tw_station_subscribe(tw_station *station, const tw_subscriber *who);

/** The subscriber with this ctx hears of nothing more once this returns. Any thread, but
 * not from its own callback. */
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

/** The same, and the log says of whom it was. @param who  "ann"; NULL: not said. */
TW_API tw_status tw_station_order_by(tw_station *station, const char *what,
                                     const char *camera, int64_t for_us, const char *who);

/** Have it told, and noted in the log, that somebody did something that is no order to a
 * camera: as TW_EVENT_ORDERED.
 * @param camera  NULL: it concerns none, or several.
 * @param text    "sighting 12 deleted, by ann"
 * @return TW_OK; TW_EINVAL. Any thread, while the station runs. */
TW_API tw_status tw_station_did(tw_station *station, const char *camera,
                                const char *text);

/* Whether it is dark before a camera. */
enum tw_darkness_values { TW_DARKNESS_UNKNOWN, TW_LIGHT, TW_DARK };
typedef int32_t tw_darkness; /* one of them */

/* Whether motion may begin a sighting, and what decides it. */
enum tw_arming_values {
    TW_ARMED_BY_SETTING,
    TW_ARMED_BY_ORDER,
    TW_DISARMED_BY_SETTING, /* armed = no */
    TW_DISARMED_BY_ORDER,
    TW_DISARMED_BY_HOURS,
    TW_DISARMED_BY_DELAY /* arm_delay */
};
typedef int32_t tw_arming; /* one of them */

/** @return "armed", "armed by order", "disarmed by hours"...; static. */
TW_API const char *tw_arming_name(tw_arming arming);

/* How a camera fares. */
typedef struct tw_camera_status {
    size_t size; /* of this struct; 0: see version.h */
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
    bool placed;            /* its settings say where it stands */
    uint32_t light_ppm;     /* mean brightness of the place */
    uint32_t noise;         /* sixteenths of a luma level, see tw_detector_conditions */
    tw_arming arming;
    int64_t arming_until_us; /* wall time at which that changes by itself; 0: it does not,
                                or not within a week */
    int32_t sound_level;     /* tenths of a decibel, 0 the loudest that can be;
                                TW_SOUND_UNKNOWN: it hears nothing */
    tw_darkness darkness;    /* looked at where settings or a lamp depend on it */
    char holds[160];         /* for what of it other settings hold: "dark; 22:00-05:00";
                                "": what is set for all times holds alone */
    char ordered_by[64];     /* who has armed or disarmed it by order; "": not said */
    int64_t latitude, longitude; /* millionths of a degree, if placed */
} tw_camera_status;

#define TW_SOUND_UNKNOWN INT32_MIN

/** The state of a camera, in one word.
 * @return "starting", "settling", "armed", "sighting", "resting", "disarmed", "lost" or
 * "closed"; static. */
TW_API const char *tw_camera_state_name(const tw_camera_status *camera);

/** How a camera of a station fares. Any thread, also while it runs.
 * @return TW_OK; TW_EINVAL; TW_ENOENT: index is past the last. */
TW_API tw_status tw_station_camera_sized(tw_station *station, size_t index,
                                         tw_camera_status *out, size_t size);

static inline tw_status tw_station_camera(tw_station *station, size_t index,
                                          tw_camera_status *out)
{
    return tw_station_camera_sized(station, index, out, sizeof *out);
}

/* How the store fares. */
typedef struct tw_store_status {
    size_t size;            /* of this struct; 0: see version.h */
    uint64_t waiting_bytes; /* footage that is not written yet */
    uint64_t free_bytes, total_bytes;
    bool card;        /* it can be asked for its space */
    bool catalogue;   /* it is kept */
    uint32_t dropped; /* times that room was made */
    uint32_t problems;
} tw_store_status;

/** How the store fares. Any thread. @return TW_OK; TW_EINVAL. */
TW_API tw_status tw_station_store_sized(tw_station *station, tw_store_status *out,
                                        size_t size);

static inline tw_status tw_station_store(tw_station *station, tw_store_status *out)
{
    return tw_station_store_sized(station, out, sizeof *out);
}

/* How a sensor fares. */
typedef struct tw_sensor_status {
    size_t size; /* of this struct; 0: see version.h */
    char name[64];
    char unit[24];
    bool known;    /* its last reading gave a number */
    bool beyond;   /* it is beyond its limits */
    int64_t value; /* the newest, millionths of its unit */
    int64_t at_us; /* wall time of it; 0: none yet */
    char why[160]; /* it gives none; "": it does */
} tw_sensor_status;

/** How a sensor of a station fares. Any thread, also while it runs.
 * @return TW_OK; TW_EINVAL; TW_ENOENT: index is past the last. */
TW_API tw_status tw_station_sensor_sized(tw_station *station, size_t index,
                                         tw_sensor_status *out, size_t size);

static inline tw_status tw_station_sensor(tw_station *station, size_t index,
                                          tw_sensor_status *out)
{
    return tw_station_sensor_sized(station, index, out, sizeof *out);
}

/** Ask tw_station_run to return. From any thread, and from a signal handler. */
TW_API void tw_station_stop(tw_station *station);

#ifdef __cplusplus
}
#endif

#endif
