/* Drawing the scenes at Hollin Lane.
 *
 * Only integers and the four float operations are used, so that every machine draws the
 * same picture. Places are shares of the picture's width and height. The order is that of
 * light: ground, what sways, subjects, leaves before them, water, light and shadow,
 * weather, the lens, the sensor. */
#include "scene.h"

#include <stdlib.h>
#include <string.h>

#include "animals.h"
#include "chance.h"
#include "grounds.h"
#include "script.h"

#define S INT64_C(1000000)

/* ---- the ground ------------------------------------------------------------------ */

enum { TEXTURE = 256, KNOT = 16, NOISE_WIDTH = 640, SIDE_MAX = 10 };
#define SNOW_LIES 42.0F /* luma levels that it adds to what it covers */

struct twi_painter {
    const twi_script *script;
    uint32_t seed;
    uint16_t width, height;
    uint8_t *ground;   /* lit by the camera's own lamp */
    uint8_t *loose;    /* how much of the sway a place takes part in */
    uint8_t *leaves;   /* brightness of the leaves in front; 0: none there */
    uint8_t *scene_px; /* the ground with the subjects on it */
    uint8_t *out;
    uint16_t *gain_x;                   /* headlights along a row, Q8 */
    uint8_t texture[TEXTURE * TEXTURE]; /* smooth noise that repeats, 0..255 */
};

static uint8_t to_luma(float v)
{
    return (uint8_t)(v < 4.0F ? 4.0F : v > 250.0F ? 250.0F : v);
}

/* Twigs of leaves that hang into the picture, with gaps between them. */
static uint8_t leaves_at(const twi_painter *p, float x, float y)
{
    const twi_script *s = p->script;
    if (x < s->leaves_x0 || x > s->leaves_x1 || y < 0.25F ||
        twi_value_noise(x * 15.0F, y * 11.0F, p->seed + 50) < -0.1F)
        return 0;
    const uint32_t h =
        twi_hash3((uint32_t)(x * 34.0F), (uint32_t)(y * 24.0F), p->seed + 51);
    const float u = twi_fraction(x * 34.0F) - 0.5F, v = twi_fraction(y * 24.0F) - 0.5F;
    const float along = h & 1 ? u + 0.7F * v : u - 0.7F * v;
    const float across = h & 1 ? v - 0.6F * u : v + 0.6F * u;
    if (along * along * 2.2F + across * across * 6.0F > 0.75F)
        return 0;
    const float rib = across * across < 0.002F ? -12.0F : 0.0F;
    return to_luma((34.0F + (float)(h >> 8 & 63) * 0.8F + rib) * s->light);
}

/* 0..1 as 0..255. */
static uint8_t to_byte(float v)
{
    return (uint8_t)(255.0F * v);
}

/* The mean over a pixel: a small picture is the large one, reduced. */
static float ground_over(const twi_painter *p, uint32_t x, uint32_t y)
{
    uint32_t side = 1;
    while (side < SIDE_MAX && side * p->width < NOISE_WIDTH)
        side++;
    const float w = (float)(p->width * side), h = (float)(p->height * side);
    float sum = 0.0F;
    for (uint32_t v = 0; v < side; v++)
        for (uint32_t u = 0; u < side; u++)
            sum += twi_ground_at(p->script->ground, (float)(x * side + u) / w,
                                 (float)(y * side + v) / h, p->script->light < 1.5F,
                                 p->seed);
    const float mean = sum / (float)(side * side);
    return p->script->snow > 0 ? SNOW_LIES + mean * 0.5F : mean; /* it lies, too */
}

static void draw_ground(twi_painter *p)
{
    for (uint32_t y = 0; y < p->height; y++) {
        for (uint32_t x = 0; x < p->width; x++) {
            const size_t i = (size_t)y * p->width + x;
            const float fx = (float)x / (float)p->width, fy = (float)y / (float)p->height;
            const float lamp = 0.45F + 0.75F * twi_bump((fx - 0.5F) * 1.1F) *
                                           twi_bump((fy - 0.6F) * 1.2F);
            const float light = p->script->light * (p->script->lamp ? lamp : 1.0F);
            p->ground[i] = to_luma(ground_over(p, x, y) * light);
            p->loose[i] = to_byte(twi_loose_at(p->script->ground, fx, fy, p->seed));
            p->leaves[i] = leaves_at(p, fx, fy);
        }
    }
}

/* Blends noise into that one period on, so that it joins at its edges. */
static float joined(float x, float y, float fx, float fy, uint32_t seed)
{
    const float period = TEXTURE / 11.0F;
    const float a = twi_value_noise(x, y, seed), b = twi_value_noise(x + period, y, seed);
    const float c = twi_value_noise(x, y + period, seed),
                d = twi_value_noise(x + period, y + period, seed);
    const float top = b + (a - b) * fx, low = d + (c - d) * fx;
    return low + (top - low) * fy;
}

static void draw_texture(twi_painter *p)
{
    for (uint32_t y = 0; y < TEXTURE; y++)
        for (uint32_t x = 0; x < TEXTURE; x++) {
            const float v = joined((float)x / 11.0F, (float)y / 11.0F, (float)x / TEXTURE,
                                   (float)y / TEXTURE, p->seed + 60);
            p->texture[y * TEXTURE + x] = (uint8_t)(127.5F + 127.0F * v);
        }
}

twi_painter *twi_painter_new(const tw_sim_scene *scene, uint32_t seed, uint16_t width,
                             uint16_t height)
{
    const size_t pixels = (size_t)width * height;
    twi_painter *p = calloc(1, sizeof *p);
    if (!p)
        return NULL;
    p->script = twi_script_of(scene);
    p->seed = seed;
    p->width = width;
    p->height = height;
    p->ground = malloc(pixels);
    p->loose = malloc(pixels);
    p->leaves = malloc(pixels);
    p->scene_px = malloc(pixels);
    p->out = malloc(pixels);
    p->gain_x = malloc(width * sizeof *p->gain_x);
    if (!p->ground || !p->loose || !p->leaves || !p->scene_px || !p->out || !p->gain_x) {
        twi_painter_free(p);
        return NULL;
    }
    draw_ground(p);
    draw_texture(p);
    return p;
}

void twi_painter_free(twi_painter *p)
{
    if (!p)
        return;
    free(p->ground);
    free(p->loose);
    free(p->leaves);
    free(p->scene_px);
    free(p->out);
    free(p->gain_x);
    free(p);
}

/* ---- wind and shake -------------------------------------------------------------- */

static float seconds(int64_t t_us)
{
    return (float)(t_us / 1000) / 1000.0F;
}

/* A pixel between pixels, at x and y in Q8; outside, the edge goes on. */
static uint8_t between(const twi_painter *p, const uint8_t *px, int32_t x, int32_t y)
{
    const int32_t right = (p->width - 1) * 256, bottom = (p->height - 1) * 256;
    x = x < 0 ? 0 : x > right ? right : x;
    y = y < 0 ? 0 : y > bottom ? bottom : y;
    const int32_t fx = x & 255, fy = y & 255;
    const uint8_t *at = px + (size_t)(y >> 8) * p->width + (x >> 8);
    const int32_t more = (x >> 8) + 1 < p->width ? 1 : 0;
    const size_t below = (y >> 8) + 1 < p->height ? p->width : 0;
    const int32_t top = at[0] * (256 - fx) + at[more] * fx;
    const int32_t low = at[below] * (256 - fx) + at[below + (size_t)more] * fx;
    return (uint8_t)((top * (256 - fy) + low * fy) >> 16);
}

/* The wind at a place: gusts that travel across, Q8 pixels. */
static int32_t wind(const twi_painter *p, float x, float y, float t)
{
    const float gust = 0.6F + 0.4F * twi_wave(t / 7.3F + x * 0.7F);
    const float swing =
        twi_wave(t / 1.1F + x * 3.0F + y * 2.0F) + 0.5F * twi_wave(t / 0.43F + x * 9.0F);
    return (int32_t)(p->script->sway * (float)p->width * gust * swing * 256.0F);
}

/* How far the pole has moved, Q8 pixels. */
static int32_t shake(const twi_painter *p, float t, float period)
{
    const float gust = 0.5F + 0.5F * twi_wave(t / 5.7F);
    return (int32_t)(p->script->shake * (float)p->width * gust * twi_wave(t / period) *
                     256.0F);
}

static void draw_still(twi_painter *p, int64_t t_us)
{
    const float t = seconds(t_us);
    if (p->script->sway <= 0 && p->script->shake <= 0) {
        memcpy(p->scene_px, p->ground, (size_t)p->width * p->height);
        return;
    }
    const int32_t dx = shake(p, t, 0.37F), dy = shake(p, t, 0.53F);
    for (int32_t y = 0; y < p->height; y++) {
        int32_t bend = 0, next = 0;
        for (int32_t x = 0; x < p->width; x++) {
            const size_t i = (size_t)y * p->width + (size_t)x;
            if (x % KNOT == 0) { /* the wind is even between two knots */
                bend = x == 0 ? wind(p, 0, (float)y / (float)p->height, t) : next;
                next = wind(p, (float)(x + KNOT) / (float)p->width,
                            (float)y / (float)p->height, t);
            }
            const int32_t here = bend + (next - bend) * (x % KNOT) / KNOT;
            p->scene_px[i] = between(
                p, p->ground, x * 256 + dx + here * p->loose[i] / 255, y * 256 + dy);
        }
    }
}

/* Leaves before the subjects swing as one, each row a little. */
static void draw_leaves(twi_painter *p, int64_t t_us)
{
    if (p->script->leaves_x1 <= 0)
        return;
    const float t = seconds(t_us);
    for (int32_t y = 0; y < p->height; y++) {
        const int32_t bend = wind(p, 0.5F, (float)y / (float)p->height, t) * 2 / 256;
        for (int32_t x = 0; x < p->width; x++) {
            const int32_t from = x + bend;
            if (from < 0 || from >= p->width)
                continue;
            const uint8_t leaf = p->leaves[(size_t)y * p->width + (size_t)from];
            if (leaf > 0)
                p->scene_px[(size_t)y * p->width + (size_t)x] = leaf;
        }
    }
}

/* ---- the subjects ---------------------------------------------------------------- */

/* A heron's: it comes, stands, and goes. */
static float share_of_heron(const twi_crossing *c, float time)
{
    const float moves = 1.0F - (c->stand_to - c->stand_from);
    if (time <= c->stand_from)
        return time / moves;
    if (time < c->stand_to)
        return c->stand_from / moves;
    return (time - (c->stand_to - c->stand_from)) / moves;
}

/* Share of the way gone. */
static float share_gone(const twi_crossing *c, int64_t t_us)
{
    const int64_t gone = t_us - c->start_us, whole = c->end_us - c->start_us;
    if (c->pace == TWI_PACE_EVEN)
        return (float)gone / (float)whole;
    if (c->pace == TWI_PACE_HERON)
        return share_of_heron(c, (float)gone / (float)whole);
    const int64_t cycle = 1800000, walk = 1200000; /* it ends walking */
    const int64_t cycles = (whole + cycle - walk) / cycle;
    const int64_t in = gone % cycle;
    const float step = (float)(in < walk ? in : walk) / (float)walk;
    const float share = ((float)(gone / cycle) + step) / (float)cycles;
    return share > 1.0F ? 1.0F : share;
}

static void draw_crossing(twi_painter *p, const twi_crossing *c, int64_t t_us,
                          uint32_t seed)
{
    if (t_us < c->start_us || t_us > c->end_us)
        return;
    const float share = share_gone(c, t_us);
    const twi_sheet sheet = {p->scene_px, p->width, p->height};
    const twi_pose pose = {.x = c->x0 + (c->x1 - c->x0) * share,
                           .y = c->y0 + (c->y1 - c->y0) * share,
                           .length = c->length,
                           .height = c->height,
                           .ahead = c->x1 > c->x0 ? 1.0F : -1.0F,
                           .gone =
                               share * (c->x1 > c->x0 ? c->x1 - c->x0 : c->x0 - c->x1),
                           .brightness = c->brightness};
    twi_animal_draw(&sheet, c->animal, &pose, seed);
}

/* ---- the light ------------------------------------------------------------------- */

/* Brightness grows as the car comes and fades as it goes. */
static float swell(const twi_headlight *h, float share)
{
    return h->gain * twi_bump(2.0F * share - 1.0F);
}

static void light_row(twi_painter *p, int64_t t_us)
{
    for (uint32_t x = 0; x < p->width; x++) {
        float gain = 0.0F;
        for (size_t i = 0; i < p->script->headlight_count; i++) {
            const twi_headlight *h = &p->script->headlights[i];
            if (t_us < h->start_us || t_us >= h->end_us)
                continue;
            const float share =
                (float)(t_us - h->start_us) / (float)(h->end_us - h->start_us);
            const float centre = h->from + (h->to - h->from) * share;
            const float u = (float)x / (float)p->width - centre;
            gain += swell(h, share) * (0.25F + 0.75F * twi_bump(u / 0.7F));
        }
        p->gain_x[x] = (uint16_t)(gain * 256.0F);
    }
}

/* The pool of light lies on the lane and fades upwards. Q8. */
static uint32_t light_down(const twi_painter *p, uint32_t y)
{
    const float fy = (float)y / (float)p->height;
    return (uint32_t)(256.0F * (0.35F + 0.65F * twi_bump((fy - 0.75F) / 0.8F)));
}

/* Light that is the same everywhere: clouds, dawn, lamps, exposure. Q8. */
static uint32_t light_now(const twi_painter *p, int64_t t_us)
{
    const twi_script *s = p->script;
    const float t = seconds(t_us);
    float light = 1.0F;
    if (s->cloud_s > 0)
        light -= s->clouds * (0.5F + 0.5F * twi_wave(t / s->cloud_s)) *
                 (0.7F + 0.3F * twi_wave(t / 5.1F));
    if (s->dawn > 0)
        light *= 1.0F + (s->dawn - 1.0F) * (float)t_us / (float)s->scene.length_us;
    for (size_t i = 0; i < s->step_count; i++) {
        const float before = i > 0 ? s->steps[i - 1].to : 1.0F;
        const int64_t gone = t_us - s->steps[i].at_us;
        const float share = gone <= 0 ? 0.0F
                            : gone >= s->steps[i].takes_us
                                ? 1.0F
                                : (float)gone / (float)s->steps[i].takes_us;
        if (gone > 0)
            light *= (before + (s->steps[i].to - before) * share) / before;
    }
    return (uint32_t)(light * 256.0F);
}

/* Bands of the mains that run down the picture. Q8, signed. */
static int32_t flicker_at(const twi_painter *p, uint32_t y, int64_t t_us)
{
    if (p->script->flicker <= 0)
        return 0;
    const float place = 2.0F * (float)y / (float)p->height + seconds(t_us) * 1.7F;
    return (int32_t)(p->script->flicker * 256.0F * twi_wave(place));
}

/* Branches before the sun: patches of shade that swing. */
static void cast_shadows(twi_painter *p, int64_t t_us)
{
    if (p->script->shadows <= 0)
        return;
    const float t = seconds(t_us);
    const int32_t dx = (int32_t)(14.0F * twi_wave(t / 2.3F) + 5.0F * twi_wave(t / 0.9F));
    const int32_t dy = (int32_t)(6.0F * twi_wave(t / 3.1F));
    const int32_t deep = (int32_t)(p->script->shadows * 256.0F);
    for (int32_t y = 0; y < p->height; y++)
        for (int32_t x = 0; x < p->width; x++) {
            const int32_t u = (x * 240 / p->width + dx) & (TEXTURE - 1);
            const int32_t v = (y * 240 / p->width + dy) & (TEXTURE - 1);
            const int32_t shade = p->texture[v * TEXTURE + u];
            const int32_t dark = shade < 90    ? 256
                                 : shade > 170 ? 0
                                               : (170 - shade) * 256 / 80;
            uint8_t *at = &p->scene_px[(size_t)y * p->width + (size_t)x];
            *at = (uint8_t)(*at * (256 - (deep * dark >> 8)) >> 8);
        }
}

/* Two trains of ripples across each other; where they meet they glitter. */
static void draw_water(twi_painter *p, int64_t t_us)
{
    if (p->script->water <= 0)
        return;
    const float t = seconds(t_us);
    const int32_t a = (int32_t)(t * 31.0F), b = (int32_t)(t * 23.0F);
    const int32_t high = (int32_t)p->script->water;
    for (int32_t y = 0; y < p->height; y++)
        for (int32_t x = 0; x < p->width; x++) {
            const float fx = (float)x / (float)p->width, fy = (float)y / (float)p->height;
            if (!twi_is_water(fx, fy))
                continue;
            const int32_t u = x * 640 / p->width, v = y * 640 / p->width;
            const int32_t one = p->texture[((v * 5) & 255) * TEXTURE + ((u + a) & 255)];
            const int32_t two =
                p->texture[((v * 6 + 90) & 255) * TEXTURE + ((u * 2 - b) & 255)];
            const int32_t sum = one + two - 255;
            const int32_t glint = sum > 120 ? (sum - 120) * 3 : 0;
            uint8_t *at = &p->scene_px[(size_t)y * p->width + (size_t)x];
            const int32_t lit = *at + high * (sum + glint) / 255;
            *at = (uint8_t)(lit < 0 ? 0 : lit > 250 ? 250 : lit);
        }
}

/* ---- weather and the lens --------------------------------------------------------- */

static void brighten(twi_painter *p, int32_t x, int32_t y, int32_t by)
{
    if (x < 0 || y < 0 || x >= p->width || y >= p->height)
        return;
    uint8_t *at = &p->scene_px[(size_t)y * p->width + (size_t)x];
    *at = (uint8_t)(*at + by > 250 ? 250 : *at + by);
}

/* Drops are streaks that are elsewhere in the next frame. */
static void draw_rain(twi_painter *p, uint32_t number)
{
    const int32_t length = p->height / 14;
    for (uint32_t i = 0; i < (uint32_t)p->script->rain; i++) {
        const uint32_t h = twi_hash3(number, i, p->seed + 70);
        const int32_t x = (int32_t)((h & 4095U) * p->width >> 12);
        const int32_t y = (int32_t)((h >> 12 & 4095U) * p->height >> 12);
        const int32_t light = 12 + (int32_t)(h >> 24) % 30;
        for (int32_t k = 0; k < length; k++)
            brighten(p, x + k / 8, y + k, light);
    }
}

/* Flakes come down slowly, near ones large, and drift with the wind. */
static void draw_snow(twi_painter *p, int64_t t_us)
{
    const float t = seconds(t_us);
    for (uint32_t i = 0; i < (uint32_t)p->script->snow; i++) {
        const uint32_t h = twi_hash3(i, 5, p->seed + 80);
        const float near = (float)(h & 255) / 255.0F;
        const float fall = 0.12F + 0.4F * near;
        float y = (float)(h >> 8 & 1023) / 1023.0F + t * fall;
        y -= (float)(int32_t)y;
        float x = (float)(h >> 18 & 1023) / 1023.0F +
                  0.05F * twi_wave(t / (2.0F + near) + near) + 0.03F * t;
        x -= (float)(int32_t)x;
        const int32_t size = 1 + (int32_t)(near * near * (float)p->width / 220.0F);
        for (int32_t v = 0; v < size; v++)
            for (int32_t u = 0; u < size; u++)
                brighten(p, (int32_t)(x * (float)p->width) + u,
                         (int32_t)(y * (float)p->height) + v,
                         40 + (int32_t)(60.0F * near));
    }
}

/* Out of focus: a soft disc on an erratic way. */
static void draw_insect(twi_painter *p, const twi_insect *m, int64_t t_us, uint32_t seed)
{
    if (t_us < m->start_us || t_us > m->end_us)
        return;
    const float t = seconds(t_us - m->start_us);
    const float phase = (float)(twi_hash(seed) & 255) / 255.0F;
    const float x =
        0.5F + 0.38F * twi_wave(t / 0.9F + phase) + 0.14F * twi_wave(t / 0.31F);
    const float y =
        0.5F + 0.34F * twi_wave(t / 0.7F + 2.0F * phase) + 0.1F * twi_wave(t / 0.23F);
    const float w = (float)p->width, radius = m->size * w;
    const int32_t cx = (int32_t)(x * w), cy = (int32_t)(y * (float)p->height);
    const int32_t reach = (int32_t)radius + 1;
    for (int32_t v = -reach; v <= reach; v++)
        for (int32_t u = -reach; u <= reach; u++) {
            const float d =
                ((float)u * (float)u + (float)v * (float)v) / (radius * radius);
            if (d < 1.0F)
                brighten(p, cx + u, cy + v,
                         (int32_t)((float)m->brightness * (1.0F - d) * (1.0F - d)));
        }
}

/* ---- the sensor ------------------------------------------------------------------ */

/* Triangular; a half width of 6 levels is a standard deviation of 2.4. Q8. */
static int32_t sensor_noise(uint32_t seed, int32_t half)
{
    return ((int32_t)((seed & 0xFF) + (seed >> 8 & 0xFF)) * half >> 16) - (half >> 8);
}

static void light_and_noise(twi_painter *p, uint32_t number, int64_t t_us)
{
    const uint32_t all = light_now(p, t_us);
    /* the same sensor at any size: the fewer pixels, the more of it each is the mean of;
     * large pictures come from better ones */
    const int32_t width = p->width < NOISE_WIDTH ? p->width : NOISE_WIDTH;
    const int32_t half = p->script->noise * 256 * width / NOISE_WIDTH;
    for (uint32_t y = 0; y < p->height; y++) {
        const uint32_t down = light_down(p, y);
        const uint32_t row_seed = twi_hash3(number, y, p->seed);
        const int32_t even = (int32_t)all + flicker_at(p, y, t_us);
        const uint8_t *in = p->scene_px + (size_t)y * p->width;
        uint8_t *out = p->out + (size_t)y * p->width;
        for (uint32_t x = 0; x < p->width; x++) {
            const int32_t gain = even + (int32_t)(p->gain_x[x] * down >> 8);
            const int32_t lit = in[x] * gain >> 8;
            const int32_t v = lit + sensor_noise(twi_hash(row_seed + x), half);
            out[x] = (uint8_t)(v < 0 ? 0 : v > 255 ? 255 : v);
        }
    }
}

bool twi_painter_pulses(const twi_painter *painter)
{
    return painter->script->pulse;
}

tw_luma twi_painter_draw(twi_painter *p, uint32_t number, int64_t t_us)
{
    const twi_script *s = p->script;
    draw_still(p, t_us);
    draw_water(p, t_us);
    for (size_t i = 0; i < s->crossing_count; i++)
        draw_crossing(p, &s->crossings[i], t_us, p->seed + 100 + 10 * (uint32_t)i);
    draw_leaves(p, t_us);
    cast_shadows(p, t_us);
    draw_rain(p, number);
    draw_snow(p, t_us);
    for (size_t i = 0; i < s->insect_count; i++)
        draw_insect(p, &s->insects[i], t_us, p->seed + 90 + (uint32_t)i);
    light_row(p, t_us);
    light_and_noise(p, number, t_us);
    return (tw_luma){p->out, p->width, p->width, p->height};
}
