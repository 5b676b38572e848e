/* Whether it is dark before a camera, by signs of it that may go to and fro. Pure: no
 * I/O, clock or heap. */
#ifndef TWI_DARK_H
#define TWI_DARK_H

#include <stdbool.h>
#include <stdint.h>

/* What one look says. */
typedef enum twi_dark_sign {
    TWI_SIGN_NONE, /* it cannot be told: as it was */
    TWI_SIGN_DARK,
    TWI_SIGN_LIGHT
} twi_dark_sign;

/* Zero it to begin. */
typedef struct twi_dark {
    bool known, dark;
    bool leaning;     /* the signs have been for the other ... */
    int64_t since_us; /* ... since then */
} twi_dark;

/** By the light of the picture: dark below a limit, light from a half more on. In between
 * it is as it was; light, where nothing is known yet.
 * @param light_ppm,below_ppm  Of the brightest possible. */
twi_dark_sign twi_dark_by_light(const twi_dark *dark, uint32_t light_ppm,
                                uint32_t below_ppm);

/** By its colour, of which cameras have none that have gone over to infrared. Likewise.
 * @param coloured_ppm  Share of the picture that has some. */
twi_dark_sign twi_dark_by_colour(const twi_dark *dark, uint32_t coloured_ppm);

/**
 * Take a sign. The first one is believed; later ones once they have all been the same for
 * long enough.
 *
 * @param t_us      When; rising.
 * @param after_us  How long that is; 0: at once.
 * @return whether it has become dark, or light, with this one; also with the first.
 */
bool twi_dark_take(twi_dark *dark, twi_dark_sign sign, int64_t t_us, int64_t after_us);

#endif
