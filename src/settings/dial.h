/* The one dial: what `sensitivity` makes of other settings, where they are not set. */
#ifndef TWI_DIAL_H
#define TWI_DIAL_H

#include "table.h"

/** What a step makes of a setting. @return NULL: nothing, or there is no such step. */
const char *twi_dial_value(const twi_row *row, int64_t step);

#endif
