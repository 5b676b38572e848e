/* Types of what is said of destinations. */
#include <inttypes.h>
#include <stdio.h>
#include <string.h>

#include "values.h"
#include "../core/dispatch.h"
#include "sections.h"

#define HOUR INT64_C(3600000000)

static const char DIGEST[] = "digest ", AFTER[] = "after ";

/* ---- when ------------------------------------------------------------------------ */

/* A whole number and nothing behind it. */
static bool read_count(const char *text, uint32_t most, uint32_t *out)
{
    uint32_t n = 0;
    if (*text == '\0')
        return false;
    for (; *text; text++) {
        if (*text < '0' || *text > '9' || n > most)
            return false;
        n = n * 10 + (uint32_t)(*text - '0');
    }
    *out = n;
    return n > 0 && n <= most;
}

static bool parse_when(const twi_row *row, const char *text, void *field)
{
    enum { MOST = 1000 };
    twi_when when = {.kind = TWI_WHEN_EACH};
    if (strncmp(text, DIGEST, strlen(DIGEST)) == 0) {
        when.kind = TWI_WHEN_DIGEST;
        if (!twi_read_duration(text + strlen(DIGEST), &when.every_us) ||
            when.every_us < row->min || when.every_us > row->max)
            return false;
    } else if (strncmp(text, AFTER, strlen(AFTER)) == 0) {
        when.kind = TWI_WHEN_AFTER;
        if (!read_count(text + strlen(AFTER), MOST, &when.count))
            return false;
    } else if (strcmp(text, "each") != 0) {
        return false;
    }
    *(twi_when *)field = when;
    return true;
}

static void print_when(const twi_row *row, const void *field, char *out, size_t capacity)
{
    const twi_when *when = field;
    char every[40];
    (void)row;
    if (when->kind == TWI_WHEN_DIGEST) {
        twi_write_duration(when->every_us, every, sizeof every);
        (void)snprintf(out, capacity, "%s%s", DIGEST, every);
    } else if (when->kind == TWI_WHEN_AFTER) {
        (void)snprintf(out, capacity, "%s%" PRIu32, AFTER, when->count);
    } else {
        (void)snprintf(out, capacity, "each");
    }
}

static void explain_when(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "each, %s, or after 3 (sightings)", row->example);
}

const twi_type twi_type_when = {parse_when, print_when, explain_when};

/* ---- limit ----------------------------------------------------------------------- */

static bool parse_limit(const twi_row *row, const char *text, void *field)
{
    char number[16];
    twi_limit limit = {0, HOUR};
    const char *slash = strchr(text, '/');
    if (strcmp(text, "auto") == 0) {
        limit.most = TWI_LIMIT_AUTO;
    } else if (strcmp(text, "none") != 0) {
        if (!slash || (size_t)(slash - text) >= sizeof number)
            return false;
        (void)snprintf(number, sizeof number, "%.*s", (int)(slash - text), text);
        if (!read_count(number, (uint32_t)row->max, &limit.most))
            return false;
        if (strcmp(slash, "/d") == 0)
            limit.in_us = 24 * HOUR;
        else if (strcmp(slash, "/h") != 0)
            return false;
    }
    *(twi_limit *)field = limit;
    return true;
}

static void print_limit(const twi_row *row, const void *field, char *out, size_t capacity)
{
    const twi_limit *limit = field;
    (void)row;
    if (limit->most == TWI_LIMIT_AUTO)
        (void)snprintf(out, capacity, "auto");
    else if (limit->most == 0)
        (void)snprintf(out, capacity, "none");
    else
        (void)snprintf(out, capacity, "%" PRIu32 "/%c", limit->most,
                       limit->in_us == HOUR ? 'h' : 'd');
}

static void explain_limit(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity,
                   "auto, none, or so many an hour or a day such as %s or 100/d",
                   row->example);
}

const twi_type twi_type_limit = {parse_limit, print_limit, explain_limit};

/* ---- budget ---------------------------------------------------------------------- */

/* "200 MB/d", "5 GB/30 d". */
static bool parse_budget(const twi_row *row, const char *text, void *field)
{
    char size[32], span[32];
    twi_budget budget = {0, 24 * HOUR};
    const char *slash = strrchr(text, '/');
    (void)row;
    if (strcmp(text, "none") != 0) {
        if (!slash || (size_t)(slash - text) >= sizeof size || strlen(slash) > 24)
            return false;
        (void)snprintf(size, sizeof size, "%.*s", (int)(slash - text), text);
        (void)snprintf(span, sizeof span, "%s%s",
                       slash[1] >= '0' && slash[1] <= '9' ? "" : "1 ", slash + 1);
        if (!twi_read_bytes(size, &budget.bytes) || budget.bytes <= 0 ||
            !twi_read_duration(span, &budget.in_us) || budget.in_us < HOUR ||
            budget.in_us > 366 * 24 * HOUR)
            return false;
    }
    *(twi_budget *)field = budget;
    return true;
}

static void print_budget(const twi_row *row, const void *field, char *out,
                         size_t capacity)
{
    const twi_budget *budget = field;
    char size[32], span[32];
    (void)row;
    twi_write_bytes(budget->bytes, size, sizeof size);
    twi_write_duration(budget->in_us, span, sizeof span);
    if (budget->bytes == 0)
        (void)snprintf(out, capacity, "none");
    else
        (void)snprintf(out, capacity, "%s/%s", size,
                       strcmp(span, "1 d") == 0   ? "d"
                       : strcmp(span, "1 h") == 0 ? "h"
                                                  : span);
}

static void explain_budget(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "none, or a size in a time such as %s or 5 GB/30 d",
                   row->example);
}

const twi_type twi_type_budget = {parse_budget, print_budget, explain_budget};
