/* Levels: logarithms, and the limits that usual levels make. */
#include <string.h>

#include "detector_state.h"

/* log2(1 + i / 128) in 1/65536; between two of them a line is wrong by less than one. */
/* clang-format off */
static const int32_t LOG2[129] = {
    0, 736, 1466, 2190, 2909, 3623, 4331, 5034, 5732, 6425, 7112, 7795, 8473, 9146,
    9814, 10477, 11136, 11791, 12440, 13086, 13727, 14363, 14996, 15624, 16248, 16868,
    17484, 18096, 18704, 19308, 19909, 20505, 21098, 21687, 22272, 22854, 23433, 24007,
    24579, 25146, 25711, 26272, 26830, 27384, 27936, 28484, 29029, 29571, 30109, 30645,
    31178, 31707, 32234, 32758, 33279, 33797, 34312, 34825, 35334, 35841, 36346, 36847,
    37346, 37842, 38336, 38827, 39316, 39802, 40286, 40767, 41246, 41722, 42196, 42667,
    43137, 43603, 44068, 44530, 44990, 45448, 45904, 46357, 46809, 47258, 47705, 48150,
    48593, 49034, 49472, 49909, 50344, 50776, 51207, 51636, 52063, 52488, 52911, 53332,
    53751, 54169, 54584, 54998, 55410, 55820, 56229, 56635, 57040, 57443, 57845, 58245,
    58643, 59039, 59434, 59827, 60219, 60609, 60997, 61384, 61769, 62152, 62534, 62915,
    63294, 63671, 64047, 64421, 64794, 65166, 65536,
};
/* clang-format on */

int32_t twi_log2_level(float value)
{
    uint32_t bits;
    memcpy(&bits, &value, sizeof bits);
    const int32_t exponent = (int32_t)(bits >> 23 & 0xFF) - 127;
    const uint32_t mantissa = bits & 0x7FFFFF, i = mantissa >> 16;
    const int32_t between = (int32_t)(mantissa & 0xFFFF);
    const int32_t rise = LOG2[i + 1] - LOG2[i];
    return exponent * 65536 + LOG2[i] + (rise * between + 32768) / 65536;
}

int32_t twi_limit_of(int32_t q98, int32_t q50)
{
    const int32_t spread = q98 > q50 ? q98 - q50 : 0;
    return q98 + (int32_t)(TWI_LEVEL(0.2) + (int64_t)spread * 6 / 10);
}

/* Rain, snow and leaves are gone a tenth of a second later, a subject is not: the lower
 * of the level now and then. With fewer frames a second it may have gone on as well, so
 * it is done there only while much falls; with more, what falls must have lasted for
 * twice as long. */
int32_t twi_level_that_lasts(const tw_detector *d, int32_t measured, int32_t before,
                             int32_t older)
{
    const bool quick = d->step_us <= TWI_LASTING_STEP_US;
    const int32_t level = quick || d->falling ? twi_lower(measured, before) : measured;
    return quick && d->falling ? twi_lower(level, older) : level;
}
