/* Chance that is the same on every machine. */
#include "chance.h"

uint32_t twi_hash3(uint32_t a, uint32_t b, uint32_t c)
{
    return twi_hash(a * 0x9E3779B9U ^ twi_hash(b * 0x85EBCA6BU ^ twi_hash(c)));
}

float twi_value_noise(float x, float y, uint32_t seed)
{
    const uint32_t ix = (uint32_t)x, iy = (uint32_t)y;
    float fx = x - (float)ix, fy = y - (float)iy;
    fx = fx * fx * (3.0F - 2.0F * fx);
    fy = fy * fy * (3.0F - 2.0F * fy);
    const float scale = 1.0F / 32767.5F;
    const float a = (float)(twi_hash3(ix, iy, seed) & 0xFFFF) * scale - 1.0F;
    const float b = (float)(twi_hash3(ix + 1, iy, seed) & 0xFFFF) * scale - 1.0F;
    const float c = (float)(twi_hash3(ix, iy + 1, seed) & 0xFFFF) * scale - 1.0F;
    const float d = (float)(twi_hash3(ix + 1, iy + 1, seed) & 0xFFFF) * scale - 1.0F;
    const float top = a + (b - a) * fx, bottom = c + (d - c) * fx;
    return top + (bottom - top) * fy;
}

float twi_wave(float t)
{
    const float f = t - (float)(int32_t)t;
    return f < 0.5F ? 16.0F * f * (0.5F - f) : -16.0F * (f - 0.5F) * (1.0F - f);
}

float twi_bump(float u)
{
    const float v = 1.0F - u * u;
    return v > 0.0F ? v * v : 0.0F;
}

float twi_fraction(float x)
{
    const float f = x - (float)(int32_t)x;
    return f < 0.0F ? f + 1.0F : f;
}

float twi_root(float x)
{
    float r = x > 1.0F ? x : 1.0F;
    for (int i = 0; x > 0.0F && i < 14; i++)
        r = 0.5F * (r + x / r);
    return x > 0.0F ? r : 0.0F;
}
