/* Types of settings. All numbers are read as decimals into integers, never as floats, so
 * that what is printed is what was written. */
#include "values.h"

#include <ctype.h>
#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "tawny/settings.h"
#include "../core/view.h"
#include "sections.h"
#include "tawny/zones.h"

#define MICRO INT64_C(1000000)

static const char *skip_blanks(const char *s)
{
    while (*s == ' ' || *s == '\t')
        s++;
    return s;
}

/* A decimal such as "0.25", in millionths. @return the place after it, NULL: none here,
 * or more digits than a setting can need. */
static const char *read_decimal(const char *s, int64_t *micro)
{
    int64_t value = 0, unit = MICRO;
    int digits = 0;
    for (; isdigit((unsigned char)*s); s++, digits++)
        if ((value = value * 10 + (*s - '0')) > 1000000000)
            return NULL;
    value *= MICRO;
    if (*s == '.') {
        for (s++; isdigit((unsigned char)*s); s++, digits++) {
            unit /= 10;
            if (unit == 0 && *s != '0')
                return NULL;
            value += (*s - '0') * unit;
        }
    }
    *micro = value;
    return digits > 0 ? s : NULL;
}

void twi_write_decimal(int64_t micro, char *out, size_t capacity)
{
    const int64_t size = micro < 0 ? -micro : micro;
    const int n = snprintf(out, capacity, "%s%" PRId64 ".%06" PRId64,
                           micro < 0 ? "-" : "", size / MICRO, size % MICRO);
    for (int i = n - 1; i > 0 && i < (int)capacity && (out[i] == '0' || out[i] == '.');
         i--) {
        const bool point = out[i] == '.';
        out[i] = '\0';
        if (point)
            break;
    }
}

typedef struct unit {
    const char *name;
    int64_t in_micro; /* so many millionths of the base unit */
} unit;

/* @return the place after the unit's name and its size, NULL if it is none of them. */
static const char *read_unit(const char *s, const unit *units, size_t count,
                             int64_t *size)
{
    s = skip_blanks(s);
    size_t n = 0;
    while (isalpha((unsigned char)s[n]) || s[n] == '%')
        n++;
    for (size_t i = 0; i < count; i++) {
        if (strlen(units[i].name) == n && strncmp(units[i].name, s, n) == 0) {
            *size = units[i].in_micro;
            return s + n;
        }
    }
    return NULL;
}

/* Sum of "number unit" pairs: "1 min 30 s". @return false: something else is there. */
static bool read_sum(const char *text, const unit *units, size_t count, int64_t *out)
{
    int64_t sum = 0;
    const char *s = skip_blanks(text);
    if (strcmp(s, "0") == 0) {
        *out = 0;
        return true;
    }
    do {
        int64_t micro = 0, size = 0;
        s = read_decimal(s, &micro);
        if (s)
            s = read_unit(s, units, count, &size);
        if (!s)
            return false;
        const int64_t whole = micro / MICRO, rest = micro % MICRO;
        if (size > 0 && whole > INT64_MAX / 4 / size)
            return false;
        sum += whole * size + rest * (size / 1000) / 1000;
        if (sum > INT64_MAX / 4)
            return false;
        s = skip_blanks(s);
    } while (*s);
    *out = sum;
    return true;
}

static bool in_range(const twi_row *row, int64_t value)
{
    return value >= row->min && value <= row->max;
}

static bool store_number(const twi_row *row, int64_t value, void *field)
{
    if (!in_range(row, value))
        return false;
    *(int64_t *)field = value;
    return true;
}

/* ---- text ------------------------------------------------------------------------ */

static bool parse_text(const twi_row *row, const char *text, void *field)
{
    (void)row;
    *(const char **)field = text;
    return true;
}

static void print_text(const twi_row *row, const void *field, char *out, size_t capacity)
{
    (void)row;
    (void)snprintf(out, capacity, "%s", *(const char *const *)field);
}

static void explain_text(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "text such as %s", row->example);
}

const twi_type twi_type_text = {parse_text, print_text, explain_text};

/* ---- switch ---------------------------------------------------------------------- */

static bool parse_switch(const twi_row *row, const char *text, void *field)
{
    (void)row;
    const bool yes = strcmp(text, "yes") == 0;
    if (!yes && strcmp(text, "no") != 0)
        return false;
    *(bool *)field = yes;
    return true;
}

static void print_switch(const twi_row *row, const void *field, char *out,
                         size_t capacity)
{
    (void)row;
    (void)snprintf(out, capacity, "%s", *(const bool *)field ? "yes" : "no");
}

static void explain_switch(const twi_row *row, char *out, size_t capacity)
{
    (void)row;
    (void)snprintf(out, capacity, "yes or no");
}

const twi_type twi_type_switch = {parse_switch, print_switch, explain_switch};

/* ---- choice ---------------------------------------------------------------------- */

/* @return the place of word number index and its length, NULL past the last. */
static const char *choice_at(const char *choices, int64_t index, size_t *length)
{
    const char *s = choices;
    for (int64_t i = 0; *s; i++) {
        const size_t n = strcspn(s, " ");
        if (i == index) {
            *length = n;
            return s;
        }
        s += n;
        s += strspn(s, " ");
    }
    return NULL;
}

static bool parse_choice(const twi_row *row, const char *text, void *field)
{
    size_t n = 0;
    const char *word = NULL;
    for (int64_t i = 0; (word = choice_at(row->choices, i, &n)) != NULL; i++) {
        if (strlen(text) == n && strncmp(text, word, n) == 0) {
            *(int64_t *)field = i;
            return true;
        }
    }
    return false;
}

static void print_choice(const twi_row *row, const void *field, char *out,
                         size_t capacity)
{
    size_t n = 0;
    const char *word = choice_at(row->choices, *(const int64_t *)field, &n);
    (void)snprintf(out, capacity, "%.*s", (int)n, word ? word : "");
}

static void explain_choice(const twi_row *row, char *out, size_t capacity)
{
    size_t used = 0, n = 0;
    const char *word = NULL;
    out[0] = '\0';
    for (int64_t i = 0; (word = choice_at(row->choices, i, &n)) != NULL; i++) {
        const bool last = word[n] == '\0';
        used += (size_t)snprintf(out + used, capacity - used, "%s%.*s",
                                 i == 0 ? "" : (last ? " or " : ", "), (int)n, word);
        if (used >= capacity)
            return;
    }
}

const twi_type twi_type_choice = {parse_choice, print_choice, explain_choice};

/* ---- duration -------------------------------------------------------------------- */

static const unit DURATIONS[] = {{"d", 86400 * MICRO}, {"h", 3600 * MICRO},
                                 {"min", 60 * MICRO},  {"s", MICRO},
                                 {"ms", 1000},         {"us", 1}};
enum { DURATION_UNITS = sizeof DURATIONS / sizeof *DURATIONS };

bool twi_read_duration(const char *text, int64_t *us)
{
    return read_sum(text, DURATIONS, DURATION_UNITS, us);
}

static bool parse_duration(const twi_row *row, const char *text, void *field)
{
    int64_t us = 0;
    return twi_read_duration(text, &us) && store_number(row, us, field);
}

void twi_write_duration(int64_t us, char *out, size_t capacity)
{
    size_t i = DURATION_UNITS - 1;
    if (us == 0)
        i = 3;
    while (us > 0 && i > 0 && us % DURATIONS[i - 1].in_micro == 0)
        i--;
    (void)snprintf(out, capacity, "%" PRId64 " %s", us / DURATIONS[i].in_micro,
                   DURATIONS[i].name);
}

static void print_duration(const twi_row *row, const void *field, char *out,
                           size_t capacity)
{
    (void)row;
    twi_write_duration(*(const int64_t *)field, out, capacity);
}

static void explain_duration(const twi_row *row, char *out, size_t capacity)
{
    char low[32], high[32];
    twi_write_duration(row->min, low, sizeof low);
    twi_write_duration(row->max, high, sizeof high);
    (void)snprintf(out, capacity, "a duration such as %s, from %s to %s", row->example,
                   low, high);
}

const twi_type twi_type_duration = {parse_duration, print_duration, explain_duration};

/* ---- share of the picture -------------------------------------------------------- */

static bool parse_share(const twi_row *row, const char *text, void *field)
{
    int64_t micro = 0;
    const char *s = read_decimal(text, &micro);
    if (!s || strcmp(skip_blanks(s), "%") != 0 || micro % 100 != 0)
        return false;
    return store_number(row, micro / 100, field);
}

static void write_share(int64_t ppm, char *out, size_t capacity)
{
    char number[32];
    twi_write_decimal(ppm * 100, number, sizeof number);
    (void)snprintf(out, capacity, "%s %%", number);
}

static void print_share(const twi_row *row, const void *field, char *out, size_t capacity)
{
    (void)row;
    write_share(*(const int64_t *)field, out, capacity);
}

static void explain_share(const twi_row *row, char *out, size_t capacity)
{
    char low[40], high[40];
    write_share(row->min, low, sizeof low);
    write_share(row->max, high, sizeof high);
    (void)snprintf(out, capacity, "a percentage such as %s, from %s to %s", row->example,
                   low, high);
}

const twi_type twi_type_share = {parse_share, print_share, explain_share};

/* ---- whole numbers with one fixed word after them -------------------------------- */

static bool read_whole(const twi_row *row, const char *text, const char *word,
                       bool needed, void *field)
{
    int64_t micro = 0;
    const char *s = read_decimal(text, &micro);
    if (!s || micro % MICRO != 0)
        return false;
    s = skip_blanks(s);
    if (*s == '\0' ? needed : strcmp(s, word) != 0)
        return false;
    return store_number(row, micro / MICRO, field);
}

static void explain_whole(const twi_row *row, const char *what, char *out,
                          size_t capacity)
{
    (void)snprintf(out, capacity, "%s such as %s, from %" PRId64 " to %" PRId64, what,
                   row->example, row->min, row->max);
}

static bool parse_percent(const twi_row *row, const char *text, void *field)
{
    return read_whole(row, text, "%", true, field);
}

static void print_percent(const twi_row *row, const void *field, char *out,
                          size_t capacity)
{
    (void)row;
    (void)snprintf(out, capacity, "%" PRId64 " %%", *(const int64_t *)field);
}

static void explain_percent(const twi_row *row, char *out, size_t capacity)
{
    explain_whole(row, "a whole percentage", out, capacity);
}

const twi_type twi_type_percent = {parse_percent, print_percent, explain_percent};

static bool parse_number(const twi_row *row, const char *text, void *field)
{
    return read_whole(row, text, "", false, field);
}

static void print_number(const twi_row *row, const void *field, char *out,
                         size_t capacity)
{
    (void)row;
    (void)snprintf(out, capacity, "%" PRId64, *(const int64_t *)field);
}

static void explain_number(const twi_row *row, char *out, size_t capacity)
{
    explain_whole(row, "a whole number", out, capacity);
}

const twi_type twi_type_number = {parse_number, print_number, explain_number};

static bool parse_rate(const twi_row *row, const char *text, void *field)
{
    if (strcmp(text, "auto") == 0) {
        *(int64_t *)field = 0;
        return true;
    }
    return read_whole(row, text, "fps", false, field);
}

static void print_rate(const twi_row *row, const void *field, char *out, size_t capacity)
{
    const int64_t fps = *(const int64_t *)field;
    (void)row;
    if (fps == 0)
        (void)snprintf(out, capacity, "auto");
    else
        (void)snprintf(out, capacity, "%" PRId64 " fps", fps);
}

static void explain_rate(const twi_row *row, char *out, size_t capacity)
{
    explain_whole(row, "auto, or frames a second", out, capacity);
}

const twi_type twi_type_rate = {parse_rate, print_rate, explain_rate};

/* ---- luma levels ----------------------------------------------------------------- */

static bool parse_levels(const twi_row *row, const char *text, void *field)
{
    if (strcmp(text, "auto") == 0) {
        *(int64_t *)field = 0;
        return true;
    }
    return read_whole(row, text, "levels", false, field);
}

static void print_levels(const twi_row *row, const void *field, char *out,
                         size_t capacity)
{
    if (*(const int64_t *)field == 0)
        (void)snprintf(out, capacity, "auto");
    else
        print_number(row, field, out, capacity);
}

static void explain_levels(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "auto, or luma levels from %" PRId64 " to %" PRId64,
                   row->min, row->max);
}

const twi_type twi_type_levels = {parse_levels, print_levels, explain_levels};

/* ---- bytes ----------------------------------------------------------------------- */

static const unit SIZES[] = {{"GB", 1000 * MICRO}, {"MB", MICRO}, {"kB", 1000}, {"B", 1}};
enum { SIZE_UNITS = sizeof SIZES / sizeof *SIZES };

bool twi_read_bytes(const char *text, int64_t *bytes)
{
    return read_sum(text, SIZES, SIZE_UNITS, bytes);
}

static bool parse_bytes(const twi_row *row, const char *text, void *field)
{
    int64_t bytes = 0;
    return twi_read_bytes(text, &bytes) && store_number(row, bytes, field);
}

void twi_write_bytes(int64_t bytes, char *out, size_t capacity)
{
    size_t i = SIZE_UNITS - 1;
    while (bytes > 0 && i > 0 && bytes % SIZES[i - 1].in_micro == 0)
        i--;
    (void)snprintf(out, capacity, "%" PRId64 " %s", bytes / SIZES[i].in_micro,
                   SIZES[i].name);
}

static void print_bytes(const twi_row *row, const void *field, char *out, size_t capacity)
{
    (void)row;
    twi_write_bytes(*(const int64_t *)field, out, capacity);
}

static void explain_bytes(const twi_row *row, char *out, size_t capacity)
{
    char low[32], high[32];
    twi_write_bytes(row->min, low, sizeof low);
    twi_write_bytes(row->max, high, sizeof high);
    (void)snprintf(out, capacity, "a size such as %s, from %s to %s", row->example, low,
                   high);
}

const twi_type twi_type_bytes = {parse_bytes, print_bytes, explain_bytes};

/* ---- k of n ---------------------------------------------------------------------- */

static bool parse_confirm(const twi_row *row, const char *text, void *field)
{
    int64_t k = 0, n = 0;
    const char *s = read_decimal(text, &k);
    if (!s || strncmp(skip_blanks(s), "of", 2) != 0)
        return false;
    s = read_decimal(skip_blanks(skip_blanks(s) + 2), &n);
    if (!s || *skip_blanks(s) != '\0' || k % MICRO != 0 || n % MICRO != 0)
        return false;
    if (k < MICRO || k > n || n > row->max * MICRO)
        return false;
    *(twi_confirm *)field = (twi_confirm){(uint8_t)(k / MICRO), (uint8_t)(n / MICRO)};
    return true;
}

static void print_confirm(const twi_row *row, const void *field, char *out,
                          size_t capacity)
{
    (void)row;
    const twi_confirm *c = field;
    (void)snprintf(out, capacity, "%u of %u", c->k, c->n);
}

static void explain_confirm(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity, "frames such as %s, of %" PRId64 " at most",
                   row->example, row->max);
}

const twi_type twi_type_confirm = {parse_confirm, print_confirm, explain_confirm};

/* ---- area ------------------------------------------------------------------------ */

/* Points as x,y in percent, most of them at most. @return how many, 0: not understood. */
static size_t parse_points(const char *text, size_t most, tw_point *points)
{
    size_t count = 0;
    const char *s = skip_blanks(text);
    while (*s && count < most) {
        int64_t x = 0, y = 0;
        s = read_decimal(s, &x);
        if (!s || *s != ',')
            return 0;
        s = read_decimal(s + 1, &y);
        if (!s || (*s != '\0' && *s != ' ' && *s != '\t') || x > 100 * MICRO ||
            y > 100 * MICRO)
            return 0;
        if (points)
            points[count] = (tw_point){(int32_t)(x / 100), (int32_t)(y / 100)};
        count++;
        s = skip_blanks(s);
    }
    return *s ? 0 : count;
}

size_t twi_area_parse(const char *text, tw_point *points)
{
    const size_t count = parse_points(text, TWI_AREA_MAX, points);
    return count < 3 ? 0 : count;
}

static bool parse_area(const twi_row *row, const char *text, void *field)
{
    if (twi_area_parse(text, NULL) == 0)
        return false;
    return parse_text(row, text, field);
}

static void explain_area(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity,
                   "3 to %d corners as x,y in percent of the picture, such as %s",
                   TWI_AREA_MAX, row->example);
}

const twi_type twi_type_area = {parse_area, print_text, explain_area};

/* ---- crop ------------------------------------------------------------------------ */

static bool parse_crop(const twi_row *row, const char *text, void *field)
{
    tw_point p[2] = {{0, 0}, {0, 0}};
    (void)row;
    if (*text == '\0') {
        *(twi_crop *)field = (twi_crop){0, 0, 0, 0};
        return true;
    }
    if (parse_points(text, 2, p) != 2 || p[1].x_ppm <= p[0].x_ppm ||
        p[1].y_ppm <= p[0].y_ppm)
        return false;
    *(twi_crop *)field = (twi_crop){p[0].x_ppm, p[0].y_ppm, p[1].x_ppm, p[1].y_ppm};
    return true;
}

/* Ten-thousandths of the picture in percent, without zeros at the end. */
static int print_part(int32_t ppm, char *out, size_t capacity)
{
    int n = snprintf(out, capacity, "%d.%04d", ppm / 10000, ppm % 10000);
    while (n > 0 && out[n - 1] == '0')
        out[--n] = '\0';
    if (n > 0 && out[n - 1] == '.')
        out[--n] = '\0';
    return n;
}

static void print_crop(const twi_row *row, const void *field, char *out, size_t capacity)
{
    const twi_crop *c = field;
    const int32_t all[4] = {c->left, c->top, c->right, c->bottom};
    static const char between[4] = {',', ' ', ',', '\0'};
    (void)row;
    out[0] = '\0';
    if (twi_crop_is_whole(c))
        return;
    for (size_t i = 0, n = 0; i < 4 && n + 12 < capacity; i++) {
        n += (size_t)print_part(all[i], out + n, capacity - n);
        out[n++] = between[i];
        out[n] = '\0';
    }
}

static void explain_crop(const twi_row *row, char *out, size_t capacity)
{
    (void)snprintf(out, capacity,
                   "the upper left and the lower right corner as x,y in percent of the "
                   "picture, such as %s",
                   row->example);
}

const twi_type twi_type_crop = {parse_crop, print_crop, explain_crop};
