/* The bytes of the files of the page, from the folder that they are packed into. */
    .section .rodata
#define ASSET(name, file)                                                               \
    .global tw_asset_##name; .hidden tw_asset_##name; tw_asset_##name: .incbin file;     \
    .global tw_asset_##name##_end; .hidden tw_asset_##name##_end; tw_asset_##name##_end: \
    .byte 0
ASSET(html, "page.html.gz")
ASSET(css, "page.css.gz")
ASSET(js, "page.js.gz")
ASSET(icon, "icon.svg.gz")
ASSET(bootstrap, "bootstrap.css.gz")
    .section .note.GNU-stack,"",%progbits
