/* Faults that the system words by errno. */
#ifndef TWI_SYSTEM_ERROR_H
#define TWI_SYSTEM_ERROR_H

#include "tawny/error.h"

/** @return The status that stands for a value of errno. */
tw_status twi_status_of_errno(int number);

#endif
