/* tawny/frame.h - pictures and packets, as views over memory that the caller owns.
 *
 * Any thread: nothing is kept between calls. Views are borrowed for the call, and what is
 * written goes into memory of the caller's. */
#ifndef TW_FRAME_H
#define TW_FRAME_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Borrowed luma picture. Pixel (x, y) is px[y * stride + x], 0 black to 255 white.
 * Whoever fills the view keeps px alive and unchanged during a call. */
typedef struct tw_luma {
    const uint8_t *px; /* height rows, each stride bytes after the last */
    uint32_t stride;   /* bytes, >= width; the padding is never read */
    uint16_t width;    /* pixels, >= 1 */
    uint16_t height;   /* rows, >= 1 */
} tw_luma;

/* Borrowed chroma of a picture: the blue and red differences of its pixels, 128 where
 * there is no colour. Each pixel is the mean of a part of the picture, which they divide
 * evenly: so width and height are their own, mostly less than the luma's. */
typedef struct tw_chroma {
    const uint8_t *u, *v;   /* pixel (x, y) at y * stride + x; NULL: there is no colour */
    uint32_t stride;        /* bytes, >= width; of both */
    uint16_t width, height; /* pixels, >= 1 */
} tw_chroma;

/* How the pixels of a raw picture lie. All values are full range, 0 to 255. */
enum tw_pixels_values {
    TW_PIXELS_I420, /* px[0]: luma; px[1], px[2]: chroma, half as wide and high, rounded
                       up; without px[1] it is grey */
    TW_PIXELS_GREY, /* px[0]: luma */
    TW_PIXELS_NV12, /* px[0]: luma; px[1]: chroma in pairs, rows as I420 has them */
    TW_PIXELS_YUYV, /* px[0]: luma, blue, luma, red for each two pixels */
    TW_PIXELS_RGB   /* px[0]: red, green, blue for each pixel */
};
typedef int32_t tw_pixels; /* one of them */

/* A raw picture. Borrowed: whoever fills the view keeps px alive and unchanged during a
 * call. */
typedef struct tw_picture {
    const uint8_t *px[3];   /* those that the layout does not have are not looked at */
    uint32_t stride[3];     /* bytes from row to row of each, >= what its pixels take */
    uint16_t width, height; /* pixels, >= 1 */
    tw_pixels pixels;
} tw_picture;

/* When one frame was captured, and its bytes where they are compressed. Borrowed. */
typedef struct tw_packet {
    const uint8_t *data; /* as the camera sent it; NULL: there are pixels instead */
    size_t size;         /* bytes, >= 1 where there are any */
    int64_t t_us;        /* when it was captured: monotonic microseconds, any zero */
    int64_t dts_us;      /* when it must be decoded; equal to t_us without reordering */
    int64_t wall_us;     /* when it was captured: microseconds since 1970, UTC */
    bool key;            /* it can be decoded without any packet before it */
} tw_packet;

/* First mirrored left to right, then turned clockwise by quarters * 90 degrees. All eight
 * ways in which a picture can lie. */
typedef struct tw_turn {
    uint8_t quarters; /* 0..3 */
    bool mirror;
} tw_turn;

enum tw_codec_values {
    TW_CODEC_MJPEG, /* each packet is a JPEG picture */
    TW_CODEC_H264,
    TW_CODEC_H265,
    TW_CODEC_MPEG4,
    TW_CODEC_OTHER, /* one that only the codec module knows: it is told by extra */
    TW_CODEC_RAW    /* frames are pixels, not packets */
};
typedef int32_t tw_codec; /* one of them */

enum tw_sound_codec_values {
    TW_SOUND_NONE, /* there is none */
    TW_SOUND_AAC,  /* ISO/IEC 14496-3, without headers of its own; extra: its set-up */
    TW_SOUND_OPUS  /* RFC 6716; extra: the header of RFC 7845 */
};
typedef int32_t tw_sound_codec; /* one of them */

/* The sound that comes with a camera's pictures. */
typedef struct tw_sound {
    tw_sound_codec codec;
    uint32_t rate;      /* samples a second */
    uint8_t channels;   /* 1 or 2 */
    uint8_t extra_size; /* bytes of extra */
    uint8_t extra[64];  /* decoder set-up data */
} tw_sound;

/* What a camera delivers. Pointers are the camera's and good until it is closed. */
typedef struct tw_stream {
    size_t size; /* of this struct; 0: see version.h */
    tw_codec codec;
    tw_pixels pixels;          /* of TW_CODEC_RAW: how they lie, in most frames */
    const char *codec_name;    /* for messages, such as "h264" */
    uint16_t width, height;    /* pixels; 0 unknown until the first frame */
    uint32_t fps_num, fps_den; /* nominal rate, frames a second; 0/1 unknown */
    const uint8_t *extra;      /* decoder set-up data, NULL if none; of TW_CODEC_OTHER in
                                  a form of the codec module's own */
    size_t extra_size;         /* bytes */
    int64_t length_us;         /* of recorded footage; 0 unknown or endless */
    tw_turn turn;              /* that its pictures need to be upright */
    tw_sound sound;
} tw_stream;

/* One frame: pixels, or a packet. Pixels are looked at as they are, and encoded only when
 * they are kept for good. Borrowed; good until the next call to the same camera. */
typedef struct tw_frame {
    tw_packet packet;   /* with data; of pixels t_us and wall_us alone are looked at */
    tw_picture picture; /* its pixels; px[0] is NULL if there is a packet */
    uint64_t dropped;   /* frames that the driver has lost since the camera was opened */
    bool sound;         /* packet is of the stream's sound, and there is no picture */
    const tw_error *said; /* with sound, of no bytes: why none comes, or that some does
                             again (TW_OK); NULL: nothing */
} tw_frame;

/** @return TW_OK, or TW_EINVAL: NULL pointer, zero size, a stride that is too short or a
 * layout that there is not. */
TW_API tw_status tw_picture_check(const tw_picture *picture);

/** @return Bytes that tw_picture_pack writes; 0: it is no picture. */
TW_API size_t tw_picture_bytes(const tw_picture *picture);

/**
 * Copy a picture of any layout to planes without padding: I420, or grey where it has no
 * chroma. Of YUYV and RGB the chroma of every second pixel and row is taken. Brightness
 * of RGB is that of ITU-T T.871.
 *
 * @param dst  Caller's, tw_picture_bytes(picture); not within the picture.
 * @param out  Set to a view over dst on TW_OK.
 * @return TW_OK; TW_EINVAL: bad view; TW_ESIZE: dst too small.
 */
TW_API tw_status tw_picture_pack(const tw_picture *picture, uint8_t *dst,
                                 size_t dst_bytes, tw_picture *out);

/**
 * The luma of a picture: a view over it where it has a plane of it, else made in dst.
 *
 * @param dst  Caller's, width * height bytes; may be NULL where it is not needed.
 * @param out  Set on TW_OK.
 * @return TW_OK; TW_EINVAL: bad view; TW_ESIZE: dst is needed, and too small.
 */
TW_API tw_status tw_picture_luma(const tw_picture *picture, uint8_t *dst,
                                 size_t dst_bytes, tw_luma *out);

enum { TW_CHROMA_ACROSS = 80 /* pixels: chroma is reduced to no fewer */ };

/** @return Bytes that tw_picture_chroma writes; 0: it has no chroma, or is no picture. */
TW_API size_t tw_picture_chroma_bytes(const tw_picture *picture);

/**
 * The chroma of a picture as the detector reads it: reduced as far as TW_CHROMA_ACROSS
 * pixels of width are left, each the mean of two rows of the part that it stands for.
 *
 * @param dst     Caller's, tw_picture_chroma_bytes(picture); not within the picture.
 * @param out     Set on TW_OK, to views over dst; u and v are NULL where the picture has
 *                no chroma.
 * @return TW_OK; TW_EINVAL: bad view or NULL pointer; TW_ESIZE: dst too small.
 */
TW_API tw_status tw_picture_chroma(const tw_picture *picture, uint8_t *dst,
                                   size_t dst_bytes, tw_chroma *out);

/** @return TW_OK, or TW_EINVAL: NULL pointer, zero size or stride < width. */
TW_API tw_status tw_chroma_check(const tw_chroma *chroma);

enum {
    TW_LUMA_MIN_WIDTH = 240, /* reduced no further than this */
    TW_REDUCE_MAX = 16       /* largest reduction in one pass */
};

/** @return TW_OK, or TW_EINVAL: NULL pointer, zero size or stride < width. */
TW_API tw_status tw_luma_check(const tw_luma *luma);

/**
 * How far a picture is reduced before the detector reads it.
 *
 * @param width  Pixels of the full picture, >= 1.
 * @return The largest factor, 1..TW_REDUCE_MAX, that leaves TW_LUMA_MIN_WIDTH pixels.
 */
TW_API uint16_t tw_luma_factor(uint16_t width);

/**
 * Reduce a luma plane: each pixel becomes the rounded mean of factor x factor pixels.
 * Rows and columns at the right and lower edge that fill no whole square are left out.
 *
 * @param src        Borrowed, read only.
 * @param factor     1..TW_REDUCE_MAX.
 * @param dst        Caller's, (width / factor) * (height / factor) bytes, rows packed.
 * @param dst_bytes  Capacity of dst.
 * @param out        Set to a view over dst on TW_OK, else left as it was.
 * @return TW_OK; TW_EINVAL: bad view or factor; TW_ESIZE: dst too small, or the picture
 *         smaller than one square.
 */
TW_API tw_status tw_luma_reduce(const tw_luma *src, uint16_t factor, uint8_t *dst,
                                size_t dst_bytes, tw_luma *out);

/** The same from every second row of pixels: half the memory is read, which is what takes
 * the time for large pictures, for 1.4 times the noise, which is little after reducing by
 * four or more. */
TW_API tw_status tw_luma_reduce_half(const tw_luma *src, uint16_t factor, uint8_t *dst,
                                     size_t dst_bytes, tw_luma *out);

#ifdef __cplusplus
}
#endif

#endif
