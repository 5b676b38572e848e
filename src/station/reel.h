/* One video from many captures: a time-lapse from stills, or clips joined.
 */
#ifndef TWI_REEL_H
#define TWI_REEL_H

#include <stdint.h>

#include "tawny/error.h"

/* One capture. Texts are borrowed. */
typedef struct twi_reel_part {
    const char *path;   /* a JPEG picture, or a video */
    int64_t wall_us;    /* of its first frame, for captions; 0 unknown */
    const char *camera; /* for captions; may be NULL */
    uint32_t sighting;  /* likewise; 0 none */
} twi_reel_part;

typedef struct twi_reel_spec {
    uint32_t fps; /* stills become so many frames a second, 1..60 */
    uint32_t
        speed_pct;  /* of videos: 100 as they were, 800 eight times as fast; 1..10000 */
    uint16_t width; /* pixels, 16..8192; the height follows. 0: that of the first part */
    uint32_t quality;    /* 1..100 */
    const char *caption; /* pattern, see twi_caption_expand; NULL or "": none */
    const char *station; /* for captions; may be NULL */
    int32_t (*offset_s)(void *ctx, int64_t wall_us); /* of local time, seconds east */
    void *offset_ctx;
} twi_reel_spec;

/** Told after each part. @return false: stop. */
typedef int (*twi_reel_progress_fn)(void *ctx, uint32_t done, uint32_t of);

/**
 * Write H.264 in MP4 from parts in the order given; they stay as they are. A part that
 * cannot be read is left out.
 *
 * @param path     Made; TW_EEXIST if it is there.
 * @param callback     May be NULL.
 * @param skipped  Set to how many parts were left out; may be NULL.
 * @return TW_OK; TW_ESTOPPED: the file is complete as far as it goes; TW_EINVAL: a value
 *         out of range, no parts; TW_EDAMAGED: no part could be read; else err.
 */
tw_status twi_reel_write(const twi_reel_spec *spec, const twi_reel_part *parts,
                         uint32_t count, const char *path, twi_reel_progress_fn callback,
                         void *ctx, uint32_t *skipped, tw_error *err);

#endif
