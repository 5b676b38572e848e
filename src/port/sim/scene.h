/* Drawing the simulated scenes. */
#ifndef TWI_SCENE_H
#define TWI_SCENE_H

#include "tawny/port_sim.h"

typedef struct twi_painter twi_painter; /* one scene at one size */

/** @return a painter, NULL: out of memory. Sides 64..4096. */
twi_painter *twi_painter_new(const tw_sim_scene *scene, uint32_t seed, uint16_t width,
                             uint16_t height);
void twi_painter_free(twi_painter *painter); /* NULL is fine */

/** Whether its pictures are coarse between key frames. */
bool twi_painter_pulses(const twi_painter *painter);

/** Draw one frame. The same scene, seed, size, number and time give the same pixels on
 * every machine. @return a view, good until the next call. */
tw_luma twi_painter_draw(twi_painter *painter, uint32_t number, int64_t t_us);

#endif
