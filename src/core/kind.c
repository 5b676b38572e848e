/* Kinds of captures. */
#include <string.h>

#include "tawny/naming.h"

const char *tw_kind_name(tw_kind kind)
{
    static const char *const names[TW_KIND_COUNT] = {
        "still",           "clip",           "segment", "timed-still", "timed-clip",
        "captioned-still", "captioned-clip", "snap"};
    return kind < TW_KIND_COUNT ? names[kind] : "?";
}

tw_kind tw_kind_find(const char *name)
{
    int k = 0;
    while (name && k < TW_KIND_COUNT && strcmp(name, tw_kind_name((tw_kind)k)) != 0)
        k++;
    return name ? (tw_kind)k : TW_KIND_COUNT;
}

bool tw_kind_of_sighting(tw_kind kind)
{
    return kind == TW_KIND_STILL || kind == TW_KIND_CLIP ||
           kind == TW_KIND_CAPTIONED_STILL || kind == TW_KIND_CAPTIONED_CLIP;
}

bool tw_kind_is_video(tw_kind kind)
{
    return kind == TW_KIND_CLIP || kind == TW_KIND_SEGMENT ||
           kind == TW_KIND_TIMED_CLIP || kind == TW_KIND_CAPTIONED_CLIP;
}

static bool ends(const char *name, const char *with)
{
    const size_t n = strlen(name), m = strlen(with);
    return n >= m && memcmp(name + n - m, with, m) == 0;
}

const char *tw_media_type(const char *name)
{
    if (name && ends(name, ".jpg"))
        return "image/jpeg";
    return name && ends(name, ".mp4") ? "video/mp4" : "application/octet-stream";
}
