/* Export of many stations as one package of Camtrap DP 1.0, out of a gatherer's ledger.
 */
#ifndef TWI_CLI_CAMTRAP_ALL_H
#define TWI_CLI_CAMTRAP_ALL_H

#include "../gather/ledger.h"

typedef struct camtrap_all {
    const twi_ledger_kind *kind;
    twi_ledger *ledger;
    twi_ledger_filter filter; /* of the sightings */
    const char *media;        /* where a medium is: a text with {station} and {file} */
} camtrap_all;

/** Write the package into a folder, which is made. Sightings go one after another from
 * the ledger into its tables, so that their number does not matter. Cameras of which it
 * is not known where they stand are told, and left out. Media stay where they are.
 * @return CLI_DONE; else told. */
int camtrap_all_export(const camtrap_all *all, const char *folder);

#endif
