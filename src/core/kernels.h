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

/* Order of the sums of a fit, over x, y and the slopes u, v. */
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
    TW_FIT_SUMS
};

typedef struct tw_kernels {
    const char *name; /* "c", "sse2", "avx2", "neon" */
    /** Add one row of pixels to the sums of its columns. background is Q8. */
    void (*add_pixels)(const uint8_t *frame, const uint16_t *background,
                       const uint8_t *noise, size_t width, const tw_column_sums *sums);
    /** Differences of two rows of Q8 values, two pixels apart, as Q2 for one pixel. */
    void (*slopes)(const uint16_t *high, const uint16_t *low, size_t count, int16_t *out);
    /** First and second order sums; |x|, |y|, |u|, |v| <= 1020 and count <= 26 * 26. */
    void (*fit)(const int16_t *x, const int16_t *y, const int16_t *u, const int16_t *v,
                size_t count, int32_t out[TW_FIT_SUMS]);
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
