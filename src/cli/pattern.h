/* When those came that have a name: by the hour of the day, and by week. */
#ifndef CLI_PATTERN_H
#define CLI_PATTERN_H

#include <glib.h>

#include "tawny/port.h"

/** Print a table of names by hour, and draw both.
 * @param records  Of tw_sighting_record. @param path  PNG, SVG, or "-".
 * @return exit code; told. */
int pattern_show(const GArray *records, const tw_clock *clock, const char *path);

#endif
