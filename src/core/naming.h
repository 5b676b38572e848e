/* Names of captures. Pure: no I/O, clock or heap. */
#ifndef TWI_NAMING_H
#define TWI_NAMING_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "civil.h"
#include "tawny/error.h"

/* What lies in a store beside captures: the catalogue, and its journal; the mark by which
 * a folder is known for a store; and, for a moment, what tries whether it can be written.
 */
#define TWI_CATALOGUE_FILE "catalogue.db"
#define TWI_JOURNAL_FILE                                                                 \
    "sightings.jsonl" /* of what no name tells, for a lost catalogue */
#define TWI_STORE_MARK ".tawny-store"
#define TWI_STORE_PROBE "tawny-can-write-here"

enum { TWI_NAME_MAX = 512 }; /* bytes of a name with its folders, the final 0 included */

/* What a capture is. */
typedef enum twi_kind {
    TWI_KIND_STILL,
    TWI_KIND_CLIP,
    TWI_KIND_SEGMENT,     /* a piece of continuous recording */
    TWI_KIND_TIMED_STILL, /* by the clock, of no sighting */
    TWI_KIND_TIMED_CLIP,
    TWI_KIND_CAPTIONED_STILL, /* a copy of a still or clip with text in it */
    TWI_KIND_CAPTIONED_CLIP,
    TWI_KIND_SNAP, /* a still that was asked for, of no sighting */
    TWI_KIND_REEL, /* the film of a day */
    TWI_KIND_COUNT
} twi_kind;

/** @return "still", "clip", "segment", "timed-still"...; "?" out of range; static. */
const char *twi_kind_name(twi_kind kind);

/** @return the kind of a name, TWI_KIND_COUNT: there is none. */
twi_kind twi_kind_find(const char *name);

/** Whether captures of a kind belong to a sighting. */
bool twi_kind_of_sighting(twi_kind kind);

/** Whether captures of a kind are video. */
bool twi_kind_is_video(twi_kind kind);

/** @return the media type of a file by how its name ends: "image/jpeg" of .jpg,
 * "video/mp4" of .mp4; else "application/octet-stream"; static. */
const char *twi_media_type(const char *name);

/* What a name can tell. Texts are borrowed UTF-8. */
typedef struct twi_name_fields {
    twi_civil time;        /* of the first frame in the file */
    const char *camera;    /* {camera} */
    const char *station;   /* {station} */
    const char *kind;      /* {kind}: "clip", "still" */
    uint32_t sighting;     /* {sighting}, at least three digits */
    uint32_t n;            /* {n}: counts the stills of a sighting; empty if 0 */
    const char *extension; /* added with its dot; "" for none */
} twi_name_fields;

/**
 * Expand a pattern to a path below the store.
 *
 * strftime conversions Y y m d e H I M S p j a A b B u w F T R D z s Z n t % stand for
 * the time, in English whatever the locale; {camera} {station} {sighting} {kind} {n} {ms}
 * for the rest. The result is safe on FAT and ext4: forbidden characters and what is no
 * UTF-8 become "_", fields are cut at 64 bytes and parts at 231, which leaves room for a
 * number and ".part", device names and trailing dots are mended, and no part is "." or
 * "..".
 *
 * @param out       Caller's, capacity bytes; always ended by 0 on TW_OK.
 * @param problem   May be NULL; on TW_ESYNTAX set to the offending place in pattern.
 * @return TW_OK; TW_EINVAL: NULL pointer; TW_ESYNTAX: unknown conversion or field, or an
 *         empty name; TW_ESIZE: longer than capacity.
 */
tw_status twi_name_expand(const char *pattern, const twi_name_fields *fields, char *out,
                          size_t capacity, const char **problem);

/* What a name tells. Times are of the wall clock that named it. */
typedef struct twi_name_parts {
    twi_civil time;
    bool offset_given;         /* by %z; else time.offset_s is 0 */
    char camera[64], kind[16]; /* "": the pattern does not say */
    uint32_t sighting, n;      /* 0 likewise */
} twi_name_parts;

/**
 * Read a name that twi_name_expand made from a pattern, a number behind it ("-2")
 * allowed. Only kinds that twi_kind_name knows are read.
 *
 * @param name  Below the store, with its extension.
 * @return TW_OK; TW_EINVAL: NULL pointer; TW_ENOENT: the name is not of this pattern, or
 *         the pattern does not tell the time to the second.
 */
tw_status twi_name_read(const char *pattern, const char *name, twi_name_parts *out);

#endif
