/* Reading what a name tells, for captures that the catalogue does not know. */
#include <stdbool.h>
#include <string.h>

#include "naming.h"

enum { DEPTH_MAX = 128, STEPS_MAX = 20000 };

/* What has been read so far. */
typedef struct found {
    int64_t number[128]; /* by conversion */
    bool have[128];
    const char *camera, *kind;
    size_t camera_n, kind_n;
    uint32_t sighting, n, ms;
    int32_t offset_s;
    bool have_sighting, have_ms, have_offset;
} found;

typedef struct matching {
    const char *end; /* of the name */
    int steps;       /* taken; bounds the search on hostile names */
} matching;

static bool is_digit(char c)
{
    return c >= '0' && c <= '9';
}

/* Digits of a strftime conversion that is a number of fixed width, 0: it is none. */
static int digits_of(char conversion)
{
    switch (conversion) {
    case 'Y': return 4;
    case 'y':
    case 'm':
    case 'd':
    case 'H':
    case 'M':
    case 'S': return 2;
    case 'j': return 3;
    default: return 0;
    }
}

static bool match(matching *m, const char *p, const char *at, found *f, int depth);

/* Take a number of some digits for a conversion; it must be what was read for it before.
 * @return the place after it, NULL: it is not there. */
static const char *take_number(const matching *m, char conversion, const char *at,
                               found *f)
{
    const unsigned char which = (unsigned char)conversion;
    const int digits = digits_of(conversion);
    int64_t value = 0;
    if (m->end - at < digits)
        return NULL;
    for (int i = 0; i < digits; i++) {
        if (!is_digit(at[i]))
            return NULL;
        value = value * 10 + (at[i] - '0');
    }
    if (f->have[which] && f->number[which] != value)
        return NULL;
    f->have[which] = true;
    f->number[which] = value;
    return at + digits;
}

/* Numbers with a sign between them, then the rest of the pattern. */
static bool match_numbers(matching *m, const char *conversions, char between,
                          const char *rest, const char *at, found *f, int depth)
{
    const found before = *f;
    for (const char *c = conversions; at && *c; c++) {
        if (c > conversions)
            at = at < m->end && *at == between ? at + 1 : NULL;
        at = at ? take_number(m, *c, at, f) : NULL;
    }
    if (at && match(m, rest, at, f, depth))
        return true;
    *f = before;
    return false;
}

/* Text of any length, the longest first; the same text where the field comes again. */
static bool match_text(matching *m, const char *p, const char *at, found *f, int depth,
                       const char **text, size_t *n)
{
    size_t most = 0;
    while (at + most < m->end && at[most] != '/')
        most++;
    if (*text) {
        const size_t want = *n;
        return most >= want && memcmp(at, *text, want) == 0 &&
               match(m, p, at + want, f, depth);
    }
    const found before = *f;
    for (size_t length = most; length > 0; length--) {
        *text = at;
        *n = length;
        if (match(m, p, at + length, f, depth))
            return true;
        *f = before;
    }
    return false;
}

/* The offset from UTC: a sign, hours and minutes. */
static bool match_offset(matching *m, const char *p, const char *at, found *f, int depth)
{
    enum { LENGTH = 5 };
    if (m->end - at < LENGTH || (at[0] != '+' && at[0] != '-'))
        return false;
    int32_t digit[LENGTH];
    for (int i = 1; i < LENGTH; i++) {
        if (!is_digit(at[i]))
            return false;
        digit[i] = at[i] - '0';
    }
    const found before = *f;
    f->offset_s = (digit[1] * 10 + digit[2]) * 3600 + (digit[3] * 10 + digit[4]) * 60;
    if (at[0] == '-')
        f->offset_s = -f->offset_s;
    f->have_offset = true;
    if (match(m, p, at + LENGTH, f, depth))
        return true;
    *f = before;
    return false;
}

/* One of the kinds, the longer of two that would do. */
static bool match_kind(matching *m, const char *p, const char *at, found *f, int depth)
{
    const found before = *f;
    for (size_t length = (size_t)(m->end - at); length > 0; length--) {
        for (int k = 0; k < TWI_KIND_COUNT; k++) {
            const char *name = twi_kind_name((twi_kind)k);
            if (strlen(name) != length || memcmp(name, at, length) != 0 ||
                (f->kind && (f->kind_n != length || memcmp(f->kind, at, length) != 0)))
                continue;
            f->kind = at;
            f->kind_n = length;
            if (match(m, p, at + length, f, depth))
                return true;
            *f = before;
        }
    }
    return false;
}

/* Digits, at least so many. */
static bool match_count(matching *m, const char *p, const char *at, found *f, int depth,
                        size_t least, uint32_t *value)
{
    size_t most = 0;
    while (at + most < m->end && is_digit(at[most]) && most < 9)
        most++;
    const found before = *f;
    for (size_t length = most + 1; length-- > least;) {
        uint32_t read = 0;
        for (size_t i = 0; i < length; i++)
            read = read * 10 + (uint32_t)(at[i] - '0');
        *value = read;
        if (match(m, p, at + length, f, depth))
            return true;
        *f = before;
    }
    return false;
}

static bool match_field(matching *m, const char *p, const char *at, found *f, int depth)
{
    const char *close = strchr(p, '}');
    if (!close)
        return false;
    const size_t n = (size_t)(close - p) + 1;
    const char *next = close + 1;
    if (n == 8 && memcmp(p, "{camera}", n) == 0)
        return match_text(m, next, at, f, depth, &f->camera, &f->camera_n);
    if (n == 6 && memcmp(p, "{kind}", n) == 0)
        return match_kind(m, next, at, f, depth);
    if (n == 9 && memcmp(p, "{station}", n) == 0) {
        const char *ignored = NULL;
        size_t ignored_n = 0;
        return match_text(m, next, at, f, depth, &ignored, &ignored_n);
    }
    if (n == 10 && memcmp(p, "{sighting}", n) == 0) {
        f->have_sighting = true;
        return match_count(m, next, at, f, depth, 3, &f->sighting);
    }
    if (n == 4 && memcmp(p, "{ms}", n) == 0) {
        f->have_ms = true;
        return match_count(m, next, at, f, depth, 3, &f->ms);
    }
    if (n == 3 && memcmp(p, "{n}", n) == 0)
        return match_count(m, next, at, f, depth, 0, &f->n);
    return false;
}

/* A number behind a name that was taken: "-2". */
static bool only_a_suffix(const matching *m, const char *at)
{
    if (at == m->end)
        return true;
    if (*at != '-' || m->end - at < 2)
        return false;
    for (const char *c = at + 1; c < m->end; c++)
        if (!is_digit(*c))
            return false;
    return true;
}

static bool match(matching *m, const char *p, const char *at, found *f, int depth)
{
    if (depth == DEPTH_MAX || m->steps++ >= STEPS_MAX)
        return false;
    if (*p == '\0')
        return only_a_suffix(m, at);
    if (*p == '{')
        return match_field(m, p, at, f, depth + 1);
    if (*p == '%' && p[1] != '%' && digits_of(p[1]) > 0) {
        const char one[] = {p[1], '\0'};
        return match_numbers(m, one, '\0', p + 2, at, f, depth + 1);
    }
    if (*p == '%' && p[1] == 'F')
        return match_numbers(m, "Ymd", '-', p + 2, at, f, depth + 1);
    if (*p == '%' && p[1] == 'T') /* its colons are mended */
        return match_numbers(m, "HMS", '_', p + 2, at, f, depth + 1);
    if (*p == '%' && p[1] == 'z')
        return match_offset(m, p + 2, at, f, depth + 1);
    if (*p == '%' && p[1] != '%') { /* tells nothing that is needed */
        const char *ignored = NULL;
        size_t ignored_n = 0;
        return match_text(m, p + 2, at, f, depth + 1, &ignored, &ignored_n);
    }
    if (*p == '%')
        p++;
    return at < m->end && *at == *p && match(m, p + 1, at + 1, f, depth + 1);
}

static bool take_text(char *out, size_t capacity, const char *text, size_t n)
{
    if (n >= capacity)
        return false;
    if (n > 0)
        memcpy(out, text, n);
    out[n] = '\0';
    return true;
}

static uint8_t part(const found *f, char conversion)
{
    return (uint8_t)f->number[(unsigned char)conversion];
}

tw_status twi_name_read(const char *pattern, const char *name, twi_name_parts *out)
{
    if (!pattern || !name || !out)
        return TW_EINVAL;
    found f;
    memset(&f, 0, sizeof f);
    const char *slash = strrchr(name, '/');
    const char *dot = strrchr(slash ? slash : name, '.');
    matching m = {.end = dot ? dot : name + strlen(name)};
    if (!match(&m, pattern, name, &f, 0))
        return TW_ENOENT;
    static const char needed[] = "YmdHMS";
    for (const char *c = needed; *c; c++)
        if (!f.have[(unsigned char)*c])
            return TW_ENOENT;
    memset(out, 0, sizeof *out);
    if (!take_text(out->camera, sizeof out->camera, f.camera, f.camera_n) ||
        !take_text(out->kind, sizeof out->kind, f.kind, f.kind_n))
        return TW_ENOENT;
    out->sighting = f.sighting;
    out->n = f.n;
    out->time.year = (int32_t)f.number['Y'];
    out->time.month = part(&f, 'm');
    out->time.day = part(&f, 'd');
    out->time.hour = part(&f, 'H');
    out->time.minute = part(&f, 'M');
    out->time.second = part(&f, 'S');
    out->time.microsecond = f.have_ms ? f.ms % 1000 * 1000 : 0;
    out->time.offset_s = f.offset_s;
    out->offset_given = f.have_offset;
    const twi_civil *t = &out->time;
    const bool sound = t->year >= 1 && t->month >= 1 && t->month <= 12 && t->day >= 1 &&
                       t->day <= 31 && t->hour <= 23 && t->minute <= 59 &&
                       t->second <= 59;
    return sound ? TW_OK : TW_ENOENT;
}
