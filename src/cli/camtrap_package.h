/* A folder that becomes a data package of Camtrap DP 1.0: its tables, what stands in
 * their rows, and what is said of all of them. Whoever exports says what there is. */
#ifndef TWI_CLI_CAMTRAP_PACKAGE_H
#define TWI_CLI_CAMTRAP_PACKAGE_H

#include <glib.h>
#include <stdio.h>

#include "camtrap_tables.h"
#include "tawny/catalogue.h"

/* One camera's stay at its place. */
typedef struct camtrap_stay {
    char *id;                    /* of the deployment, and of the camera */
    int64_t latitude, longitude; /* millionths of a degree */
    int64_t start_us, end_us;
    gboolean unsure; /* some times may be wrong */
} camtrap_stay;

typedef struct camtrap_package {
    const char *folder;
    GPtrArray *stays; /* of camtrap_stay, in the order in which they were added */
    GHashTable *stay_of, *names;
    gboolean timed; /* there are media by the clock */
    int code;       /* CLI_DONE; else what went wrong was told */
} camtrap_package;

/* A medium, as its row has it. */
typedef struct camtrap_medium {
    const char *id, *stay, *path, *name;
    gboolean of_sighting, video, starred;
    int64_t start_us;
} camtrap_medium;

/** @param folder  Made by camtrap_package_make; stays the caller's. */
void camtrap_package_begin(camtrap_package *p, const char *folder);
void camtrap_package_make(camtrap_package *p);
void camtrap_package_clear(camtrap_package *p);

/** NULL: there is none of this id. */
camtrap_stay *camtrap_stay_find(const camtrap_package *p, const char *id);
camtrap_stay *camtrap_stay_add(camtrap_package *p, const char *id, int64_t latitude,
                               int64_t longitude);
void camtrap_stay_extend(camtrap_stay *stay, int64_t start_us, int64_t end_us,
                         gboolean unsure);

/** A table with its head; closing tells what could not be written. NULL is fine there. */
FILE *camtrap_table_open(camtrap_package *p, const camtrap_table *table);
void camtrap_table_close(camtrap_package *p, FILE *out, const camtrap_table *table);

void camtrap_put_medium(FILE *out, const camtrap_medium *medium);
/** @param r  Of its numbers only id is not looked at: the ids are given. */
void camtrap_put_observation(camtrap_package *p, FILE *out, const char *id,
                             const char *event, const char *stay,
                             const tw_sighting_record *r);

/** The deployments, the schemas, and datapackage.json. */
void camtrap_package_end(camtrap_package *p, const char *title);

/** "2027-03-13T20:30:14Z" */
const char *camtrap_stamp(int64_t wall_us, char buffer[40]);

#endif
