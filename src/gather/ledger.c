/* Which engine a ledger's place is of. */
#include "ledger.h"

#include <jansson.h>

#include <string.h>

#include "../base/module.h"

const twi_ledger_kind *twi_ledger_find(const char *place, tw_error *err)
{
    if (strncmp(place, "postgresql://", 13) == 0 ||
        strncmp(place, "postgres://", 11) == 0)
        return twi_module_table("postgres", TWI_LEDGER_ABI, err);
    return &twi_ledger_sqlite;
}

char *twi_ledger_names(const char *const *names, size_t count)
{
    json_t *list = json_array();
    for (size_t i = 0; i < count; i++) {
        json_t *name = json_string(names[i]);
        if (name)
            (void)json_array_append_new(list, name);
    }
    char *text = list ? json_dumps(list, JSON_COMPACT) : NULL;
    json_decref(list);
    return text;
}
