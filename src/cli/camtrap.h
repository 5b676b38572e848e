/* Export as Camtrap DP 1.0, the open data package for camera-trap data. */
#ifndef TWI_CLI_CAMTRAP_H
#define TWI_CLI_CAMTRAP_H

#include "common.h"
#include "tawny/settings.h"

typedef struct camtrap_source {
    tw_catalogue *catalogue;
    tw_settings *settings; /* names the cameras, and where they stand */
    const char *store;     /* folder of the files */
    const GArray *records; /* of tw_sighting_record: what is exported */
} camtrap_source;

/** Write datapackage.json, deployments.csv, media.csv and observations.csv, each with its
 * schema, into a folder, which is made, and link or copy the media below it.
 * @return CLI_DONE; else told. */
int camtrap_export(const camtrap_source *source, const char *folder);

#endif
