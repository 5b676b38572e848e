/* Trying what a station would use, and writing footage: for the tool. */
#ifndef TWI_FOOTAGE_H
#define TWI_FOOTAGE_H

#include "../settings/sections.h"
#include "tawny/draw.h"
#include "tawny/port.h"

/**
 * Write all frames of a camera into one MP4 file, encoded or copied as its clip_video and
 * clip_quality say, until it ends.
 *
 * @param path  Made or replaced.
 * @param stop  As in tw_rehearse.
 * @return TW_OK; TW_ESTOPPED: the file is complete as far as it goes; else err says what
 *         is wrong.
 */
tw_status twi_footage_write(const tw_platform *platform,
                            const twi_camera_settings *camera, const char *path,
                            const volatile int *stop, tw_error *err);

/** How much of a processor it takes to encode pictures of a size, 1 ... 100 of quality.
 * @param us  Set to microseconds for each picture, of one that is hard to encode.
 * @return TW_OK; else they cannot be encoded: err says why. */
tw_status twi_encoding_cost(uint16_t width, uint16_t height, int quality, int64_t *us,
                            tw_error *err);

/** @return whether clips are encoded for a camera's private zones alone. */
bool twi_encodes_for_privacy(const twi_camera_settings *camera, const tw_stream *stream);

/** What a camera was found to deliver. */
typedef struct twi_camera_found {
    tw_stream stream; /* its pointers are NULL, but for codec_name */
    uint32_t
        own_milli; /* frames in 1000 s before fps leaves any out; 0: no need to look */
    bool grouped;  /* they depend on each other, and are left out at groups' ends */
    bool heard;    /* sound has come, where it is wanted */
    tw_error deaf; /* why none did, where that is known */
} twi_camera_found;

/** Open a camera once and read one frame of it; where fps limits it, three seconds; where
 * sound is wanted, until some comes, for three seconds at most.
 * @param found  Set on TW_OK.
 * @return TW_OK; else err says what is wrong. */
tw_status twi_camera_try(const tw_platform *platform, const twi_camera_settings *camera,
                         twi_camera_found *found, tw_error *err);

/** Try the names and the card as tw_station_new does: make, write and remove a file.
 * @return TW_OK; else err says what is wrong. */
tw_status twi_store_try(const tw_card *card, const twi_station_settings *station,
                        tw_error *err);

/** @return whether clips can be written and which codec module is missing if not (err).
 */
bool twi_clips_possible(tw_error *err);

/** As tw_look. */
tw_status twi_look(const tw_platform *platform, const twi_camera_settings *camera,
                   const tw_look_options *options, uint8_t **out, size_t *bytes,
                   tw_reading *taken, tw_error *err);

#endif
