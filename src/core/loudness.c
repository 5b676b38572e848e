/* Whether a place is louder than it usually is. */
#include "loudness.h"

enum {
    THOUSANDTHS = 100, /* of a decibel in a tenth */
    DOWN = 2,          /* a moment below what is usual: 1.2 dB in a minute at most */
    UP = 49 * DOWN,    /* one above it: so two in a hundred are */
    EARLY = 3000,      /* moments in which it is found ... */
    EARLY_DOWN = 20    /* ... ten times as fast */
};

/* In the first seconds the loudest is usual; then it follows slowly. */
static void learn(twi_loudness *l, int32_t level)
{
    const int32_t now = level * THOUSANDTHS;
    if (l->moments == 0 || (l->moments < TWI_LOUDNESS_LEARN && now > l->usual))
        l->usual = now;
    else if (l->moments >= TWI_LOUDNESS_LEARN)
        l->usual += now > l->usual ? UP : l->moments < EARLY ? -EARLY_DOWN : -DOWN;
    if (l->moments < UINT32_MAX)
        l->moments++;
}

static bool is_loud(const twi_loudness *l)
{
    unsigned count = 0;
    for (unsigned i = 0; i < TWI_LOUDNESS_OF; i++)
        count += l->loud >> i & 1U;
    return count >= 2;
}

static void end_moment(twi_loudness *l, int32_t margin)
{
    const bool known = l->moments >= TWI_LOUDNESS_LEARN;
    const bool loud = known && l->loudest * THOUSANDTHS > l->usual + margin * THOUSANDTHS;
    l->loud = (uint8_t)(l->loud << 1 | loud);
    l->newest = l->loudest;
    learn(l, l->loudest);
}

bool twi_loudness_hear(twi_loudness *l, int64_t t_us, int32_t level, int32_t margin)
{
    const bool first = !l->begun;
    l->begun = true;
    const int64_t past_us = t_us - l->moment_us;
    if (first || past_us >= TWI_LOUDNESS_MOMENT_US || past_us < 0) {
        if (!first)
            end_moment(l, margin);
        l->moment_us = t_us;
        l->loudest = level;
    } else if (level > l->loudest) {
        l->loudest = level;
    }
    return is_loud(l);
}
