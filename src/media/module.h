/* Modules of the library: parts that bring large libraries and are loaded when needed. */
#ifndef TW_MODULE_H
#define TW_MODULE_H

#include "tawny/error.h"

/**
 * Load tawny-NAME.so: from $TAWNY_MODULES if that is set, else from the folder "tawny"
 * beside the library (or in ../lib beside a program that has it built in), else from
 * where it was installed. It stays loaded until the process ends.
 *
 * @param symbol  Name of its entry.
 * @return its entry, NULL: err says what was looked for.
 */
void *tw_module_entry(const char *name, const char *symbol, tw_error *err);

/** Give back the memory of libraries' code that was needed once: linking more than a
 * hundred of them touches 25 MB, and finding out what a stream is touches another 6.
 * What is needed again comes from its file again. Any thread. */
void tw_module_give_back(void);

#endif
