/* What the loops over pixels cost for a picture of 480 x 270, for each instruction set
 * that this machine has, against a memcpy of the bytes that they read. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

#include "../src/core/detector_state.h"

enum { WIDTH = 480, HEIGHT = 270, PIXELS = WIDTH * HEIGHT, ROUNDS = 9, REPEATS = 200 };
enum { BYTES_READ = 4 * PIXELS }; /* frame 1, background 2, noise 1 */

typedef struct picture {
    uint8_t frame[PIXELS], noise[PIXELS], copy[2][BYTES_READ];
    uint16_t background[PIXELS], rate[WIDTH];
    uint16_t n[WIDTH], x[WIDTH], noises[WIDTH], half[WIDTH];
    int16_t d[WIDTH];
    uint32_t dd[WIDTH];
} picture;

static double seconds(void)
{
    struct timespec t;
    (void)clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
    return (double)t.tv_sec + (double)t.tv_nsec / 1e9;
}

static void pass(const twi_kernels *k, picture *p)
{
    const twi_column_sums sums = {p->n, p->x, p->noises, p->d, p->dd, p->half};
    for (size_t y = 0; y < HEIGHT; y++) {
        if (y % 12 == 0) { /* a row of cells */
            memset(p->n, 0, sizeof p->n);
            memset(p->x, 0, sizeof p->x);
            memset(p->noises, 0, sizeof p->noises);
            memset(p->half, 0, sizeof p->half);
            memset(p->d, 0, sizeof p->d);
            memset(p->dd, 0, sizeof p->dd);
        }
        k->add_pixels(p->frame + y * WIDTH, p->background + y * WIDTH,
                      p->noise + y * WIDTH, WIDTH, &sums);
        k->learn(p->background + y * WIDTH, p->frame + y * WIDTH, p->rate, WIDTH);
    }
}

/* Nanoseconds a pixel; kernels NULL: the memcpy. The best of some rounds. */
static double measure(const twi_kernels *k, picture *p)
{
    double best = 1;
    for (int round = 0; round < ROUNDS; round++) {
        const double before = seconds();
        for (int i = 0; i < REPEATS; i++) {
            if (k)
                pass(k, p);
            else
                memcpy(p->copy[i % 2], p->copy[1 - i % 2], BYTES_READ);
        }
        const double spent = seconds() - before;
        best = spent < best ? spent : best;
    }
    return best / REPEATS / PIXELS * 1e9;
}

int main(void)
{
    picture *p = calloc(1, sizeof *p);
    if (!p)
        return 2;
    for (size_t i = 0; i < PIXELS; i++) {
        p->frame[i] = (uint8_t)(i * 7 + i / WIDTH * 3);
        p->background[i] = (uint16_t)(((unsigned)p->frame[i] << 8) + (i * 37 & 511));
        p->noise[i] = 24;
    }
    for (size_t x = 0; x < WIDTH; x++)
        p->rate[x] = 218;
    const double floor = measure(NULL, p);
    printf("loops over pixels, 480 x 270, against memcpy of the bytes read (%.3f ns a "
           "pixel):\n",
           floor);
    for (size_t i = 0; twi_kernels_at(i); i++) {
        const double ns = measure(twi_kernels_at(i), p);
        printf("  %-5s %.3f ns a pixel, %.1f times\n", twi_kernels_at(i)->name, ns,
               ns / floor);
    }
    free(p);
    return 0;
}
