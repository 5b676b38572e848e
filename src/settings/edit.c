/* Changing one thing in the text of a settings file: everything else stays as it is. */
#include "edit.h"

#include <stdlib.h>
#include <string.h>

#include "reader.h"
#include "sections.h"

/* What the lines of a text say about what is to change. */
typedef struct search {
    const char *head, *name, *key; /* key NULL: the section itself */
    bool inside;
    unsigned first; /* line of the section's beginning; 0: no such section */
    unsigned last;  /* line of it that holds something */
    unsigned found; /* line of the value; 0: not set there */
} search;

static void on_section(void *ctx, unsigned line, const char *head, const char *name)
{
    search *s = ctx;
    s->inside = strcmp(head, s->head) == 0 && strcmp(name, s->name) == 0;
    if (s->inside && s->first == 0)
        s->first = line;
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
    if (s->key && strcmp(key, s->key) == 0)
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

static search search_for(const char *text, size_t bytes, const char *head,
                         const char *name, const char *key)
{
    search s = {.head = head, .name = name, .key = key};
    const twi_reader reader = {&s, on_section, on_value, on_problem};
    twi_reader_run(&reader, text, bytes);
    return s;
}

/* All lines from one to another, both included. */
static tw_status cut(const char *text, size_t bytes, unsigned first, unsigned last,
                     char **out, size_t *out_bytes)
{
    const size_t from = line_start(text, bytes, first);
    size_t past = line_start(text, bytes, last + 1);
    const bool gap = from == 0 || (from >= 2 && text[from - 2] == '\n');
    while (gap && past < bytes && text[past] == '\n') /* one empty line is enough */
        past++;
    return splice(text, bytes, from, past, NULL, 0, out, out_bytes);
}

/* Another name in a section's own line. */
static tw_status rename_section(const char *text, size_t bytes, const search *s,
                                const char *name, char **out, size_t *out_bytes)
{
    const size_t start = line_start(text, bytes, s->first);
    const char *open = memchr(text + start, '[', bytes - start),
               *close = open ? memchr(open, ']', bytes - (size_t)(open - text)) : NULL;
    const char *const pieces[] = {s->head, " ", name};
    if (!close)
        return TW_ENOENT;
    return splice(text, bytes, (size_t)(open + 1 - text), (size_t)(close - text), pieces,
                  3, out, out_bytes);
}

/* One that would be read as more than itself: another line, a comment, a section. */
static bool is_line_of_its_own(const char *text, const char *unwanted)
{
    for (size_t i = 0; text[i]; i++)
        if ((unsigned char)text[i] < 32 || strchr(unwanted, text[i]) ||
            (text[i] == '#' && (i == 0 || blank(text[i - 1]))))
            return false;
    return true;
}

/* A key or the head of a section, as the table spells them: the reader trims blanks, so
 * that another spelling would be read as the key that it is refused for. */
static bool is_word(const char *text)
{
    const size_t n = strspn(text, "abcdefghijklmnopqrstuvwxyz_");
    return n > 0 && text[n] == '\0';
}

static bool is_trimmed(const char *text)
{
    const size_t n = strlen(text);
    return n == 0 || (!blank(text[0]) && !blank(text[n - 1]));
}

bool twi_settings_has(const char *text, size_t bytes, const char *head, const char *name,
                      const char *key)
{
    const search s = search_for(text, bytes, head, name, key);
    return key ? s.found > 0 : s.first > 0;
}

tw_status twi_settings_edit(const char *text, size_t bytes, const char *head,
                            const char *name, const char *key, const char *value,
                            char **out, size_t *out_bytes)
{
    if (!text || !head || !name || !out || !out_bytes || !is_word(head) ||
        !is_line_of_its_own(name, "[]=") || !is_trimmed(name) || (key && !is_word(key)) ||
        (value && !is_line_of_its_own(value, key ? "" : "[]=")) ||
        (value && !key && !is_trimmed(value)))
        return TW_EINVAL;
    if (bytes > TWI_FILE_MAX)
        return TW_ESIZE;
    const search s = search_for(text, bytes, head, name, key);
    if (key && value)
        return s.found > 0 ? replace(text, bytes, s.found, value, out, out_bytes)
                           : insert(text, bytes, &s, value, out, out_bytes);
    if ((key && s.found == 0) || s.first == 0)
        return TW_ENOENT;
    if (key)
        return cut(text, bytes, s.found, s.found, out, out_bytes);
    return value ? rename_section(text, bytes, &s, value, out, out_bytes)
                 : cut(text, bytes, s.first, s.last, out, out_bytes);
}
