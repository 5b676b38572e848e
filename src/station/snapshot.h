/* What settings say of one camera, or of the station: never changed once made, and shared
 * by the threads that work by it. New settings make another. */
#ifndef TWI_SNAPSHOT_H
#define TWI_SNAPSHOT_H

#include "tawny/settings.h"
#include "../settings/sections.h"

/* Settings that were read together; their texts are borrowed by snapshots. */
typedef struct twi_source twi_source;

typedef struct twi_snapshot {
    twi_camera_settings camera;   /* all zero: it is the station's */
    twi_station_settings station; /* all zero: it is a camera's */
    bool sound;                   /* nothing is wrong with what it says */
    twi_source *source;
} twi_snapshot;

/** @param owned  Whether the settings are freed with the last holder.
 * @return NULL: out of memory, and the settings are the caller's. */
twi_source *twi_source_new(tw_settings *settings, bool owned);
tw_settings *twi_source_settings(const twi_source *source);
void twi_source_release(twi_source *source); /* NULL is fine */

/** One thread at a time for each source. @param camera  NULL: the station.
 * @return one holder's; NULL: there is no such camera, or no memory. */
twi_snapshot *twi_snapshot_new(twi_source *source, const char *camera);

/** The same camera, by what holds of its conditions. Any thread that holds it.
 * @param bits  As twi_pipeline_holds. @return one holder's; NULL: no memory. */
twi_snapshot *twi_snapshot_when(const twi_snapshot *snapshot, unsigned bits);

/** One holder more. @return the same. */
twi_snapshot *twi_snapshot_keep(twi_snapshot *snapshot);

/** NULL is fine. Any thread. */
void twi_snapshot_release(twi_snapshot *snapshot);

#endif
