/* The zip module, by libarchive. */
#include <archive.h>
#include <archive_entry.h>
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>

#include "../zip.h"
#include "tawny/version.h"

struct twi_zip {
    struct archive *archive;
    twi_zip_write_fn write;
    void *ctx;
    bool ending; /* nothing is taken any more */
};

static la_ssize_t take(struct archive *a, void *ctx, const void *data, size_t bytes)
{
    const twi_zip *z = ctx;
    if (z->ending || z->write(z->ctx, data, bytes))
        return (la_ssize_t)bytes;
    archive_set_error(a, EIO, "it cannot be written");
    return -1;
}

/* @return whether it went well, or well enough. */
static tw_status told(const twi_zip *z, int code, tw_error *err)
{
    const char *why = archive_error_string(z->archive);
    return code >= ARCHIVE_WARN
               ? TW_OK
               : tw_fail(err, TW_EIO, "ZIP: %s", why ? why : "it failed");
}

static void zip_free(twi_zip *z)
{
    if (!z)
        return;
    z->ending = true;
    if (z->archive)
        (void)archive_write_free(z->archive);
    free(z);
}

static tw_status zip_open(twi_zip_write_fn write, void *ctx, twi_zip **out, tw_error *err)
{
    twi_zip *z = calloc(1, sizeof *z);
    if (!z || !(z->archive = archive_write_new())) {
        free(z);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    z->write = write;
    z->ctx = ctx;
    /* What is written goes on at once, and in no blocks. */
    int code = archive_write_set_format_zip(z->archive);
    if (code == ARCHIVE_OK)
        code = archive_write_zip_set_compression_store(z->archive);
    if (code == ARCHIVE_OK)
        code = archive_write_set_options(z->archive, "hdrcharset=UTF-8");
    if (code == ARCHIVE_OK)
        code = archive_write_set_bytes_per_block(z->archive, 0);
    if (code == ARCHIVE_OK)
        code = archive_write_open2(z->archive, z, NULL, take, NULL, NULL);
    const tw_status st = told(z, code, err);
    if (st == TW_OK)
        *out = z;
    else
        zip_free(z);
    return st;
}

static tw_status zip_begin(twi_zip *z, const char *name, uint64_t bytes, int64_t wall_us,
                           tw_error *err)
{
    enum { MODE = 0644 };
    struct archive_entry *e = archive_entry_new2(z->archive);
    if (!e)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    archive_entry_set_pathname_utf8(e, name);
    archive_entry_set_filetype(e, AE_IFREG);
    archive_entry_set_perm(e, MODE);
    archive_entry_set_size(e, (la_int64_t)bytes);
    archive_entry_set_mtime(e, (time_t)(wall_us / 1000000), 0);
    const tw_status st = told(z, archive_write_header(z->archive, e), err);
    archive_entry_free(e);
    return st;
}

static tw_status zip_data(twi_zip *z, const void *data, size_t bytes, tw_error *err)
{
    const la_ssize_t n = archive_write_data(z->archive, data, bytes);
    return told(z, n < 0 ? (int)n : ARCHIVE_OK, err);
}

static tw_status zip_finish(twi_zip *z, tw_error *err)
{
    return told(z, archive_write_close(z->archive), err);
}

/* ---- reading ----------------------------------------------------------------------- */

struct twi_unzip {
    struct archive *archive;
};

static void read_free(twi_unzip *z)
{
    if (z && z->archive)
        (void)archive_read_free(z->archive);
    free(z);
}

static tw_status damaged(const twi_unzip *z, tw_error *err)
{
    const char *why = archive_error_string(z->archive);
    return tw_fail(err, TW_EDAMAGED, "ZIP: %s", why ? why : "it is damaged");
}

static tw_status read_open(const char *path, twi_unzip **out, tw_error *err)
{
    enum { BLOCK = 65536 };
    twi_unzip *z = calloc(1, sizeof *z);
    if (!z || !(z->archive = archive_read_new())) {
        free(z);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    if (archive_read_support_format_zip(z->archive) == ARCHIVE_OK &&
        archive_read_open_filename(z->archive, path, BLOCK) == ARCHIVE_OK) {
        *out = z;
        return TW_OK;
    }
    const tw_status st = damaged(z, err);
    read_free(z);
    return st;
}

static tw_status read_next(twi_unzip *z, char name[TWI_ZIP_NAME], tw_error *err)
{
    enum { MOST = 1000000 };
    for (int i = 0; i < MOST; i++) {
        struct archive_entry *e = NULL;
        const int code = archive_read_next_header(z->archive, &e);
        if (code == ARCHIVE_EOF)
            return TW_EEND;
        if (code < ARCHIVE_WARN)
            return damaged(z, err);
        const char *is = archive_entry_pathname_utf8(e);
        if (!is || archive_entry_filetype(e) != AE_IFREG)
            continue;
        if (snprintf(name, TWI_ZIP_NAME, "%s", is) < TWI_ZIP_NAME)
            return TW_OK;
    }
    return tw_fail(err, TW_EDAMAGED, "ZIP: there is no end of it");
}

static long read_data(twi_unzip *z, void *out, size_t room, tw_error *err)
{
    const la_ssize_t n = archive_read_data(z->archive, out, room);
    if (n < 0)
        (void)damaged(z, err);
    return n < 0 ? -1 : (long)n;
}

TW_API const twi_zip_module twi_zip_table = {TWI_ZIP_ABI, zip_open, zip_begin, zip_data,
                                             zip_finish,  zip_free, read_open, read_next,
                                             read_data,   read_free};
