/* One camera's pipeline: packets in; readings, sightings and the recorder's work out. */
#ifndef TW_PIPELINE_H
#define TW_PIPELINE_H

#include <stdatomic.h>

#include "ahead.h"
#include "recorder.h"

typedef struct tw_pipeline tw_pipeline;

/* What is asked of a camera while it runs. Each may be set from any thread. */
typedef struct tw_orders {
    atomic_int armed;    /* 0 disarmed, 1 armed, TW_AS_SET: as the settings say */
    atomic_uint arms;    /* how often it was armed: arm_delay counts from each time */
    atomic_bool trigger; /* a sighting is to begin */
    atomic_bool snap;    /* a still is wanted */
} tw_orders;

enum { TW_AS_SET = -1 };

/* Where a camera's captures go. */
typedef struct tw_keep {
    tw_lane *lane; /* outlives every job that the sink has taken */
    tw_job_sink sink;
    tw_orders *orders; /* NULL: there are none */
    uint32_t number;   /* of the last sighting before this; where numbers are its own */
    atomic_uint *numbers; /* the store's, of which each sighting takes the next; NULL: its
                             own, from 1 */
    const tw_pins *pins;  /* NULL: there are none */
} tw_keep;

/**
 * @param clock  For local time.
 * @param stream What is kept, and looked at.
 * @param looked What is looked at instead; NULL: nothing else. Its frames come by
 *               tw_pipeline_look.
 * @param keep  Copied; NULL: nothing is stored.
 * @param told  May be NULL.
 */
tw_status tw_pipeline_new(const tw_camera_settings *camera, tw_clock clock,
                          const tw_stream *stream, const tw_stream *looked,
                          const tw_keep *keep, tw_event_fn told, void *ctx,
                          tw_pipeline **out, tw_error *err);
void tw_pipeline_free(tw_pipeline *pipeline); /* NULL is fine */

/** Have other settings of the camera hold from the next frame on: what has been learnt,
 * what is held and what runs goes on. Where the picture is turned or cropped otherwise
 * the detector begins anew, and so does settling; a sighting that runs goes on. What they
 * say of the source, its size and its rate is not looked at.
 * @param camera  Outlives the pipeline, or the next of these calls.
 * @return TW_OK; else the old ones hold, and err says why. */
tw_status tw_pipeline_adjust(tw_pipeline *pipeline, const tw_camera_settings *camera,
                             tw_error *err);

/** Take one frame through. What is wrong with it is told; only what ends the camera comes
 * back: TW_ENOMEM, TW_EDAMAGED (nothing but damaged frames), TW_ESIZE (cannot be
 * watched). */
tw_status tw_pipeline_frame(tw_pipeline *pipeline, const tw_frame *frame, tw_error *err);

/** Take a frame through that is only looked at; its times are by the clock of those that
 * are kept. Between two of tw_pipeline_frame: the bytes of the last one of those must
 * still be there. Same answers. */
tw_status tw_pipeline_look(tw_pipeline *pipeline, const tw_frame *frame, tw_error *err);

/** The camera itself lost a frame: tell it. Same answers. */
tw_status tw_pipeline_bad_frame(tw_pipeline *pipeline, const tw_error *why,
                                tw_error *err);

/** @return the number of the newest sighting. */
uint32_t tw_pipeline_number(const tw_pipeline *pipeline);

/* How a camera fares, as far as its pipeline knows. */
typedef struct tw_health {
    uint16_t width, height;    /* of its pictures; 0: none yet */
    uint64_t damaged;          /* frames that could not be read */
    size_t kept_bytes;         /* of frames that are held */
    bool kept_raw;             /* the newest as pixels */
    uint32_t light_ppm, noise; /* as tw_detector_conditions */
    tw_arming arming;
    int64_t arming_until_us; /* wall time; 0: unknown, or an order decides */
} tw_health;

/** Now and then, not for each frame. */
void tw_pipeline_health(const tw_pipeline *pipeline, tw_health *out);

/** @return whether a sighting runs. */
bool tw_pipeline_in_sighting(const tw_pipeline *pipeline);

/** No more frames: end a running sighting and hand everything over. */
void tw_pipeline_finish(tw_pipeline *pipeline);

/** @return capture time of the newest frame since the first, microseconds; -1 before it.
 */
int64_t tw_pipeline_watched(const tw_pipeline *pipeline);

/** @return wall time less capture time, of the newest packet, microseconds. */
int64_t tw_pipeline_wall_offset(const tw_pipeline *pipeline);

void tw_pipeline_result(const tw_pipeline *pipeline, tw_rehearsal_result *out);

/** The newest frame as a JPEG, and what was read of it; for tw_look. */
tw_status tw_pipeline_still(tw_pipeline *pipeline, uint8_t **jpeg, size_t *bytes,
                            tw_reading *reading, tw_watch_state *state, tw_error *err);

/* How a camera is run to its end; shared by rehearsals, looks and stations. */
typedef struct tw_run {
    tw_camera camera;
    tw_ahead *ahead;       /* reads what is looked at; NULL: that is the camera itself */
    tw_pipeline *pipeline; /* NULL until the camera is open */
    uint64_t frames;       /* that have come, damaged ones too */
    uint64_t dropped;      /* by the driver */
    uint32_t wanted_milli; /* rate that the stream promises, thousandths; 0 unknown */
} tw_run;

/** What is asked of a port for a camera of the settings; paced and looped is left to the
 * caller. */
tw_camera_request tw_request_of(const tw_board *board, const tw_camera_settings *camera);

/** Make and open a camera and its pipeline. tw_run_close in any case. */
tw_status tw_run_open(tw_run *run, const tw_board *board,
                      const tw_camera_settings *camera, bool pace, bool loop,
                      const tw_keep *keep, tw_event_fn told, void *ctx, tw_error *err);

/** One frame. @return TW_OK: go on; TW_EEND: that was the last; else err says why. */
tw_status tw_run_step(tw_run *run, tw_error *err);

void tw_run_close(tw_run *run);

#endif
