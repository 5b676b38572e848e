/* One camera's pipeline: packets in; readings, sightings and the recorder's work out. */
#ifndef TWI_PIPELINE_H
#define TWI_PIPELINE_H

#include <stdatomic.h>

#include "prefetch.h"
#include "recorder.h"
#include "../settings/sections.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"
#include "tawny/port.h"

typedef struct twi_pipeline twi_pipeline;

/* What is asked of a camera while it runs. Each may be set from any thread. */
typedef struct twi_orders {
    atomic_int armed;    /* 0 disarmed, 1 armed, TWI_AS_SET: as the settings say */
    atomic_uint arms;    /* how often it was armed: arm_delay counts from each time */
    atomic_bool trigger; /* a sighting is to begin */
    atomic_bool snap;    /* a still is wanted */
} twi_orders;

enum { TWI_AS_SET = -1 };

/* Where a camera's captures go. */
typedef struct twi_sink {
    twi_channel *channel; /* outlives every job that the sink has taken */
    twi_jobs jobs;
    twi_orders *orders; /* NULL: there are none */
    uint32_t number;    /* of the last sighting before this; where numbers are its own */
    atomic_uint *numbers; /* the store's, of which each sighting takes the next; NULL: its
                             own, from 1 */
    const tw_pins *pins;  /* NULL: there are none */
} twi_sink;

/**
 * @param clock  For local time.
 * @param stream What is kept, and looked at.
 * @param inspected What is looked at instead; NULL: nothing else. Its frames come by
 *               twi_pipeline_detect.
 * @param sink  Copied; NULL: nothing is stored.
 * @param callback  May be NULL.
 */
tw_status twi_pipeline_new(const twi_camera_settings *camera, tw_clock clock,
                           const tw_stream *stream, const tw_stream *inspected,
                           const twi_sink *sink, tw_event_fn callback, void *ctx,
                           twi_pipeline **out, tw_error *err);
void twi_pipeline_free(twi_pipeline *pipeline); /* NULL is fine */

/** Have other settings of the camera hold from the next frame on: what has been learnt,
 * what is held and what runs goes on. Where the picture is turned or cropped otherwise
 * the detector begins anew, and so does settling; a sighting that runs goes on. What they
 * say of the source, its size and its rate is not looked at.
 * @param camera  With what it has set by light and hour, of which that holds that does
 *                now. Outlives the pipeline, or the next of these calls.
 * @return TW_OK; else the old ones hold, and err says why. */
tw_status twi_pipeline_adjust(twi_pipeline *pipeline, const twi_camera_settings *camera,
                              tw_error *err);

/** A packet of the camera's sound has come: it is kept with the pictures of its time; or
 * why there is none, which is told. */
void twi_pipeline_sound(twi_pipeline *pipeline, const tw_frame *frame);

/** Take one frame through. What is wrong with it is told; only what ends the camera comes
 * back: TW_ENOMEM, TW_EDAMAGED (nothing but damaged frames), TW_ESIZE (cannot be
 * watched). */
tw_status twi_pipeline_frame(twi_pipeline *pipeline, const tw_frame *frame,
                             tw_error *err);

/** Take a frame through that is only looked at; its times are by the clock of those that
 * are kept. Between two of twi_pipeline_frame: the bytes of the last one of those must
 * still be there. Same answers. */
tw_status twi_pipeline_detect(twi_pipeline *pipeline, const tw_frame *frame,
                              tw_error *err);

/** The camera itself lost a frame: tell it. Same answers. */
tw_status twi_pipeline_bad_frame(twi_pipeline *pipeline, const tw_error *why,
                                 tw_error *err);

/** @return the number of the newest sighting. */
uint32_t twi_pipeline_number(const twi_pipeline *pipeline);

/* How a camera fares, as far as its pipeline knows. */
typedef struct twi_health {
    uint16_t width, height;    /* of its pictures; 0: none yet */
    uint64_t damaged;          /* frames that could not be read */
    size_t kept_bytes;         /* of frames that are held */
    bool kept_raw;             /* the newest as pixels */
    uint32_t light_ppm, noise; /* as tw_detector_conditions */
    tw_arming arming;
    int64_t arming_until_us; /* wall time; 0: unknown, or an order decides */
    int32_t sound_level;     /* as in tw_camera_status */
    tw_darkness darkness;
    unsigned holds; /* as twi_pipeline_holds */
} twi_health;

/** Now and then, not for each frame. */
void twi_pipeline_health(const twi_pipeline *pipeline, twi_health *out);

/** @return which of the camera's conditions hold, bits in their order: its settings are
 * conditions->by[that]. */
unsigned twi_pipeline_holds(const twi_pipeline *pipeline);

/** Tell of something that is wrong with the camera, which goes on. */
void twi_pipeline_problem(const twi_pipeline *pipeline, tw_status st, const char *text);

/** @return the camera's settings that hold now. */
const twi_camera_settings *twi_pipeline_settings(const twi_pipeline *pipeline);

/** @return whether a sighting runs. */
bool twi_pipeline_in_sighting(const twi_pipeline *pipeline);

/** No more frames: end a running sighting and hand everything over. */
void twi_pipeline_finish(twi_pipeline *pipeline);

/** @return capture time of the newest frame since the first, microseconds; -1 before it.
 */
int64_t twi_pipeline_watched(const twi_pipeline *pipeline);

/** @return wall time less capture time, of the newest packet, microseconds. */
int64_t twi_pipeline_wall_offset(const twi_pipeline *pipeline);

void twi_pipeline_result(const twi_pipeline *pipeline, tw_rehearsal_result *out);

/** The newest frame as a JPEG, and what was read of it; for tw_look. */
tw_status twi_pipeline_still(twi_pipeline *pipeline, uint8_t **jpeg, size_t *bytes,
                             tw_reading *reading, tw_watch_state *state, tw_error *err);

/* How a camera is run to its end; shared by rehearsals, looks and stations. */
typedef struct twi_run {
    tw_camera camera;
    twi_prefetch *prefetch; /* reads what is looked at; NULL: that is the camera itself */
    twi_pipeline *pipeline; /* NULL until the camera is open */
    uint64_t frames;        /* that have come, damaged ones too */
    uint64_t dropped;       /* by the driver */
    uint32_t wanted_milli;  /* rate that the stream promises, thousandths; 0 unknown */
    char *controls;         /* that the device was given; NULL: none yet */
} twi_run;

/** What is asked of a port for a camera of the settings; paced and looped is left to the
 * caller. */
tw_camera_request twi_request_of(const tw_platform *platform,
                                 const twi_camera_settings *camera);

/** Make and open a camera and its pipeline. twi_run_close in any case. */
tw_status twi_run_open(twi_run *run, const tw_platform *platform,
                       const twi_camera_settings *camera, bool pace, bool loop,
                       const twi_sink *sink, tw_event_fn callback, void *ctx,
                       tw_error *err);

/** One frame. @return TW_OK: go on; TW_EEND: that was the last; else err says why. */
tw_status twi_run_step(twi_run *run, tw_error *err);

void twi_run_close(twi_run *run);

#endif
