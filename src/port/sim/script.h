/* What happens in a simulated scene: tables, read by the painter. */
#ifndef TWI_SCRIPT_H
#define TWI_SCRIPT_H

#include <stdbool.h>

#include "tawny/port_sim.h"

typedef enum twi_ground {
    TWI_GROUND_VERGE,
    TWI_GROUND_CULVERT,
    TWI_GROUND_POND
} twi_ground;

typedef enum twi_animal {
    TWI_TOAD,
    TWI_HEDGEHOG,
    TWI_FOX,
    TWI_HERON,
    TWI_MOORHEN
} twi_animal;

/* How a subject gets along. */
typedef enum twi_pace {
    TWI_PACE_TOAD, /* walks for two thirds of each 1.8 s and sits for the rest */
    TWI_PACE_EVEN, /* keeps going */
    TWI_PACE_HERON /* stands still between two shares of its time */
} twi_pace;

/* A subject that crosses from one place to another, both just out of the picture. Places
 * are shares of the picture's width and height. */
typedef struct twi_crossing {
    int64_t start_us, end_us;
    float x0, y0, x1, y1;
    float length, height; /* half axes of the body, shares of the width */
    twi_pace pace;
    int brightness;             /* luma levels of its skin, before any light */
    float stand_from, stand_to; /* for TWI_PACE_HERON: shares of its time */
    twi_animal animal;
} twi_crossing;

typedef struct twi_headlight {
    int64_t start_us, end_us;
    float from, to; /* centre of the pool of light, share of the width */
    float gain;     /* how many times brighter its centre gets */
} twi_headlight;

/* The light changes for good: a lamp, or the camera's exposure. */
typedef struct twi_step {
    int64_t at_us, takes_us;
    float to; /* of the light at the beginning */
} twi_step;

/* An insect before the lens: large, blurred, quick. */
typedef struct twi_insect {
    int64_t start_us, end_us;
    float size; /* radius, share of the width */
    int brightness;
} twi_insect;

typedef struct twi_script {
    tw_sim_scene scene; /* what is known from outside */
    twi_ground ground;
    float light; /* of the ground, times what its stones reflect */
    int lamp;    /* 1: lit by the camera's own lamp, brighter in the middle */
    int noise;   /* half width of the sensor's noise in a picture of 640 pixels of
                    width, luma levels; more by night, when it is amplified */
    float sway;  /* how far leaves and reeds move, share of the width */
    float leaves_x0, leaves_x1; /* where leaves hang before the subjects; 0, 0 nowhere */
    float water;                /* ripples, luma levels */
    float clouds, cloud_s; /* share of light that they take, and seconds of a cloud */
    float shadows;         /* share of light that shadows of moving branches take */
    float rain, snow;      /* drops and flakes in a picture of 640 x 360 */
    float shake;           /* of the pole, share of the width */
    float flicker;         /* of the mains, share of light */
    float dawn; /* the light at the end, times that at the beginning; 0: the same */
    bool pulse; /* a coarse picture that is sharp again with every key frame */
    const twi_crossing *crossings;
    size_t crossing_count;
    const twi_headlight *headlights;
    size_t headlight_count;
    const twi_step *steps;
    size_t step_count;
    const twi_insect *insects;
    size_t insect_count;
} twi_script;

/** @return the script of a scene that tw_sim_scene_at or _find gave. */
const twi_script *twi_script_of(const tw_sim_scene *scene);

#endif
