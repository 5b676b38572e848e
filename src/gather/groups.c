/* Groups of stations, out of their line in the settings. */
#include "groups.h"

#include <fnmatch.h>
#include <stdio.h>
#include <string.h>

/* The next one: its name and the words of its stations. */
typedef struct group {
    const char *name, *words;
    size_t name_bytes, words_bytes;
} group;

static bool is_blank(char c)
{
    return c == ' ' || c == '\t' || c == ',';
}

/* @return false: there are no more. One without a colon has no name. */
static bool next_group(const char **at, group *out)
{
    *at += strspn(*at, " \t,;");
    if (!**at)
        return false;
    const size_t all = strcspn(*at, ";");
    const char *colon = memchr(*at, ':', all);
    out->name = *at;
    out->name_bytes = colon ? (size_t)(colon - *at) : 0;
    while (out->name_bytes > 0 && is_blank(out->name[out->name_bytes - 1]))
        out->name_bytes--;
    out->words = colon ? colon + 1 : *at;
    out->words_bytes = all - (size_t)(out->words - *at);
    *at += all;
    return true;
}

tw_status twi_groups_check(const char *groups, tw_error *err)
{
    const char *at = groups;
    group g;
    size_t count = 0;
    while (next_group(&at, &g)) {
        if (g.name_bytes == 0 || g.name_bytes >= TWI_GROUP_NAME ||
            ++count > TWI_GROUPS_MAX)
            return tw_fail(err, TW_EINVAL,
                           "groups: \"%.*s\" is none: write its name, a colon, and its "
                           "stations, and ; before the next one, such as lane: hollin "
                           "marsh*; hill: north",
                           (int)(g.words_bytes < 60 ? g.words_bytes : 60), g.words);
    }
    return TW_OK;
}

bool twi_groups_at(const char *groups, size_t index, char name[TWI_GROUP_NAME])
{
    const char *at = groups;
    group g;
    for (size_t i = 0; next_group(&at, &g); i++)
        if (i == index) {
            (void)snprintf(name, TWI_GROUP_NAME, "%.*s", (int)g.name_bytes, g.name);
            return true;
        }
    return false;
}

/* * is all that stands for others: other signs of patterns stand for themselves. */
static bool is_like(const char *word, size_t bytes, const char *station)
{
    char pattern[512];
    size_t n = 0;
    if (bytes > 200)
        return false;
    for (size_t i = 0; i < bytes; i++) {
        if (strchr("?[]\\", word[i]))
            pattern[n++] = '\\';
        pattern[n++] = word[i];
    }
    pattern[n] = '\0';
    return fnmatch(pattern, station, 0) == 0;
}

static bool has_station(const group *g, const char *station)
{
    for (size_t i = 0; i < g->words_bytes;) {
        size_t n = 0;
        while (i + n < g->words_bytes && !is_blank(g->words[i + n]))
            n++;
        if (n > 0 && is_like(g->words + i, n, station))
            return true;
        i += n > 0 ? n : 1;
    }
    return false;
}

bool twi_groups_have(const char *groups, const char *name, const char *station)
{
    const char *at = groups;
    group g;
    while (next_group(&at, &g))
        if (strlen(name) == g.name_bytes && memcmp(name, g.name, g.name_bytes) == 0 &&
            has_station(&g, station))
            return true;
    return false;
}
