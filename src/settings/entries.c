/* Sections and values, as they were read. */
#include <stdlib.h>
#include <string.h>

#include "state.h"

enum { ENTRIES_MAX = 100000 };

void twi_free_zones(camera_zones *made)
{
    free(made->camera);
    free(made->zones);
    free(made->names);
    free(made->points);
    free(made->evidence_pct);
    free(made->hidden);
}

void twi_free_times(camera_times *made)
{
    free(made->camera);
    free(made->conditions);
    free(made->by);
}

void twi_forget_made(tw_settings *s)
{
    for (size_t i = 0; i < s->made_count; i++)
        twi_free_zones(&s->made[i]);
    for (size_t i = 0; i < s->times_count; i++)
        twi_free_times(&s->times[i]);
    free(s->made);
    free(s->times);
    s->made = NULL;
    s->times = NULL;
    s->made_count = s->times_count = 0;
}

/* An array with room for one more element. @return it, NULL: out of memory, and the old
 * one still stands. */
void *twi_one_more(void *array, size_t count, size_t size)
{
    return count < ENTRIES_MAX ? realloc(array, (count + 1) * size) : NULL;
}

tw_status twi_add_section(tw_settings *s, level at, const char *name, const char *file,
                          unsigned line)
{
    if (twi_find_section(s, at, name))
        return TW_OK;
    twi_forget_made(s);
    section *more = twi_one_more(s->sections, s->section_count, sizeof *more);
    if (!more)
        return TW_ENOMEM;
    s->sections = more;
    const section added = {at, strdup(name), strdup(file), line, false};
    if (!added.name || !added.file) {
        free(added.name);
        free(added.file);
        return TW_ENOMEM;
    }
    s->sections[s->section_count++] = added;
    return TW_OK;
}

section *twi_find_section(const tw_settings *s, level at, const char *name)
{
    for (size_t i = 0; i < s->section_count; i++)
        if (s->sections[i].level == at && strcmp(s->sections[i].name, name) == 0)
            return &s->sections[i];
    return NULL;
}

entry *twi_find_entry(const tw_settings *s, level at, const char *name,
                      const twi_row *row)
{
    for (size_t i = 0; i < s->entry_count; i++) {
        entry *e = &s->entries[i];
        if (e->row == row && e->level == at && strcmp(e->name, name) == 0)
            return e;
    }
    return NULL;
}

tw_status twi_add_entry(tw_settings *s, level at, const char *name, const twi_row *row,
                        const char *value, const char *origin)
{
    twi_forget_made(s);
    entry made = {row, at, strdup(name), strdup(value), strdup(origin)};
    if (!made.name || !made.value || !made.origin)
        goto fail;
    entry *old = twi_find_entry(s, at, name, row);
    if (old) { /* a later --set of the same key */
        free(old->name);
        free(old->value);
        free(old->origin);
        *old = made;
        return TW_OK;
    }
    entry *more = twi_one_more(s->entries, s->entry_count, sizeof *more);
    if (!more)
        goto fail;
    s->entries = more;
    s->entries[s->entry_count++] = made;
    return TW_OK;
fail:
    free(made.name);
    free(made.value);
    free(made.origin);
    return TW_ENOMEM;
}
