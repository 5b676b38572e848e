/* Times of recorded and drawn footage: as fast as it can be read, or at its own pace. */
#ifndef TWI_RECORDED_H
#define TWI_RECORDED_H

#include "tawny/port.h"

typedef struct twi_recorded {
    tw_clock clock;
    bool pace;
    int64_t wall_zero_us;  /* wall time of the first frame, if not paced */
    int64_t clock_zero_us; /* clock time of the first frame, if paced */
    int64_t round_us;      /* where this round of a loop begins */
    int64_t newest_us;     /* newest frame, from the first of the first round */
    int64_t step_us;       /* between the newest two */
} twi_recorded;

/** Begin with the next frame. @param wall_zero_us When it was recorded. */
void twi_recorded_begin(twi_recorded *r, const tw_camera_request *request,
                        int64_t wall_zero_us);

/** The footage begins again: the next frame follows one step after the newest. */
void twi_recorded_again(twi_recorded *r);

/** Turn a packet's times, which count from the beginning of the footage, into the
 * camera's, waiting until it is due. @return TW_OK; TW_EAGAIN: not due yet, ask again
 * with the same. */
tw_status twi_recorded_deliver(twi_recorded *r, const tw_packet *packet, tw_packet *out);

/** The same of sound, after which no other frame's time depends. */
tw_status twi_recorded_sound(twi_recorded *r, const tw_packet *packet, tw_packet *out);

#endif
