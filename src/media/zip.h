/* What the zip module does: ZIP files, by libarchive. What is in them is stored as it is,
 * as pictures and video do not get smaller; files over 4 GB are fine (ZIP64). */
#ifndef TWI_ZIP_H
#define TWI_ZIP_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

enum { TWI_ZIP_ABI = 2, TWI_ZIP_NAME = 1024 };

/* A file that is being written. One thread at a time. */
typedef struct twi_zip twi_zip;

typedef struct twi_unzip twi_unzip; /* one that is read; likewise */

/** Takes what is next of the file. @return false: it cannot. */
typedef bool (*twi_zip_write_fn)(void *ctx, const void *data, size_t bytes);

typedef struct twi_zip_module {
    int abi; /* TWI_ZIP_ABI */
    tw_status (*open)(twi_zip_write_fn write, void *ctx, twi_zip **out, tw_error *err);
    /** Begin an entry.
     * @param name  UTF-8, with "/" between folders.
     * @param bytes  That will be given; what is more is left out, and less is fine. */
    tw_status (*begin)(twi_zip *zip, const char *name, uint64_t bytes, int64_t wall_us,
                       tw_error *err);
    tw_status (*data)(twi_zip *zip, const void *data, size_t bytes, tw_error *err);
    /** Write the directory that ends it. */
    tw_status (*finish)(twi_zip *zip, tw_error *err);
    void (*free)(twi_zip *zip); /* NULL is fine; nothing is written any more */

    /** Open a file for reading. */
    tw_status (*read_open)(const char *path, twi_unzip **out, tw_error *err);
    /** Go on to the next entry that is a plain file.
     * @param name  Set to its name, which may be anything.
     * @return TW_OK; TW_EEND: there are no more; TW_EDAMAGED. */
    tw_status (*read_next)(twi_unzip *zip, char name[TWI_ZIP_NAME], tw_error *err);
    /** What comes next of the entry. @return bytes; 0: its end; -1: it is damaged. */
    long (*read_data)(twi_unzip *zip, void *out, size_t room, tw_error *err);
    void (*read_free)(twi_unzip *zip); /* NULL is fine */
} twi_zip_module;

/** What the module exports. */
extern const twi_zip_module twi_zip_table;

/** As twi_codecs_load. */
const twi_zip_module *twi_zip_load(tw_error *err);

#endif
