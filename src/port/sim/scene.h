/* Drawing the simulated scenes. */
#ifndef TW_SCENE_H
#define TW_SCENE_H

#include "tawny/port_sim.h"

typedef struct tw_painter tw_painter; /* one scene at one size */

/** @return a painter, NULL: out of memory. Sides 64..4096. */
tw_painter *tw_painter_new(const tw_sim_scene *scene, uint32_t seed, uint16_t width,
                           uint16_t height);
void tw_painter_free(tw_painter *painter); /* NULL is fine */

/** Whether its pictures are coarse between key frames. */
bool tw_painter_pulses(const tw_painter *painter);

/** Draw one frame. The same scene, seed, size, number and time give the same pixels on
 * every machine. @return a view, good until the next call. */
tw_luma tw_painter_draw(tw_painter *painter, uint32_t number, int64_t t_us);

#endif
