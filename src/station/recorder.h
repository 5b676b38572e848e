/* One camera's recorder: keeps the newest packets, and hands those that are wanted on as
 * jobs: of sightings, from before they began until after they ended, of continuous
 * recording, and of clips by the clock. */
#ifndef TWI_RECORDER_H
#define TWI_RECORDER_H

#include "tawny/ring.h"
#include "writer.h"
#include "../core/naming.h"
#include "../settings/sections.h"

typedef struct twi_recorder twi_recorder;

/** @param camera  Outlives the recorder, or the next twi_recorder_adjust.
 * @param stream  Copied, with what it points to. */
tw_status twi_recorder_new(const twi_camera_settings *camera, twi_channel *channel,
                           const tw_stream *stream, twi_jobs sink, twi_recorder **out,
                           tw_error *err);
void twi_recorder_free(twi_recorder *recorder); /* NULL is fine */

/** Other settings of the camera hold from now on; what is held stays, as far as its new
 * memory reaches. A segment that runs ends where continuous recording does. */
void twi_recorder_adjust(twi_recorder *recorder, const twi_camera_settings *camera);

/** The size of the pictures that come from now on: some cameras do not know it before
 * their first frame, and it may change after a twi_recorder_flush. */
void twi_recorder_size(twi_recorder *recorder, uint16_t width, uint16_t height);

/** What is seen now may turn out to be a sighting that began at t_us: keep its pre-event
 * footage until the next call says otherwise. */
void twi_recorder_hold(twi_recorder *recorder, int64_t t_us);

/** How a raw picture of so many bytes is held from now on: as it is where three quarters
 * of pre_event_memory hold all that can be wanted, since the copy costs a tenth of the
 * encoding, and what nothing comes of is never encoded; else, and while a slow card lets
 * them gather, as JPEG.
 * @return whether it is held as it is. */
bool twi_recorder_holds_raw(twi_recorder *recorder, size_t bytes);

/** A packet has come, or pixels.
 * @param packet  Its times; with pixels its data is not looked at.
 * @param buffer  Its bytes, or its planes; taken over, whatever is returned.
 * @return TW_OK, or TW_ESIZE, TW_ENOMEM: it was not kept. */
tw_status twi_recorder_packet(twi_recorder *recorder, const tw_packet *packet,
                              twi_buffer *buffer, tw_error *err);

/** A packet of the camera's sound has come; it goes wherever pictures of its time go.
 * @param buffer  Its bytes; taken over, whatever is returned. @return the same. */
tw_status twi_recorder_sound(twi_recorder *recorder, const tw_packet *packet,
                             twi_buffer *buffer, tw_error *err);

/** A sighting began: its clip starts at sighting->clip_start_us. */
void twi_recorder_began(twi_recorder *recorder, const tw_sighting *sighting);

/** It ended: its clip stops before the frame at sighting->clip_end_us; with last_too it
 * includes it. */
void twi_recorder_ended(twi_recorder *recorder, const tw_sighting *sighting,
                        bool last_too);

/* A still that is handed over. */
typedef struct twi_still {
    twi_kind kind;               /* TWI_KIND_STILL or TWI_KIND_TIMED_STILL */
    const tw_sighting *sighting; /* NULL for a timed one */
    twi_buffer *image;           /* a JPEG, or planes; taken over */
    tw_packet times;             /* when it was captured */
    uint32_t n;                  /* its number, 0: it is the only one */
    uint16_t width, height;
} twi_still;

void twi_recorder_still(twi_recorder *recorder, const twi_still *still);

/** A minute of the trace is complete. */
void twi_recorder_trace(twi_recorder *recorder, const twi_trace_minute *minute);

/** The packet captured at a time, if it is held. Borrowed until the next call.
 * @param buffer  Set to its bytes; keep it to have them longer. */
tw_status twi_recorder_find(const twi_recorder *recorder, int64_t t_us, tw_packet *out,
                            twi_buffer **buffer);

/** Hand everything over that is wanted, waiting where the sink is full, and forget the
 * packets: the stream has ended or changes. */
void twi_recorder_flush(twi_recorder *recorder);

/** @return bytes of the packets that are held. */
size_t twi_recorder_held(const twi_recorder *recorder);

/** @return packets that were wanted and were lost, because the card was too slow and
 * pre_event_memory used up. */
uint64_t twi_recorder_lost(const twi_recorder *recorder);

#endif
