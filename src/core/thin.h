/* Leaving frames out of what a camera delivers, before they cost anything. */
#ifndef TWI_THIN_H
#define TWI_THIN_H

#include "tawny/frame.h"

/* One for each stream; zero but for fps is how it begins. Values below own are private.
 */
typedef struct twi_thin {
    uint32_t fps; /* frames a second that are kept at most, 1..240; 0: all */
    struct {
        int64_t credit;    /* millionths of a frame that may be kept */
        int64_t newest_us; /* of all frames so far */
        int64_t key_us;    /* of the newest frame that stands alone */
        bool begun;
        bool grouped;  /* some frames have not stood alone */
        bool left_out; /* what comes before the next key is left out ... */
        bool torn;     /* ... as was what came before this one */
    } own;
} twi_thin;

/**
 * Whether the next packet of a stream is kept. What is kept can be decoded: of a group
 * of pictures that depend on each other the first ones are, up to where the rate would be
 * exceeded, and none behind them. A rate that is exceeded by less than 2 % is left as it
 * is.
 *
 * @param packet  In the order in which it is decoded.
 */
bool twi_thin_keeps(twi_thin *thin, const tw_packet *packet);

#endif
