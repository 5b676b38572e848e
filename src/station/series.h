/* The numbers of a catalogue, as others see them who keep its sightings. */
#ifndef TWI_SERIES_H
#define TWI_SERIES_H

#include "tawny/catalogue.h"

enum { TWI_SERIES_BYTES = 17 }; /* the final 0 included */

/** Which numbering those are of: another for a catalogue that began anew. */
tw_status twi_catalogue_series(tw_catalogue *catalogue, char out[TWI_SERIES_BYTES],
                               tw_error *err);

/** The highest number up to which all sightings are over; 0: none is. */
tw_status twi_catalogue_last_over(tw_catalogue *catalogue, int64_t *out, tw_error *err);

#endif
