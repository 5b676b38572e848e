/* Where the sun is. A few figures a minute: nothing here is in the path of frames. */
#include "hours.h"
#include "naming.h"

#define PI 3.14159265358979323846
#define DAY_US INT64_C(86400000000)

/* The C library's functions are not there on a microcontroller. Taylor's series, within
 * 1e-9 over a quarter turn. */
static double sine(double x)
{
    while (x > PI)
        x -= 2 * PI;
    while (x < -PI)
        x += 2 * PI;
    if (x > PI / 2)
        x = PI - x;
    if (x < -PI / 2)
        x = -PI - x;
    double term = x, sum = x;
    for (int k = 1; k < 10; k++) {
        term *= -x * x / ((2 * k) * (2 * k + 1));
        sum += term;
    }
    return sum;
}

static double cosine(double x)
{
    return sine(x + PI / 2);
}

/* By halving: 40 steps give 1e-12. */
static double arccosine(double c)
{
    double low = 0, high = PI;
    for (int i = 0; i < 40; i++) {
        const double middle = (low + high) / 2;
        if (cosine(middle) > c)
            low = middle;
        else
            high = middle;
    }
    return (low + high) / 2;
}

/* NOAA's fractional year, radians, at a moment. */
static double fraction_of_year(int64_t wall_us)
{
    twi_civil t;
    twi_civil_split(wall_us, 0, &t);
    const bool leap = (t.year % 4 == 0 && t.year % 100 != 0) || t.year % 400 == 0;
    const double hour = t.hour + t.minute / 60.0;
    return 2 * PI / (leap ? 366 : 365) * (t.yearday - 1 + (hour - 12) / 24);
}

tw_status twi_sun_passes(const twi_hours_place *place, int64_t noon_us,
                         int32_t height_mdeg, bool rising, int64_t *out)
{
    if (!place || !out)
        return TW_EINVAL;
    const double g = fraction_of_year(noon_us);
    const double time_min =
        229.18 * (0.000075 + 0.001868 * cosine(g) - 0.032077 * sine(g) -
                  0.014615 * cosine(2 * g) - 0.040849 * sine(2 * g));
    const double declination = 0.006918 - 0.399912 * cosine(g) + 0.070257 * sine(g) -
                               0.006758 * cosine(2 * g) + 0.000907 * sine(2 * g) -
                               0.002697 * cosine(3 * g) + 0.00148 * sine(3 * g);
    const double latitude = (double)place->latitude / 1e6 * PI / 180;
    const double longitude = (double)place->longitude / 1e6;
    const double height = height_mdeg / 1000.0 * PI / 180;
    const double c = (sine(height) - sine(latitude) * sine(declination)) /
                     (cosine(latitude) * cosine(declination));
    if (c < -1)
        return TW_ENOENT;
    if (c > 1)
        return TW_EEND;
    const double angle = arccosine(c) * 180 / PI; /* between noon and the passage */
    /* Minutes since midnight UTC of the day that noon is in, at that longitude. */
    const double noon_min = 720 - 4 * longitude - time_min;
    const double passage_min = noon_min + (rising ? -4 : 4) * angle;
    const int64_t local_day_us =
        (noon_us + (int64_t)(longitude * 240e6)) / DAY_US * DAY_US;
    *out = local_day_us + (int64_t)(passage_min * 60e6);
    return TW_OK;
}
