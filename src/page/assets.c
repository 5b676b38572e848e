/* Which files there are. */
#include "assets.h"

#include <string.h>

#define DECLARE(name)                                                                    \
    extern const unsigned char twi_asset_##name[], twi_asset_##name##_end[]

DECLARE(html);
DECLARE(css);
DECLARE(amiss_js);
DECLARE(came_js);
DECLARE(common_js);
DECLARE(controls_js);
DECLARE(early_js);
DECLARE(days_js);
DECLARE(focus_js);
DECLARE(form_js);
DECLARE(limits_js);
DECLARE(live_js);
DECLARE(missed_js);
DECLARE(near_js);
DECLARE(overlay_js);
DECLARE(page_js);
DECLARE(phones_js);
DECLARE(right_js);
DECLARE(rows_js);
DECLARE(several_js);
DECLARE(sighting_js);
DECLARE(states_js);
DECLARE(station_js);
DECLARE(stations_js);
DECLARE(strips_js);
DECLARE(texts_js);
DECLARE(ways_js);
DECLARE(words_js);
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
        SCRIPT(amiss, false),
        SCRIPT(came, false),
        SCRIPT(common, false),
        SCRIPT(controls, false),
        SCRIPT(early, false),
        SCRIPT(days, false),
        SCRIPT(focus, false),
        SCRIPT(form, false),
        SCRIPT(limits, false),
        SCRIPT(live, false),
        SCRIPT(missed, false),
        SCRIPT(near, false),
        SCRIPT(overlay, false),
        SCRIPT(page, false),
        SCRIPT(phones, false),
        SCRIPT(right, false),
        SCRIPT(rows, false),
        SCRIPT(several, false),
        SCRIPT(sighting, false),
        SCRIPT(states, false),
        SCRIPT(station, false),
        SCRIPT(stations, false),
        SCRIPT(strips, false),
        SCRIPT(texts, false),
        SCRIPT(ways, false),
        SCRIPT(words, false),
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
