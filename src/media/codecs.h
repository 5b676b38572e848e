/* What the codec module does: reading footage, decoding, and writing clips.
 *
 * The codec libraries are large and slow to load, and their licence is another than ours.
 * So they live behind this table in a module of their own, which is loaded when footage
 * or a clip first needs it and may be missing altogether. */
#ifndef TW_CODECS_H
#define TW_CODECS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "parcel.h"
#include "picture.h"
#include "tawny/error.h"
#include "tawny/frame.h"
#include "tawny/port.h"
#include "tawny/view.h"

enum { TW_CODECS_ABI = 7 };

typedef struct tw_footage tw_footage;       /* a video file that is read */
typedef struct tw_av_decoder tw_av_decoder; /* of one stream */
typedef struct tw_clip tw_clip;             /* a clip that is written */

/* Where the bytes of a clip go, in order, from the first to the last. */
typedef struct tw_clip_sink {
    tw_status (*write)(void *ctx, const void *data, size_t bytes, tw_error *err);
    void *ctx;
} tw_clip_sink;

/* Draws on each picture before it is encoded. */
typedef struct tw_clip_painter {
    /** @param t_us  Capture time of the picture. @param activity_ppm  As in its parcel.
     */
    tw_status (*paint)(void *ctx, const tw_canvas *canvas, int64_t t_us,
                       uint32_t activity_ppm, tw_error *err);
    void *ctx;
} tw_clip_painter;

typedef struct tw_clip_spec {
    const tw_stream *stream; /* of the packets that will come; borrowed for the open */
    bool encode;             /* H.264 from decoded packets; false: copy them */
    int quality;             /* of the encoding, 1..100 */
    uint16_t width;          /* of encoded pictures, pixels; 0: as they come */
    tw_view view;            /* copied packets are not cropped, and players turn them */
    int64_t wall_us;         /* of the first packet, for the file's own date; 0 unknown */
    const char *why;         /* the sighting began; NULL: not said */
    tw_clip_sink sink;
    tw_clip_painter painter; /* paint NULL: none; only with encode */
} tw_clip_spec;

/* How a stream from the network is opened. */
typedef struct tw_live_options {
    const char *shown;             /* its name for messages: without a password */
    bool udp;                      /* for RTSP; else TCP */
    int64_t timeout_us;            /* without a byte for so long it is given up */
    int (*interrupted)(void *ctx); /* asked often; 1: give up now */
    void *ctx;
} tw_live_options;

typedef struct tw_codecs {
    int abi; /* TW_CODECS_ABI */

    /** Open a video file and find its stream. The stream's pointers are the footage's.
     * @param wall_us  Set to when it was recorded, by its own date; 0 unknown. */
    tw_status (*footage_open)(const char *path, tw_footage **out, tw_stream *stream,
                              int64_t *wall_us, tw_error *err);
    /** The same for a stream from the network, which must be closed in the same thread.
     * @param timed  Set to whether its packets know when they were captured, from any
     *               zero; else their times mean nothing. */
    tw_status (*live_open)(const char *url, const tw_live_options *options,
                           tw_footage **out, tw_stream *stream, bool *timed,
                           tw_error *err);
    /** The next packet; t_us counts from the file's first packet, wall_us is 0.
     * @return TW_OK; TW_EEND; TW_EDAMAGED: of a stream from the network, this packet was
     *         cut short; TW_EIO. Borrowed until the next call. */
    tw_status (*footage_next)(tw_footage *footage, tw_packet *packet, tw_error *err);
    void (*footage_close)(tw_footage *footage); /* NULL is fine */

    /** @param looked_ppm  See tw_decoder_open. */
    tw_status (*decoder_open)(const tw_stream *stream, uint32_t looked_ppm,
                              tw_av_decoder **out, tw_error *err);
    /** Give a packet, NULL at the end. @return TW_OK; TW_EDAMAGED: go on with the next.
     */
    tw_status (*decoder_send)(tw_av_decoder *decoder, const tw_packet *packet,
                              tw_error *err);
    /** Of packets that come from now on leave those undecoded that no other needs. */
    void (*decoder_skim)(tw_av_decoder *decoder, bool skim);
    /** Take a decoded picture, reduced as tw_luma_factor says; until TW_EAGAIN.
     * @return TW_OK; TW_EAGAIN: send more; TW_EEND: that was all; TW_EDAMAGED. */
    tw_status (*decoder_receive)(tw_av_decoder *decoder, tw_luma *luma, int64_t *t_us,
                                 uint16_t *width, uint16_t *height, tw_error *err);
    /** The picture that was received last, whole. Borrowed until the next call. */
    tw_status (*decoder_picture)(tw_av_decoder *decoder, tw_picture *picture,
                                 tw_error *err);
    void (*decoder_close)(tw_av_decoder *decoder); /* NULL is fine */

    /** Whether packets of a stream can go into a clip as they are. */
    bool (*clip_carries)(const tw_stream *stream);
    tw_status (*clip_open)(const tw_clip_spec *spec, tw_clip **out, tw_error *err);
    /** @param parcel  What packet points to, with padding; held as long as needed. */
    tw_status (*clip_packet)(tw_clip *clip, const tw_packet *packet, tw_parcel *parcel,
                             tw_error *err);
    /** Packets of another stream come from now on, which lie as that says; only where
     * they are encoded. */
    tw_status (*clip_source)(tw_clip *clip, const tw_stream *stream, tw_error *err);
    /** Write what is still to be written, and free the clip, whatever is returned. */
    tw_status (*clip_close)(tw_clip *clip, tw_error *err);
} tw_codecs;

/** Give a clip a packet that is only borrowed, by a copy of it. */
tw_status tw_clip_copy(const tw_codecs *codecs, tw_clip *clip, const tw_packet *packet,
                       tw_error *err);

/** The module's only symbol. @return its table; static. */
typedef const tw_codecs *(*tw_codecs_entry)(void);

/** Load the module if it is not loaded yet; thread-safe.
 * @return NULL: err says what is missing and what to do. */
const tw_codecs *tw_codecs_load(tw_error *err);

#endif
