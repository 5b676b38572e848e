/* The core alone, as a microcontroller would use it: all memory is static, frames are
 * made here, times come from a counter, and what is decided is printed at the end.
 *
 * A toad of 12 x 8 pixels crosses a noisy picture of 160 x 120 from frame 110 to 179. */
#include <stdint.h>
#include <stdio.h>

#include "tawny/detector.h"
#include "tawny/sighting.h"

enum {
    WIDTH = 160,
    HEIGHT = 120,
    FRAMES = 240,
    FPS = 10,
    TOAD_FIRST = 110,
    TOAD_LAST = 179
};

static uint8_t frame[WIDTH * HEIGHT];
static uint64_t memory[65536 / sizeof(uint64_t)]; /* aligned for anything */
static uint32_t chance = 1;

static uint8_t noisy(int level)
{
    chance = chance * 1664525U + 1013904223U;
    return (uint8_t)(level + (int)(chance >> 30)); /* 0 to 3 levels of noise */
}

static void draw(int number)
{
    const int left = (number - TOAD_FIRST) * (WIDTH + 12) / (TOAD_LAST - TOAD_FIRST) - 12;
    const int toad = number >= TOAD_FIRST && number <= TOAD_LAST;
    for (int y = 0; y < HEIGHT; y++) {
        for (int x = 0; x < WIDTH; x++) {
            const int ground = 60 + (x * 7 + y * 13) % 11;
            const int on_toad = toad && x >= left && x < left + 12 && y >= 70 && y < 78;
            frame[y * WIDTH + x] = noisy(on_toad ? 110 : ground);
        }
    }
}

int main(void)
{
    tw_detector_config config;
    tw_detector *detector = NULL;
    size_t bytes = 0;
    tw_detector_defaults(&config, WIDTH, HEIGHT);
    config.cells = 10; /* memory is dear here: few cells, and two subjects at most */
    config.tracks = 2;
    config.colour = false; /* its pictures are grey */
    config.nearby = false; /* takes memory */
    config.lights = 0;     /* likewise */
    if (tw_detector_bytes(&config, &bytes) != TW_OK ||
        tw_detector_init(&config, memory, sizeof memory, &detector) != TW_OK) {
        printf("the detector needs %lu bytes\n", (unsigned long)bytes);
        return 1;
    }
    tw_sighting_config limits;
    tw_sighting_defaults(&limits);
    limits.start_ppm = 2500; /* of so small a picture a toad is more than a hundredth */
    limits.stay_ppm = 1000;
    limits.post_us = 2000000;
    tw_sighting_watch watch;
    tw_sighting_init(&watch, &limits);
    unsigned sightings = 0;
    for (int i = 0; i < FRAMES; i++) {
        const tw_luma luma = {frame, WIDTH, WIDTH, HEIGHT};
        tw_reading reading;
        draw(i);
        if (tw_detector_read(detector, &luma, (int64_t)i * 1000000 / FPS, &reading) !=
            TW_OK)
            return 1;
        if (tw_sighting_step(&watch, &reading) & TW_SIGHTING_ENDED)
            sightings++;
    }
    printf("%u sighting, from frame %d to frame %d; %lu bytes of memory\n", sightings,
           (int)(watch.ended.start_us * FPS / 1000000),
           (int)(watch.ended.end_us * FPS / 1000000), (unsigned long)bytes);
    return sightings == 1 ? 0 : 1;
}
