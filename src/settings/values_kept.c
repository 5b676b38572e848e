/* Types of settings of what is kept: stills, clips by the clock, limits by kind, sets of
 * words. */
#include <stdio.h>
#include <string.h>

#include "../core/caption.h"
#include "../core/hours.h"
#include "values.h"
#include "../core/naming.h"
#include "sections.h"

/* ---- stills ---------------------------------------------------------------------- */

static bool parse_stills(const twi_row *row, const char *text, void *field)
{
    static const char *const words[] = {"none", "first", "best"};
    twi_stills_choice choice = {TWI_STILLS_EVERY, 0};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        if (strcmp(text, words[i]) == 0)
            choice.which = (twi_stills)i;
    if (choice.which == TWI_STILLS_EVERY) {
        if (strncmp(text, "every ", 6) != 0 ||
            !twi_read_duration(text + 6, &choice.every_us) ||
            choice.every_us < row->min || choice.every_us > row->max)
            return false;
    }
    *(twi_stills_choice *)field = choice;
    return true;
}

static void print_stills(const twi_row *row, const void *field, char *out,
                         size_t capacity)
{
    (void)row;
    const twi_stills_choice *c = field;
    static const char *const words[] = {"none", "first", "best"};
    char every[40];
    if (c->which == TWI_STILLS_EVERY) {
        twi_write_duration(c->every_us, every, sizeof every);
        (void)snprintf(out, capacity, "every %s", every);
    } else {
        (void)snprintf(out, capacity, "%s", words[c->which]);
    }
}

static void explain_stills(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "none, first, best, or %s", row->example);
}

const twi_type twi_type_stills = {parse_stills, print_stills, explain_stills};

/* ---- clips by the clock ---------------------------------------------------------- */

static bool parse_timed_clip(const twi_row *row, const char *text, void *field)
{
    static const char EVERY[] = " every ";
    twi_timed_clip timed = {0, 0};
    char length[TWI_VALUE_MAX];
    const char *every = strstr(text, EVERY);
    if (strcmp(text, "off") == 0) {
        *(twi_timed_clip *)field = timed;
        return true;
    }
    if (!every || (size_t)(every - text) >= sizeof length)
        return false;
    (void)snprintf(length, sizeof length, "%.*s", (int)(every - text), text);
    if (!twi_read_duration(length, &timed.length_us) ||
        !twi_read_duration(every + strlen(EVERY), &timed.every_us) ||
        timed.length_us < row->min || timed.length_us > timed.every_us ||
        timed.every_us > row->max)
        return false;
    *(twi_timed_clip *)field = timed;
    return true;
}

static void print_timed_clip(const twi_row *row, const void *field, char *out,
                             size_t capacity)
{
    (void)row;
    const twi_timed_clip *c = field;
    char length[40], every[40];
    twi_write_duration(c->length_us, length, sizeof length);
    twi_write_duration(c->every_us, every, sizeof every);
    if (c->every_us == 0)
        (void)snprintf(out, capacity, "off");
    else
        (void)snprintf(out, capacity, "%s every %s", length, every);
}

static void explain_timed_clip(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "off, or %s; not longer than its interval",
                   row->example);
}

const twi_type twi_type_timed_clip = {parse_timed_clip, print_timed_clip,
                                      explain_timed_clip};

/* ---- limits by kind -------------------------------------------------------------- */

/* One item of a list, without the blanks around it. @return the place after its comma. */
static const char *take_item(const char *s, char *out, size_t capacity)
{
    while (*s == ' ' || *s == '\t')
        s++;
    const size_t n = strcspn(s, ",");
    size_t end = n;
    while (end > 0 && (s[end - 1] == ' ' || s[end - 1] == '\t'))
        end--;
    (void)snprintf(out, capacity, "%.*s", (int)(end < capacity ? end : 0), s);
    return s[n] == ',' ? s + n + 1 : s + n;
}

typedef bool (*read_fn)(const char *text, int64_t *value);
typedef void (*write_fn)(int64_t value, char *out, size_t capacity);

/* "VALUE, KIND VALUE, ...": the value alone is for all kinds that are not named. */
static bool parse_by_kind(const twi_row *row, const char *text, read_fn read, void *field)
{
    twi_by_kind by = {.all = 0};
    for (int k = 0; k < TWI_KIND_COUNT; k++)
        by.kind[k] = TWI_AS_ALL;
    const char *s = text;
    for (int i = 0; *s && i <= TWI_KIND_COUNT; i++) {
        char item[TWI_VALUE_MAX], *value = item;
        s = take_item(s, item, sizeof item);
        int64_t *to = &by.all;
        if (i > 0) {
            value = strchr(item, ' ');
            if (!value)
                return false;
            *value++ = '\0';
            const twi_kind kind = twi_kind_find(item);
            if (kind == TWI_KIND_COUNT)
                return false;
            to = &by.kind[kind];
        }
        if (!read(value, to) || *to < row->min || *to > row->max)
            return false;
    }
    *(twi_by_kind *)field = by;
    return *s == '\0' && *text != '\0';
}

static void print_by_kind(const void *field, write_fn write, char *out, size_t capacity)
{
    const twi_by_kind *by = field;
    write(by->all, out, capacity);
    for (int k = 0; k < TWI_KIND_COUNT; k++) {
        char value[40];
        const size_t n = strlen(out);
        if (by->kind[k] == TWI_AS_ALL)
            continue;
        write(by->kind[k], value, sizeof value);
        (void)snprintf(out + n, capacity - n, ", %s %s", twi_kind_name((twi_kind)k),
                       value);
    }
}

static void explain_by_kind(const twi_row *row, const char *what, write_fn write,
                            char *out, size_t capacity)
{
    char high[40];
    write(row->max, high, sizeof high);
    (void)snprintf(out, capacity,
                   "%s, up to %s, for all; then, if wanted, others for single kinds, "
                   "such as %s",
                   what, high, row->example);
}

static bool parse_durations(const twi_row *row, const char *text, void *field)
{
    return parse_by_kind(row, text, twi_read_duration, field);
}

static void print_durations(const twi_row *row, const void *field, char *out,
                            size_t capacity)
{
    (void)row;
    print_by_kind(field, twi_write_duration, out, capacity);
}

static void explain_durations(const twi_row *row, char *out, size_t capacity)
{
    explain_by_kind(row, "a duration", twi_write_duration, out, capacity);
}

const twi_type twi_type_durations = {parse_durations, print_durations, explain_durations};

static bool parse_sizes(const twi_row *row, const char *text, void *field)
{
    return parse_by_kind(row, text, twi_read_bytes, field);
}

static void print_sizes(const twi_row *row, const void *field, char *out, size_t capacity)
{
    (void)row;
    print_by_kind(field, twi_write_bytes, out, capacity);
}

static void explain_sizes(const twi_row *row, char *out, size_t capacity)
{
    explain_by_kind(row, "a size", twi_write_bytes, out, capacity);
}

const twi_type twi_type_sizes = {parse_sizes, print_sizes, explain_sizes};

/* ---- sets of words --------------------------------------------------------------- */

/* @return the place of a word in a list separated by blanks, -1: it is not there. */
static int find_word(const char *choices, const char *word)
{
    const size_t n = strlen(word);
    int index = 0;
    for (const char *s = choices; *s; index++) {
        const size_t m = strcspn(s, " ");
        if (m == n && strncmp(s, word, n) == 0)
            return index;
        s += m;
        s += *s == ' ';
    }
    return -1;
}

static bool parse_words(const twi_row *row, const char *text, void *field)
{
    int64_t set = 0;
    const char *s = text;
    for (int i = 0; *s && i < 8; i++) {
        char item[TWI_VALUE_MAX];
        s = take_item(s, item, sizeof item);
        if (strcmp(item, "none") == 0)
            continue;
        const int index = find_word(row->choices, item);
        if (index < 0)
            return false;
        set |= INT64_C(1) << index;
    }
    *(int64_t *)field = set;
    return *s == '\0';
}

static void print_words(const twi_row *row, const void *field, char *out, size_t capacity)
{
    const int64_t set = *(const int64_t *)field;
    int index = 0;
    (void)snprintf(out, capacity, "%s", set == 0 ? "none" : "");
    for (const char *s = row->choices; *s; index++) {
        const size_t m = strcspn(s, " "), n = strlen(out);
        if (set >> index & 1)
            (void)snprintf(out + n, capacity - n, "%s%.*s", n > 0 ? ", " : "", (int)m, s);
        s += m;
        s += *s == ' ';
    }
}

static void explain_words(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "none, or some of %s, separated by commas",
                   row->choices);
}

const twi_type twi_type_words = {parse_words, print_words, explain_words};

/* ---- captions -------------------------------------------------------------------- */

static void print_text(const twi_row *row, const void *field, char *out, size_t capacity)
{
    (void)row;
    (void)snprintf(out, capacity, "%s", *(const char *const *)field);
}

static bool parse_caption(const twi_row *row, const char *text, void *field)
{
    char out[TWI_CAPTION_MAX];
    const twi_caption_fields fields = {
        .time = {.year = 2027, .month = 3, .day = 13}, .camera = "", .station = ""};
    (void)row;
    if (twi_caption_expand(text, &fields, out, sizeof out, NULL) != TW_OK)
        return false;
    *(const char **)field = text;
    return true;
}

static void explain_caption(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity,
                   "text with strftime conversions and {camera}, {station}, {sighting}, "
                   "{activity} or {ms}, such as %s",
                   row->example);
}

const twi_type twi_type_caption = {parse_caption, print_text, explain_caption};

/* ---- decimals -------------------------------------------------------------------- */

static bool parse_decimal(const twi_row *row, const char *text, void *field)
{
    int64_t whole = 0, millionths = 0, scale = 100000;
    const bool negative = *text == '-';
    const char *s = text + negative;
    if (*text == '\0') {
        *(int64_t *)field = TWI_NO_NUMBER;
        return true;
    }
    const char *first = s;
    for (; *s >= '0' && *s <= '9' && whole < 1000000000; s++)
        whole = whole * 10 + (*s - '0');
    if (s == first)
        return false;
    if (*s == '.')
        for (s++; *s >= '0' && *s <= '9'; s++, scale /= 10)
            millionths += (*s - '0') * scale;
    const int64_t value = (whole * 1000000 + millionths) * (negative ? -1 : 1);
    if (*s != '\0' || value < row->min || value > row->max)
        return false;
    *(int64_t *)field = value;
    return true;
}

/* With as many digits as are needed. */
static void print_decimal(const twi_row *row, const void *field, char *out,
                          size_t capacity)
{
    const int64_t value = *(const int64_t *)field;
    (void)row;
    if (value == TWI_NO_NUMBER)
        (void)snprintf(out, capacity, "%s", "");
    else
        twi_write_decimal(value, out, capacity);
}

static void explain_decimal(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "a number such as %s", row->example);
}

const twi_type twi_type_decimal = {parse_decimal, print_decimal, explain_decimal};

/* ---- a time of the day ------------------------------------------------------------ */

static bool parse_clock(const twi_row *row, const char *text, void *field)
{
    unsigned hour = 0, minute = 0;
    int used = 0;
    (void)row;
    if (strcmp(text, "none") == 0) {
        *(int64_t *)field = -1;
        return true;
    }
    if (strspn(text, "0123456789") != 2 ||
        sscanf(text, "%2u:%2u%n", &hour, &minute, &used) != 2 || used != 5 ||
        text[5] != '\0' || hour > 23 || minute > 59)
        return false;
    *(int64_t *)field = hour * 60 + minute;
    return true;
}

static void print_clock(const twi_row *row, const void *field, char *out, size_t capacity)
{
    const int64_t minute = *(const int64_t *)field;
    (void)row;
    if (minute < 0)
        (void)snprintf(out, capacity, "none");
    else
        (void)snprintf(out, capacity, "%02d:%02d", (int)(minute / 60),
                       (int)(minute % 60));
}

static void explain_clock(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "none, or a time of the day such as %s", row->example);
}

const twi_type twi_type_clock = {parse_clock, print_clock, explain_clock};

/* ---- degrees --------------------------------------------------------------------- */

static void print_degrees(const twi_row *row, const void *field, char *out,
                          size_t capacity)
{
    (void)row;
    const int64_t value = *(const int64_t *)field;
    if (value == TWI_NOWHERE) {
        (void)snprintf(out, capacity, "%s", "");
        return;
    }
    const int64_t size = value < 0 ? -value : value;
    (void)snprintf(out, capacity, "%s%d.%06d", value < 0 ? "-" : "",
                   (int)(size / 1000000), (int)(size % 1000000));
}

static void explain_degrees(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "degrees such as %s, from %d to %d", row->example,
                   (int)(row->min / 1000000), (int)(row->max / 1000000));
}

const twi_type twi_type_degrees = {parse_decimal, print_degrees, explain_degrees};

/* ---- hours ----------------------------------------------------------------------- */

static bool parse_hours(const twi_row *row, const char *text, void *field)
{
    twi_hours hours;
    (void)row;
    if (twi_hours_parse(text, &hours, NULL) != TW_OK)
        return false;
    *(const char **)field = text;
    return true;
}

static void explain_hours(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "always, or up to %d ranges such as %s", TWI_HOURS_MAX,
                   row->example);
}

const twi_type twi_type_hours = {parse_hours, print_text, explain_hours};

/* ---- sound ----------------------------------------------------------------------- */

/* The name of a device of ALSA's: one of the kernel's with its numbers, or one that the
 * machine's own set-up defines. Its library would open files and start programs for other
 * names. */
static bool is_microphone(const char *name)
{
    static const char *const kinds[] = {
        "hw:", "plughw:", "sysdefault:", "default:", "dsnoop:", NULL};
    static const char plain[] =
        "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_-";
    const size_t n = strspn(name, plain);
    if (n > 0 && name[n] == '\0')
        return true;
    for (size_t i = 0; kinds[i]; i++) {
        const char *rest = name + strlen(kinds[i]);
        if (strncmp(name, kinds[i], strlen(kinds[i])) != 0)
            continue;
        for (size_t k = strspn(rest, plain); rest[k] != '\0'; k++)
            if (!strchr(plain, rest[k]) && rest[k] != ',' && rest[k] != '=')
                return false;
        return rest[0] != '\0';
    }
    return false;
}

static bool parse_sound(const twi_row *row, const char *text, void *field)
{
    (void)row;
    const bool good = strcmp(text, "none") == 0 || strcmp(text, "stream") == 0 ||
                      (strncmp(text, "alsa:", 5) == 0 && is_microphone(text + 5));
    if (good)
        *(const char **)field = text;
    return good;
}

static void explain_sound(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity,
                   "none, stream, or alsa: and the name of a microphone, such as %s",
                   row->example);
}

const twi_type twi_type_sound = {parse_sound, print_text, explain_sound};
