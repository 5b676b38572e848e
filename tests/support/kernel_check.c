/* Random rows of all widths that matter, at any alignment. */
#include "kernel_check.h"

#include <stdbool.h>
#include <stdlib.h>
#include <string.h>

enum { WIDEST = 65535, ROOM = WIDEST + 64 };

/* Everything that one loop reads or writes, twice: for the one that is checked and for
 * the plain one. */
typedef struct rows {
    uint8_t frame[ROOM], noise[ROOM];
    uint16_t background[ROOM], n[ROOM], x[ROOM], noises[ROOM], half[ROOM], rate[ROOM];
    int16_t d[ROOM];
    uint32_t dd[ROOM];
} rows;

/* Likewise of the loops over a patch. */
typedef struct cell {
    twi_patch patch;
    uint8_t noise[TWI_PATCH_MAX];
    int32_t sums[TWI_FIT_SUMS];
} cell;

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
    }
}

static void add(const twi_kernels *k, rows *r, size_t at, size_t width)
{
    const twi_column_sums sums = {r->n + at, r->x + at,  r->noises + at,
                                  r->d + at, r->dd + at, r->half + at};
    k->add_pixels(r->frame + at, r->background + at, r->noise + at, width, &sums);
}

static void fill_cell(cell *c, size_t row, size_t height, uint32_t *seed)
{
    memset(c, 0, sizeof *c);
    c->patch.row = row;
    c->patch.count = row * height;
    for (size_t i = 0; i < sizeof c->patch.background / sizeof c->patch.background[0];
         i++) {
        const uint32_t a = next_random(seed), b = next_random(seed);
        c->patch.background[i] = a % 5 == 0 ? (uint16_t)(b | 0xF000) : (uint16_t)b;
    }
    for (size_t i = 0; i < TWI_PATCH_MAX; i++) {
        const uint32_t a = next_random(seed), b = next_random(seed);
        c->patch.frame[i] = a % 7 == 0 ? 255 : (uint8_t)a;
        c->patch.inside[i] = (int16_t)(b % 4 == 0 ? 0 : -1);
        c->noise[i] = (uint8_t)(b >> 8);
    }
}

/* Fits are as far out as a detector lets them be. */
static twi_noise_step random_step(uint32_t *seed)
{
    return (twi_noise_step){.gain = (int32_t)(next_random(seed) % 2048),
                            .dx = (int32_t)(next_random(seed) % 3200) - 1600,
                            .dy = (int32_t)(next_random(seed) % 3200) - 1600,
                            .offset = (int32_t)(next_random(seed) % 400000) - 200000,
                            .rate = (int32_t)(next_random(seed) % 1025),
                            .seed = next_random(seed)};
}

/* @return the name of the first loop over a patch that differs. */
static const char *check_cell(const twi_kernels *k, size_t row, size_t height,
                              uint32_t *seed)
{
    static cell got, want;
    const twi_kernels *c = twi_kernels_c();
    const twi_noise_step by = random_step(seed);
    fill_cell(&got, row, height, seed);
    memcpy(&want, &got, sizeof want);
    k->slopes(&got.patch);
    c->slopes(&want.patch);
    if (memcmp(&got, &want, sizeof want) != 0)
        return "slopes";
    k->fit(&got.patch, got.sums);
    c->fit(&want.patch, want.sums);
    if (memcmp(&got, &want, sizeof want) != 0)
        return "fit";
    k->learn_noise(got.noise, &got.patch, &by);
    c->learn_noise(want.noise, &want.patch, &by);
    return memcmp(&got, &want, sizeof want) != 0 ? "learn_noise" : NULL;
}

static const char *check_cells(const twi_kernels *k, uint32_t *seed)
{
    const char *wrong = NULL;
    for (size_t row = TWI_PATCH_LANES; row <= TWI_PATCH_ROW_MAX; row += TWI_PATCH_LANES)
        for (size_t height = 1; height <= TWI_PATCH_ROWS_MAX && !wrong; height++)
            wrong = check_cell(k, row, height, seed);
    return wrong;
}

/* @return the name of the first loop that differs at a width. */
static const char *check_width(const twi_kernels *k, rows *got, rows *want, size_t at,
                               size_t width, uint32_t *seed)
{
    const twi_kernels *c = twi_kernels_c();
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
    return NULL;
}

const char *kernel_check(const twi_kernels *kernels, size_t *width)
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
    *width = wrong ? *width : 0;
    return wrong ? wrong : check_cells(kernels, &seed);
}
