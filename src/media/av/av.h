/* The codec module, by libavformat, libavcodec and libswscale. */
#ifndef TWI_AV_H
#define TWI_AV_H

#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libswscale/swscale.h>

#include "../codecs.h"
#include "../../core/chroma.h"
#include "../../core/view.h"

/* Of a stream of TW_CODEC_OTHER: in front of the decoder's set-up data in its extra.
 * Uncompressed video cannot be read without them. */
typedef struct twi_av_details {
    int32_t id;     /* the library's number of the codec */
    int32_t format; /* its number of the form of pixels, -1 unknown */
    uint32_t tag;   /* the container's name for the codec, 0 unknown */
    uint32_t bits;  /* of a pixel, 0 unknown */
} twi_av_details;

/** Word an error of the libraries: "what: their text". @return st. */
tw_status twi_av_fail(tw_error *err, tw_status st, int code, const char *what);

/** @return the status for an error code of the libraries. */
tw_status twi_av_status(int code);

/** Codec parameters for a stream. @return TW_OK: *out is the caller's; TW_ENOTSUP,
 * TW_ENOMEM. */
tw_status twi_av_parameters(const tw_stream *stream, AVCodecParameters **out,
                            tw_error *err);

/** A decoder, single-threaded so that it is deterministic and small. */
tw_status twi_av_open(const AVCodecParameters *parameters, AVCodecContext **out,
                      tw_error *err);

/** The same for a stream. */
tw_status twi_av_open_decoder(const tw_stream *stream, AVCodecContext **out,
                              tw_error *err);

/** A copy of a packet with the padding that decoders need; its times are in
 * microseconds. @return TW_OK: *out is the caller's, by av_packet_free; TW_ENOMEM. */
tw_status twi_av_copy(const tw_packet *packet, AVPacket **out, tw_error *err);

/** Give a packet to a decoder (NULL: the end). @return TW_OK; TW_EDAMAGED. */
tw_status twi_av_give(AVCodecContext *context, const AVPacket *packet, tw_error *err);

/** A packet that points to a buffer's bytes and holds it; its times are in microseconds.
 * @return TW_OK: *out is the caller's, by av_packet_free; TW_ENOMEM. */
tw_status twi_av_wrap(const tw_packet *packet, twi_buffer *buffer, AVPacket **out,
                      tw_error *err);

/** @return whether pictures of a format have a plane of one byte a pixel that is
 * brightness. */
bool twi_av_has_luma(enum AVPixelFormat format);

/** Where the chroma of a picture lies: anywhere, in bytes.
 * @return its u is NULL where it has none, or in another form. */
twi_chroma_planes twi_av_chroma_of(const AVFrame *frame);

typedef struct twi_av_bands twi_av_bands;

/** Have a decoder's pictures reduced while it decodes them.
 * @return NULL: out of memory; else to be freed after the decoder. */
twi_av_bands *twi_av_bands_new(AVCodecContext *context, uint32_t inspected_ppm);
void twi_av_bands_free(twi_av_bands *bands); /* NULL is fine */

/** @param factor  The reduction that is wanted.
 * @return whether a picture came reduced already; *out is good as long as it is. */
bool twi_av_bands_reduced(const AVFrame *frame, uint16_t factor, tw_luma *out);

typedef struct twi_av_clean twi_av_clean;

tw_status twi_av_clean_new(const tw_stream *stream, twi_av_clean **out, tw_error *err);
void twi_av_clean_free(twi_av_clean *clean); /* NULL is fine */

/** A packet that the first decoder is given, NULL the end: it is held by reference. */
void twi_av_clean_hold(twi_av_clean *clean, const AVPacket *packet);

/** The first decoder has given the picture of that time: what only older ones need is let
 * go. */
void twi_av_clean_reached(twi_av_clean *clean, int64_t t_us);

/** The picture of that time, one that was reached last or is still to come.
 * @return NULL: it cannot be had, as too much came since its key frame; else borrowed
 * until the next call. */
const AVFrame *twi_av_clean_find(twi_av_clean *clean, int64_t t_us);

tw_status twi_av_footage_open(const char *path, twi_footage **out, tw_stream *stream,
                              int64_t *wall_us, tw_error *err);
tw_status twi_av_live_open(const char *url, const twi_live_options *options,
                           twi_footage **out, tw_stream *stream, bool *timed,
                           tw_error *err);
tw_status twi_av_footage_next(twi_footage *footage, tw_packet *packet, tw_error *err);
void twi_av_footage_close(twi_footage *footage);

tw_status twi_av_decoder_open(const tw_stream *stream, uint32_t inspected_ppm,
                              twi_av_decoder **out, tw_error *err);
void twi_av_decoder_skim(twi_av_decoder *decoder, bool skim);
tw_status twi_av_decoder_send(twi_av_decoder *decoder, const tw_packet *packet,
                              tw_error *err);
tw_status twi_av_decoder_receive(twi_av_decoder *decoder, twi_decoded *out,
                                 tw_error *err);
tw_status twi_av_decoder_picture(twi_av_decoder *decoder, tw_picture *picture,
                                 tw_error *err);
void twi_av_decoder_close(twi_av_decoder *decoder);

tw_status twi_av_footage_sound(twi_footage *footage, tw_stream *stream, tw_error *err);
bool twi_av_footage_was_sound(const twi_footage *footage);

tw_status twi_av_sound_open(uint32_t rate, uint8_t channels, twi_av_sound **out,
                            tw_sound *what, tw_error *err);
tw_status twi_av_sound_give(twi_av_sound *sound, const int16_t *samples, size_t count,
                            int64_t t_us, tw_error *err);
tw_status twi_av_sound_take(twi_av_sound *sound, tw_packet *packet, tw_error *err);
void twi_av_sound_close(twi_av_sound *sound);

/** The same from packets of another codec. */
tw_status twi_av_sound_from(const AVCodecParameters *parameters, twi_av_sound **out,
                            tw_sound *what, tw_error *err);
/** @param packet  Its time in microseconds; damaged ones are left out. */
tw_status twi_av_sound_packet(twi_av_sound *sound, const AVPacket *packet, tw_error *err);

tw_status twi_av_level_open(const tw_sound *sound, twi_av_level **out, tw_error *err);
tw_status twi_av_level_give(twi_av_level *level, const tw_packet *packet, int32_t *out);
void twi_av_level_close(twi_av_level *level);

/** Codec parameters of a sound, into those that are given. @return TW_OK; TW_ENOMEM. */
tw_status twi_av_sound_parameters(const tw_sound *sound, AVCodecParameters *out,
                                  tw_error *err);

/** Whether clips carry a sound as it is. @param what  Set if they do. */
bool twi_av_sound_fits(const AVCodecParameters *parameters, tw_sound *what);

bool twi_av_clip_carries(const tw_stream *stream);
tw_status twi_av_clip_open(const twi_clip_spec *spec, twi_clip **out, tw_error *err);
tw_status twi_av_clip_packet(twi_clip *clip, const tw_packet *packet, twi_buffer *buffer,
                             tw_error *err);
tw_status twi_av_clip_sound(twi_clip *clip, const tw_packet *packet, twi_buffer *buffer,
                            tw_error *err);
tw_status twi_av_clip_source(twi_clip *clip, const tw_stream *stream, tw_error *err);
tw_status twi_av_clip_close(twi_clip *clip, tw_error *err);

/* ---- how pictures lie ------------------------------------------------------------- */

/** @return the turn that a container's display matrix asks for; none where it has none.
 */
tw_turn twi_av_turn_of(const AVStream *stream);

/** Have players turn a stream. Its size must be known. */
tw_status twi_av_set_turn(AVStream *stream, tw_turn turn, tw_error *err);

/* Hides parts of pictures, turns and crops them; all zero at first. */
typedef struct twi_av_shown {
    AVFrame *planar, *frame;
    struct SwsContext *scaler;
    uint8_t *blocks; /* of what is hidden, of pictures of ... */
    int width, height;
} twi_av_shown;

/** @param out  Set to in where the view leaves it as it is, else to one that is good
 * until the next call. Its times are not set. */
tw_status twi_av_show(twi_av_shown *shown, const AVFrame *in, const twi_view *view,
                      const AVFrame **out, tw_error *err);
void twi_av_shown_free(twi_av_shown *shown);

#endif
