/* When those came that have a name: by the hour of the day, and by week. */
#ifndef CLI_PATTERN_H
#define CLI_PATTERN_H

#include <glib.h>

#include "tawny/port.h"

/* What is counted, one sighting after another, however many there are. */
typedef struct pattern pattern;

pattern *pattern_new(const tw_clock *clock);
void pattern_free(pattern *p); /* NULL is fine */

/** @param name  What was seen; "": that is not said, and it is not counted. */
void pattern_add(pattern *p, const char *name, int64_t start_us);

/** Print a table of names by hour, and draw both; once.
 * @param path  PNG, SVG, or "-", of which cli_plot_name_fits. @return exit code; told. */
int pattern_show(pattern *p, const char *path);

#endif
