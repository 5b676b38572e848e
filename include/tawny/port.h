/* tawny/port.h - the thin layer between the library and the hardware.
 *
 * Each part is a table of functions and a context for them. Every function may be called
 * from any one thread at a time, unless it says otherwise.
 *
 * A port's tables are static. What a maker makes is the caller's, to destroy; a camera is
 * one thread's at a time, and clocks and pins are any thread's. */
#ifndef TW_PORT_H
#define TW_PORT_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"
#include "tawny/frame.h"

#ifdef __cplusplus
extern "C" {
#endif

/* ---- camera ---------------------------------------------------------------------- */

/* How frames come. A station opens a live camera again when it cannot be opened or ends,
 * and one that is not rare when it falls silent. */
enum tw_liveness_values {
    TW_RECORDED, /* from something that has an end */
    TW_LIVE,     /* as they happen */
    TW_LIVE_RARE /* likewise, and for long there may be none */
};
typedef int32_t tw_liveness; /* one of them */

typedef struct tw_camera_ops {
    size_t size;      /* of this struct; 0: see version.h */
    const char *name; /* "file", "sim": for messages */
    tw_liveness live;
    /* Required. Blocks until the stream is known. TW_ENOENT, TW_EDAMAGED, TW_EIO...:
     * err says what and where. May be called again after close. */
    tw_status (*open)(void *ctx, tw_stream *stream, tw_error *err);
    /* Required, after open. Blocks for at most half a second: TW_EAGAIN then.
     * TW_EEND: no more frames, ever. TW_EDAMAGED: this frame is lost, go on. */
    tw_status (*next)(void *ctx, tw_frame *frame, tw_error *err);
    /* Required. Idempotent, fine before open. */
    void (*close)(void *ctx);
    /* Required. Closes and frees ctx. */
    void (*destroy)(void *ctx);
    /* Optional, after open, between two calls of next. Set controls of a device while it
     * runs, written as in a request; those that are not named stay as they are.
     * TW_EINVAL, TW_EIO: err says which. NULL: it has none. */
    tw_status (*control)(void *ctx, const char *controls, tw_error *err);
} tw_camera_ops;

typedef struct tw_camera {
    const tw_camera_ops *ops;
    void *ctx;
} tw_camera;

/* ---- clock ----------------------------------------------------------------------- */

typedef struct tw_clock_ops {
    size_t size; /* of this struct; 0: see version.h */
    /* Required, thread-safe. Monotonic microseconds, any zero. */
    int64_t (*now_us)(void *ctx);
    /* Required, thread-safe. Microseconds since 1970 UTC. */
    int64_t (*wall_us)(void *ctx);
    /* Required, thread-safe. Local time's offset from UTC at a moment, seconds east. */
    int32_t (*offset_s)(void *ctx, int64_t wall_us);
    /* Required, thread-safe. Whether a wall time that this clock gave can be right: a
     * board without a battery begins in 1970, until its clock is set. */
    bool (*trusted)(void *ctx, int64_t wall_us);
    /* Required, thread-safe. Sleep until now_us() reaches t_us. */
    void (*sleep_until)(void *ctx, int64_t t_us);
    /* Optional, thread-safe. How long a span of this clock lasts by the system's own, for
     * waits that something else may end: a clock of a test may run faster. NULL: as long.
     */
    int64_t (*lasts_us)(void *ctx, int64_t span_us);
    /* Optional, thread-safe. Write a word that stays the same until the board is started
     * anew, ended by 0, "" if it is not known. NULL: it is not. */
    void (*boot)(void *ctx, char *out, size_t capacity);
} tw_clock_ops;

typedef struct tw_clock {
    const tw_clock_ops *ops;
    void *ctx;
} tw_clock;

/* ---- card ------------------------------------------------------------------------ */

typedef struct tw_card_ops {
    size_t size; /* of this struct; 0: see version.h */
    /* Names are paths below the card, "/" between parts, none of them ".." or empty. */

    /* Required. Make a new file and the folders above it. TW_EEXIST if it is there. */
    tw_status (*create)(void *ctx, const char *name, void **file, tw_error *err);
    /* Required. Add bytes at the end of a file: all of them, or none. */
    tw_status (*append)(void *ctx, void *file, const void *data, size_t bytes,
                        tw_error *err);
    /* Required. Return once everything appended would survive a power cut. */
    tw_status (*sync)(void *ctx, void *file, tw_error *err);
    /* Required. Frees file, whatever it returns. */
    tw_status (*close)(void *ctx, void *file, tw_error *err);
    /* Required. TW_EEXIST if to is there: nothing is ever replaced. Folders are made and
     * removed as create and remove do. The new name would survive a power cut when this
     * returns. */
    tw_status (*rename)(void *ctx, const char *from, const char *to, tw_error *err);
    /* Required. Remove a file, and folders above it that this leaves empty. */
    tw_status (*remove)(void *ctx, const char *name, tw_error *err);
    /* Required, thread-safe. Free and total bytes. */
    tw_status (*space)(void *ctx, uint64_t *free_bytes, uint64_t *total_bytes,
                       tw_error *err);
    /* Required. Where the card is, for messages; static for the life of ctx. */
    const char *(*place)(void *ctx);
    /* Required. Visit every file, in any order, until visit says false. Files may be
     * removed meanwhile. */
    tw_status (*list)(void *ctx,
                      bool (*visit)(void *visitor, const char *name, uint64_t bytes),
                      void *visitor, tw_error *err);
    /* Required. Read up to so many bytes of a complete or half-written file. got is set
     * to how many there were: fewer at the file's end. */
    tw_status (*read)(void *ctx, const char *name, uint64_t offset, void *out,
                      size_t bytes, size_t *got, tw_error *err);
    /* Required. Shorten a file that is not open to so many bytes, safe on return. */
    tw_status (*shorten)(void *ctx, const char *name, uint64_t bytes, tw_error *err);
    /* Required. The folder that the card is, where a data base can live; static for the
     * life of ctx. NULL: it is none. */
    const char *(*folder)(void *ctx);
    /* Required. Have the card for oneself until it is destroyed, so that no two stations
     * write to it. Fine to call twice. TW_EACCES: another has it; TW_EEXIST: it holds
     * what is no store's. */
    tw_status (*claim)(void *ctx, tw_error *err);
    /* Required. Frees ctx. */
    void (*destroy)(void *ctx);
} tw_card_ops;

typedef struct tw_card {
    const tw_card_ops *ops;
    void *ctx;
} tw_card;

/* ---- pins ------------------------------------------------------------------------ */

/* Inputs and outputs of the board. Lines are named as the port does, "gpiochip0/17" for
 * one; each is used in one direction only. */
typedef struct tw_pins_ops {
    size_t size; /* of this struct; 0: see version.h */
    /* Required, thread-safe. Whether an input is active now. TW_ENOENT: there is no such
     * line; TW_EACCES: it is in use, or not allowed; TW_EIO. */
    tw_status (*read)(void *ctx, const char *line, bool *active, tw_error *err);
    /* Required, thread-safe. Switch an output. Same answers. */
    tw_status (*write)(void *ctx, const char *line, bool active, tw_error *err);
    /* Required. Lets the lines go, outputs as they are, and frees ctx. */
    void (*destroy)(void *ctx);
} tw_pins_ops;

typedef struct tw_pins {
    const tw_pins_ops *ops;
    void *ctx;
} tw_pins;

/* ---- sensors --------------------------------------------------------------------- */

/* Where a number comes from: one of the two. Texts are borrowed for the call. */
typedef struct tw_sensor_request {
    size_t size;      /* of this struct; 0: see version.h */
    const char *name; /* of the sensor, for messages */
    const char *file; /* "": a program says it */
    const char *run;  /* program and arguments, separated by blanks */
} tw_sensor_request;

typedef struct tw_sensors_ops {
    size_t size; /* of this struct; 0: see version.h */
    /* Required, thread-safe. What the file holds, or the program printed last, as a text
     * ended by 0, cut where it is longer. Blocks for at most five seconds. TW_ENOENT,
     * TW_EACCES, TW_ETIMEOUT, TW_EIO...: err says what and where. */
    tw_status (*read)(void *ctx, const tw_sensor_request *request, char *text,
                      size_t capacity, tw_error *err);
} tw_sensors_ops;

typedef struct tw_sensors {
    const tw_sensors_ops *ops;
    void *ctx;
} tw_sensors;

/* ---- what a port can make -------------------------------------------------------- */

/* A camera of your own: frames that your program pushes, watched as a camera whose source
 * is "push:NAME". Give it to a station by tw_platform.pushed, and free it after that. */
typedef struct tw_push tw_push;

/* A camera that is wanted. Texts are borrowed for the call. */
typedef struct tw_camera_request {
    size_t size;            /* of this struct; 0: see version.h */
    const char *name;       /* of the camera, for messages */
    const char *source;     /* "file:yard.mp4", "sim:kerb" */
    uint32_t fps;           /* for sources that have no rate of their own, 1..240 */
    uint32_t most_fps;      /* more than these a second are left out; 0: none */
    bool loop;              /* begin again at the end of recorded footage */
    uint16_t width, height; /* wanted; 0: as the camera likes */
    const char *format;     /* wanted: "mjpeg", "yuyv"...; NULL or "auto": the cheapest */
    const char *controls;   /* of a device: "gain=3, ..."; NULL or "": as they are */
    int64_t fetch_every_us; /* of HTTP: fetch a picture so often; 0: it is a stream */
    bool udp;               /* RTSP by UDP instead of TCP */
    bool pace;              /* deliver recorded frames at their own times, by the clock */
    tw_clock clock;         /* gives wall times, and the pace */
    tw_push *const *pushed; /* what "push:NAME" can be, ended by NULL; NULL: nothing */
    const char *sound; /* "stream": its own; "alsa:DEVICE"; NULL or "none": without */
} tw_camera_request;

/**
 * Make a camera from a request, without opening it.
 *
 * @return TW_OK: out is the caller's, to destroy; TW_ENOTSUP: not a source of this port,
 *         another may know it (err untouched); else err says what is wrong with it.
 */
typedef tw_status (*tw_camera_make_fn)(const tw_camera_request *request, tw_camera *out,
                                       tw_error *err);

/**
 * Ask each maker in turn. Where the request has most_fps, the camera delivers no more:
 * of pictures that stand alone some are left out evenly, of groups of pictures that
 * depend on each other the last ones. Pictures that come rarely are all delivered.
 *
 * @param makers  Ended by NULL; NULL: there are none, and only "push:NAME" is known.
 * @return as tw_camera_make_fn; a source that none knows is worded too.
 */
TW_API tw_status tw_camera_make(const tw_camera_make_fn *makers,
                                const tw_camera_request *request, tw_camera *out,
                                tw_error *err);

/* ---- a camera of your own -------------------------------------------------------- */

/**
 * @param name    Of the source: not empty, copied.
 * @param stream  What will be pushed; of TW_CODEC_RAW pictures of any layout and size
 *                will do. Copied with what it points to; codec_name may be NULL.
 * @param live    TW_RECORDED: it has an end, and a station ends with it; else as they
 *                say.
 * @param out     Set on TW_OK, to be freed.
 * @return TW_OK; TW_EINVAL: a NULL pointer, or no name; TW_ENOMEM.
 */
TW_API tw_status tw_push_new(const char *name, const tw_stream *stream, tw_liveness live,
                             tw_push **out);

/**
 * Push one frame. It is copied. From one thread at a time, which may be any but that of
 * tw_station_run.
 *
 * @param frame  Pixels in picture, or a packet. packet.t_us counts microseconds from any
 *               zero, and rises; packet.wall_us 0: it was captured now. Of pixels no
 *               other field of packet is looked at. With sound it is a packet of the
 *               stream's sound, which is heard where the settings say sound = stream.
 * @param wait   Wait until the station watches, and while eight frames wait for it
 *               already. Else nothing that is slow (a detector, a card) holds up whoever
 *               pushes.
 * @return TW_OK; TW_EAGAIN: it is left out, as the station does not watch, or has eight
 *         to see to; TW_EINVAL: it holds neither; TW_ENOMEM.
 */
TW_API tw_status tw_push_frame(tw_push *push, const tw_frame *frame, bool wait);

/** No more will come: the camera ends once all have been seen to, and a tw_push_frame
 * that waits for a station to begin is let go. Any thread. */
TW_API void tw_push_end(tw_push *push);

/** @return frames that wait to be taken by the station. Any thread. */
TW_API size_t tw_push_waiting(tw_push *push);

/** After the station. NULL is fine. */
TW_API void tw_push_free(tw_push *push);

/* ---- all of them together --------------------------------------------------------- */

/* What a station or a rehearsal runs on. */
typedef struct tw_platform {
    size_t size;                     /* of this struct; 0: see version.h */
    const tw_camera_make_fn *makers; /* ended by NULL; NULL: there are none */
    tw_clock clock;
    const tw_card *card; /* where captures go; a station needs one; NULL: a rehearsal or a
                            look stores nothing */
    const tw_pins *pins; /* sensors, lamps...; NULL: there are none */
    tw_push *const *pushed; /* cameras of your own, ended by NULL; NULL: there are none */
    const tw_sensors *sensors; /* of temperature, voltage...; NULL: none can be read */
} tw_platform;

#ifdef __cplusplus
}
#endif

#endif
