/* The form of a settings file: [section name], key = value, # comments. A comment takes a
 * whole line, or begins with a blank and "#" behind a value. */
#include "reader.h"

#include <stdbool.h>
#include <string.h>

static bool blank(char c)
{
    return c == ' ' || c == '\t' || c == '\r';
}

/* Cut blanks off both ends, in place. */
static char *trim(char *s)
{
    while (blank(*s))
        s++;
    size_t n = strlen(s);
    while (n > 0 && blank(s[n - 1]))
        n--;
    s[n] = '\0';
    return s;
}

/* One blank for each run of them, in place. */
static void join_blanks(char *s)
{
    char *to = s;
    for (const char *from = s; *from; from++)
        if (!blank(*from) || (to > s && to[-1] != ' '))
            *to++ = blank(*from) ? ' ' : *from;
    *to = '\0';
}

static void cut_comment(char *s)
{
    for (size_t i = 0; s[i]; i++) {
        if (s[i] == '#' && (i == 0 || blank(s[i - 1]))) {
            s[i] = '\0';
            return;
        }
    }
}

static void read_section(const twi_reader *reader, unsigned line, char *s)
{
    char *close = strchr(s, ']');
    if (!close || *trim(close + 1) != '\0') {
        reader->problem(reader->ctx, line,
                        "a section is written [camera NAME], on a line of its own");
        return;
    }
    *close = '\0';
    char *head = trim(s + 1);
    char *name = head + strcspn(head, " \t");
    if (*name)
        *name++ = '\0';
    name = trim(name);
    join_blanks(name);
    reader->section(reader->ctx, line, head, name);
}

static void read_line(const twi_reader *reader, unsigned line, char *s)
{
    cut_comment(s);
    s = trim(s);
    if (*s == '\0')
        return;
    if (*s == '[') {
        read_section(reader, line, s);
        return;
    }
    char *equals = strchr(s, '=');
    if (!equals || equals == s) {
        reader->problem(reader->ctx, line, "expected key = value");
        return;
    }
    *equals = '\0';
    reader->value(reader->ctx, line, trim(s), trim(equals + 1));
}

/* @return what is wrong with a line as such, NULL: nothing. */
static const char *bad_line(const char *s, size_t n)
{
    if (n >= TWI_LINE_MAX)
        return "the line is longer than 4095 bytes";
    for (size_t i = 0; i < n; i++)
        if ((unsigned char)s[i] < 32 && !blank(s[i]))
            return "this is not text: the line holds control characters";
    return NULL;
}

void twi_reader_run(const twi_reader *reader, const char *text, size_t bytes)
{
    static const char mark[] =
        "\xEF\xBB\xBF"; /* some editors begin UTF-8 files with it */
    size_t at = bytes >= 3 && memcmp(text, mark, 3) == 0 ? 3 : 0;
    for (unsigned line = 1; at < bytes; line++) {
        const char *end = memchr(text + at, '\n', bytes - at);
        const size_t n = end ? (size_t)(end - (text + at)) : bytes - at;
        const char *bad = bad_line(text + at, n);
        if (bad) {
            reader->problem(reader->ctx, line, bad);
        } else {
            char copy[TWI_LINE_MAX];
            memcpy(copy, text + at, n);
            copy[n] = '\0';
            read_line(reader, line, copy);
        }
        at += n + 1;
    }
}
