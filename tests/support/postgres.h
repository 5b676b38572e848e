/* A PostgreSQL server of a test's own: below its folder, on a socket there. */
#ifndef TWI_TEST_POSTGRES_H
#define TWI_TEST_POSTGRES_H

#include "support.h"

/** Make a cluster and start it. @return its address; to be freed. */
char *start_postgres(const char *folder);

/** Kill it, with all of its processes, in the middle of whatever it does. */
void kill_postgres(const char *folder);

/** Start it again; it mends itself. */
void restart_postgres(const char *folder);

void stop_postgres(const char *folder);

#endif
