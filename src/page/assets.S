/* The bytes of the page's files; ASSETS is the folder that they are packed into. */
    .section .rodata
#define ASSET(name, file)                                                               \
    .global tw_asset_##name; .hidden tw_asset_##name; tw_asset_##name: .incbin file;     \
    .global tw_asset_##name##_end; .hidden tw_asset_##name##_end; tw_asset_##name##_end: \
    .byte 0
ASSET(html, ASSETS "/page.html.gz")
ASSET(css, ASSETS "/page.css.gz")
ASSET(js, ASSETS "/page.js.gz")
ASSET(icon, ASSETS "/icon.svg.gz")
ASSET(bootstrap, ASSETS "/bootstrap.css.gz")
    .section .note.GNU-stack,"",%progbits
