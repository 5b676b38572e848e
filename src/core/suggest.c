/* What sightings that were nothing have in common. */
#include "suggest.h"

#include "root.h"

enum { MARGIN_PPM = 20000, DAY_MIN = 1440, STEP_MIN = 10 };
#define WHOLE_PPM 1000000

/* ---- sizes ------------------------------------------------------------------------ */

/* The smallest and the largest that was right. @return false: none was. */
static bool right_sizes(const twi_marked *m, size_t count, uint32_t *least,
                        uint32_t *most)
{
    *least = UINT32_MAX;
    *most = 0;
    for (size_t i = 0; i < count; i++) {
        if (!m[i].right || m[i].size_ppm == 0)
            continue;
        *least = m[i].size_ppm < *least ? m[i].size_ppm : *least;
        *most = m[i].size_ppm > *most ? m[i].size_ppm : *most;
    }
    return *most > 0;
}

static uint32_t between(uint32_t a_ppm, uint32_t b_ppm)
{
    return twi_root((uint64_t)a_ppm * b_ppm);
}

uint32_t twi_suggest_smallest(const twi_marked *m, size_t count)
{
    uint32_t least = 0, most = 0, below = 0;
    if (!right_sizes(m, count, &least, &most))
        return 0;
    for (size_t i = 0; i < count; i++)
        if (!m[i].right && m[i].size_ppm < least && m[i].size_ppm > below)
            below = m[i].size_ppm;
    return below > 0 ? between(below, least) : 0;
}

uint32_t twi_suggest_largest(const twi_marked *m, size_t count)
{
    uint32_t least = 0, most = 0, above = UINT32_MAX;
    if (!right_sizes(m, count, &least, &most))
        return 0;
    for (size_t i = 0; i < count; i++)
        if (!m[i].right && m[i].size_ppm > most && m[i].size_ppm < above)
            above = m[i].size_ppm;
    return above < UINT32_MAX ? between(above, most) : 0;
}

/* ---- places ----------------------------------------------------------------------- */

static uint64_t area_of(const twi_box *b)
{
    if (b->right_ppm <= b->left_ppm || b->bottom_ppm <= b->top_ppm)
        return 0;
    return (uint64_t)(b->right_ppm - b->left_ppm) *
           (uint64_t)(b->bottom_ppm - b->top_ppm) / WHOLE_PPM;
}

static bool overlap(const twi_box *a, const twi_box *b)
{
    return a->left_ppm < b->right_ppm && b->left_ppm < a->right_ppm &&
           a->top_ppm < b->bottom_ppm && b->top_ppm < a->bottom_ppm;
}

static twi_box both(const twi_box *a, const twi_box *b)
{
    return (twi_box){a->left_ppm < b->left_ppm ? a->left_ppm : b->left_ppm,
                     a->top_ppm < b->top_ppm ? a->top_ppm : b->top_ppm,
                     a->right_ppm > b->right_ppm ? a->right_ppm : b->right_ppm,
                     a->bottom_ppm > b->bottom_ppm ? a->bottom_ppm : b->bottom_ppm};
}

static int32_t inside(int32_t ppm)
{
    return ppm < 0 ? 0 : ppm > WHOLE_PPM ? WHOLE_PPM : ppm;
}

static twi_box with_margin(const twi_box *b)
{
    return (twi_box){inside(b->left_ppm - MARGIN_PPM), inside(b->top_ppm - MARGIN_PPM),
                     inside(b->right_ppm + MARGIN_PPM),
                     inside(b->bottom_ppm + MARGIN_PPM)};
}

static bool is_small(const twi_box *b)
{
    const uint64_t area = area_of(b);
    return area > 0 && area <= TWI_SUGGEST_AREA_PPM;
}

/* Those that overlap a first one, and what overlaps those, while the whole stays small.
 * Taken ones are set. @return how many. */
static size_t gather(const twi_marked *m, size_t count, size_t first,
                     uint8_t taken[TWI_SUGGEST_MARKED], twi_box *out)
{
    size_t found = 1;
    bool more = true;
    *out = m[first].box;
    taken[first] = 1;
    while (more) { /* each round takes one more at least */
        more = false;
        for (size_t i = 0; i < count; i++) {
            const twi_box grown = both(out, &m[i].box);
            if (m[i].right || taken[i] || !is_small(&m[i].box) ||
                !overlap(out, &m[i].box) || !is_small(&grown))
                continue;
            taken[i] = 1;
            *out = grown;
            found++;
            more = true;
        }
    }
    return found;
}

/* Put a group where it belongs among those of more sightings; the least drops out. */
static size_t insert(twi_box out[TWI_SUGGEST_AREAS], size_t of[TWI_SUGGEST_AREAS],
                     size_t have, const twi_box *box, size_t found)
{
    size_t at = have;
    while (at > 0 && of[at - 1] < found)
        at--;
    if (at >= TWI_SUGGEST_AREAS)
        return have;
    const size_t last = have < TWI_SUGGEST_AREAS ? have : TWI_SUGGEST_AREAS - 1;
    for (size_t i = last; i > at; i--) {
        out[i] = out[i - 1];
        of[i] = of[i - 1];
    }
    out[at] = *box;
    of[at] = found;
    return last + 1;
}

size_t twi_suggest_areas(const twi_marked *m, size_t count,
                         twi_box out[TWI_SUGGEST_AREAS])
{
    uint8_t taken[TWI_SUGGEST_MARKED] = {0};
    size_t of[TWI_SUGGEST_AREAS] = {0}, have = 0;
    count = count < TWI_SUGGEST_MARKED ? count : TWI_SUGGEST_MARKED;
    for (size_t i = 0; i < count; i++) {
        twi_box box;
        if (m[i].right || taken[i] || !is_small(&m[i].box))
            continue;
        const size_t found = gather(m, count, i, taken, &box);
        const twi_box wide = with_margin(&box);
        if (found >= TWI_SUGGEST_TOGETHER)
            have = insert(out, of, have, &wide, found);
    }
    return have;
}

/* ---- hours ------------------------------------------------------------------------ */

/* Minutes from one time of day on to another. */
static uint16_t on_to(uint16_t from, uint16_t to)
{
    return (uint16_t)((to + DAY_MIN - from) % DAY_MIN);
}

/* How long it stays so from the full ten minutes before a sighting that was nothing on:
 * to the end of the last ten minutes in which one began, before those of one that was
 * right. @param within  How many were nothing then. */
static uint16_t stretch(const twi_marked *m, size_t count, uint16_t from, size_t *within)
{
    uint16_t free = DAY_MIN, last = 0;
    *within = 0;
    for (size_t i = 0; i < count; i++)
        if (m[i].right) {
            const uint16_t at = on_to(from, m[i].minute);
            const uint16_t until = (uint16_t)(at - at % STEP_MIN);
            free = until < free ? until : free;
        }
    for (size_t i = 0; i < count; i++) {
        const uint16_t at = on_to(from, m[i].minute);
        const uint16_t end = (uint16_t)(at - at % STEP_MIN + STEP_MIN);
        if (m[i].right || end > free)
            continue;
        last = end > last ? end : last;
        (*within)++;
    }
    return last;
}

size_t twi_suggest_hours(const twi_marked *m, size_t count, uint16_t *from,
                         uint16_t *until)
{
    size_t most = 0;
    uint16_t shortest = 0;
    count = count < TWI_SUGGEST_MARKED ? count : TWI_SUGGEST_MARKED;
    for (size_t i = 0; i < count; i++) {
        size_t within = 0;
        if (m[i].right)
            continue;
        const uint16_t begin = (uint16_t)(m[i].minute - m[i].minute % STEP_MIN);
        const uint16_t length = stretch(m, count, begin, &within);
        if (within < TWI_SUGGEST_HOURS || length > TWI_SUGGEST_MINUTES || within < most ||
            (within == most && length >= shortest))
            continue;
        most = within;
        shortest = length;
        *from = begin;
        *until = (uint16_t)((begin + length) % DAY_MIN);
    }
    return most;
}
