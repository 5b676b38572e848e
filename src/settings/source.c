/* Sources as they may be shown. */
#include <stdio.h>
#include <string.h>

#include "values.h"
#include "sections.h"

/* What of a source nobody may see: user and password, and the query, in which many
 * cameras want them. Empty where there is none; a user alone is no secret. */
typedef struct secrets {
    size_t user, user_end, query, query_end;
} secrets;

static secrets find_secrets(const char *source)
{
    const size_t length = strlen(source);
    const char *slashes = strstr(source, "://");
    secrets s = {length, length, length, length};
    if (!slashes)
        return s;
    const char *user = slashes + 3;
    /* The last "@" before the path: a password may hold others. */
    const size_t host = strcspn(user, "/?#");
    s.user = s.user_end = (size_t)(user - source);
    const char *colon = memchr(user, ':', host);
    for (size_t i = 0; i < host; i++)
        if (user[i] == '@' && colon && colon < user + i)
            s.user_end = s.user + i;
    const char *query = strchr(user + host, '?');
    if (query && strchr(query, '='))
        s.query = (size_t)(query + 1 - source);
    return s;
}

const char *twi_source_shown(const char *source, char *out, size_t capacity)
{
    const char *text = source ? source : "";
    const secrets s = find_secrets(text);
    (void)snprintf(out, capacity, "%.*s%s%.*s%s", (int)s.user, text,
                   s.user_end > s.user ? "***" : "", (int)(s.query - s.user_end),
                   text + s.user_end, s.query_end > s.query ? "***" : "");
    return out;
}

void twi_source_blank(char *source)
{
    const secrets s = find_secrets(source);
    memset(source + s.user, '*', s.user_end - s.user);
    memset(source + s.query, '*', s.query_end - s.query);
}

const char *twi_format_name(int64_t format)
{
    static const char *const names[] = {"auto", "mjpeg", "h264", "yuyv",
                                        "nv12", "grey",  "rgb"};
    return format >= 0 && format < (int64_t)(sizeof names / sizeof *names) ? names[format]
                                                                           : "auto";
}

static bool parse_source(const twi_row *row, const char *text, void *field)
{
    (void)row;
    *(const char **)field = text;
    return true;
}

static void print_source(const twi_row *row, const void *field, char *out,
                         size_t capacity)
{
    (void)row;
    (void)twi_source_shown(*(const char *const *)field, out, capacity);
}

static void explain_source(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "a source such as %s", row->example);
}

const twi_type twi_type_source = {parse_source, print_source, explain_source};

/* ---- size ------------------------------------------------------------------------ */

static bool parse_size(const twi_row *row, const char *text, void *field)
{
    unsigned width = 0, height = 0;
    int end = 0;
    (void)row;
    if (strcmp(text, "auto") == 0) {
        *(twi_size *)field = (twi_size){0, 0};
        return true;
    }
    if (sscanf(text, "%4ux%4u%n", &width, &height, &end) != 2 || text[end] != '\0' ||
        width < 16 || height < 16 || text[0] < '0' || text[0] > '9')
        return false;
    *(twi_size *)field = (twi_size){(uint16_t)width, (uint16_t)height};
    return true;
}

static void print_size(const twi_row *row, const void *field, char *out, size_t capacity)
{
    (void)row;
    const twi_size *s = field;
    if (s->width == 0)
        (void)snprintf(out, capacity, "auto");
    else
        (void)snprintf(out, capacity, "%ux%u", s->width, s->height);
}

static void explain_size(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "auto, or pixels such as %s", row->example);
}

const twi_type twi_type_size = {parse_size, print_size, explain_size};
