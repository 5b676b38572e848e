/* One camera's recorder: keeps the newest packets, and hands those that are wanted on as
 * jobs: of sightings, from before they began until after they ended, of continuous
 * recording, and of clips by the clock. */
#ifndef TW_RECORDER_H
#define TW_RECORDER_H

#include "tawny/ring.h"
#include "writer.h"

typedef struct tw_recorder tw_recorder;

/** @param camera  Outlives the recorder, or the next tw_recorder_adjust.
 * @param stream  Copied, with what it points to. */
tw_status tw_recorder_new(const tw_camera_settings *camera, tw_lane *lane,
                          const tw_stream *stream, tw_job_sink sink, tw_recorder **out,
                          tw_error *err);
void tw_recorder_free(tw_recorder *recorder); /* NULL is fine */

/** Other settings of the camera hold from now on; what is held stays, as far as its new
 * memory reaches. A segment that runs ends where continuous recording does. */
void tw_recorder_adjust(tw_recorder *recorder, const tw_camera_settings *camera);

/** The size of the pictures that come from now on: some cameras do not know it before
 * their first frame, and it may change after a tw_recorder_flush. */
void tw_recorder_size(tw_recorder *recorder, uint16_t width, uint16_t height);

/** What is seen now may turn out to be a sighting that began at t_us: keep its pre-event
 * footage until the next call says otherwise. */
void tw_recorder_hold(tw_recorder *recorder, int64_t t_us);

/** How a raw picture of so many bytes is held from now on: as it is where three quarters
 * of pre_event_memory hold all that can be wanted, since the copy costs a tenth of the
 * encoding, and what nothing comes of is never encoded; else, and while a slow card lets
 * them gather, as JPEG.
 * @return whether it is held as it is. */
bool tw_recorder_holds_raw(tw_recorder *recorder, size_t bytes);

/** A packet has come, or pixels.
 * @param packet  Its times; with pixels its data is not looked at.
 * @param parcel  Its bytes, or its planes; taken over, whatever is returned.
 * @return TW_OK, or TW_ESIZE, TW_ENOMEM: it was not kept. */
tw_status tw_recorder_packet(tw_recorder *recorder, const tw_packet *packet,
                             tw_parcel *parcel, tw_error *err);

/** A sighting began: its clip starts at sighting->clip_start_us. */
void tw_recorder_began(tw_recorder *recorder, const tw_sighting *sighting);

/** It ended: its clip stops before the frame at sighting->clip_end_us; with last_too it
 * includes it. */
void tw_recorder_ended(tw_recorder *recorder, const tw_sighting *sighting, bool last_too);

/* A still that is handed over. */
typedef struct tw_still {
    tw_kind kind;                /* TW_KIND_STILL or TW_KIND_TIMED_STILL */
    const tw_sighting *sighting; /* NULL for a timed one */
    tw_parcel *image;            /* a JPEG, or planes; taken over */
    tw_packet times;             /* when it was captured */
    uint32_t n;                  /* its number, 0: it is the only one */
    uint16_t width, height;
} tw_still;

void tw_recorder_still(tw_recorder *recorder, const tw_still *still);

/** A minute of the trace is complete. */
void tw_recorder_trace(tw_recorder *recorder, const tw_trace_minute *minute);

/** The packet captured at a time, if it is held. Borrowed until the next call.
 * @param parcel  Set to its bytes; keep it to have them longer. */
tw_status tw_recorder_find(const tw_recorder *recorder, int64_t t_us, tw_packet *out,
                           tw_parcel **parcel);

/** Hand everything over that is wanted, waiting where the sink is full, and forget the
 * packets: the stream has ended or changes. */
void tw_recorder_flush(tw_recorder *recorder);

/** @return bytes of the packets that are held. */
size_t tw_recorder_held(const tw_recorder *recorder);

/** @return packets that were wanted and were lost, because the card was too slow and
 * pre_event_memory used up. */
uint64_t tw_recorder_lost(const tw_recorder *recorder);

#endif
