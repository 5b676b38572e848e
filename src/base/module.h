/* Modules of the library: parts that bring large libraries and are loaded when needed. */
#ifndef TWI_MODULE_H
#define TWI_MODULE_H

/* tawny-NAME.so is looked for in $TAWNY_MODULES if that is set, else in the folder
 * "tawny" beside the library (or in ../lib beside a program that has it built in), else
 * where it was installed. It stays loaded until the process ends. */

#include "tawny/error.h"

/** The table of functions of a module: what it exports as twi_NAME_table, a struct whose
 * first member is an int, its abi. The module is loaded if it is not loaded yet;
 * thread-safe.
 * @return NULL: err says what is missing and what to do, or that its abi is another. */
const void *twi_module_table(const char *name, int abi, tw_error *err);

/** Give back the memory of code that was needed once, of the libraries that came with
 * modules: linking more than a hundred of them touches 25 MB, and finding out what a
 * stream is touches another 6. What is needed again comes from its file again. Libraries
 * that the program has itself are not touched. Any thread. */
void twi_module_give_back(void);

#endif
