/* Changing one value in the text of a settings file: everything else stays as it is. */
#include <stdbool.h>
#include <stdlib.h>
#include <string.h>

#include "reader.h"

/* What the lines of a text say about the value that is to change. */
typedef struct search {
    const char *head, *name, *key;
    bool inside;
    unsigned last;  /* line of the section that holds something; 0: no such section */
    unsigned found; /* line of the value; 0: not set there */
} search;

static void on_section(void *ctx, unsigned line, const char *head, const char *name)
{
    search *s = ctx;
    s->inside = strcmp(head, s->head) == 0 && strcmp(name, s->name) == 0;
    if (s->inside)
        s->last = line;
}

static void on_value(void *ctx, unsigned line, const char *key, const char *value)
{
    (void)value;
    search *s = ctx;
    if (!s->inside)
        return;
    s->last = line;
    if (strcmp(key, s->key) == 0)
        s->found = line; /* the later one holds */
}

static void on_problem(void *ctx, unsigned line, const char *what)
{
    (void)ctx;
    (void)line;
    (void)what;
}

/* Where a line begins, counted from 1; past the last: the end of the text. */
static size_t line_start(const char *text, size_t bytes, unsigned line)
{
    size_t at = 0;
    for (unsigned i = 1; i < line && at < bytes; i++) {
        const char *end = memchr(text + at, '\n', bytes - at);
        at = end ? (size_t)(end - text) + 1 : bytes;
    }
    return at;
}

static bool blank(char c)
{
    return c == ' ' || c == '\t' || c == '\r';
}

/* The part of a line that is its value: after "=", before a comment. */
static void find_value(const char *text, size_t start, size_t end, size_t *first,
                       size_t *past)
{
    const char *equals = memchr(text + start, '=', end - start);
    size_t at = equals ? (size_t)(equals - text) + 1 : end;
    while (at < end && blank(text[at]))
        at++;
    *first = at;
    while (at < end && !(text[at] == '#' && at > start && blank(text[at - 1])))
        at++;
    while (at > *first && blank(text[at - 1]))
        at--;
    *past = at;
}

/* text with [first, past) replaced by three pieces. */
static tw_status splice(const char *text, size_t bytes, size_t first, size_t past,
                        const char *const pieces[], size_t count, char **out,
                        size_t *out_bytes)
{
    size_t more = 0;
    for (size_t i = 0; i < count; i++)
        more += strlen(pieces[i]);
    char *made = malloc(bytes - (past - first) + more + 1);
    if (!made)
        return TW_ENOMEM;
    memcpy(made, text, first);
    size_t at = first;
    for (size_t i = 0; i < count; i++) {
        memcpy(made + at, pieces[i], strlen(pieces[i]));
        at += strlen(pieces[i]);
    }
    memcpy(made + at, text + past, bytes - past);
    at += bytes - past;
    made[at] = '\0';
    *out = made;
    *out_bytes = at;
    return TW_OK;
}

static tw_status replace(const char *text, size_t bytes, unsigned line, const char *value,
                         char **out, size_t *out_bytes)
{
    const size_t start = line_start(text, bytes, line);
    const char *newline = memchr(text + start, '\n', bytes - start);
    const size_t end = newline ? (size_t)(newline - text) : bytes;
    size_t first = 0, past = 0;
    find_value(text, start, end, &first, &past);
    const bool bare = first > 0 && text[first - 1] == '=';
    const char *const pieces[] = {bare ? " " : "", value};
    return splice(text, bytes, first, past, pieces, 2, out, out_bytes);
}

/* A new line behind the last one of the section, or of the text. */
static tw_status insert(const char *text, size_t bytes, const search *s,
                        const char *value, char **out, size_t *out_bytes)
{
    const size_t at = s->last > 0 ? line_start(text, bytes, s->last + 1) : bytes;
    const bool returns = at >= 2 && text[at - 2] == '\r';
    const char *end = returns ? "\r\n" : "\n";
    const char *open = at > 0 && text[at - 1] != '\n' ? end : "";
    if (s->last > 0) {
        const char *const pieces[] = {open, s->key, " = ", value, end};
        return splice(text, bytes, at, at, pieces, 5, out, out_bytes);
    }
    const char *const pieces[] = {open,
                                  at > 0 ? end : "",
                                  "[",
                                  s->head,
                                  s->name[0] ? " " : "",
                                  s->name,
                                  "]",
                                  end,
                                  s->key,
                                  " = ",
                                  value,
                                  end};
    return splice(text, bytes, at, at, pieces, 12, out, out_bytes);
}

tw_status tw_settings_edit(const char *text, size_t bytes, const char *head,
                           const char *name, const char *key, const char *value,
                           char **out, size_t *out_bytes)
{
    if (!text || !head || !name || !key || !value || !out || !out_bytes)
        return TW_EINVAL;
    if (bytes > TW_FILE_MAX)
        return TW_ESIZE;
    search s = {.head = head, .name = name, .key = key};
    const tw_reader reader = {&s, on_section, on_value, on_problem};
    tw_reader_run(&reader, text, bytes);
    return s.found > 0 ? replace(text, bytes, s.found, value, out, out_bytes)
                       : insert(text, bytes, &s, value, out, out_bytes);
}
