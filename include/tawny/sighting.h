/* tawny/sighting.h - when a sighting begins and ends. Pure: no I/O, clock or heap.
 *
 * A watch is one thread's at a time. It lies in the caller's memory and holds nothing
 * else. */
#ifndef TW_SIGHTING_H
#define TW_SIGHTING_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/detector.h"
#include "tawny/error.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { TW_CONFIRM_MAX = 16 }; /* largest n of "k of n frames" */

/* Limits of one zone. */
typedef struct tw_own_limits {
    uint32_t start_ppm, stay_ppm; /* 1..; stay_ppm <= start_ppm */
} tw_own_limits;

typedef struct tw_sighting_config {
    size_t size;        /* of this struct; 0: see version.h */
    uint32_t start_ppm; /* activity that confirms, > 0 */
    uint32_t stay_ppm;  /* activity that keeps a sighting going, 1..start_ppm */
    uint8_t own_count;  /* zones with limits of their own, in the order of the reading's
                           areas; start_ppm and stay_ppm are then those of the rest */
    tw_own_limits own[TW_OWN_LIMITS_MAX];
    uint8_t confirm_k;  /* frames at or over start_ppm ... */
    uint8_t confirm_n;  /* ... of the last so many; 1 <= k <= n <= TW_CONFIRM_MAX */
    bool armed;         /* false: motion starts nothing */
    int64_t settle_us;  /* no sighting so soon after the first frame, >= 0 */
    int64_t pre_us;     /* footage kept from before the first confirming frame, >= 0 */
    int64_t post_us;    /* a sighting ends this long after its last motion, >= 0 */
    int64_t rest_us;    /* no new sighting so soon after one, >= 0 */
    int64_t longest_us; /* a sighting is split when its clip gets this long, > 0 */
} tw_sighting_config;

enum tw_watch_state_values {
    TW_IDLE,     /* no frame yet, or disarmed */
    TW_SETTLING, /* the detector is still learning the place */
    TW_ARMED,    /* motion starts a sighting */
    TW_SIGHTING, /* one is running, its post-event time included */
    TW_RESTING   /* one has just ended */
};
typedef int32_t tw_watch_state; /* one of them */

enum tw_sighting_why_values {
    TW_END_QUIET,   /* no motion for the post-event time */
    TW_END_LONGEST, /* split; the next part begins where this one's clip ends */
    TW_END_FINISHED /* the footage ended or the camera was stopped */
};
typedef int32_t tw_sighting_why; /* one of them */

enum tw_cause_by_values {
    TW_CAUSE_MOTION, /* activity that was confirmed */
    TW_CAUSE_ORDER,  /* it was asked for from outside */
    TW_CAUSE_SENSOR, /* a motion sensor */
    TW_CAUSE_SOUND   /* it was louder than usual */
};

/* What began a sighting. */
typedef struct tw_cause {
    uint32_t activity_ppm; /* of the confirming frame */
    uint32_t start_ppm;    /* the limit that it reached */
    uint8_t area;          /* whose: 0 the camera's, else the zone's that has its own */
    uint8_t hits, of;      /* frames that reached it, of the last so many; 0: it was no
                              motion that began it */
    uint8_t by;            /* one of tw_cause_by_values */
    uint16_t blobs;       /* that counted in that frame, as far as a reading lists them */
    uint32_t size_ppm;    /* of the largest of them, share of the picture */
    int32_t x_ppm, y_ppm; /* and its centre */
} tw_cause;

/* One stretch of motion. Times are those of the frames. */
typedef struct tw_sighting {
    uint32_t number;      /* counts from 1 */
    uint16_t part;        /* 1, and up for each split by longest_us */
    int64_t start_us;     /* first confirming frame, or when its subject was first seen */
    int64_t confirmed_us; /* the frame at which it was confirmed */
    int64_t end_us;       /* last frame at or over stay_ppm */
    int64_t clip_start_us; /* where its footage begins, the pre-event time included */
    int64_t clip_end_us;   /* where its footage ends, the post-event time included */
    uint32_t peak_ppm;     /* highest activity */
    int64_t peak_us;       /* and when */
    uint32_t frames;       /* from start to end, both counted */
    tw_cause cause;        /* of its beginning; a split part has that of the first */
    tw_sighting_why why;   /* it ended; only set once it has */
} tw_sighting;

/* Bits of tw_sighting_step's answer. */
enum { TW_SIGHTING_BEGAN = 1, TW_SIGHTING_ENDED = 2 };

/* State. Lies in the caller's memory; look at state and now, leave the rest alone. */
typedef struct tw_sighting_watch {
    tw_sighting_config config;
    tw_watch_state state;
    tw_sighting now;   /* the running one, or the last */
    tw_sighting ended; /* the one that the last step ended */
    struct {
        bool any;        /* a frame has come */
        bool anew;       /* the place is being learnt again */
        bool sensed;     /* the sensor says so now */
        int64_t last_us; /* newest frame */
        int64_t step_us; /* between the newest two */
        int64_t free_us; /* clips may not reach back before this */
        int64_t rest_until_us;
        int64_t learnt_us;           /* the frame from which on the place is learnt */
        uint32_t frames_since_start; /* of the running sighting */
        uint8_t seen;                /* frames in hit[] */
        bool hit[TW_CONFIRM_MAX];    /* newest first */
        bool stay[TW_CONFIRM_MAX];
        int64_t at[TW_CONFIRM_MAX];
        uint32_t level[TW_CONFIRM_MAX];
        uint64_t later[8]; /* room for what later versions need */
    } own;
} tw_sighting_watch;

/** The built-in limits and times, as settings that say nothing have them: armed. */
TW_API void tw_sighting_defaults_sized(tw_sighting_config *config, size_t size);

static inline void tw_sighting_defaults(tw_sighting_config *config)
{
    tw_sighting_defaults_sized(config, sizeof *config);
}

/**
 * @return TW_OK; TW_EINVAL: NULL pointer or a value out of the range given above;
 *         TW_ESIZE: the library is so much newer that it needs a larger watch.
 */
TW_API tw_status tw_sighting_init_sized(tw_sighting_watch *watch,
                                        const tw_sighting_config *config, size_t size);

static inline tw_status tw_sighting_init(tw_sighting_watch *watch,
                                         const tw_sighting_config *config)
{
    return tw_sighting_init_sized(watch, config, sizeof *watch);
}

/**
 * Take in one reading.
 *
 * @param reading  t_us, activity_ppm, area_ppm and whole_picture are used. A frame in
 * which the whole picture turned neither begins nor ends a sighting.
 * @return Bits: TW_SIGHTING_ENDED, described by watch->ended, then TW_SIGHTING_BEGAN,
 *         described by watch->now.
 */
TW_API unsigned tw_sighting_step(tw_sighting_watch *watch, const tw_reading *reading);

/**
 * Have other values hold from the next frame on. A running sighting goes on, and so does
 * what is left of resting; whether it is armed stays.
 *
 * @return TW_OK; TW_EINVAL: as tw_sighting_init, and the old values hold.
 */
TW_API tw_status tw_sighting_adjust(tw_sighting_watch *watch,
                                    const tw_sighting_config *config);

/** Arm or disarm. A running sighting goes on to its end; nothing begins while disarmed.
 */
TW_API void tw_sighting_arm(tw_sighting_watch *watch, bool armed);

/**
 * A sighting is asked for, whatever moves and whether armed or not: it begins with the
 * frame that was stepped last, and ends as others do. Its cause has no hits.
 *
 * @return TW_SIGHTING_BEGAN, described by watch->now; 0: one is running, which goes on
 * for its post-event time, or there was no frame yet.
 */
TW_API unsigned tw_sighting_trigger(tw_sighting_watch *watch);

/**
 * Say what a motion sensor says, with each frame, after tw_sighting_step. Once it says
 * that something is there, a sighting begins as with tw_sighting_trigger, whatever moves
 * and whether armed or not; while it says so, one that runs goes on as with motion.
 *
 * @return as tw_sighting_trigger.
 */
TW_API unsigned tw_sighting_sense(tw_sighting_watch *watch, bool something_is_there);

/** Numbers go on after one: of a camera that is opened again. Before the first frame. */
TW_API void tw_sighting_number_after(tw_sighting_watch *watch, uint32_t number);

/** The footage is over: end a running sighting. @return as tw_sighting_step. */
TW_API unsigned tw_sighting_finish(tw_sighting_watch *watch);

/** Learn the place anew from the next frame on; the numbers of sightings go on. End a
 * running sighting with tw_sighting_finish first. */
TW_API void tw_sighting_settle_again(tw_sighting_watch *watch);

/** The detector learns the place anew, of the same footage: a running sighting goes on,
 * and none begins until settle_us have passed. */
TW_API void tw_sighting_learns_anew(tw_sighting_watch *watch);

/** @return "idle", "settling", "armed", "sighting" or "resting"; static. */
TW_API const char *tw_watch_state_name(tw_watch_state state);

#ifdef __cplusplus
}
#endif

#endif
