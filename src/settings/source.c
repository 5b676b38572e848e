/* Sources as they may be shown. */
#include <stdio.h>
#include <string.h>

#include "values.h"

const char *tw_source_shown(const char *source, char *out, size_t capacity)
{
    const char *slashes = source ? strstr(source, "://") : NULL;
    const char *user = slashes ? slashes + 3 : NULL;
    /* The last "@" before the path: a password may hold others. */
    const size_t host = user ? strcspn(user, "/?#") : 0;
    const char *at = NULL, *colon = user ? memchr(user, ':', host) : NULL;
    for (size_t i = 0; i < host; i++)
        if (user[i] == '@')
            at = user + i;
    if (at && colon && colon < at)
        (void)snprintf(out, capacity, "%.*s***%s", (int)(colon + 1 - source), source, at);
    else
        (void)snprintf(out, capacity, "%s", source ? source : "");
    return out;
}

static bool parse_source(const tw_row *row, const char *text, void *field)
{
    (void)row;
    *(const char **)field = text;
    return true;
}

static void print_source(const tw_row *row, const void *field, char *out, size_t capacity)
{
    (void)row;
    (void)tw_source_shown(*(const char *const *)field, out, capacity);
}

static void explain_source(const tw_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "a source such as %s", row->example);
}

const tw_type tw_type_source = {parse_source, print_source, explain_source};
