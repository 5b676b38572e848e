/* The names of captures. */
#include "naming.h"

#include <stdbool.h>
#include <string.h>

#include "pattern.h"

enum {
    PART_MAX =
        255 - 24,  /* bytes of one part of a path: what file systems allow, less what
                      "-999.mp4.part" and the like take */
    FIELD_MAX = 64 /* bytes of one field: a long one makes no name impossible */
};

/* Bytes of a text as far as it is used: whole characters. */
static size_t used_of(const char *s)
{
    size_t n = 0;
    while (s[n] && n <= FIELD_MAX)
        n++;
    if (n <= FIELD_MAX)
        return n;
    n = FIELD_MAX;
    while (n > 0 && ((unsigned char)s[n] & 0xC0) == 0x80)
        n--;
    return n;
}

/* Text of a field may not open new folders. */
static void put_field(twi_text *t, const char *s)
{
    const size_t n = s ? used_of(s) : 0;
    for (size_t i = 0; i < n; i++)
        twi_put(t, s[i] == '/' ? '_' : s[i]);
}

static bool put_name_field(twi_text *t, const char *at, size_t n, const void *fields)
{
    const twi_name_fields *f = fields;
    if (twi_is_field(at, n, "{camera}"))
        put_field(t, f->camera);
    else if (twi_is_field(at, n, "{station}"))
        put_field(t, f->station);
    else if (twi_is_field(at, n, "{kind}"))
        put_field(t, f->kind);
    else if (twi_is_field(at, n, "{sighting}"))
        twi_put_number(t, f->sighting, 3);
    else if (twi_is_field(at, n, "{ms}"))
        twi_put_number(t, f->time.microsecond / 1000, 3);
    else if (twi_is_field(at, n, "{n}")) {
        if (f->n > 0)
            twi_put_number(t, f->n, 1);
    } else
        return false;
    return true;
}

static bool forbidden(char c)
{
    return (unsigned char)c < 32 || c == 127 || strchr("<>:\"\\|?*", c) != NULL;
}

/* Names that FAT's own systems take for devices, with any extension. */
static bool is_device(const char *part, size_t n)
{
    static const char *const devices[] = {"con", "prn", "aux", "nul", "com", "lpt"};
    size_t stem = 0;
    while (stem < n && part[stem] != '.')
        stem++;
    for (size_t i = 0; i < sizeof devices / sizeof *devices; i++) {
        const size_t want = i < 4 ? 3 : 4;
        bool same = stem == want;
        for (size_t k = 0; same && k < 3; k++)
            same = (part[k] | 0x20) == devices[i][k];
        if (same && (want == 3 || (part[3] >= '1' && part[3] <= '9')))
            return true;
    }
    return false;
}

/* Cut a part to what file systems allow, keeping its end (the extension) and whole UTF-8
 * characters at the cut. @return its new length. */
static size_t shorten(char *part, size_t n)
{
    if (n <= PART_MAX)
        return n;
    enum { TAIL = 12 };
    size_t head = PART_MAX - TAIL, tail = n - TAIL;
    while (head > 0 && ((unsigned char)part[head] & 0xC0) == 0x80)
        head--;
    while (tail < n && ((unsigned char)part[tail] & 0xC0) == 0x80)
        tail++;
    memmove(part + head, part + tail, n - tail);
    return head + n - tail;
}

/* @return bytes of the character that begins here in UTF-8, 0: none does. */
static size_t character(const char *at, size_t left)
{
    const unsigned char *b = (const unsigned char *)at;
    const size_t n = b[0] < 0x80                   ? 1
                     : b[0] >= 0xC2 && b[0] < 0xE0 ? 2
                     : (b[0] & 0xF0) == 0xE0       ? 3
                     : b[0] >= 0xF0 && b[0] < 0xF5 ? 4
                                                   : 0;
    if (n == 0 || n > left)
        return 0;
    for (size_t i = 1; i < n; i++)
        if ((b[i] & 0xC0) != 0x80)
            return 0;
    /* Longer than needed, half of a pair, or past the last. */
    if ((b[0] == 0xE0 && b[1] < 0xA0) || (b[0] == 0xED && b[1] > 0x9F) ||
        (b[0] == 0xF0 && b[1] < 0x90) || (b[0] == 0xF4 && b[1] > 0x8F))
        return 0;
    return n;
}

/* FAT keeps names as UTF-16, and refuses what is no text. */
static void mend_characters(char *part, size_t n)
{
    for (size_t i = 0; i < n;) {
        const size_t bytes = character(part + i, n - i);
        if (bytes == 0 || (bytes == 1 && forbidden(part[i])))
            part[i] = '_';
        i += bytes > 0 ? bytes : 1;
    }
}

/* Mend one part in place. @return its new length; it never grows. */
static size_t mend_part(char *part, size_t n)
{
    mend_characters(part, n);
    if (is_device(part, n))
        part[0] = '_';
    n = shorten(part, n);
    while (n > 0 && (part[n - 1] == '.' || part[n - 1] == ' ') &&
           (n == 1 || part[n - 2] == '.' || part[n - 2] == ' '))
        n--;
    if (n > 0 && (part[n - 1] == '.' || part[n - 1] == ' '))
        part[n - 1] = '_';
    return n;
}

/* Mend every part; empty parts, "." and ".." vanish, so that no name leaves the store. */
static size_t mend(char *name, size_t n)
{
    size_t in = 0, out = 0;
    while (in < n) {
        size_t stop = in;
        while (stop < n && name[stop] != '/')
            stop++;
        const size_t length = mend_part(name + in, stop - in);
        if (length > 0) {
            if (out > 0)
                name[out++] = '/';
            memmove(name + out, name + in, length);
            out += length;
        }
        in = stop + 1;
    }
    name[out] = '\0';
    return out;
}

tw_status twi_name_expand(const char *pattern, const twi_name_fields *fields, char *out,
                          size_t capacity, const char **problem)
{
    if (!pattern || !fields || !out || capacity == 0)
        return TW_EINVAL;
    twi_text t = {out, 0, capacity, false, '_'};
    const char *wrong = twi_expand(&t, pattern, &fields->time, put_name_field, fields);
    /* Ends a name such as "{n}", which may be empty, before the extension is added. */
    bool empty = t.used == 0 || out[t.used - 1] == '/';
    if (fields->extension && fields->extension[0]) {
        twi_put(&t, '.');
        twi_put_text(&t, fields->extension);
    }
    if (problem)
        *problem = wrong ? wrong : pattern;
    if (wrong)
        return TW_ESYNTAX;
    if (t.full)
        return TW_ESIZE;
    out[t.used] = '\0';
    const size_t n = mend(out, t.used);
    if (empty || n == 0)
        return TW_ESYNTAX;
    return TW_OK;
}
