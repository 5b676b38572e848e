/* A detector, and the grey pictures that a test draws for it. */
#ifndef TW_TEST_SCENE_H
#define TW_TEST_SCENE_H

#include "support.h"
#include "tawny/detector.h"

typedef struct scene {
    tw_detector_config config;
    uint16_t width, height;
    int fps;
    void *memory;
    uint8_t *px; /* width * height, the next frame */
    tw_detector *detector;
    tw_reading reading; /* of the last frame */
    int frame;          /* shown so far */
    uint32_t chance;
} scene;

/** @param chance  Where the noise begins. */
scene *make_scene(const tw_detector_config *config, int fps, uint32_t chance);
void leave_scene(scene *s);

/** @return the next of a fixed row of numbers that look random. */
uint32_t roll(scene *s);

/** @return noise of a pixel, -1 to 2. */
int noise(scene *s);

/** @return when the next frame is, from the first on. */
int64_t scene_now_us(const scene *s);

/** Show what is in px. @return the reading, valid until the next frame. */
const tw_reading *see(scene *s);

/** @return how many cells of a part of the last frame move; pixels, all of it in the
 * picture, and whole cells. */
int moving_in(const scene *s, int left, int top, int width, int height);

#endif
