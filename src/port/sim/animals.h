/* The animals of the scenes. */
#ifndef TWI_ANIMALS_H
#define TWI_ANIMALS_H

#include "script.h"

/* What is drawn on. */
typedef struct twi_sheet {
    uint8_t *px;
    uint16_t width, height;
} twi_sheet;

/* Where an animal is, and how. */
typedef struct twi_pose {
    float x, y;           /* its middle, shares of the picture's width and height */
    float length, height; /* half axes of its body, shares of the width */
    float ahead;          /* 1: it looks to the right; -1: to the left */
    float gone;     /* how far it has come, shares of the width: its legs move by it */
    int brightness; /* luma levels of its skin, before any light */
} twi_pose;

void twi_animal_draw(const twi_sheet *sheet, twi_animal animal, const twi_pose *pose,
                     uint32_t seed);

#endif
