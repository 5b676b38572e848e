/* Kinds of captures. */
#include <string.h>

#include "naming.h"

const char *twi_kind_name(twi_kind kind)
{
    static const char *const names[TWI_KIND_COUNT] = {
        "still",           "clip",           "segment", "timed-still", "timed-clip",
        "captioned-still", "captioned-clip", "snap",    "reel"};
    return kind < TWI_KIND_COUNT ? names[kind] : "?";
}

twi_kind twi_kind_find(const char *name)
{
    int k = 0;
    while (name && k < TWI_KIND_COUNT && strcmp(name, twi_kind_name((twi_kind)k)) != 0)
        k++;
    return name ? (twi_kind)k : TWI_KIND_COUNT;
}

bool twi_kind_of_sighting(twi_kind kind)
{
    return kind == TWI_KIND_STILL || kind == TWI_KIND_CLIP ||
           kind == TWI_KIND_CAPTIONED_STILL || kind == TWI_KIND_CAPTIONED_CLIP;
}

bool twi_kind_is_video(twi_kind kind)
{
    return kind == TWI_KIND_CLIP || kind == TWI_KIND_SEGMENT ||
           kind == TWI_KIND_TIMED_CLIP || kind == TWI_KIND_CAPTIONED_CLIP ||
           kind == TWI_KIND_REEL;
}

static bool ends(const char *name, const char *with)
{
    const size_t n = strlen(name), m = strlen(with);
    return n >= m && memcmp(name + n - m, with, m) == 0;
}

const char *twi_media_type(const char *name)
{
    if (name && ends(name, ".jpg"))
        return "image/jpeg";
    return name && ends(name, ".mp4") ? "video/mp4" : "application/octet-stream";
}
