/* EXIF by libexif. */
#include "exif.h"

#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <libexif/exif-data.h>

#include "tawny/version.h"
#include "../core/naming.h"

/* libexif knows no names for the tags of EXIF 2.31 that hold the offset from UTC. */
enum { OFFSET_TIME = 0x9010, OFFSET_TIME_ORIGINAL = 0x9011, APP1_MAX = 65533 };

static void put_entry(ExifData *data, ExifIfd ifd, int tag, ExifFormat format,
                      const void *value, size_t size, unsigned long components)
{
    ExifEntry *entry = exif_entry_new();
    if (!entry)
        return;
    entry->data = malloc(size);
    if (entry->data) {
        memcpy(entry->data, value, size);
        entry->tag = (ExifTag)tag;
        entry->format = format;
        entry->components = components;
        entry->size = (unsigned int)size;
        exif_content_add_entry(data->ifd[ifd], entry);
    }
    exif_entry_unref(entry);
}

static void put_ascii(ExifData *data, ExifIfd ifd, int tag, const char *text)
{
    const size_t size = strlen(text) + 1;
    put_entry(data, ifd, tag, EXIF_FORMAT_ASCII, text, size, size);
}

static void put_long(ExifData *data, ExifIfd ifd, int tag, uint32_t value)
{
    ExifByte bytes[4];
    exif_set_long(bytes, EXIF_BYTE_ORDER_INTEL, value);
    put_entry(data, ifd, tag, EXIF_FORMAT_LONG, bytes, sizeof bytes, 1);
}

static void put_short(ExifData *data, ExifIfd ifd, int tag, uint16_t value)
{
    ExifByte bytes[2];
    exif_set_short(bytes, EXIF_BYTE_ORDER_INTEL, value);
    put_entry(data, ifd, tag, EXIF_FORMAT_SHORT, bytes, sizeof bytes, 1);
}

static void put_resolution(ExifData *data, int tag)
{
    ExifByte bytes[8];
    exif_set_rational(bytes, EXIF_BYTE_ORDER_INTEL, (ExifRational){72, 1});
    put_entry(data, EXIF_IFD_0, tag, EXIF_FORMAT_RATIONAL, bytes, sizeof bytes, 1);
}

static void put_time(ExifData *data, const twi_civil *t)
{
    char text[64];
    (void)snprintf(text, sizeof text, "%04d:%02u:%02u %02u:%02u:%02u", (int)t->year,
                   t->month, t->day, t->hour, t->minute, t->second);
    put_ascii(data, EXIF_IFD_0, EXIF_TAG_DATE_TIME, text);
    put_ascii(data, EXIF_IFD_EXIF, EXIF_TAG_DATE_TIME_ORIGINAL, text);
    put_ascii(data, EXIF_IFD_EXIF, EXIF_TAG_DATE_TIME_DIGITIZED, text);
    (void)snprintf(text, sizeof text, "%03u", (unsigned)(t->microsecond / 1000));
    put_ascii(data, EXIF_IFD_EXIF, EXIF_TAG_SUB_SEC_TIME, text);
    put_ascii(data, EXIF_IFD_EXIF, EXIF_TAG_SUB_SEC_TIME_ORIGINAL, text);
    const int minutes = (t->offset_s < 0 ? -t->offset_s : t->offset_s) / 60;
    (void)snprintf(text, sizeof text, "%c%02d:%02d", t->offset_s < 0 ? '-' : '+',
                   minutes / 60, minutes % 60);
    put_ascii(data, EXIF_IFD_EXIF, OFFSET_TIME, text);
    put_ascii(data, EXIF_IFD_EXIF, OFFSET_TIME_ORIGINAL, text);
}

static void put_comment(ExifData *data, const twi_exif_fields *fields)
{
    char text[128] = "ASCII\0\0"; /* eight bytes name the character set */
    const int n =
        fields->sighting > 0
            ? snprintf(text + 8, sizeof text - 8, "camera %s, sighting %u",
                       fields->camera ? fields->camera : "", (unsigned)fields->sighting)
            : snprintf(text + 8, sizeof text - 8, "camera %s",
                       fields->camera ? fields->camera : "");
    const size_t size = 8 + (size_t)(n < 119 ? n : 119);
    put_entry(data, EXIF_IFD_EXIF, EXIF_TAG_USER_COMMENT, EXIF_FORMAT_UNDEFINED, text,
              size, size);
}

static void put_fields(ExifData *data, const twi_exif_fields *fields)
{
    if (fields->why)
        put_ascii(data, EXIF_IFD_0, EXIF_TAG_IMAGE_DESCRIPTION, fields->why);
    put_ascii(data, EXIF_IFD_0, EXIF_TAG_MAKE, "Tawny Watch");
    put_ascii(data, EXIF_IFD_0, EXIF_TAG_MODEL, fields->camera ? fields->camera : "");
    put_ascii(data, EXIF_IFD_0, EXIF_TAG_SOFTWARE, "libtawny " TW_VERSION_TEXT);
    put_resolution(data, EXIF_TAG_X_RESOLUTION);
    put_resolution(data, EXIF_TAG_Y_RESOLUTION);
    put_short(data, EXIF_IFD_0, EXIF_TAG_RESOLUTION_UNIT, 2); /* inch */
    put_short(data, EXIF_IFD_0, EXIF_TAG_YCBCR_POSITIONING, 1);
    put_entry(data, EXIF_IFD_EXIF, EXIF_TAG_EXIF_VERSION, EXIF_FORMAT_UNDEFINED, "0231",
              4, 4);
    put_entry(data, EXIF_IFD_EXIF, EXIF_TAG_FLASH_PIX_VERSION, EXIF_FORMAT_UNDEFINED,
              "0100", 4, 4);
    put_entry(data, EXIF_IFD_EXIF, EXIF_TAG_COMPONENTS_CONFIGURATION,
              EXIF_FORMAT_UNDEFINED, "\1\2\3\0", 4, 4);
    put_short(data, EXIF_IFD_EXIF, EXIF_TAG_COLOR_SPACE, 1);
    if (fields->width > 0) {
        put_long(data, EXIF_IFD_EXIF, EXIF_TAG_PIXEL_X_DIMENSION, fields->width);
        put_long(data, EXIF_IFD_EXIF, EXIF_TAG_PIXEL_Y_DIMENSION, fields->height);
    }
    put_time(data, &fields->time);
    put_comment(data, fields);
}

/* SOI and APP1 with what data holds. */
static tw_status make_head(ExifData *data, uint8_t **out, size_t *bytes, tw_error *err)
{
    tw_status st = TW_OK;
    unsigned char *payload = NULL;
    unsigned int payload_bytes = 0;
    uint8_t *made = NULL;
    exif_data_save_data(data, &payload, &payload_bytes);
    if (payload && payload_bytes > 0 && payload_bytes <= APP1_MAX)
        made = malloc(payload_bytes + 6U);
    if (made) {
        const size_t length = payload_bytes + 2U; /* the length counts itself */
        const uint8_t head[6] = {0xFF,           0xD8, 0xFF, 0xE1, (uint8_t)(length >> 8),
                                 (uint8_t)length};
        memcpy(made, head, sizeof head);
        memcpy(made + sizeof head, payload, payload_bytes);
        *out = made;
        *bytes = payload_bytes + sizeof head;
    } else {
        st = tw_fail(err, TW_ENOMEM, "cannot write EXIF");
    }
    free(payload);
    return st;
}

tw_status twi_exif_head(const uint8_t *jpeg, size_t jpeg_bytes,
                        const twi_exif_fields *fields, uint8_t **out, size_t *bytes,
                        tw_error *err)
{
    if (jpeg_bytes < 4 || jpeg[0] != 0xFF || jpeg[1] != 0xD8)
        return tw_fail(err, TW_EDAMAGED, "not a JPEG picture");
    ExifData *data = exif_data_new();
    if (!data)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    exif_data_set_byte_order(data, EXIF_BYTE_ORDER_INTEL);
    put_fields(data, fields);
    const tw_status st = make_head(data, out, bytes, err);
    exif_data_unref(data);
    return st;
}

static void drop_entry(ExifData *data, ExifIfd ifd, int tag)
{
    ExifEntry *entry = exif_content_get_entry(data->ifd[ifd], (ExifTag)tag);
    if (entry)
        exif_content_remove_entry(data->ifd[ifd], entry);
}

static void drop_time(ExifData *data)
{
    static const int tags[] = {EXIF_TAG_DATE_TIME_ORIGINAL,
                               EXIF_TAG_DATE_TIME_DIGITIZED,
                               EXIF_TAG_SUB_SEC_TIME,
                               EXIF_TAG_SUB_SEC_TIME_ORIGINAL,
                               OFFSET_TIME,
                               OFFSET_TIME_ORIGINAL};
    drop_entry(data, EXIF_IFD_0, EXIF_TAG_DATE_TIME);
    for (size_t i = 0; i < sizeof tags / sizeof *tags; i++)
        drop_entry(data, EXIF_IFD_EXIF, tags[i]);
}

tw_status twi_exif_retime(const uint8_t *jpeg, size_t jpeg_bytes, const twi_civil *time,
                          uint8_t **out, size_t *bytes, size_t *replaces, tw_error *err)
{
    const bool ours = jpeg_bytes > 12 && jpeg[0] == 0xFF && jpeg[1] == 0xD8 &&
                      jpeg[2] == 0xFF && jpeg[3] == 0xE1 &&
                      memcmp(jpeg + 6, "Exif\0", 6) == 0;
    const size_t end = ours ? 4U + ((size_t)jpeg[4] << 8 | jpeg[5]) : 0;
    if (!ours || end > jpeg_bytes)
        return tw_fail(err, TW_EDAMAGED, "the picture does not begin with EXIF");
    ExifData *data = exif_data_new();
    if (!data)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    exif_data_unset_option(data, EXIF_DATA_OPTION_FOLLOW_SPECIFICATION);
    exif_data_load_data(data, jpeg + 6, (unsigned int)(end - 6));
    exif_data_set_byte_order(data, EXIF_BYTE_ORDER_INTEL);
    drop_time(data);
    put_time(data, time);
    const tw_status st = make_head(data, out, bytes, err);
    exif_data_unref(data);
    *replaces = end;
    return st;
}
