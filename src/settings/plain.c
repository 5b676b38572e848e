/* Settings as one text for who may change them from afar. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "state.h"
#include "sections.h"
#include "reader.h"

/* What is changed in the file alone is nobody's business elsewhere. */
static bool is_told(const entry *e)
{
    return e->row->reach != TWI_REACH_FILE;
}

static void write_section(const tw_settings *s, const section *of, FILE *to)
{
    char value[TWI_LINE_MAX];
    (void)fprintf(to, "[%s%s%s]\n", twi_level_head(of->level), of->name[0] ? " " : "",
                  of->name);
    for (size_t i = 0; i < s->entry_count; i++) {
        const entry *e = &s->entries[i];
        if (e->level == of->level && strcmp(e->name, of->name) == 0 && is_told(e))
            (void)fprintf(to, "%s = %s\n", e->row->key,
                          twi_value_shown(e->row, e->value, value, sizeof value));
    }
}

char *twi_settings_plain(const tw_settings *s)
{
    char *text = NULL;
    size_t bytes = 0;
    FILE *to = open_memstream(&text, &bytes);
    if (!to)
        return NULL;
    for (size_t i = 0; i < s->section_count; i++) {
        const section *of = &s->sections[i];
        if (of->level != IN_HOOK && of->level != IN_GATHER && !of->wrong)
            write_section(s, of, to);
    }
    const bool good = !ferror(to);
    if (fclose(to) == 0 && good)
        return text;
    free(text);
    return NULL;
}
