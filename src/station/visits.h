/* When accounts of the page have looked. */
#ifndef TWI_STATION_VISITS_H
#define TWI_STATION_VISITS_H

#include "tawny/catalogue.h"

/** Note that an account looks now. Looks that are less than half an hour apart are one
 * visit.
 * @param account   Its name; "": where there are no accounts.
 * @param since_us  Set on TW_OK to when its visit before this one ended, wall time; 0: it
 *                  is the first.
 * @return TW_OK; TW_EINVAL; or what the catalogue says. One thread at a time. */
tw_status twi_catalogue_visit(tw_catalogue *catalogue, const char *account,
                              int64_t now_us, int64_t *since_us, tw_error *err);

#endif
