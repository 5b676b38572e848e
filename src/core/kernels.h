/* The loops over pixels, one table of them for each instruction set. All of them are
 * integers, so each set gives the same bytes. */
#ifndef TWI_KERNELS_H
#define TWI_KERNELS_H

#include <stddef.h>
#include <stdint.h>

/* Sums for each column of pixels of one row of cells; see twi_cell_sums. */
typedef struct twi_column_sums {
    uint16_t *n, *x, *noise;
    int16_t *d;
    uint32_t *dd;
    uint16_t
        *half; /* of the frame's pixels in the upper or the lower half of the cells */
} twi_column_sums;

/* Rows of a patch are filled up to whole vectors. */
enum { TWI_PATCH_LANES = 8, TWI_PATCH_ROW_MAX = 32, TWI_PATCH_ROWS_MAX = 26 };
enum { TWI_PATCH_MAX = TWI_PATCH_ROW_MAX * TWI_PATCH_ROWS_MAX };

/* One cell's pixels side by side, with one more on each side whose slopes mean nothing:
 * at the picture's edges these repeat the last one. */
typedef struct twi_patch {
    size_t row;   /* pixels in a row, those at its sides included */
    size_t count; /* row * rows of the cell, at most TWI_PATCH_MAX */
    uint8_t frame[TWI_PATCH_MAX];
    uint16_t background[TWI_PATCH_MAX + 2 * TWI_PATCH_ROW_MAX]; /* Q8; a row above, too */
    int16_t across[TWI_PATCH_MAX], down[TWI_PATCH_MAX];         /* slopes, Q2 a pixel */
    int16_t inside[TWI_PATCH_MAX]; /* all ones: a pixel of the cell, or none */
} twi_patch;

/* What a fit says of a pixel, in integers, and how fast noise is learned from it. */
typedef struct twi_noise_step {
    int32_t gain, dx, dy; /* Q8 */
    int32_t offset;       /* Q8 levels */
    int32_t rate;         /* Q12 */
    uint32_t seed;        /* of rounding, another one for each cell and frame */
} twi_noise_step;

/* Order of the sums of a fit, over background x, frame y and the slopes u, v; then the
 * pixels in them, and those left out because the frame is white there. */
enum {
    TWI_FIT_X,
    TWI_FIT_Y,
    TWI_FIT_U,
    TWI_FIT_V,
    TWI_FIT_XX,
    TWI_FIT_XY,
    TWI_FIT_YY,
    TWI_FIT_UU,
    TWI_FIT_UV,
    TWI_FIT_VV,
    TWI_FIT_UX,
    TWI_FIT_VX,
    TWI_FIT_UY,
    TWI_FIT_VY,
    TWI_FIT_N,
    TWI_FIT_WHITE,
    TWI_FIT_SUMS
};

typedef struct twi_kernels {
    const char *name; /* "c", "sse2", "avx2", "neon" */
    /** Add one row of pixels to the sums of its columns. background is Q8. */
    void (*add_pixels)(const uint8_t *frame, const uint16_t *background,
                       const uint8_t *noise, size_t width, const twi_column_sums *sums);
    /** Central differences of a patch's background. */
    void (*slopes)(twi_patch *patch);
    /** First and second order sums of Q2 levels over what of a patch says something. */
    void (*fit)(const twi_patch *patch, int32_t out[TWI_FIT_SUMS]);
    /** Move the noise of a patch, Q4 levels, towards what the fit left of its pixels. */
    void (*learn_noise)(uint8_t *noise, const twi_patch *patch, const twi_noise_step *by);
    /** Move the background towards the frame by a share of Q16 for each pixel. */
    void (*learn)(uint16_t *background, const uint8_t *frame, const uint16_t *rate,
                  size_t width);
} twi_kernels;

/** The plain ones, which the compiler may not vectorise: what all others are held to. */
const twi_kernels *twi_kernels_c(void);

/* NULL where the build is for another kind of machine. */
const twi_kernels *twi_kernels_sse2(void);
const twi_kernels *twi_kernels_avx2(void);
const twi_kernels *twi_kernels_neon(void);

/** @return those that this machine can run, by index, the best first; NULL past the last,
 * which is twi_kernels_c. */
const twi_kernels *twi_kernels_at(size_t index);

#endif
