/* What holds for a store whatever has happened to the station. */
#ifndef TW_TEST_WHOLE_H
#define TW_TEST_WHOLE_H

#include <stddef.h>

/** Whether every file that has a name is whole, by another program: one in so many is
 * decoded, as all take long. @return how many there are. */
size_t check_whole(const char *store, size_t one_in);

/** Whether nothing is left under a temporary name, and the catalogue has just these. */
void check_agreed(const char *store, size_t files);

/** Files that have a name. */
size_t count_named(const char *store);

#endif
