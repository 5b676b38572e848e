/* The store: captures with names, complete or not there at all. */
#ifndef TWI_STORE_H
#define TWI_STORE_H

#include "../core/naming.h"
#include "tawny/port.h"
#include "tawny/settings.h"
#include "../settings/sections.h"

#define TWI_PART ".part" /* behind the name of a capture that is being written */

typedef struct twi_store {
    tw_card card;
    const char *station; /* name; borrowed */
    const char *names;   /* pattern; borrowed */
} twi_store;

/* A capture while it is written, under its name with ".part" behind it. */
typedef struct twi_store_file {
    void *handle;
    char stem[TWI_NAME_MAX]; /* name without extension */
    char extension[8];
    char part[TWI_NAME_MAX];
    char name[TWI_NAME_MAX]; /* final; set by twi_store_commit */
    uint64_t bytes;
} twi_store_file;

/** Try whether the card can be written. @return TW_OK; TW_ENOSPC, TW_EACCES, TW_EIO. */
tw_status twi_store_probe(const tw_card *card, tw_error *err);

/** Check a pattern of names. @return TW_OK; TW_ESYNTAX: err says where it is wrong. */
tw_status twi_store_check_names(const char *names, tw_error *err);

/** Check the pattern of names, too. */
tw_status twi_store_open(twi_store *store, const tw_card *card,
                         const twi_station_settings *settings, tw_error *err);

/** Begin a capture. A name that is taken gets -2, -3... behind it. */
tw_status twi_store_begin(const twi_store *store, const twi_name_fields *fields,
                          twi_store_file *file, tw_error *err);

tw_status twi_store_append(const twi_store *store, twi_store_file *file, const void *data,
                           size_t bytes, tw_error *err);

/** Make what was appended safe on the card. */
tw_status twi_store_sync(const twi_store *store, twi_store_file *file, tw_error *err);

/** Make it safe on the card and give it its name. On an error nothing of it is left. */
tw_status twi_store_commit(const twi_store *store, twi_store_file *file, tw_error *err);

/** Give a file of the card another name: STEM.EXTENSION, or STEM-2.EXTENSION... where
 * that is taken. @param name  TWI_NAME_MAX bytes; set to it on TW_OK. */
tw_status twi_store_rename(const tw_card *card, const char *from, const char *stem,
                           const char *extension, char *name, tw_error *err);

/** Drop what was written. */
void twi_store_abandon(const twi_store *store, twi_store_file *file);

#endif
