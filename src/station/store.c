/* The store. Rules: 1. a file under its final name is complete and synced; 2. nothing
 * that has a final name is ever replaced; 3. what fails leaves nothing behind. */
#include "store.h"

#include <stdio.h>
#include <string.h>

#include "tawny/station.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "footage.h"

enum { SAME_NAME_MAX = 999 };

tw_status twi_store_check_names(const char *names, tw_error *err)
{
    twi_name_fields fields = {.camera = "camera",
                              .station = "station",
                              .kind = "clip",
                              .sighting = 1,
                              .n = 1,
                              .extension = "mp4"};
    twi_civil_split(0, 0, &fields.time);
    char name[TWI_NAME_MAX];
    const char *at = names;
    const tw_status st = twi_name_expand(names, &fields, name, sizeof name, &at);
    if (st == TW_ESYNTAX)
        return tw_fail(
            err, st,
            "names = %s: \"%.12s\" is no conversion or field, or the name is empty",
            names, at);
    return st == TW_OK ? TW_OK : tw_fail(err, st, "names = %s: too long", names);
}

tw_status twi_store_probe(const tw_card *card, tw_error *err)
{
    void *file = NULL;
    tw_status st = card->ops->create(card->ctx, TWI_STORE_PROBE, &file, err);
    if (st == TW_EEXIST) { /* left by a power cut */
        (void)card->ops->remove(card->ctx, TWI_STORE_PROBE, NULL);
        st = card->ops->create(card->ctx, TWI_STORE_PROBE, &file, err);
    }
    if (st != TW_OK)
        return st;
    st = card->ops->append(card->ctx, file, TWI_STORE_PROBE, sizeof TWI_STORE_PROBE, err);
    const tw_status closed = card->ops->close(card->ctx, file, st == TW_OK ? err : NULL);
    const tw_status removed = card->ops->remove(
        card->ctx, TWI_STORE_PROBE, st == TW_OK && closed == TW_OK ? err : NULL);
    if (st != TW_OK)
        return st;
    return closed != TW_OK ? closed : removed;
}

tw_status twi_store_open(twi_store *store, const tw_card *card,
                         const twi_station_settings *settings, tw_error *err)
{
    *store = (twi_store){*card, settings->name, settings->names};
    return twi_store_check_names(settings->names, err);
}

/* Name number try of a stem: the second is "stem-2.mp4". */
static bool numbered(const char *stem, const char *extension, int number,
                     const char *behind, char *out)
{
    char suffix[16] = "";
    if (number > 1)
        (void)snprintf(suffix, sizeof suffix, "-%d", number);
    const int n =
        snprintf(out, TWI_NAME_MAX, "%s%s.%s%s", stem, suffix, extension, behind);
    return n > 0 && n < TWI_NAME_MAX;
}

tw_status twi_store_rename(const tw_card *card, const char *from, const char *stem,
                           const char *extension, char *name, tw_error *err)
{
    tw_status st = TW_EEXIST;
    for (int number = 1; st == TW_EEXIST && number <= SAME_NAME_MAX; number++)
        if (numbered(stem, extension, number, "", name))
            st = card->ops->rename(card->ctx, from, name, err);
    return st;
}

tw_status twi_store_begin(const twi_store *store, const twi_name_fields *fields,
                          twi_store_file *file, tw_error *err)
{
    memset(file, 0, sizeof *file);
    twi_name_fields f = *fields;
    f.station = store->station;
    f.extension = "";
    (void)snprintf(file->extension, sizeof file->extension, "%s", fields->extension);
    tw_status st =
        twi_name_expand(store->names, &f, file->stem, sizeof file->stem - 24, NULL);
    if (st != TW_OK)
        return tw_fail(err, st, "names = %s: %s", store->names, tw_status_text(st));
    st = TW_EEXIST;
    for (int number = 1; st == TW_EEXIST && number <= SAME_NAME_MAX; number++)
        if (numbered(file->stem, file->extension, number, TWI_PART, file->part))
            st = store->card.ops->create(store->card.ctx, file->part, &file->handle, err);
    return st;
}

tw_status twi_store_append(const twi_store *store, twi_store_file *file, const void *data,
                           size_t bytes, tw_error *err)
{
    const tw_status st =
        store->card.ops->append(store->card.ctx, file->handle, data, bytes, err);
    if (st == TW_OK)
        file->bytes += bytes;
    return st;
}

tw_status twi_store_sync(const twi_store *store, twi_store_file *file, tw_error *err)
{
    return store->card.ops->sync(store->card.ctx, file->handle, err);
}

void twi_store_abandon(const twi_store *store, twi_store_file *file)
{
    if (file->handle)
        (void)store->card.ops->close(store->card.ctx, file->handle, NULL);
    file->handle = NULL;
    (void)store->card.ops->remove(store->card.ctx, file->part, NULL);
}

tw_status twi_store_commit(const twi_store *store, twi_store_file *file, tw_error *err)
{
    tw_status st = store->card.ops->sync(store->card.ctx, file->handle, err);
    const tw_status closed =
        store->card.ops->close(store->card.ctx, file->handle, st == TW_OK ? err : NULL);
    file->handle = NULL;
    if (st == TW_OK)
        st = closed;
    if (st == TW_OK)
        st = twi_store_rename(&store->card, file->part, file->stem, file->extension,
                              file->name, err);
    if (st != TW_OK)
        twi_store_abandon(store, file);
    return st;
}

tw_status twi_store_try(const tw_card *card, const twi_station_settings *station,
                        tw_error *err)
{
    twi_store store;
    tw_status st = card->ops->claim(card->ctx, err);
    if (st == TW_EACCES) /* by a station that runs: that is fine here */
        st = TW_OK;
    if (st == TW_OK)
        st = twi_store_open(&store, card, station, err);
    return st == TW_OK ? twi_store_probe(card, err) : st;
}
