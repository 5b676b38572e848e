/* The places at Hollin Lane: a lane with kerb and verge, a tunnel below it, a mere with
 * reeds. Each is worked out pixel by pixel, once. */
#include "grounds.h"

#include "chance.h"

#define SHAPE 0.5625F /* of the picture: the unit of both axes is its width */

static float mix(float a, float b, float share)
{
    return share <= 0.0F ? a : share >= 1.0F ? b : a + (b - a) * share;
}

static float gone_from(float a, float b) /* how far apart two places are */
{
    return a > b ? a - b : b - a;
}

/* ---- what all of them have -----------------------------------------------------------
 */

static float star_at(float x, float y, uint32_t seed)
{
    const uint32_t h = twi_hash3((uint32_t)(x * 150.0F), (uint32_t)(y * 90.0F), seed);
    if (h % 53 != 0)
        return 0.0F;
    const float u = twi_fraction(x * 150.0F) - 0.5F, v = twi_fraction(y * 90.0F) - 0.5F;
    return (float)(16 + (h >> 8 & 31)) * twi_bump(7.0F * (u * u + v * v));
}

/* How high the wood stands there, from its foot. */
static float crown_at(float x, uint32_t seed)
{
    const float far = 0.5F + 0.5F * twi_value_noise(x * 9.0F, 1.0F, seed);
    const float near = 0.5F + 0.5F * twi_value_noise(x * 31.0F, 2.0F, seed + 1);
    return 0.05F + 0.11F * far + 0.035F * near;
}

/* Bare trunks before the sky. */
static bool is_trunk(float x, float y, float foot, uint32_t seed)
{
    const uint32_t cell = (uint32_t)(x * 14.0F), h = twi_hash3(cell, 3, seed);
    const float middle = 0.3F + 0.4F * (float)(h & 255) / 255.0F;
    const float high = 0.14F + 0.10F * (float)(h >> 8 & 255) / 255.0F;
    return h % 3 == 0 && y > foot - high &&
           gone_from(twi_fraction(x * 14.0F), middle) < 0.03F;
}

/* Sky with stars, and a wood that stands on the horizon. */
static float sky_at(float x, float y, float foot, bool night, uint32_t seed)
{
    const float wood = 25.0F + 5.0F * twi_value_noise(x * 60.0F, y * 50.0F, seed + 2);
    if (foot - y < crown_at(x, seed))
        return wood - 6.0F * (foot - y < 0.05F ? 1.0F : 0.0F);
    if (is_trunk(x, y, foot, seed))
        return 34.0F;
    return mix(30.0F, 42.0F, y / foot) + (night ? star_at(x, y, seed + 3) : 16.0F);
}

/* ---- grass: rows of blades, those in front before those behind
 * -------------------------- */

enum { ROWS = 30, BEFORE = 6 }; /* rows that may reach up to a place */

/* What a blade of one row adds there; 0: none stands before it. */
static float blade_at(float x, float near, int32_t row, uint32_t seed)
{
    const float foot = (float)(row * row) / (float)(ROWS * ROWS), up = foot - near;
    const float wide = 30.0F / (0.10F + foot), at = (x + 1.0F) * wide;
    const float most = 0.03F + 0.20F * foot;
    for (int32_t side = -1; side <= 1; side++) { /* they lean over their neighbours */
        const int32_t cell = (int32_t)at + side;
        const uint32_t h = twi_hash3((uint32_t)cell, (uint32_t)row, seed);
        const float tall = most * (0.35F + 0.65F * (float)(h & 255) / 255.0F);
        if (up <= 0.0F || up >= tall || h % 5 == 0)
            continue;
        const float share = up / tall,
                    lean = ((float)(h >> 8 & 255) / 255.0F - 0.4F) * 1.6F;
        const float middle = (float)cell + 0.5F + lean * share * share;
        if (gone_from(at, middle) < 0.34F * (1.0F - share) + 0.05F)
            return 28.0F +
                   34.0F * (float)(h >> 16 & 255) / 255.0F * (0.55F + 0.45F * share);
    }
    return 0.0F;
}

/* Grass as it is seen from above its foot; near is 0 at the horizon, 1 at the lower edge.
 */
static float grass_at(float x, float near, uint32_t seed)
{
    const int32_t behind = (int32_t)(ROWS * twi_root(near < 0.0F ? 0.0F : near));
    for (int32_t row = behind + BEFORE; row > behind; row--) {
        const float blade = blade_at(x, near, row, seed);
        if (blade > 0.0F)
            return blade * mix(0.72F, 1.12F, near);
    }
    return mix(26.0F, 38.0F, near) +
           7.0F * twi_value_noise((x + 1.0F) * 70.0F, near * 60.0F, seed + 1);
}

/* ---- kerb: the lane goes up to the right, its verge lies to the left
 * -------------------- */

#define HORIZON 0.28F

static float stone_at(float x, float y, float near, uint32_t seed)
{
    const float deep = 1.0F / (near + 0.05F), joint = twi_fraction(deep * 1.9F);
    const float shade = (float)(twi_hash3((uint32_t)(deep * 1.9F), 9, seed) & 7);
    if (joint < 0.05F + 0.04F / (near + 0.3F))
        return 44.0F;
    return 66.0F + shade + 6.0F * twi_value_noise(x * 110.0F, y * 110.0F, seed + 2);
}

static float tarmac_at(float x, float y, float from_kerb, float near, uint32_t seed)
{
    const float dash = from_kerb - 0.36F * near - 0.02F;
    const bool marked = gone_from(dash, 0.0F) < 0.003F + 0.016F * near &&
                        twi_fraction(1.1F / (near + 0.06F)) < 0.42F;
    const float crack = twi_value_noise(x * 7.0F, y * 9.0F, seed + 6);
    const float grain = 6.0F * twi_value_noise(x * 150.0F, y * 110.0F, seed + 3) +
                        5.0F * twi_value_noise(x * 9.0F, y * 7.0F, seed + 4);
    if (marked)
        return 62.0F + grain;
    return mix(34.0F, 46.0F, near) + grain -
           (gone_from(crack, 0.1F) < 0.012F ? 9.0F : 0.0F);
}

/* Umbels in the verge. */
static float umbel_at(float x, float y, float near, uint32_t seed)
{
    const uint32_t h = twi_hash3((uint32_t)(x * 26.0F), (uint32_t)(y * 16.0F), seed);
    if (near < 0.45F || h % 9 != 0)
        return 0.0F;
    const float u = twi_fraction(x * 26.0F) - 0.5F, v = twi_fraction(y * 16.0F) - 0.5F;
    return (26.0F + 8.0F * twi_value_noise(x * 200.0F, y * 160.0F, seed)) *
           twi_bump(2.6F * (u * u + v * v) * 2.0F);
}

static float lane_at(float x, float y, bool night, uint32_t seed)
{
    if (y < HORIZON)
        return sky_at(x, y, HORIZON, night, seed + 20);
    const float near = (y - HORIZON) / (1.0F - HORIZON);
    const float edge = 0.70F - 0.52F * near, wide = 0.010F + 0.105F * near;
    const float from = x - edge;
    if (from < 0.0F)
        return grass_at(x, near, seed) + umbel_at(x, y, near, seed + 7);
    if (from < wide)
        return stone_at(x, y, near, seed);
    if (from < 1.5F * wide)
        return 48.0F;
    if (from < 1.8F * wide)
        return 33.0F;
    return tarmac_at(x, y, from - 1.8F * wide, near, seed);
}

/* ---- tunnel: a vault of bricks, its far mouth, silt along the bottom
 * -------------------- */

#define MOUTH 0.085F

static float mouth_at(float x, float y, uint32_t seed)
{
    const float blade = twi_value_noise(x * 190.0F, y * 14.0F, seed + 8);
    const bool grass = y > 0.43F - 0.05F * blade;
    return grass ? 30.0F + 8.0F * blade : 62.0F + star_at(x, y, seed + 9);
}

static float brick_at(float dx, float dy, float radius, uint32_t seed)
{
    const float deep = 0.55F / radius, ring = deep * 3.4F;
    const float wide = dx < 0.0F ? -dx : dx, high = dy < 0.0F ? -dy : dy;
    const float along = 11.0F * wide / (wide + high) + (dx < 0.0F ? 40.0F : 0.0F);
    const uint32_t row = (uint32_t)ring;
    const float stone = along + ((row & 1U) ? 0.5F : 0.0F);
    const float joint = 0.07F + 0.05F / (radius + 0.3F) * 0.3F;
    const float shade = (float)(twi_hash3(row, (uint32_t)stone, seed + 3) & 15);
    const float light = mix(34.0F, 52.0F, radius * 2.4F);
    if (twi_fraction(ring) < joint || twi_fraction(stone) < joint)
        return light - 12.0F;
    return light + shade - 6.0F;
}

static float leaf_litter(float x, float y, uint32_t seed)
{
    const uint32_t h = twi_hash3((uint32_t)(x * 17.0F), (uint32_t)(y * 26.0F), seed);
    if (y < 0.74F || h % 4 != 0)
        return 0.0F;
    const float u = twi_fraction(x * 17.0F) - 0.5F, v = twi_fraction(y * 26.0F) - 0.5F;
    const float turned = u * 2.2F + v * (h & 64 ? 1.4F : -1.4F);
    return turned * turned + 9.0F * v * v < 0.8F ? 14.0F : 0.0F;
}

static float silt_at(float x, float y, float dx, float near, uint32_t seed)
{
    const float wide = dx < 0.0F ? -dx : dx;
    const float wet = wide < 0.02F + 0.26F * near ? 8.0F : 0.0F;
    return mix(30.0F, 44.0F, near * 2.2F) + wet + leaf_litter(x, y, seed + 5) +
           8.0F * twi_value_noise(x * 90.0F, y * 80.0F, seed + 2) +
           5.0F * twi_value_noise(x * 12.0F, y * 14.0F, seed + 4);
}

static float vault_at(float x, float y, uint32_t seed)
{
    const float dx = x - 0.56F, dy = (y - 0.47F) * SHAPE;
    const float wide = dx < 0.0F ? -dx : dx;
    const float radius = twi_root(dx * dx + dy * dy), floor = 0.052F + 0.13F * wide;
    if (dy < 0.052F && radius < MOUTH)
        return mouth_at(x, y, seed);
    if (dy < 0.054F && radius < MOUTH + 0.004F)
        return 64.0F;
    if (dy > floor)
        return silt_at(x, y, dx, dy - 0.052F, seed);
    return brick_at(dx, dy, radius, seed) +
           5.0F * twi_value_noise(x * 160.0F, y * 120.0F, seed + 1);
}

/* ---- mere: the far wood and its reflection, a moon, reeds, a muddy shore
 * ---------------- */

bool twi_is_water(float x, float y)
{
    return y > 0.30F + 0.03F * x && y < 0.58F;
}

static float moon_at(float x, float y)
{
    const float dx = x - 0.72F, dy = (y - 0.10F) * SHAPE;
    const float shaded = (dx + 0.009F) * (dx + 0.009F) + (dy + 0.003F) * (dy + 0.003F);
    const float d = dx * dx + dy * dy, disc = 0.026F * 0.026F;
    return d < disc && shaded > disc * 0.8F ? 70.0F : 16.0F * twi_bump(d * 40.0F);
}

static float reflection_at(float x, float y, uint32_t seed)
{
    const float shore = 0.30F + 0.03F * x, deep = y - shore;
    const bool wood = deep < crown_at(x, seed + 20) * 0.9F;
    const bool path = gone_from(x, 0.72F) < 0.018F + 0.05F * deep &&
                      twi_value_noise(x * 30.0F, y * 170.0F, seed + 6) > 0.15F;
    return (wood ? 44.0F : 58.0F) + (path ? 34.0F : 0.0F) +
           5.0F * twi_value_noise(x * 24.0F, y * 130.0F, seed);
}

/* Stalks in clumps at both sides, some with a head. */
static float reed_at(float x, float y, uint32_t seed)
{
    const float clump = x < 0.5F ? x / 0.27F : (1.0F - x) / 0.15F;
    if (clump > 1.0F || y < 0.26F)
        return 0.0F;
    const float lean = 0.012F * (0.8F - y) * twi_value_noise(x * 40.0F, 3.0F, seed + 9);
    const float at = (x + lean + 1.0F) * 105.0F;
    const uint32_t h = twi_hash3((uint32_t)at, 7, seed + 8);
    const float top = 0.30F + 0.3F * (float)(h & 255) / 255.0F * (0.4F + clump);
    const float foot = 0.70F + 0.10F * (float)(h >> 8 & 255) / 255.0F;
    const float from = gone_from(twi_fraction(at), 0.5F);
    if (h % 8 < 3 || y < top || y > foot)
        return 0.0F;
    if (h % 4 == 1 && y < top + 0.075F)
        return from < 0.46F ? 34.0F : 0.0F;
    return from < 0.30F ? 46.0F + 34.0F * (float)(h >> 16 & 255) / 255.0F : 0.0F;
}

static float shore_at(float x, float y, uint32_t seed)
{
    const float near = (y - 0.58F) / 0.42F;
    for (int32_t row = ROWS + 5; row > ROWS - 2; row--) { /* grass along the lower edge */
        const float blade = blade_at(x, near, row, seed + 4);
        if (blade > 0.0F)
            return blade;
    }
    return mix(42.0F, 54.0F, near) +
           9.0F * twi_value_noise(x * 60.0F, y * 50.0F, seed + 2) +
           9.0F * twi_value_noise(x * 140.0F, y * 110.0F, seed + 3);
}

static float mere_at(float x, float y, bool night, uint32_t seed)
{
    const float reed = reed_at(x, y, seed);
    if (reed > 0.0F)
        return reed;
    if (twi_is_water(x, y))
        return reflection_at(x, y, seed);
    if (y < 0.4F)
        return sky_at(x, y, 0.30F + 0.03F * x, night, seed + 20) + moon_at(x, y);
    return shore_at(x, y, seed);
}

/* ---- all of them
 * ----------------------------------------------------------------------- */

float twi_ground_at(twi_ground ground, float x, float y, bool night, uint32_t seed)
{
    switch (ground) {
    case TWI_GROUND_CULVERT: return vault_at(x, y, seed);
    case TWI_GROUND_POND: return mere_at(x, y, night, seed);
    case TWI_GROUND_VERGE: break;
    }
    return lane_at(x, y, night, seed);
}

/* The grass of the verge, the wood behind it, and reeds and grass at the water's edge. */
float twi_loose_at(twi_ground ground, float x, float y, uint32_t seed)
{
    const float patch = 0.5F + 0.5F * twi_value_noise(x * 7.0F, y * 5.0F, seed + 40);
    const float near = (y - HORIZON) / (1.0F - HORIZON);
    const bool verge = ground == TWI_GROUND_VERGE && y > 0.1F &&
                       (y < HORIZON || x < 0.69F - 0.52F * near);
    const bool reeds = ground == TWI_GROUND_POND &&
                       ((y > 0.5F && y < 0.72F) || reed_at(x, y, seed) > 0.0F);
    return verge || reeds ? patch : 0.0F;
}
