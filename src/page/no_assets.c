/* A library without a server has no files of the page. */
#include "assets.h"

#include <stddef.h>

const twi_asset *twi_asset_find(const char *path)
{
    (void)path;
    return NULL;
}
