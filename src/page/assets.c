/* Which files there are. */
#include "assets.h"

#include <string.h>

#define DECLARE(name)                                                                    \
    extern const unsigned char twi_asset_##name[], twi_asset_##name##_end[]

DECLARE(html);
DECLARE(css);
DECLARE(common_js);
DECLARE(days_js);
DECLARE(form_js);
DECLARE(limits_js);
DECLARE(live_js);
DECLARE(missed_js);
DECLARE(page_js);
DECLARE(near_js);
DECLARE(phones_js);
DECLARE(several_js);
DECLARE(station_js);
DECLARE(worker_js);
DECLARE(zones_js);
DECLARE(chart_js);
DECLARE(icon);
DECLARE(icon_192);
DECLARE(icon_512);
DECLARE(manifest);
DECLARE(bootstrap);

#define ASSET(path, type, name, lasting)                                                 \
    {                                                                                    \
        path, type, twi_asset_##name, twi_asset_##name##_end, lasting                    \
    }

#define SCRIPT(name, lasting)                                                            \
    ASSET("/" #name ".js", "text/javascript; charset=utf-8", name##_js, lasting)

const twi_asset *twi_asset_find(const char *path)
{
    static const twi_asset all[] = {
        ASSET("/", "text/html; charset=utf-8", html, false),
        ASSET("/page.css", "text/css; charset=utf-8", css, false),
        SCRIPT(common, false),
        SCRIPT(days, false),
        SCRIPT(form, false),
        SCRIPT(limits, false),
        SCRIPT(live, false),
        SCRIPT(missed, false),
        SCRIPT(page, false),
        SCRIPT(near, false),
        SCRIPT(phones, false),
        SCRIPT(several, false),
        SCRIPT(station, false),
        SCRIPT(worker, false),
        SCRIPT(zones, false),
        SCRIPT(chart, true),
        ASSET("/icon.svg", "image/svg+xml", icon, false),
        ASSET("/icon-192.png", "image/png", icon_192, true),
        ASSET("/icon-512.png", "image/png", icon_512, true),
        ASSET("/page.webmanifest", "application/manifest+json", manifest, false),
        ASSET("/bootstrap.css", "text/css; charset=utf-8", bootstrap, true)};
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (strcmp(all[i].path, path) == 0)
            return &all[i];
    return NULL;
}
