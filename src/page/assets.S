/* The bytes of the files of the page, from the folder that they are packed into. */
    .section .rodata
#define ASSET(name, file)                                                               \
    .global twi_asset_##name; .hidden twi_asset_##name; twi_asset_##name: .incbin file;     \
    .global twi_asset_##name##_end; .hidden twi_asset_##name##_end; twi_asset_##name##_end: \
    .byte 0
ASSET(html, "page.html.gz")
ASSET(css, "page.css.gz")
ASSET(common_js, "common.js.gz")
ASSET(days_js, "days.js.gz")
ASSET(form_js, "form.js.gz")
ASSET(limits_js, "limits.js.gz")
ASSET(live_js, "live.js.gz")
ASSET(missed_js, "missed.js.gz")
ASSET(page_js, "page.js.gz")
ASSET(near_js, "near.js.gz")
ASSET(phones_js, "phones.js.gz")
ASSET(several_js, "several.js.gz")
ASSET(station_js, "station.js.gz")
ASSET(worker_js, "worker.js.gz")
ASSET(zones_js, "zones.js.gz")
ASSET(chart_js, "chart.js.gz")
ASSET(icon, "icon.svg.gz")
ASSET(icon_192, "icon-192.png.gz")
ASSET(icon_512, "icon-512.png.gz")
ASSET(manifest, "page.webmanifest.gz")
ASSET(bootstrap, "bootstrap.css.gz")
    .section .note.GNU-stack,"",%progbits
