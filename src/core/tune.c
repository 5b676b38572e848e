/* Choosing settings. */
#include "tune.h"

#include "root.h"

uint64_t twi_tune_cost(const twi_trial *trial, uint32_t worth)
{
    const uint64_t missed = trial->score.events - trial->score.found;
    return missed * worth + trial->score.is_false;
}

/* The geometric mean of two limits, rounded down. */
static uint32_t between(uint32_t a_ppm, uint32_t b_ppm)
{
    return twi_root((uint64_t)a_ppm * b_ppm);
}

/* A run of trials that do as well as one another. */
typedef struct run {
    size_t first, last;
} run;

static bool as_good(const twi_trial *a, const twi_trial *b, uint32_t worth)
{
    return a->variant == b->variant && twi_tune_cost(a, worth) == twi_tune_cost(b, worth);
}

static run run_from(const twi_trial *trials, size_t count, size_t first, uint32_t worth)
{
    run r = {first, first};
    while (r.last + 1 < count && as_good(&trials[r.last + 1], &trials[first], worth))
        r.last++;
    return r;
}

/* How many times higher the end of a run is than its beginning, Q8. */
static uint64_t width_of(const twi_trial *trials, run r)
{
    const uint32_t low = trials[r.first].start_ppm > 0 ? trials[r.first].start_ppm : 1;
    return (uint64_t)trials[r.last].start_ppm * 256 / low;
}

static bool holds(const twi_trial *trials, run r, uint32_t ppm)
{
    return (uint64_t)trials[r.first].start_ppm * 3 <= (uint64_t)ppm * 2 &&
           (uint64_t)trials[r.last].start_ppm * 2 >= (uint64_t)ppm * 3;
}

/* The trial of a run whose limit is nearest to a wish, by ratio. */
static size_t nearest(const twi_trial *trials, run r, uint32_t wish)
{
    size_t best = r.first;
    uint64_t least = UINT64_MAX;
    for (size_t i = r.first; i <= r.last; i++) {
        const uint64_t a = trials[i].start_ppm, b = wish > 0 ? wish : 1;
        const uint64_t ratio = a > b ? a * 1000000 / b : b * 1000000 / (a > 0 ? a : 1);
        if (ratio < least) {
            least = ratio;
            best = i;
        }
    }
    return best;
}

twi_choice twi_tune_choose(const twi_trial *trials, size_t count, uint32_t worth,
                           uint32_t now_ppm)
{
    uint64_t least = UINT64_MAX, now = UINT64_MAX;
    for (size_t i = 0; i < count; i++) {
        const uint64_t cost = twi_tune_cost(&trials[i], worth);
        least = cost < least ? cost : least;
        if (trials[i].variant == 0 && trials[i].start_ppm == now_ppm)
            now = cost;
    }
    run best = {0, 0};
    bool any = false, keep = false;
    for (size_t i = 0; i < count && !keep;) {
        const run r = run_from(trials, count, i, worth);
        i = r.last + 1;
        if (twi_tune_cost(&trials[r.first], worth) != least ||
            (any && trials[r.first].variant != trials[best.first].variant))
            continue; /* an earlier variant does as well */
        keep = trials[r.first].variant == 0 && holds(trials, r, now_ppm);
        if (!any || keep || width_of(trials, r) > width_of(trials, best))
            best = r;
        any = true;
    }
    const uint32_t low = trials[best.first].start_ppm, high = trials[best.last].start_ppm;
    const uint32_t wish = keep ? now_ppm : between(low, high);
    return (twi_choice){.chosen = nearest(trials, best, wish),
                        .low_ppm = low,
                        .high_ppm = high,
                        .better = least < now};
}
