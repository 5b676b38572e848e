/* Which files there are. */
#include "assets.h"

#include <string.h>

#define DECLARE(name)                                                                    \
    extern const unsigned char tw_asset_##name[], tw_asset_##name##_end[]

DECLARE(html);
DECLARE(css);
DECLARE(js);
DECLARE(icon);
DECLARE(bootstrap);

#define ASSET(path, type, name, lasting)                                                 \
    {                                                                                    \
        path, type, tw_asset_##name, tw_asset_##name##_end, lasting                      \
    }

const tw_asset *tw_asset_find(const char *path)
{
    static const tw_asset all[] = {
        ASSET("/", "text/html; charset=utf-8", html, false),
        ASSET("/page.css", "text/css; charset=utf-8", css, false),
        ASSET("/page.js", "text/javascript; charset=utf-8", js, false),
        ASSET("/icon.svg", "image/svg+xml", icon, false),
        ASSET("/bootstrap.css", "text/css; charset=utf-8", bootstrap, true)};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (strcmp(all[i].path, path) == 0)
            return &all[i];
    return NULL;
}
