/* Which engine a ledger's place is of. */
#include "ledger.h"

#include <string.h>

#include "../base/module.h"

const twi_ledger_kind *twi_ledger_find(const char *place, tw_error *err)
{
    if (strncmp(place, "postgresql://", 13) == 0 ||
        strncmp(place, "postgres://", 11) == 0)
        return twi_module_table("postgres", TWI_LEDGER_ABI, err);
    return &twi_ledger_sqlite;
}
