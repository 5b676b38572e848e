/* What the parts of the pipeline share: its state, and what they call of each other. */
#ifndef TWI_PIPELINE_STATE_H
#define TWI_PIPELINE_STATE_H

#include "../core/best.h"
#include "../core/hours.h"
#include "../core/interval.h"
#include "../media/decoder.h"
#include "pipeline.h"

/* The still that waits for the end of its sighting. */
typedef struct best_still {
    twi_buffer *image; /* a JPEG, or planes; NULL: none */
    twi_best rank;
    tw_packet times;
} best_still;

/* A camera's pins. */
typedef struct twi_gpio {
    const tw_pins *pins;     /* NULL: there are none */
    bool sensed, was_sensed; /* the sensor, with this frame and the one before */
    int64_t sensed_us;       /* when it was active last; INT64_MIN: never */
    bool lamp, pulse;        /* outputs that are on */
    int64_t pulse_until_us;
    bool blind;  /* the sensor cannot be read */
    bool failed; /* something cannot be used, and that has been told */
} twi_gpio;

struct twi_pipeline {
    const tw_camera_settings *camera;
    tw_stream stream;
    tw_stream detect_stream; /* what is looked at: the same, or another */
    twi_decoder *decoder;    /* of it; NULL: its frames are pixels */
    twi_decoder *keeper;     /* of what is kept, for stills; NULL: the same, or pixels */
    tw_detector *detector;
    void *memory;                     /* of the detector */
    uint8_t *mask_picture;            /* of mask = FILE; NULL: none */
    tw_luma mask_luma;                /* a view of it */
    uint16_t width, height;           /* of pictures looked at; 0 before the first */
    uint16_t kept_width, kept_height; /* of pictures kept, likewise */
    uint16_t luma_width, luma_height; /* of what the detector reads */
    tw_sighting_watch watch;
    tw_clock clock;
    twi_hours hours;
    twi_orders *orders;   /* NULL: none */
    atomic_uint *numbers; /* of the store; NULL: its own */
    twi_gpio gpio;
    int64_t armed_us; /* the first frame of all, or after an order: arm_delay counts */
    unsigned arms;    /* orders to arm that have been seen to */
    tw_arming arming;
    bool arming_known;       /* and for how long, by these settings */
    int64_t arming_until_us; /* wall time; 0: not known */
    bool waits_for_key; /* packets were left out: the next picture needs a key frame */
    bool apart;         /* what is kept is another stream than what is looked at */
    bool any;           /* frame has come, that could be kept */
    bool held_raw;      /* pictures are held as they came */
    twi_recorder *recorder; /* NULL: nothing is stored */
    tw_reading reading;
    const tw_luma *luma; /* of the frame that is being decided on */
    best_still best;
    int64_t next_still_us;
    int64_t every_from_us; /* when the last TW_STILLS_EVERY still, or burst, began */
    uint32_t stills;       /* of this sighting so far, where they are numbered */
    uint32_t burst_left;   /* frames in a row that are stills too */
    twi_interval timed;    /* of timed stills */
    twi_trace trace;
    tw_frame frame;           /* at hand, the camera's */
    twi_buffer *buffer;       /* of it; NULL: not made yet */
    int64_t wall_offset_us;   /* wall time less capture time, of the newest packet */
    int64_t last_us, step_us; /* of the frames that were read */
    int64_t offered_us, offered_step_us; /* of all */
    int64_t key_us, key_step_us; /* the newest key frame, and since the one before it */
    uint64_t lost_reported;
    uint32_t bad_in_a_row;
    uint8_t *luma_px; /* of raw pictures in which it does not lie in rows */
    size_t luma_bytes;
    uint8_t *reduced;
    size_t reduced_bytes;
    tw_view view;      /* of what is looked at */
    tw_view kept_view; /* of what is kept */
    uint8_t *shown;    /* of the reduced picture, as view says */
    size_t shown_bytes;
    tw_rehearsal_result result;
    tw_event_fn callback;
    void *ctx;
};

/** How much of the width the detector looks at, or of the height where that is more. */
uint32_t twi_pipeline_inspected_ppm(const tw_view *view);

/** A detector of pictures of this size, by the camera's settings, takes the place of the
 * one that there is. */
tw_status twi_pipeline_make_detector(twi_pipeline *p, uint16_t width, uint16_t height,
                                     tw_error *err);

/** Tell of something wrong; the camera goes on. */
void twi_pipeline_problem(const twi_pipeline *p, tw_status st, const char *text);

/** The frame at hand, its packet or its planes, copied from the camera when it is first
 * wanted; the pipeline's. @return NULL: out of memory. */
twi_buffer *twi_stills_frame(twi_pipeline *p);

/** The picture at hand as a JPEG, as the camera sent it or encoded; the caller's. */
tw_status twi_stills_picture(twi_pipeline *p, uint8_t **jpeg, size_t *bytes,
                             tw_error *err);

/** Store the picture at hand. @param n  Its number, 0: it is the only one. */
void twi_stills_store(twi_pipeline *p, tw_kind kind, uint32_t n);

/** A sighting began, goes on with the frame at hand, or has ended. */
void twi_stills_began(twi_pipeline *p);
void twi_stills_while(twi_pipeline *p);
void twi_stills_ended(twi_pipeline *p, const tw_sighting *sighting);

/** Look at the sensor, and end a pulse, with each reading. */
void twi_gpio_read(twi_pipeline *p);

/** @return whether the sensor lets motion begin a sighting now. */
bool twi_gpio_allows(const twi_pipeline *p);

/** @return whether the sensor begins one by itself now. */
bool twi_gpio_starts(const twi_pipeline *p);

/** A sighting began, or ended: switch what is wired. All is off after the end. */
void twi_gpio_began(twi_pipeline *p);
void twi_gpio_ended(twi_pipeline *p);

/** Other settings come: what they wire otherwise is switched off. */
void twi_gpio_change(twi_pipeline *p, const tw_camera_settings *next);

/** The still by the clock, if it is time. */
void twi_stills_timed(twi_pipeline *p);

#endif
