/* Changes of settings, read. */
#include "changes.h"

#include <string.h>

/* A part of a change. Only one that says null leaves something out: what is forgotten, or
 * another kind of value, must not take a section away. */
static const char *text_of(const json_t *change, const char *key, bool needed, bool *good)
{
    const json_t *value = json_object_get(change, key);
    *good = *good && (json_is_string(value) || (!needed && json_is_null(value)));
    return json_string_value(value);
}

static tw_status take_one(twi_draft *draft, const json_t *change, tw_error *err)
{
    bool good = true;
    const twi_draft_change c = {
        text_of(change, "head", true, &good), text_of(change, "name", true, &good),
        text_of(change, "key", false, &good), text_of(change, "value", false, &good)};
    if (!good)
        return tw_fail(err, TW_EINVAL, "a change is {head, name, key, value}");
    if (c.value && strstr(c.value, "***"))
        return tw_fail(err, TW_EINVAL, "*** stands for a password: write it anew");
    return twi_draft_change_one(draft, &c, err);
}

tw_status twi_changes_take(twi_draft *draft, const json_t *changes, tw_error *err)
{
    tw_status st = TW_OK;
    if (!json_is_array(changes) || json_array_size(changes) > TWI_CHANGES_MAX)
        return tw_fail(err, TW_EINVAL, "changes is a list");
    for (size_t i = 0; st == TW_OK && i < json_array_size(changes); i++)
        st = take_one(draft, json_array_get(changes, i), err);
    return st;
}
