/* What other limits would have made of activity that is past. Pure: no
 * I/O, clock or heap. */
#ifndef TWI_TRYOUT_H
#define TWI_TRYOUT_H

#include "tawny/sighting.h"

/* State, and what it has come to; leave own alone. */
typedef struct twi_tryout {
    uint32_t sightings;
    tw_sighting ended; /* the one that the last step ended */
    int64_t kept_us;   /* length of their footage, pre- and post-event time included */
    struct {
        tw_sighting_watch watch;
    } own;
} twi_tryout;

/**
 * Begin to try limits.
 *
 * @param config   What is tried. It is armed, and does not settle, whatever it says.
 * @param seconds  What comes are whole seconds with their highest activity, as a trace
 *                 has them: one that reaches the limit is enough, as it is not known in
 *                 how many of its frames it did. Else frames.
 * @return TW_OK; TW_EINVAL as tw_sighting_init.
 */
tw_status twi_tryout_begin(twi_tryout *tryout, const tw_sighting_config *config,
                           bool seconds);

/** Take in what comes next; t_us, activity_ppm and area_ppm are used.
 * @return Bits as tw_sighting_step. */
unsigned twi_tryout_step(twi_tryout *tryout, const tw_reading *reading);

/** No more comes: what runs is over. @return likewise. */
unsigned twi_tryout_end(twi_tryout *tryout);

#endif
