/* Day and night without going to and fro between them. */
#include "dark.h"

enum {
    GREY_PPM = 10000,    /* less has colour by the errors of compression alone */
    COLOURED_PPM = 50000 /* so much has none but by day */
};

static twi_dark_sign sign_of(const twi_dark *d, uint32_t is, uint32_t dark_below,
                             uint32_t light_from)
{
    if (is < dark_below)
        return TWI_SIGN_DARK;
    return is >= light_from || !d->known ? TWI_SIGN_LIGHT : TWI_SIGN_NONE;
}

twi_dark_sign twi_dark_by_light(const twi_dark *dark, uint32_t light_ppm,
                                uint32_t below_ppm)
{
    return sign_of(dark, light_ppm, below_ppm, below_ppm + below_ppm / 2);
}

twi_dark_sign twi_dark_by_colour(const twi_dark *dark, uint32_t coloured_ppm)
{
    return sign_of(dark, coloured_ppm, GREY_PPM, COLOURED_PPM);
}

bool twi_dark_take(twi_dark *d, twi_dark_sign sign, int64_t t_us, int64_t after_us)
{
    const bool dark = sign == TWI_SIGN_DARK;
    if (sign == TWI_SIGN_NONE || (d->known && dark == d->dark)) {
        d->leaning = false;
        return false;
    }
    if (!d->leaning)
        d->since_us = t_us;
    d->leaning = true;
    if (d->known && t_us - d->since_us < after_us)
        return false;
    *d = (twi_dark){.known = true, .dark = dark};
    return true;
}
