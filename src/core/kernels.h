/* The loops over pixels, one table of them for each instruction set. All of them are
 * integers, so each set gives the same bytes. */
#ifndef TW_KERNELS_H
#define TW_KERNELS_H

#include <stddef.h>
#include <stdint.h>

/* Sums for each column of pixels of one row of cells; see tw_cell_sums. */
typedef struct tw_column_sums {
    uint16_t *n, *x, *noise;
    int16_t *d;
    uint32_t *dd;
    uint16_t
        *half; /* of the frame's pixels in the upper or the lower half of the cells */
} tw_column_sums;

/* Rows of a patch are filled up to whole vectors. */
enum { TW_PATCH_LANES = 8, TW_PATCH_ROW_MAX = 32, TW_PATCH_ROWS_MAX = 26 };
enum { TW_PATCH_MAX = TW_PATCH_ROW_MAX * TW_PATCH_ROWS_MAX };

/* One cell's pixels side by side, with one more on each side whose slopes mean nothing:
 * at the picture's edges these repeat the last one. */
typedef struct tw_patch {
    size_t row;   /* pixels in a row, those at its sides included */
    size_t count; /* row * rows of the cell, at most TW_PATCH_MAX */
    uint8_t frame[TW_PATCH_MAX];
    uint16_t background[TW_PATCH_MAX + 2 * TW_PATCH_ROW_MAX]; /* Q8; a row above, too */
    int16_t across[TW_PATCH_MAX], down[TW_PATCH_MAX];         /* slopes, Q2 a pixel */
    int16_t inside[TW_PATCH_MAX]; /* all ones: a pixel of the cell, or none */
} tw_patch;

/* What a fit says of a pixel, in integers, and how fast noise is learned from it. */
typedef struct tw_noise_step {
    int32_t gain, dx, dy; /* Q8 */
    int32_t offset;       /* Q8 levels */
    int32_t rate;         /* Q12 */
    uint32_t seed;        /* of rounding, another one for each cell and frame */
} tw_noise_step;

/* Order of the sums of a fit, over background x, frame y and the slopes u, v; then the
 * pixels in them, and those left out because the frame is white there. */
enum {
    TW_FIT_X,
    TW_FIT_Y,
    TW_FIT_U,
    TW_FIT_V,
    TW_FIT_XX,
    TW_FIT_XY,
    TW_FIT_YY,
    TW_FIT_UU,
    TW_FIT_UV,
    TW_FIT_VV,
    TW_FIT_UX,
    TW_FIT_VX,
    TW_FIT_UY,
    TW_FIT_VY,
    TW_FIT_N,
    TW_FIT_WHITE,
    TW_FIT_SUMS
};

typedef struct tw_kernels {
    const char *name; /* "c", "sse2", "avx2", "neon" */
    /** Add one row of pixels to the sums of its columns. background is Q8. */
    void (*add_pixels)(const uint8_t *frame, const uint16_t *background,
                       const uint8_t *noise, size_t width, const tw_column_sums *sums);
    /** Central differences of a patch's background. */
    void (*slopes)(tw_patch *patch);
    /** First and second order sums of Q2 levels over what of a patch says something. */
    void (*fit)(const tw_patch *patch, int32_t out[TW_FIT_SUMS]);
    /** Move the noise of a patch, Q4 levels, towards what the fit left of its pixels. */
    void (*learn_noise)(uint8_t *noise, const tw_patch *patch, const tw_noise_step *by);
    /** Move the background towards the frame by a share of Q16 for each pixel. */
    void (*learn)(uint16_t *background, const uint8_t *frame, const uint16_t *rate,
                  size_t width);
} tw_kernels;

/** The plain ones, which the compiler may not vectorise: what all others are held to. */
const tw_kernels *tw_kernels_c(void);

/* NULL where the build is for another kind of machine. */
const tw_kernels *tw_kernels_sse2(void);
const tw_kernels *tw_kernels_avx2(void);
const tw_kernels *tw_kernels_neon(void);

/** @return those that this machine can run, by index, the best first; NULL past the last,
 * which is tw_kernels_c. */
const tw_kernels *tw_kernels_at(size_t index);

#endif
