/* Fog: what is seen through it is y = t x + A (1 - t), with one airlight A for the whole
 * picture and a transmission t for each place [7]. So where t is below the least gain
 * that the light guard allows a single cell, the other cells may vouch for it. */
#include "detector_state.h"

#define GAIN_TOLD 0.8F       /* above: too little fog to tell its airlight */
#define LINE_OFF 0.12F       /* of the offset that the airlight asks for */
#define AIRLIGHT_END 1024.0F /* Q2 */

enum {
    BIN_Q2 = (int)AIRLIGHT_END / TWI_AIRLIGHTS,
    AGREE_PCT = 15 /* of all cells */
};

float twi_fog_airlight(float gain, float offset)
{
    return gain < 0.0F || gain > GAIN_TOLD ? -1.0F : offset / (1.0F - gain);
}

void twi_fog_vote(tw_detector *d, float airlight)
{
    if (airlight >= 0.0F && airlight < AIRLIGHT_END)
        d->airlights[(int32_t)airlight / BIN_Q2]++;
}

/* The bin in which half of all votes are reached. */
static int32_t median_of(const tw_detector *d)
{
    uint32_t all = 0, up_to = 0;
    for (int32_t i = 0; i < TWI_AIRLIGHTS; i++)
        all += d->airlights[i];
    int32_t bin = 0;
    for (; bin < TWI_AIRLIGHTS - 1; bin++) {
        up_to += d->airlights[bin];
        if (up_to * 2 >= all)
            break;
    }
    return bin;
}

void twi_fog_count(tw_detector *d)
{
    const int32_t median = median_of(d), within = median / 4;
    uint32_t agree = 0;
    for (int32_t i = 0; i < TWI_AIRLIGHTS; i++) {
        const int32_t off = i < median ? median - i : i - median;
        agree += off <= within ? d->airlights[i] : 0U;
        d->airlights[i] = 0;
    }
    const bool agreed = agree * 100 >= d->cells * AGREE_PCT;
    d->airlight = (uint16_t)(agreed ? median * BIN_Q2 + BIN_Q2 / 2 : 0);
}

bool twi_fog_explains(const tw_detector *d, float gain, float offset)
{
    const float line = (float)d->airlight * (1.0F - gain);
    const float off = offset > line ? offset - line : line - offset;
    return d->airlight > 0 && off <= LINE_OFF * line;
}
