/* What a program gets of an event. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "hooks_state.h"

/* ---- words ------------------------------------------------------------------------ */

const char *twi_field_name(twi_field field)
{
    static const char *const names[TWI_FIELDS] = {
        "event", "station", "camera", "sighting", "kind", "file", "time", "text"};
    return names[field];
}

/* @return the field that a word begins with, in braces; TWI_FIELDS: none. */
static twi_field field_at(const char *s, size_t *length)
{
    for (int f = 0; f < TWI_FIELDS; f++) {
        const char *name = twi_field_name((twi_field)f);
        const size_t n = strlen(name);
        if (s[0] == '{' && strncmp(s + 1, name, n) == 0 && s[n + 1] == '}') {
            *length = n + 2;
            return (twi_field)f;
        }
    }
    return TWI_FIELDS;
}

tw_status twi_fields_expand(const char *word, const twi_fields *fields, char *out,
                            size_t capacity)
{
    size_t used = 0;
    while (*word) {
        size_t length = 1;
        const twi_field f = field_at(word, &length);
        const char *piece = f < TWI_FIELDS ? fields->value[f] : word;
        const size_t n = f < TWI_FIELDS ? strlen(piece) : 1;
        if (used + n >= capacity)
            return TW_ESIZE;
        memcpy(out + used, piece, n);
        used += n;
        word += length;
    }
    out[used] = '\0';
    return TW_OK;
}

/* ---- its environment -------------------------------------------------------------- */

void twi_fields_free_environment(char **made)
{
    for (size_t i = 0; made && made[i]; i++)
        free(made[i]);
    free(made);
}

static char *variable(twi_field field, const char *value)
{
    const char *name = twi_field_name(field);
    const size_t bytes = sizeof "TAWNY_=" + strlen(name) + strlen(value);
    char *made = malloc(bytes);
    if (!made)
        return NULL;
    (void)snprintf(made, bytes, "TAWNY_%s=%s", name, value);
    for (char *c = made; *c != '='; c++)
        if (*c >= 'a' && *c <= 'z')
            *c = (char)(*c - 'a' + 'A');
    return made;
}

char **twi_fields_environment(const twi_fields *fields)
{
    size_t ours = 0, count = 0;
    while (environ[ours])
        ours++;
    char **made = calloc(ours + TWI_FIELDS + 1, sizeof *made);
    bool good = made != NULL;
    for (size_t i = 0; good && i < ours; i++)
        good = (made[count++] = strdup(environ[i])) != NULL;
    for (int f = 0; good && f < TWI_FIELDS; f++)
        if (fields->value[f][0] != '\0')
            good = (made[count++] = variable((twi_field)f, fields->value[f])) != NULL;
    if (good)
        return made;
    twi_fields_free_environment(made);
    return NULL;
}
