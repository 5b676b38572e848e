/* The files of the page, gzipped, in the program itself. */
#ifndef TW_PAGE_ASSETS_H
#define TW_PAGE_ASSETS_H

#include <stdbool.h>

typedef struct tw_asset {
    const char *path, *type;
    const unsigned char *data, *end;
    bool lasting; /* it is of a package: it may be kept for a day */
} tw_asset;

/** @return NULL: there is no such file. */
const tw_asset *tw_asset_find(const char *path);

#endif
