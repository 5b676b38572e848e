/* Files that hold one picture. */
#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "jpeg.h"

static tw_status read_open(FILE *file, const char *path, uint8_t **data, size_t *capacity,
                           size_t *bytes, tw_error *err)
{
    struct stat s;
    if (fstat(fileno(file), &s) != 0)
        return tw_fail(err, TW_EDAMAGED, "%s: %s", path, strerror(errno));
    const size_t size = s.st_size > 0 ? (size_t)s.st_size : 0;
    if (size == 0 || size > TWI_JPEG_MAX_BYTES)
        return tw_fail(err, TW_EDAMAGED, "%s: %s", path,
                       size == 0 ? "the file is empty" : "the file is over 64 MB");
    if (*capacity < size) {
        free(*data);
        *data = malloc(size);
        *capacity = *data ? size : 0;
    }
    if (!*data)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    if (fread(*data, 1, size, file) != size)
        return tw_fail(err, TW_EDAMAGED, "%s: cannot be read", path);
    *bytes = size;
    return TW_OK;
}

tw_status twi_jpeg_read_file(const char *path, uint8_t **data, size_t *capacity,
                             size_t *bytes, tw_error *err)
{
    FILE *file = fopen(path, "rb");
    if (!file)
        return tw_fail(err, TW_EDAMAGED, "%s: %s", path, strerror(errno));
    const tw_status st = read_open(file, path, data, capacity, bytes, err);
    (void)fclose(file);
    return st;
}
