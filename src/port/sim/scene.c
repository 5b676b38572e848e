/* Hollin Lane by night, at the kerb: toads and a hedgehog cross, headlights pass.
 *
 * Only integers and the four float operations are used, so that every machine draws the
 * same picture. Places are shares of the picture's width and height. */
#include "scene.h"

#include <stdlib.h>
#include <string.h>

#define S INT64_C(1000000)

/* ---- what happens ---------------------------------------------------------------- */

enum { TOADS_PACE = 1, HEDGEHOGS_PACE = 2 };

/* A subject that crosses from one place to another, both just out of the picture. */
typedef struct crossing {
    int64_t start_us, end_us;
    float x0, y0, x1, y1;
    float length, height; /* half axes of the body, shares of the width */
    int pace;
    int brightness; /* luma levels above the ground, before any light */
} crossing;

typedef struct headlight {
    int64_t start_us, end_us;
    float from, to; /* centre of the pool of light, share of the width */
    float gain;     /* how many times brighter its centre gets */
} headlight;

static const crossing KERB_CROSSINGS[] = {
    {14 * S, 404 * S / 10, -0.035F, 0.60F, 1.035F, 0.56F, 0.034F, 0.021F, TOADS_PACE, 34},
    {70 * S, 79 * S, 1.055F, 0.80F, -0.055F, 0.74F, 0.052F, 0.032F, HEDGEHOGS_PACE, 26},
    {106 * S, 1342 * S / 10, 0.62F, 1.05F, 0.40F, -0.05F, 0.030F, 0.024F, TOADS_PACE, 30},
};
static const headlight KERB_HEADLIGHTS[] = {
    {26 * S, 31 * S, -0.4F, 1.4F, 1.2F},
    {54 * S, 59 * S, 1.4F, -0.4F, 1.6F},
    {91 * S, 97 * S, -0.4F, 1.4F, 1.4F},
    {120 * S, 125 * S, 1.4F, -0.4F, 1.2F},
};
static const tw_sim_event KERB_EVENTS[] = {
    {14 * S, 404 * S / 10, "toad"},
    {70 * S, 79 * S, "hedgehog"},
    {106 * S, 1342 * S / 10, "toad"},
};
static const tw_sim_event KERB_LURES[] = {
    {26 * S, 31 * S, "headlights"},
    {54 * S, 59 * S, "headlights"},
    {91 * S, 97 * S, "headlights"},
    {120 * S, 125 * S, "headlights"},
};

enum {
    CROSSINGS = sizeof KERB_CROSSINGS / sizeof *KERB_CROSSINGS,
    HEADLIGHTS = sizeof KERB_HEADLIGHTS / sizeof *KERB_HEADLIGHTS,
    EVENTS = sizeof KERB_EVENTS / sizeof *KERB_EVENTS,
    LURES = sizeof KERB_LURES / sizeof *KERB_LURES
};

static const tw_sim_scene SCENES[] = {
    {"kerb", KERB_EVENTS, EVENTS, KERB_LURES, LURES, 150 * S},
};

const tw_sim_scene *tw_sim_scene_at(size_t index)
{
    return index < sizeof SCENES / sizeof *SCENES ? &SCENES[index] : NULL;
}

const tw_sim_scene *tw_sim_scene_find(const char *name)
{
    for (size_t i = 0; name && tw_sim_scene_at(i); i++)
        if (strcmp(SCENES[i].name, name) == 0)
            return &SCENES[i];
    return NULL;
}

/* ---- chance ---------------------------------------------------------------------- */

static uint32_t hash(uint32_t x)
{
    x ^= x >> 16;
    x *= 0x7FEB352DU;
    x ^= x >> 15;
    x *= 0x846CA68BU;
    return x ^ x >> 16;
}

static uint32_t hash3(uint32_t a, uint32_t b, uint32_t c)
{
    return hash(a * 0x9E3779B9U ^ hash(b * 0x85EBCA6BU ^ hash(c)));
}

/* -1..1 at whole places, smooth between them. */
static float value_noise(float x, float y, uint32_t seed)
{
    const uint32_t ix = (uint32_t)x, iy = (uint32_t)y;
    float fx = x - (float)ix, fy = y - (float)iy;
    fx = fx * fx * (3.0F - 2.0F * fx);
    fy = fy * fy * (3.0F - 2.0F * fy);
    const float scale = 1.0F / 32767.5F;
    const float a = (float)(hash3(ix, iy, seed) & 0xFFFF) * scale - 1.0F;
    const float b = (float)(hash3(ix + 1, iy, seed) & 0xFFFF) * scale - 1.0F;
    const float c = (float)(hash3(ix, iy + 1, seed) & 0xFFFF) * scale - 1.0F;
    const float d = (float)(hash3(ix + 1, iy + 1, seed) & 0xFFFF) * scale - 1.0F;
    const float top = a + (b - a) * fx, bottom = c + (d - c) * fx;
    return top + (bottom - top) * fy;
}

/* ---- the ground ------------------------------------------------------------------ */

struct tw_painter {
    const tw_sim_scene *scene;
    uint32_t seed;
    uint16_t width, height;
    uint8_t *ground;   /* lit by the camera's own lamp */
    uint8_t *scene_px; /* the ground with the subjects on it */
    uint8_t *out;
    uint16_t *gain_x; /* headlights along a row, Q8 */
};

static float bump(float u) /* 1 at 0, 0 from -1 and 1 on, smooth */
{
    const float v = 1.0F - u * u;
    return v > 0.0F ? v * v : 0.0F;
}

/* Verge above, a kerb of pale stones, tarmac below. */
static float ground_at(float x, float y, uint32_t seed)
{
    const float kerb = 0.66F + 0.02F * x;
    if (y < kerb) { /* grass and litter, coarser towards the camera */
        const float size = 20.0F + 60.0F * (1.0F - y);
        return 52.0F + 14.0F * value_noise(x * size, y * 40.0F, seed) +
               9.0F * value_noise(x * 90.0F, y * 70.0F, seed + 1);
    }
    if (y < kerb + 0.055F) {
        const bool joint = (int)(x * 16.0F) != (int)((x + 0.004F) * 16.0F);
        return (joint ? 50.0F : 70.0F) +
               6.0F * value_noise(x * 80.0F, y * 80.0F, seed + 2);
    }
    return 40.0F + 5.0F * value_noise(x * 120.0F, y * 90.0F, seed + 3) +
           4.0F * value_noise(x * 9.0F, y * 7.0F, seed + 4);
}

static void draw_ground(tw_painter *p)
{
    for (uint32_t y = 0; y < p->height; y++) {
        for (uint32_t x = 0; x < p->width; x++) {
            const float fx = (float)x / (float)p->width, fy = (float)y / (float)p->height;
            const float lamp =
                0.45F + 0.75F * bump((fx - 0.5F) * 1.1F) * bump((fy - 0.6F) * 1.2F);
            const float v = ground_at(fx, fy, p->seed) * lamp;
            p->ground[(size_t)y * p->width + x] = (uint8_t)(v < 4.0F ? 4.0F : v);
        }
    }
}

tw_painter *tw_painter_new(const tw_sim_scene *scene, uint32_t seed, uint16_t width,
                           uint16_t height)
{
    const size_t pixels = (size_t)width * height;
    tw_painter *p = calloc(1, sizeof *p);
    if (!p)
        return NULL;
    *p = (tw_painter){.scene = scene, .seed = seed, .width = width, .height = height};
    p->ground = malloc(pixels);
    p->scene_px = malloc(pixels);
    p->out = malloc(pixels);
    p->gain_x = malloc(width * sizeof *p->gain_x);
    if (!p->ground || !p->scene_px || !p->out || !p->gain_x) {
        tw_painter_free(p);
        return NULL;
    }
    draw_ground(p);
    return p;
}

void tw_painter_free(tw_painter *p)
{
    if (!p)
        return;
    free(p->ground);
    free(p->scene_px);
    free(p->out);
    free(p->gain_x);
    free(p);
}

/* ---- the subjects ---------------------------------------------------------------- */

/* Share of the way gone. A toad walks for two thirds of each 1.8 s and sits for the rest;
 * a hedgehog trots on. */
static float share_gone(const crossing *c, int64_t t_us)
{
    const int64_t gone = t_us - c->start_us, whole = c->end_us - c->start_us;
    if (c->pace == HEDGEHOGS_PACE)
        return (float)gone / (float)whole;
    const int64_t cycle = 1800000, walk = 1200000; /* it ends walking */
    const int64_t cycles = (whole + cycle - walk) / cycle;
    const int64_t in = gone % cycle;
    const float step = (float)(in < walk ? in : walk) / (float)walk;
    const float share = ((float)(gone / cycle) + step) / (float)cycles;
    return share > 1.0F ? 1.0F : share;
}

/* One ellipse of mottled skin. */
static void draw_ellipse(tw_painter *p, float cx, float cy, float rx, float ry,
                         int brightness, uint32_t seed)
{
    const float w = (float)p->width;
    const float px = cx * w, py = cy * (float)p->height, ax = rx * w, ay = ry * w;
    for (int32_t y = (int32_t)(py - ay); y <= (int32_t)(py + ay) + 1; y++) {
        for (int32_t x = (int32_t)(px - ax); x <= (int32_t)(px + ax) + 1; x++) {
            if (x < 0 || y < 0 || x >= p->width || y >= p->height)
                continue;
            const float u = ((float)x - px) / ax, v = ((float)y - py) / ay;
            const float d = u * u + v * v;
            if (d >= 1.0F)
                continue;
            const float skin = value_noise((u + 2.0F) * 4.0F, (v + 2.0F) * 4.0F, seed);
            const float edge = d > 0.7F ? (1.0F - d) / 0.3F : 1.0F;
            uint8_t *at = &p->scene_px[(size_t)y * p->width + (size_t)x];
            const float body =
                44.0F + (float)brightness * (0.8F - 0.4F * v) + 12.0F * skin;
            *at = (uint8_t)((float)*at + (body - (float)*at) * edge);
        }
    }
}

static void draw_crossing(tw_painter *p, const crossing *c, int64_t t_us, uint32_t seed)
{
    if (t_us < c->start_us || t_us > c->end_us)
        return;
    const float share = share_gone(c, t_us);
    const float x = c->x0 + (c->x1 - c->x0) * share, y = c->y0 + (c->y1 - c->y0) * share;
    const float ahead = c->x1 > c->x0 ? 1.0F : -1.0F;
    draw_ellipse(p, x, y, c->length, c->height, c->brightness, seed);
    draw_ellipse(p, x + ahead * c->length * 0.8F, y - c->height * 0.3F, c->length * 0.4F,
                 c->height * 0.6F, c->brightness + 8, seed + 1);
}

/* ---- the light ------------------------------------------------------------------- */

/* Brightness grows as the car comes and fades as it goes. */
static float swell(const headlight *h, float share)
{
    return h->gain * bump(2.0F * share - 1.0F);
}

static void light_row(tw_painter *p, int64_t t_us)
{
    for (uint32_t x = 0; x < p->width; x++) {
        float gain = 0.0F;
        for (size_t i = 0; i < HEADLIGHTS; i++) {
            const headlight *h = &KERB_HEADLIGHTS[i];
            if (t_us < h->start_us || t_us >= h->end_us)
                continue;
            const float share =
                (float)(t_us - h->start_us) / (float)(h->end_us - h->start_us);
            const float centre = h->from + (h->to - h->from) * share;
            const float u = (float)x / (float)p->width - centre;
            gain += swell(h, share) * (0.25F + 0.75F * bump(u / 0.7F));
        }
        p->gain_x[x] = (uint16_t)(gain * 256.0F);
    }
}

/* The pool of light lies on the lane and fades upwards. Q8. */
static uint32_t light_down(const tw_painter *p, uint32_t y)
{
    const float fy = (float)y / (float)p->height;
    return (uint32_t)(256.0F * (0.35F + 0.65F * bump((fy - 0.75F) / 0.8F)));
}

static int32_t sensor_noise(uint32_t seed) /* triangular, standard deviation 2.4 levels */
{
    return (int32_t)((seed & 0xFF) + (seed >> 8 & 0xFF)) * 6 / 256 - 6;
}

static void light_and_noise(tw_painter *p, uint32_t number)
{
    for (uint32_t y = 0; y < p->height; y++) {
        const uint32_t down = light_down(p, y);
        const uint32_t row_seed = hash3(number, y, p->seed);
        const uint8_t *in = p->scene_px + (size_t)y * p->width;
        uint8_t *out = p->out + (size_t)y * p->width;
        for (uint32_t x = 0; x < p->width; x++) {
            const uint32_t gain = 256 + (p->gain_x[x] * down >> 8);
            const int32_t lit = (int32_t)(in[x] * gain >> 8);
            const int32_t v = lit + sensor_noise(hash(row_seed + x));
            out[x] = (uint8_t)(v < 0 ? 0 : v > 255 ? 255 : v);
        }
    }
}

tw_luma tw_painter_draw(tw_painter *p, uint32_t number, int64_t t_us)
{
    memcpy(p->scene_px, p->ground, (size_t)p->width * p->height);
    for (size_t i = 0; i < CROSSINGS; i++)
        draw_crossing(p, &KERB_CROSSINGS[i], t_us, p->seed + 100 + 10 * (uint32_t)i);
    light_row(p, t_us);
    light_and_noise(p, number);
    return (tw_luma){p->out, p->width, p->width, p->height};
}
