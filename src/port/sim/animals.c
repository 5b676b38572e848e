/* The animals of the scenes: each is a list of parts, in units of its body's half axes.
 */
#include "animals.h"

#include "chance.h"

#define COUNT(list) (sizeof(list) / sizeof *(list))

/* A part is what is near a line from one place to another: round where both are the same.
 * x goes ahead, y down. */
typedef struct part {
    float x0, y0, x1, y1;
    float thick; /* half of it, in the body's height */
    int light;   /* against the skin */
    float swing; /* of its second place, to and fro with each step; legs */
    bool spiny;
} part;

static const part TOAD[] = {
    {-0.62F, 0.35F, -0.95F, 0.80F, 0.20F, -12, 0.20F, false}, /* hind leg */
    {-0.30F, 0.10F, 0.20F, 0.05F, 0.80F, 0, 0, false},
    {0.05F, -0.15F, 0.45F, -0.05F, 0.66F, 6, 0, false},
    {0.80F, -0.28F, 0.92F, -0.18F, 0.46F, 8, 0, false},
    {0.45F, 0.35F, 0.62F, 0.85F, 0.17F, -8, -0.20F, false}, /* fore leg */
    {0.92F, -0.66F, 0.92F, -0.66F, 0.15F, 60, 0, false},    /* its eye shines */
};
static const part HEDGEHOG[] = {
    {-0.35F, 0.60F, -0.40F, 0.95F, 0.13F, -22, 0.16F, false},
    {0.35F, 0.60F, 0.35F, 0.95F, 0.13F, -22, -0.16F, false},
    {-0.28F, 0.12F, 0.28F, 0.10F, 0.84F, 0, 0, true},
    {0.55F, 0.22F, 0.90F, 0.30F, 0.42F, -4, 0, false},
    {0.95F, 0.30F, 1.22F, 0.42F, 0.17F, -10, 0, false},
    {0.92F, 0.10F, 0.92F, 0.10F, 0.12F, 60, 0, false},
    {1.26F, 0.42F, 1.26F, 0.42F, 0.12F, -60, 0, false},
};
static const part FOX[] = {
    {-1.00F, -0.20F, -1.42F, 0.40F, 0.34F, -6, 0, false}, /* brush */
    {-0.66F, 0.20F, -0.72F, 1.45F, 0.11F, -16, 0.22F, false},
    {-0.50F, 0.20F, -0.46F, 1.45F, 0.11F, -10, -0.22F, false},
    {0.58F, 0.20F, 0.56F, 1.45F, 0.10F, -16, -0.22F, false},
    {0.70F, 0.20F, 0.74F, 1.45F, 0.10F, -10, 0.22F, false},
    {-0.60F, -0.05F, 0.62F, -0.02F, 0.54F, 0, 0, false},
    {0.74F, -0.10F, 1.02F, -0.70F, 0.30F, 2, 0, false},
    {1.00F, -0.78F, 1.24F, -0.60F, 0.30F, 6, 0, false},
    {1.28F, -0.58F, 1.46F, -0.46F, 0.13F, 0, 0, false},
    {0.92F, -1.00F, 0.88F, -1.20F, 0.09F, -14, 0, false},
    {1.06F, -1.00F, 1.06F, -1.22F, 0.09F, -8, 0, false},
    {1.20F, -0.74F, 1.20F, -0.74F, 0.09F, 60, 0, false},
};
static const part HERON[] = {
    {-0.10F, 0.20F, -0.10F, 1.05F, 0.045F, -24, 0.10F, false},
    {0.20F, 0.20F, 0.24F, 1.05F, 0.045F, -24, -0.10F, false},
    {-0.95F, 0.22F, -0.20F, 0.00F, 0.13F, -10, 0, false}, /* tail */
    {-0.30F, -0.02F, 0.30F, -0.16F, 0.25F, 0, 0, false},
    {0.42F, -0.26F, 0.86F, -0.52F, 0.085F, 8, 0, false}, /* neck */
    {0.86F, -0.52F, 0.52F, -0.78F, 0.080F, 8, 0, false},
    {0.52F, -0.78F, 0.76F, -1.00F, 0.080F, 10, 0, false},
    {0.80F, -1.02F, 1.02F, -1.02F, 0.095F, 12, 0, false},
    {1.10F, -1.02F, 1.95F, -0.94F, 0.040F, 0, 0, false}, /* beak */
    {0.72F, -1.08F, 0.30F, -1.02F, 0.030F, -40, 0, false},
};
static const part MOORHEN[] = {
    {-0.70F, -0.10F, -1.10F, -0.55F, 0.28F, 4, 0, false},
    {-0.40F, 0.15F, 0.40F, 0.15F, 0.72F, 0, 0, false},
    {0.62F, -0.20F, 0.78F, -0.70F, 0.34F, 0, 0, false},
    {0.95F, -0.66F, 1.25F, -0.58F, 0.16F, 40, 0, false},
};

typedef struct body {
    const part *parts;
    size_t count;
    float step; /* steps in the length of its body's half axis */
} body;

static body body_of(twi_animal animal)
{
    switch (animal) {
    case TWI_HEDGEHOG: return (body){HEDGEHOG, COUNT(HEDGEHOG), 1.3F};
    case TWI_FOX: return (body){FOX, COUNT(FOX), 0.5F};
    case TWI_HERON: return (body){HERON, COUNT(HERON), 0.6F};
    case TWI_MOORHEN: return (body){MOORHEN, COUNT(MOORHEN), 1.0F};
    case TWI_TOAD: break;
    }
    return (body){TOAD, COUNT(TOAD), 1.2F};
}

/* A part where it lies in the picture, pixels. */
typedef struct limb {
    float x0, y0, x1, y1, thick;
} limb;

static limb limb_of(const twi_sheet *s, const part *a, const twi_pose *pose, float swing)
{
    const float w = (float)s->width, cx = pose->x * w, cy = pose->y * (float)s->height;
    const float across = pose->ahead * pose->length * w, down = pose->height * w;
    return (limb){cx + a->x0 * across, cy + a->y0 * down,
                  cx + (a->x1 + a->swing * swing) * across, cy + a->y1 * down,
                  a->thick * down};
}

/* The square of how far a place is from a limb, in its thickness. */
static float away(const limb *l, float x, float y)
{
    const float dx = l->x1 - l->x0, dy = l->y1 - l->y0, whole = dx * dx + dy * dy;
    float share = whole > 0.0F ? ((x - l->x0) * dx + (y - l->y0) * dy) / whole : 0.0F;
    share = share < 0.0F ? 0.0F : share > 1.0F ? 1.0F : share;
    const float u = x - l->x0 - share * dx, v = y - l->y0 - share * dy;
    return (u * u + v * v) / (l->thick * l->thick);
}

/* Skin is mottled and lit from above; spines are streaks across the back. */
static float skin_at(const part *a, const twi_pose *pose, const limb *l, float x, float y,
                     uint32_t seed)
{
    const float size = 5.0F / (l->thick + 1.0F);
    const float u = (x - l->x0) * pose->ahead * size + 64.0F,
                v = (y - l->y0) * size + 64.0F;
    const float mottle =
        a->spiny ? 20.0F * twi_value_noise(u * 2.6F + v * 1.1F, v * 0.5F, seed)
                 : (l->thick > 6.0F ? 12.0F : 4.0F) * twi_value_noise(u, v, seed);
    const float down = (y - l->y0) / (l->thick + 1.0F);
    const float lit = 0.8F - 0.4F * (down < -1.0F ? -1.0F : down > 1.0F ? 1.0F : down);
    return 44.0F + (float)(pose->brightness + a->light) * lit + mottle;
}

static float least(float a, float b)
{
    return a < b ? a : b;
}

static void draw_part(const twi_sheet *s, const part *a, const twi_pose *pose,
                      const limb *l, uint32_t seed)
{
    const float left = least(l->x0, l->x1) - l->thick,
                top = least(l->y0, l->y1) - l->thick;
    const float right = l->x0 + l->x1 - least(l->x0, l->x1) + l->thick;
    const float bottom = l->y0 + l->y1 - least(l->y0, l->y1) + l->thick;
    for (int32_t y = (int32_t)top - 1; y <= (int32_t)bottom + 1; y++)
        for (int32_t x = (int32_t)left - 1; x <= (int32_t)right + 1; x++) {
            if (x < 0 || y < 0 || x >= s->width || y >= s->height)
                continue;
            const float d = away(l, (float)x, (float)y);
            if (d >= 1.0F)
                continue;
            const float edge = d > 0.7F ? (1.0F - d) / 0.3F : 1.0F;
            uint8_t *at = &s->px[(size_t)y * s->width + (size_t)x];
            float skin = skin_at(a, pose, l, (float)x, (float)y, seed);
            skin = skin < 8.0F ? 8.0F : skin > 220.0F ? 220.0F : skin;
            *at = (uint8_t)((float)*at + (skin - (float)*at) * edge);
        }
}

void twi_animal_draw(const twi_sheet *sheet, twi_animal animal, const twi_pose *pose,
                     uint32_t seed)
{
    const body b = body_of(animal);
    const float swing = twi_wave(pose->gone / pose->length * b.step);
    for (size_t i = 0; i < b.count; i++) {
        const limb l = limb_of(sheet, &b.parts[i], pose, swing);
        if (l.thick > 0.0F)
            draw_part(sheet, &b.parts[i], pose, &l, seed + (uint32_t)i);
    }
}
