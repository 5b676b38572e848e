/* The files of the page, gzipped, in the program itself. */
#ifndef TWI_PAGE_ASSETS_H
#define TWI_PAGE_ASSETS_H

#include <stdbool.h>

typedef struct twi_asset {
    const char *path, *type;
    const unsigned char *data, *end;
    bool lasting; /* it is of a package: it may be kept for a day */
} twi_asset;

/** @return NULL: there is no such file. */
const twi_asset *twi_asset_find(const char *path);

#endif
