/* Captures as one ZIP file. */
#ifndef TWI_CLI_PACKING_H
#define TWI_CLI_PACKING_H

#include "common.h"

/** Write the captures of sightings into a ZIP file.
 * @param ids   Of gint64.
 * @param path  "-": standard output.
 * @return exit code; what went wrong was told. */
int packing_write(const char *store, tw_catalogue *catalogue, const GArray *ids,
                  const char *path);

#endif
