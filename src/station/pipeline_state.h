/* What the parts of the pipeline share: its state, and what they call of each other. */
#ifndef TWI_PIPELINE_STATE_H
#define TWI_PIPELINE_STATE_H

#include "../core/best.h"
#include "../core/dark.h"
#include "../core/hours.h"
#include "../core/interval.h"
#include "../core/loudness.h"
#include "../media/codecs.h"
#include "../media/hide.h"
#include "../media/decoder.h"
#include "pipeline.h"
#include "../core/naming.h"
#include "../core/view.h"
#include "../settings/sections.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"

/* The still that waits for the end of its sighting. */
typedef struct best_still {
    twi_buffer *image; /* a JPEG, or planes; NULL: none */
    twi_best rank;
    tw_packet times;
} best_still;

/* A camera's pins. */
typedef struct twi_gpio {
    const tw_pins *pins; /* NULL: there are none */
    bool sensed;         /* the sensor says so, with this frame */
    int64_t sensed_us;   /* when it was active last; INT64_MIN: never */
    bool lamp, pulse;    /* outputs that are on */
    int64_t pulse_until_us;
    bool blind;  /* the sensor cannot be read */
    bool failed; /* something cannot be used, and that has been told */
} twi_gpio;

/* What a camera hears. */
typedef struct twi_hearing {
    const twi_codecs *codecs;
    twi_av_level *level; /* NULL: nothing was listened to yet */
    twi_loudness loudness;
    int64_t listened_us; /* time of the newest packet; INT64_MIN: none */
    int64_t loud_us;     /* when it was louder than usual last; INT64_MIN: never */
    bool loud;           /* it is */
    bool failed;         /* it cannot be listened to */
} twi_hearing;

/* Day and night, and which settings hold. */
typedef struct twi_light {
    const twi_conditions *conditions; /* NULL: nothing holds at times alone */
    unsigned bits;                    /* of those that hold */
    unsigned refused;                 /* bits whose settings could not be gone over to */
    twi_dark dark;
    int64_t looked_us;
    bool looked;
    bool failed; /* the pin cannot be read, and that has been told */
} twi_light;

enum { TWI_HOLDS_MAX = 160 };

/* Whether motion may begin a sighting, and what decides it. */
typedef struct twi_arming {
    twi_hours hours;
    int64_t from_us; /* the first frame of all, or after an order: arm_delay counts */
    unsigned arms;   /* orders to arm that have been seen to */
    tw_arming now;
    bool known;       /* and for how long, by these settings */
    int64_t until_us; /* wall time; 0: not known */
} twi_arming;

/* What is looked at, on its way into the detector. */
typedef struct detection {
    tw_stream stream;
    twi_decoder *decoder; /* of it; NULL: its frames are pixels */
    tw_detector *detector;
    void *memory;                     /* of the detector */
    uint8_t *mask_picture;            /* of mask = FILE; NULL: none */
    tw_luma mask;                     /* a view of it */
    twi_view view;                    /* of what is looked at */
    uint16_t width, height;           /* of pictures; 0 before the first */
    uint16_t luma_width, luma_height; /* of what the detector reads */
    uint8_t *px;                      /* of raw pictures whose luma is not in rows */
    size_t px_bytes;
    uint8_t *reduced;
    size_t reduced_bytes;
    uint8_t *chroma; /* of raw pictures, reduced */
    size_t chroma_bytes;
    uint8_t *shown; /* of the reduced picture, as view says */
    size_t shown_bytes;
    uint8_t *shown_chroma;
    size_t shown_chroma_bytes;
    uint8_t *told; /* luma that is told of, without what nobody may see */
    size_t told_bytes;
    twi_hide hide; /* of it */
} detection;

/* What is kept. */
typedef struct keeping {
    twi_recorder *recorder; /* NULL: nothing is stored */
    twi_decoder *decoder;   /* for stills; NULL: that of what is looked at, or pixels */
    twi_buffer *buffer;     /* of the frame at hand; NULL: not made yet */
    twi_view view;
    uint16_t width, height; /* of pictures; 0 before the first */
    uint64_t lost_reported;
    bool apart; /* it is another stream than what is looked at */
    bool any;   /* frame has come, that could be kept */
    bool raw;   /* pictures are held as they came */
} keeping;

/* Which frames become stills. */
typedef struct choosing {
    best_still best;
    int64_t next_us;
    int64_t every_from_us; /* when the last TWI_STILLS_EVERY still, or burst, began */
    twi_interval timed;    /* of timed stills */
    uint32_t count;        /* of this sighting so far, where they are numbered */
    uint32_t burst_left;   /* frames in a row that are stills too */
} choosing;

/* When frames came. */
typedef struct pacing {
    int64_t wall_offset_us;              /* wall time less capture time, of the newest */
    int64_t last_us, step_us;            /* of the frames that were read */
    int64_t offered_us, offered_step_us; /* of all */
    int64_t key_us, key_step_us; /* the newest key frame, and since the one before it */
    bool waits_for_key; /* packets were left out: the next picture needs a key frame */
} pacing;

struct twi_pipeline {
    const twi_camera_settings *camera;
    tw_stream stream;
    tw_clock clock;
    tw_sighting_watch watch;
    twi_orders *orders;   /* NULL: none */
    atomic_uint *numbers; /* of the store; NULL: its own */
    twi_gpio gpio;
    twi_hearing hearing;
    twi_arming arming;
    twi_light light;
    detection detect;
    keeping kept;
    choosing stills;
    pacing times;
    twi_trace trace;
    tw_frame frame; /* at hand, the camera's */
    tw_reading reading;
    const tw_luma *luma; /* of the frame that is being decided on */
    uint32_t bad_in_a_row;
    tw_rehearsal_result result;
    tw_event_fn callback;
    void *ctx;
};

/* ---- pipeline_events.c */

/** Tell of something, with the camera, its state and the time of its newest frame. */
void twi_pipeline_tell(const twi_pipeline *p, tw_event event);

/** Word what is wrong with the frame at hand, which one and when, and tell it.
 * @return as twi_pipeline_bad_frame. */
tw_status twi_pipeline_bad_picture(twi_pipeline *p, const tw_packet *packet,
                                   const tw_error *why, tw_error *err);

/* ---- pipeline_arming.c */

/** @return whether motion may begin a sighting then. */
bool twi_arming_allows(const twi_pipeline *p, int64_t t_us);

/** @return whether a moment, by the wall, is within hours where the camera stands. */
bool twi_pipeline_within(const twi_pipeline *p, const twi_hours *hours, int64_t wall_us);

/** Looked at with each frame; when it ends is worked out when it begins. */
void twi_arming_note(twi_pipeline *p, int64_t t_us);

/* ---- pipeline_detect.c: frames to readings */

/** Whether a frame holds what its stream promises: another's camera may be wrong. */
bool twi_detect_is_whole(const tw_stream *stream, const tw_frame *frame);
tw_status twi_detect_bad_form(twi_pipeline *p, const tw_frame *frame, tw_error *err);

/** Read a frame, if it is time to. @param bad  Set where it is damaged. */
tw_status twi_detect_frame(twi_pipeline *p, const tw_frame *frame, bool *bad,
                           tw_error *err);

/** @param packet  NULL: the last has come, and what is left is read. */
tw_status twi_detect_packet(twi_pipeline *p, const tw_packet *packet, bool *bad,
                            tw_error *err);

/** Whether frames that come now go into the pre-event footage, or into a file. */
bool twi_pipeline_is_kept(const twi_pipeline *p);

/* ---- pipeline_decide.c: readings to sightings */

/** What the reading at hand means. */
void twi_pipeline_decide(twi_pipeline *p);

/** End what is running; what comes next is another footage. */
void twi_pipeline_close_footage(twi_pipeline *p);

/** The size of what is kept. */
void twi_pipeline_keep_size(twi_pipeline *p, uint16_t width, uint16_t height);

/** What is looked at has another size: learn anew. */
tw_status twi_pipeline_change_size(twi_pipeline *p, const twi_decoded *decoded,
                                   tw_error *err);

/** The picture at hand, turned and cropped, as a JPEG; the caller's. */
tw_status twi_pipeline_shown(twi_pipeline *p, uint8_t **out, size_t *bytes,
                             tw_error *err);

/* ---- pipeline_settings.c */

/** What the detector sees of pictures that lie like this. */
twi_view twi_pipeline_seen(const twi_camera_settings *camera, tw_turn lies);

/** How much of the width the detector looks at, or of the height where that is more. */
uint32_t twi_pipeline_inspected_ppm(const twi_view *view);

/** A detector of pictures of this size, by the camera's settings, takes the place of the
 * one that there is. */
tw_status twi_pipeline_make_detector(twi_pipeline *p, uint16_t width, uint16_t height,
                                     tw_error *err);

/** Have settings hold that the camera has, as twi_pipeline_adjust. */
tw_status twi_pipeline_run_on(twi_pipeline *p, const twi_camera_settings *camera,
                              tw_error *err);

/* ---- pipeline_light.c */

/** Begin with what holds at all times. @param conditions  May be NULL. */
void twi_light_begin(twi_pipeline *p, const twi_conditions *conditions);

/** Once a second, between two frames: go over to what holds by light and hour. */
void twi_light_follow(twi_pipeline *p, const tw_packet *packet);

/** @return whether it is dark; false also where that is not known. */
static inline bool twi_light_is_dark(const twi_pipeline *p)
{
    return p->light.dark.known && p->light.dark.dark;
}

/* ---- pipeline_stills.c */

/** The frame at hand, its packet or its planes, copied from the camera when it is first
 * wanted; the pipeline's. @return NULL: out of memory. */
twi_buffer *twi_stills_frame(twi_pipeline *p);

/** The picture at hand as a JPEG, as the camera sent it or encoded; the caller's. */
tw_status twi_stills_picture(twi_pipeline *p, uint8_t **jpeg, size_t *bytes,
                             tw_error *err);

/** Store the picture at hand. @param n  Its number, 0: it is the only one. */
void twi_stills_store(twi_pipeline *p, twi_kind kind, uint32_t n);

/** A sighting began, goes on with the frame at hand, or has ended. */
void twi_stills_began(twi_pipeline *p);
void twi_stills_while(twi_pipeline *p);
void twi_stills_ended(twi_pipeline *p, const tw_sighting *sighting);

/** The still by the clock, if it is time. */
void twi_stills_timed(twi_pipeline *p);

/* ---- pipeline_hearing.c */

/** Listen to a packet of sound: to each where sound decides, else to some. */
void twi_hearing_packet(twi_pipeline *p, const tw_packet *packet);

/** @return whether what is heard lets motion begin a sighting now. */
bool twi_hearing_allows(const twi_pipeline *p);

/** @return whether it is so loud that this is enough. */
bool twi_hearing_begins(const twi_pipeline *p);

/** @return the newest level, tenths of a decibel; TW_SOUND_UNKNOWN: nothing is heard. */
int32_t twi_hearing_level(const twi_pipeline *p);

void twi_hearing_close(twi_pipeline *p);

/* ---- pipeline_gpio.c */

/** Look at the sensor, and end a pulse, with each reading. */
void twi_gpio_read(twi_pipeline *p);

/** @return whether the sensor lets motion begin a sighting now. */
bool twi_gpio_allows(const twi_pipeline *p);

/** @return whether the sensor says that something is there, and that is enough. */
bool twi_gpio_senses(const twi_pipeline *p);

/** A sighting began, or ended: switch what is wired. All is off after the end. */
void twi_gpio_began(twi_pipeline *p);
void twi_gpio_ended(twi_pipeline *p);

/** Other settings come: what they wire otherwise is switched off. */
void twi_gpio_change(twi_pipeline *p, const twi_camera_settings *next);

#endif
