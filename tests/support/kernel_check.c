/* Random rows of all widths that matter, at any alignment. */
#include "kernel_check.h"

#include <stdbool.h>
#include <stdlib.h>
#include <string.h>

enum { WIDEST = 65535, ROOM = WIDEST + 64, CELL_MAX = 26 * 26 };

/* Everything that one loop reads or writes, twice: for the one that is checked and for
 * the plain one. */
typedef struct rows {
    uint8_t frame[ROOM], noise[ROOM];
    uint16_t background[ROOM], n[ROOM], x[ROOM], noises[ROOM], half[ROOM], rate[ROOM];
    int16_t d[ROOM];
    uint32_t dd[ROOM];
    int16_t slope[ROOM];
} rows;

static uint32_t next_random(uint32_t *seed)
{
    *seed = *seed * 1664525U + 1013904223U;
    return *seed >> 8;
}

/* Sums are what 26 rows can have added up to; brightness is often at its ends. */
static void fill(rows *r, uint32_t *seed)
{
    for (size_t i = 0; i < ROOM; i++) {
        const uint32_t a = next_random(seed), b = next_random(seed);
        r->frame[i] = a % 7 == 0 ? 255 : (uint8_t)a;
        r->noise[i] = (uint8_t)(a >> 8);
        r->background[i] = a % 5 == 0 ? (uint16_t)(b | 0xF000) : (uint16_t)b;
        r->n[i] = (uint16_t)(b % 26);
        r->x[i] = (uint16_t)(b % 26000);
        r->noises[i] = (uint16_t)(b % 6000);
        r->half[i] = (uint16_t)(a % 6000);
        r->rate[i] = (uint16_t)(b >> 3);
        r->d[i] = (int16_t)((int32_t)(a % 52000) - 26000);
        r->dd[i] = b;
        r->slope[i] = 0;
    }
}

static void add(const tw_kernels *k, rows *r, size_t at, size_t width)
{
    const tw_column_sums sums = {r->n + at, r->x + at,  r->noises + at,
                                 r->d + at, r->dd + at, r->half + at};
    k->add_pixels(r->frame + at, r->background + at, r->noise + at, width, &sums);
}

static bool fits_differ(const tw_kernels *k, uint32_t *seed, size_t count)
{
    static int16_t v[4][CELL_MAX];
    int32_t got[TW_FIT_SUMS], want[TW_FIT_SUMS];
    for (int i = 0; i < 4; i++)
        for (size_t j = 0; j < CELL_MAX; j++)
            v[i][j] = (int16_t)((int32_t)(next_random(seed) % 2041) - 1020);
    k->fit(v[0], v[1], v[2], v[3], count, got);
    tw_kernels_c()->fit(v[0], v[1], v[2], v[3], count, want);
    return memcmp(got, want, sizeof got) != 0;
}

/* @return the name of the first loop that differs at a width. */
static const char *check_width(const tw_kernels *k, rows *got, rows *want, size_t at,
                               size_t width, uint32_t *seed)
{
    const tw_kernels *c = tw_kernels_c();
    fill(got, seed);
    memcpy(want, got, sizeof *want);
    add(k, got, at, width);
    add(c, want, at, width);
    if (memcmp(got, want, sizeof *want) != 0) /* what lies beside the row too */
        return "add_pixels";
    k->learn(got->background + at, got->frame + at, got->rate + at, width);
    c->learn(want->background + at, want->frame + at, want->rate + at, width);
    if (memcmp(got, want, sizeof *want) != 0)
        return "learn";
    k->slopes(got->background + at + 2, got->background + at, width, got->slope + at);
    c->slopes(want->background + at + 2, want->background + at, width, want->slope + at);
    if (memcmp(got, want, sizeof *want) != 0)
        return "slopes";
    return fits_differ(k, seed, width % CELL_MAX + 1) ? "fit" : NULL;
}

const char *kernel_check(const tw_kernels *kernels, size_t *width)
{
    static const size_t edges[] = {1,  2,  3,  7,  8,  15,   16,
                                   17, 31, 33, 63, 65, 1920, WIDEST};
    enum { EDGES = sizeof edges / sizeof *edges, RANDOM = 40 };
    rows *got = malloc(sizeof *got), *want = malloc(sizeof *want);
    uint32_t seed = 1;
    const char *wrong = got && want ? NULL : "no memory";
    for (size_t i = 0; i < EDGES + RANDOM && !wrong; i++) {
        *width = i < EDGES ? edges[i] : next_random(&seed) % 700 + 1;
        wrong = check_width(kernels, got, want, i % 9, *width, &seed);
    }
    free(got);
    free(want);
    return wrong;
}
