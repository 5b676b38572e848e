/* What the codec module does: reading footage, decoding, and writing clips.
 *
 * The codec libraries are large and slow to load, and their licence is another than ours.
 * So they live behind this table in a module of their own, which is loaded when footage
 * or a clip first needs it and may be missing altogether. */
#ifndef TWI_CODECS_H
#define TWI_CODECS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "buffer.h"
#include "picture.h"
#include "tawny/error.h"
#include "tawny/frame.h"
#include "tawny/port.h"
#include "../core/view.h"

enum { TWI_CODECS_ABI = 11 };

typedef struct twi_footage twi_footage;       /* a video file that is read */
typedef struct twi_av_decoder twi_av_decoder; /* of one stream */
typedef struct twi_av_level twi_av_level;     /* how loud packets are */
typedef struct twi_clip twi_clip;             /* a clip that is written */
typedef struct twi_av_sound twi_av_sound;     /* samples that become packets */

/* Where the bytes of a clip go, in order, from the first to the last. */
typedef struct twi_clip_sink {
    tw_status (*write)(void *ctx, const void *data, size_t bytes, tw_error *err);
    void *ctx;
} twi_clip_sink;

/* Draws on each picture before it is encoded. */
typedef struct twi_clip_painter {
    /** @param t_us  Capture time of the picture. @param activity_ppm  As in its buffer.
     */
    tw_status (*paint)(void *ctx, const twi_canvas *canvas, int64_t t_us,
                       uint32_t activity_ppm, tw_error *err);
    void *ctx;
} twi_clip_painter;

typedef struct twi_clip_spec {
    const tw_stream *stream; /* of the packets that will come; borrowed for the open */
    bool encode;             /* H.264 from decoded packets; false: copy them */
    int quality;             /* of the encoding, 1..100 */
    uint16_t width;          /* of encoded pictures, pixels; 0: as they come */
    twi_view view;           /* copied packets are not cropped, and players turn them */
    int64_t wall_us;         /* of the first packet, for the file's own date; 0 unknown */
    const char *why;         /* the sighting began; NULL: not said */
    twi_clip_sink sink;
    twi_clip_painter painter; /* paint NULL: none; only with encode */
} twi_clip_spec;

/* How a stream from the network is opened. */
typedef struct twi_live_options {
    const char *shown;             /* its name for messages: without a password */
    bool udp;                      /* for RTSP; else TCP */
    int64_t timeout_us;            /* without a byte for so long it is given up */
    int (*interrupted)(void *ctx); /* asked often; 1: give up now */
    void *ctx;
} twi_live_options;

typedef struct twi_codecs {
    int abi; /* TWI_CODECS_ABI */

    /** Open a video file and find its stream. The stream's pointers are the footage's.
     * @param wall_us  Set to when it was recorded, by its own date; 0 unknown. */
    tw_status (*footage_open)(const char *path, twi_footage **out, tw_stream *stream,
                              int64_t *wall_us, tw_error *err);
    /** The same for a stream from the network, which must be closed in the same thread.
     * @param timed  Set to whether its packets know when they were captured, from any
     *               zero; else their times mean nothing. */
    tw_status (*live_open)(const char *url, const twi_live_options *options,
                           twi_footage **out, tw_stream *stream, bool *timed,
                           tw_error *err);
    /** The next packet; t_us counts from the file's first packet, wall_us is 0.
     * @return TW_OK; TW_EEND; TW_EDAMAGED: of a stream from the network, this packet was
     *         cut short; TW_EIO. Borrowed until the next call. */
    tw_status (*footage_next)(twi_footage *footage, tw_packet *packet, tw_error *err);
    /** Have its sound read, too, from now on: what clips cannot carry becomes AAC.
     * @param stream  Its sound is set; TW_SOUND_NONE: it has none.
     * @return TW_OK; TW_ENOTSUP: it cannot be decoded or encoded; TW_ENOMEM. */
    tw_status (*footage_sound)(twi_footage *footage, tw_stream *stream, tw_error *err);
    /** Whether what footage_next gave last was sound. */
    bool (*footage_was_sound)(const twi_footage *footage);
    void (*footage_close)(twi_footage *footage); /* NULL is fine */

    /** Make AAC of samples, whose own clock may run a little faster or slower than ours:
     * what comes is resampled so that it stays with the times that are said of it.
     * @param rate,channels  Of the samples: 1000..192000, 1 or 2.
     * @param out,what       Set on TW_OK. */
    tw_status (*sound_open)(uint32_t rate, uint8_t channels, twi_av_sound **out,
                            tw_sound *what, tw_error *err);
    /** Give samples, of each channel in turn. @param count  Of each channel. @param t_us
     * When the first was captured. */
    tw_status (*sound_give)(twi_av_sound *sound, const int16_t *samples, size_t count,
                            int64_t t_us, tw_error *err);
    /** Take what is ready. Borrowed until the next call. @return TW_OK; TW_EAGAIN: give
     * more. */
    tw_status (*sound_take)(twi_av_sound *sound, tw_packet *packet, tw_error *err);
    void (*sound_close)(twi_av_sound *sound); /* NULL is fine */

    /** Read how loud packets of a sound are. @return TW_OK; TW_ENOTSUP; TW_ENOMEM. */
    tw_status (*level_open)(const tw_sound *sound, twi_av_level **out, tw_error *err);
    /** @param level  Of a packet: tenths of a decibel, 0 the loudest that can be, -960
     * silence. @return TW_OK; TW_EAGAIN: nothing came of it; TW_EDAMAGED. */
    tw_status (*level_give)(twi_av_level *level, const tw_packet *packet, int32_t *out);
    void (*level_close)(twi_av_level *level); /* NULL is fine */

    /** @param inspected_ppm  See twi_decoder_open. */
    tw_status (*decoder_open)(const tw_stream *stream, uint32_t inspected_ppm,
                              twi_av_decoder **out, tw_error *err);
    /** Give a packet, NULL at the end. @return TW_OK; TW_EDAMAGED: go on with the next.
     */
    tw_status (*decoder_send)(twi_av_decoder *decoder, const tw_packet *packet,
                              tw_error *err);
    /** Of packets that come from now on leave those undecoded that no other needs. */
    void (*decoder_skim)(twi_av_decoder *decoder, bool skim);
    /** Take a decoded picture, reduced as tw_luma_factor says; until TW_EAGAIN.
     * @return TW_OK; TW_EAGAIN: send more; TW_EEND: that was all; TW_EDAMAGED. */
    tw_status (*decoder_receive)(twi_av_decoder *decoder, twi_decoded *out,
                                 tw_error *err);
    /** The picture that was received last, whole. Borrowed until the next call. */
    tw_status (*decoder_picture)(twi_av_decoder *decoder, tw_picture *picture,
                                 tw_error *err);
    void (*decoder_close)(twi_av_decoder *decoder); /* NULL is fine */

    /** Whether packets of a stream can go into a clip as they are. */
    bool (*clip_carries)(const tw_stream *stream);
    tw_status (*clip_open)(const twi_clip_spec *spec, twi_clip **out, tw_error *err);
    /** @param buffer  What packet points to, with padding; held as long as needed. */
    tw_status (*clip_packet)(twi_clip *clip, const tw_packet *packet, twi_buffer *buffer,
                             tw_error *err);
    /** The same of the stream's sound, in the order of its time. What was captured before
     * the clip's first picture is left out. */
    tw_status (*clip_sound)(twi_clip *clip, const tw_packet *packet, twi_buffer *buffer,
                            tw_error *err);
    /** Packets of another stream come from now on, which lie as that says; only where
     * they are encoded. */
    tw_status (*clip_source)(twi_clip *clip, const tw_stream *stream, tw_error *err);
    /** Write what is still to be written, and free the clip, whatever is returned. */
    tw_status (*clip_close)(twi_clip *clip, tw_error *err);
} twi_codecs;

/** Give a clip a packet that is only borrowed, by a copy of it. */
tw_status twi_clip_copy(const twi_codecs *codecs, twi_clip *clip, const tw_packet *packet,
                        tw_error *err);

/** What the module exports. */
extern const twi_codecs twi_codecs_table;

/** Load the module if it is not loaded yet; thread-safe.
 * @return NULL: err says what is missing and what to do. */
const twi_codecs *twi_codecs_load(tw_error *err);

#endif
