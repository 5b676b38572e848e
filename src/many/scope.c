/* Which stations somebody asks for, and may see. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../gather/groups.h"
#include "many_state.h"

/* What an account is limited to are groups here, or single stations. */
static bool may_see(const twi_many *m, const twi_asked *r, const char *station)
{
    char word[TWI_GROUP_NAME];
    const char *at = r->cameras;
    if (!at[0])
        return true;
    while (*(at += strspn(at, " "))) {
        const size_t n = strcspn(at, " ");
        (void)snprintf(word, sizeof word, "%.*s", (int)n, at);
        if (strcmp(word, station) == 0 || twi_groups_have(m->groups, word, station))
            return true;
        at += n;
    }
    return false;
}

bool twi_scope_has(twi_many *m, const twi_asked *r, const char *station)
{
    const char *group = twi_query_of(m->page, r, "group"),
               *one = twi_query_of(m->page, r, "station");
    return may_see(m, r, station) && (!one || !one[0] || strcmp(one, station) == 0) &&
           (!group || !group[0] || twi_groups_have(m->groups, group, station));
}

char *twi_scope_list(twi_many *m, const twi_asked *r, const known *k, size_t *count)
{
    const char **names = calloc(k->count + 1, sizeof *names);
    *count = 0;
    for (size_t i = 0; names && i < k->count; i++)
        if (twi_scope_has(m, r, k->station[i].name))
            names[(*count)++] = k->station[i].name;
    char *list = names ? twi_ledger_names(names, *count) : NULL;
    free(names);
    return list;
}

bool twi_scope_names(twi_many *m, const twi_asked *r, const known *k, char **out)
{
    const char *group = twi_query_of(m->page, r, "group"),
               *one = twi_query_of(m->page, r, "station");
    size_t count = 0;
    *out = NULL;
    if (!r->cameras[0] && !(one && one[0]) && !(group && group[0]))
        return true;
    *out = twi_scope_list(m, r, k, &count);
    return *out != NULL;
}

json_t *twi_scope_groups(twi_many *m, const twi_asked *r)
{
    char name[TWI_GROUP_NAME];
    json_t *list = json_array();
    for (size_t i = 0; twi_groups_at(m->groups, i, name); i++)
        if (twi_may_see(r, name))
            (void)json_array_append_new(list, json_string(name));
    return list;
}
