/* Stations that belong together: "lane: hollin marsh*; hill: north". */
#ifndef TWI_GATHER_GROUPS_H
#define TWI_GATHER_GROUPS_H

#include <stdbool.h>
#include <stddef.h>

#include "tawny/error.h"

enum { TWI_GROUP_NAME = 64, TWI_GROUPS_MAX = 256 };

/** @return TW_OK; TW_EINVAL: they are not understood, err says what to write. */
tw_status twi_groups_check(const char *groups, tw_error *err);

/** The index-th. @return false: there are not so many. */
bool twi_groups_at(const char *groups, size_t index, char name[TWI_GROUP_NAME]);

/** Whether a station is of a group, by its name, in which * of the group stands for any
 * letters. */
bool twi_groups_have(const char *groups, const char *group, const char *station);

#endif
