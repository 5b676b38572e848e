/* A place by several lights. When the whole picture turns, by a lamp or as a camera goes
 * over to infrared, what was learnt is kept; when a frame looks like what was kept, that
 * is taken up again, instead of being learnt anew. */
#include "scenes.h"

#include <string.h>

#include "detector_state.h"

enum {
    US = 1000000,
    LEARNT_US = 20 * US, /* what was seen for less is not worth keeping */
    GREY_OF = 100,       /* less than one cell in so many has colour: a grey picture */
    COLOURED_OF = 20,    /* more than one in so many: one with colour */
    LOOK_EVERY = 4,      /* pixels, across and down, when scenes are compared */
    ALIKE = 10           /* levels that a frame may be off a scene in the mean */
};

bool twi_scenes_tint_turned(const tw_detector *d)
{
    const uint32_t now = d->coloured, had = d->coloured_before, cells = d->cells;
    if (!d->tinted || d->tinted_us == d->age_us)
        return false;
    return (had * COLOURED_OF > cells && now * GREY_OF < cells) ||
           (now * COLOURED_OF > cells && had * GREY_OF < cells);
}

/* ---- keeping ---------------------------------------------------------------------- */

/* Where to put what is left: where it came from, else a free one, else that which was
 * seen least lately.
 * @param wanted  Is taken up now, and stays; TW_LIGHTS_MAX: none is.
 * @return TW_LIGHTS_MAX: there is no place. */
static uint8_t place_for(const tw_detector *d, uint8_t wanted)
{
    uint8_t at = TW_LIGHTS_MAX;
    if (d->scene < d->config.lights)
        return d->scene;
    for (uint8_t i = 0; i < d->config.lights; i++) {
        if (!d->other[i].used)
            return i;
        if (i != wanted &&
            (at == TW_LIGHTS_MAX || d->other[i].left_us < d->other[at].left_us))
            at = i;
    }
    return at;
}

static void keep(const tw_detector *d, twi_scene *s)
{
    const size_t pixels = (size_t)d->config.width * d->config.height;
    s->used = true;
    s->left_us = d->age_us;
    s->airlight = d->airlight;
    memcpy(s->clutter, d->clutter, sizeof s->clutter);
    memcpy(s->airlights, d->airlights, sizeof s->airlights);
    memcpy(s->background, d->background, pixels * sizeof *s->background);
    memcpy(s->noise, d->noise, pixels * sizeof *s->noise);
    if (s->colour)
        memcpy(s->colour, d->colour, d->cells * sizeof *s->colour);
    if (s->nearby)
        memcpy(s->nearby, d->nearby, d->cells * sizeof *s->nearby);
    for (uint32_t i = 0; i < d->cells; i++) {
        const twi_cell *c = &d->cell[i];
        s->cell[i].q98 = c->q98;
        s->cell[i].q50 = c->q50;
        memcpy(s->cell[i].quadrant, c->quadrant, sizeof c->quadrant);
    }
}

static void leave(tw_detector *d, uint8_t wanted)
{
    const uint8_t place = place_for(d, wanted);
    if (place < TW_LIGHTS_MAX && d->age_us - d->scene_since_us >= LEARNT_US)
        keep(d, &d->other[place]);
    d->scene = TW_LIGHTS_MAX;
    d->scene_since_us = d->age_us;
}

void twi_scenes_leave(tw_detector *d)
{
    leave(d, TW_LIGHTS_MAX);
}

/* ---- taking up again -------------------------------------------------------------- */

/* How far a frame is off a background in the mean, sixteenths of a level, once one gain
 * for all of the picture has explained what it can: the light of a scene is never quite
 * the same. */
static uint32_t distance(const tw_detector *d, const tw_luma *luma,
                         const uint16_t *background)
{
    uint64_t now = 0, known = 0, off = 0;
    uint32_t n = 0;
    for (uint32_t y = 0; y < d->config.height; y += LOOK_EVERY)
        for (uint32_t x = 0; x < d->config.width; x += LOOK_EVERY) {
            now += luma->px[(size_t)y * luma->stride + x];
            known += background[(size_t)y * d->config.width + x] >> 8;
            n++;
        }
    if (n == 0)
        return UINT32_MAX;
    const uint64_t gain = (now + n) * 256 / (known + n);
    const int32_t by = gain < 160 ? 160 : gain > 410 ? 410 : (int32_t)gain;
    for (uint32_t y = 0; y < d->config.height; y += LOOK_EVERY)
        for (uint32_t x = 0; x < d->config.width; x += LOOK_EVERY) {
            const int32_t is = luma->px[(size_t)y * luma->stride + x] * 256,
                          was = (background[(size_t)y * d->config.width + x] >> 8) * by;
            off += (uint32_t)(is > was ? is - was : was - is);
        }
    return (uint32_t)(off / (16 * (uint64_t)n));
}

static void take_up(tw_detector *d, const twi_scene *s)
{
    const size_t pixels = (size_t)d->config.width * d->config.height;
    d->airlight = s->airlight;
    memcpy(d->clutter, s->clutter, sizeof s->clutter);
    memcpy(d->airlights, s->airlights, sizeof s->airlights);
    memcpy(d->background, s->background, pixels * sizeof *s->background);
    memcpy(d->noise, s->noise, pixels * sizeof *s->noise);
    if (s->nearby)
        memcpy(d->nearby, s->nearby, d->cells * sizeof *s->nearby);
    for (uint32_t i = 0; i < d->cells; i++) {
        twi_cell *c = &d->cell[i];
        c->q98 = s->cell[i].q98;
        c->q50 = s->cell[i].q50;
        memcpy(c->quadrant, s->cell[i].quadrant, sizeof c->quadrant);
        c->absorb = 0;
        c->still = 0;
        if (!s->colour)
            continue;
        d->colour[i].u = s->colour[i].u;
        d->colour[i].v = s->colour[i].v;
        d->colour[i].variance = s->colour[i].variance;
        d->colour[i].witness = s->colour[i].witness;
    }
}

bool twi_scenes_recall(tw_detector *d, const tw_luma *luma)
{
    uint32_t least = UINT32_MAX;
    uint8_t at = TW_LIGHTS_MAX;
    for (uint8_t i = 0; i < d->config.lights; i++) {
        if (!d->other[i].used || i == d->scene)
            continue;
        const uint32_t off = distance(d, luma, d->other[i].background);
        if (off < least) {
            least = off;
            at = i;
        }
    }
    if (at == TW_LIGHTS_MAX || least > ALIKE * 16 ||
        least * 2 >= distance(d, luma, d->background))
        return false;
    leave(d, at);
    take_up(d, &d->other[at]);
    d->scene = at;
    return true;
}
