/* What a place looks like by another light, kept for when that light comes back: by day
 * and by infrared, with a lamp and without. */
#ifndef TWI_SCENES_H
#define TWI_SCENES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/detector.h"

/** Whether a camera has gone over to infrared, or back: with this frame the colour of the
 * picture went, or came, at once. */
bool twi_scenes_tint_turned(const tw_detector *d);

/** The whole picture begins to turn: keep what was learnt, if it was for long enough.
 * Before anything is learnt from this frame. */
void twi_scenes_leave(tw_detector *d);

/** Go over to what was learnt by another light, where this frame looks like that and not
 * like what is known now. @return whether it has. */
bool twi_scenes_recall(tw_detector *d, const tw_luma *luma);

#endif
