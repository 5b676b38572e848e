/* Scores: which events were found, which sightings are false. */
#include "score.h"

#define MILLION UINT64_C(1000000)

static bool touch(const twi_span *a, const twi_span *b, int64_t within_us)
{
    return a->start_us <= b->end_us + within_us && a->end_us >= b->start_us - within_us;
}

static int64_t smaller(int64_t a, int64_t b)
{
    return a < b ? a : b;
}

static int64_t larger(int64_t a, int64_t b)
{
    return a > b ? a : b;
}

static void judge_event(twi_truth_event *event, const twi_score_sighting *sightings,
                        size_t count)
{
    event->found = false;
    event->late_us = 0;
    for (size_t i = 0; i < count; i++) {
        if (!touch(&sightings[i].when, &event->when, TWI_SCORE_NEAR_US))
            continue;
        const int64_t late = sightings[i].when.start_us - event->when.start_us;
        event->late_us = event->found ? smaller(event->late_us, late) : late;
        event->found = true;
    }
    event->late_us = larger(event->late_us, 0);
}

/* The first moment at or after t that lies in no span around an event; spans may overlap,
 * so look until nothing moves it on. */
static int64_t past_events(int64_t t, const twi_truth_event *events, size_t count)
{
    bool moved = true;
    while (moved) {
        moved = false;
        for (size_t i = 0; i < count; i++) {
            const int64_t end = events[i].when.end_us + TWI_SCORE_AROUND_US;
            if (t < events[i].when.start_us - TWI_SCORE_AROUND_US || t >= end)
                continue;
            t = end;
            moved = true;
        }
    }
    return t;
}

/* Where the next event begins to count, or the given end if none does before. */
static int64_t next_event(int64_t t, int64_t end, const twi_truth_event *events,
                          size_t count)
{
    for (size_t i = 0; i < count; i++) {
        const int64_t start = events[i].when.start_us - TWI_SCORE_AROUND_US;
        if (start >= t)
            end = smaller(end, start);
    }
    return end;
}

/* The longest stretch of a sighting on which nothing happens. */
static int64_t overrun_of(const twi_span *sighting, const twi_truth_event *events,
                          size_t count)
{
    int64_t longest = 0, t = sighting->start_us;
    for (size_t i = 0; i <= count; i++) { /* each turn passes one event at least */
        const int64_t from = past_events(t, events, count);
        if (from >= sighting->end_us)
            break;
        const int64_t to = next_event(from, sighting->end_us, events, count);
        longest = larger(longest, to - from);
        t = to;
    }
    return longest;
}

static void judge_sighting(twi_score *score, twi_score_sighting *s,
                           const twi_truth_event *events, size_t count)
{
    bool right = false, unclear = false;
    for (size_t i = 0; i < count; i++) {
        if (!touch(&s->when, &events[i].when, TWI_SCORE_BESIDE_US))
            continue;
        right = right || !events[i].unclear;
        unclear = unclear || events[i].unclear;
    }
    s->is_false = !right && !unclear;
    s->overrun_us = overrun_of(&s->when, events, count);
    score->sightings += right || !unclear;
    score->is_false += s->is_false || s->overrun_us >= TWI_SCORE_OVERRUN_US;
}

/* Time of one event that lies in sightings, which do not overlap one another. */
static int64_t covered(const twi_span *event, const twi_score_sighting *sightings,
                       size_t count)
{
    int64_t sum = 0;
    for (size_t i = 0; i < count; i++) {
        const int64_t from = larger(event->start_us, sightings[i].when.start_us);
        const int64_t to = smaller(event->end_us, sightings[i].when.end_us);
        sum += larger(to - from, 0);
    }
    return smaller(sum, event->end_us - event->start_us);
}

static bool valid(const twi_truth_event *events, size_t event_count,
                  const twi_score_sighting *sightings, size_t sighting_count)
{
    if ((event_count > 0 && !events) || (sighting_count > 0 && !sightings))
        return false;
    for (size_t i = 0; i < event_count; i++)
        if (events[i].when.end_us < events[i].when.start_us)
            return false;
    for (size_t i = 0; i < sighting_count; i++)
        if (sightings[i].when.end_us < sightings[i].when.start_us)
            return false;
    return true;
}

tw_status twi_score_add(twi_score *score, int64_t length_us, twi_truth_event *events,
                        size_t event_count, twi_score_sighting *sightings,
                        size_t sighting_count)
{
    if (!score || !valid(events, event_count, sightings, sighting_count))
        return TW_EINVAL;
    for (size_t i = 0; i < event_count; i++) {
        twi_truth_event *e = &events[i];
        judge_event(e, sightings, sighting_count);
        if (e->unclear)
            continue;
        score->events++;
        score->found += e->found;
        score->event_us += e->when.end_us - e->when.start_us;
        score->covered_us += covered(&e->when, sightings, sighting_count);
    }
    for (size_t i = 0; i < sighting_count; i++)
        judge_sighting(score, &sightings[i], events, event_count);
    score->length_us += length_us;
    return TW_OK;
}

static uint32_t share(uint64_t part, uint64_t all)
{
    return all > 0 ? (uint32_t)(part * MILLION / all) : (uint32_t)MILLION;
}

uint32_t twi_score_recall_ppm(const twi_score *score)
{
    return share(score->found, score->events);
}

uint32_t twi_score_precision_ppm(const twi_score *score)
{
    const uint32_t wrong =
        score->is_false < score->sightings ? score->is_false : score->sightings;
    return share(score->sightings - wrong, score->sightings);
}

uint32_t twi_score_f1_ppm(const twi_score *score)
{
    const uint64_t recall = twi_score_recall_ppm(score),
                   precision = twi_score_precision_ppm(score);
    const uint64_t sum = recall + precision;
    return sum > 0 ? (uint32_t)(2 * recall * precision / sum) : 0;
}

uint64_t twi_score_false_per_1000h(const twi_score *score)
{
    const uint64_t hour_us = 3600 * MILLION;
    return score->length_us > 0
               ? score->is_false * 1000 * hour_us / (uint64_t)score->length_us
               : 0;
}

uint32_t twi_score_cover_ppm(const twi_score *score)
{
    return share((uint64_t)score->covered_us, (uint64_t)score->event_us);
}
