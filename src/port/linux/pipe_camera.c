/* Standard input as a camera: JPEG pictures one behind the other, or Y4M. Any program
 * that writes frames is a camera so. */
#include <errno.h>
#include <poll.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../../core/split.h"
#include "../../media/jpeg.h"
#include "linux.h"
#include "../../base/system_error.h"

enum {
    WAIT_MS = 400,
    CHUNK = 1 << 16,
    HEAD_MAX = 512, /* of a Y4M header */
    QUALITY = 90    /* of pictures that came as planes */
};

typedef struct pipe_camera {
    tw_clock clock;
    uint32_t fps;
    bool live;        /* frames are stamped as they come; else by their rate */
    uint64_t frames;  /* so far */
    int64_t began_us; /* wall time of the first, where they are not live */
    uint8_t *data;    /* what has come and is not used up */
    size_t used, capacity, dropped; /* dropped: to go before the next read */
    bool ended, any;
    twi_split split;
    bool planes;            /* Y4M */
    uint16_t width, height; /* of its pictures */
    bool grey;
} pipe_camera;

/* ---- bytes ----------------------------------------------------------------------- */

static void drop(pipe_camera *c, size_t bytes)
{
    memmove(c->data, c->data + bytes, c->used - bytes);
    c->used -= bytes;
}

static tw_status make_room(pipe_camera *c, tw_error *err)
{
    if (c->capacity - c->used >= CHUNK)
        return TW_OK;
    if (c->used >= TWI_JPEG_MAX_BYTES)
        return tw_fail(err, TW_EDAMAGED, "standard input: a picture is over 64 MB");
    const size_t capacity = c->capacity ? c->capacity * 2 : 4 * CHUNK;
    uint8_t *more = realloc(c->data, capacity);
    if (!more)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    c->data = more;
    c->capacity = capacity;
    return TW_OK;
}

/* Some more bytes. @return TW_OK; TW_EAGAIN: none yet; TW_EEND; TW_EIO... */
static tw_status read_more(pipe_camera *c, tw_error *err)
{
    if (c->ended)
        return TW_EEND;
    tw_status st = make_room(c, err);
    if (st != TW_OK)
        return st;
    struct pollfd in = {.fd = STDIN_FILENO, .events = POLLIN};
    const int ready = poll(&in, 1, WAIT_MS);
    if (ready == 0 || (ready < 0 && errno == EINTR))
        return TW_EAGAIN;
    const ssize_t n = read(STDIN_FILENO, c->data + c->used, c->capacity - c->used);
    if (n < 0)
        return tw_fail(err, twi_status_of_errno(errno), "standard input: %s",
                       strerror(errno));
    c->ended = n == 0;
    c->used += (size_t)n;
    return n == 0 ? TW_EEND : TW_OK;
}

static void stamp(pipe_camera *c, const uint8_t *data, size_t bytes, tw_frame *frame)
{
    const int64_t wall_us = c->clock.ops->wall_us(c->clock.ctx);
    if (c->frames == 0)
        c->began_us = wall_us;
    const int64_t since_us = (int64_t)(c->frames++ * 1000000 / c->fps);
    const int64_t t_us = c->live ? c->clock.ops->now_us(c->clock.ctx) : since_us;
    frame->packet = (tw_packet){.data = data,
                                .size = bytes,
                                .t_us = t_us,
                                .dts_us = t_us,
                                .wall_us = c->live ? wall_us : c->began_us + since_us,
                                .key = true};
}

/* ---- JPEG ------------------------------------------------------------------------ */

/* @return as twi_split_jpeg; what is no picture is dropped. */
static tw_status next_jpeg(pipe_camera *c, tw_frame *frame, tw_error *err)
{
    size_t length = 0;
    const tw_status st = twi_split_jpeg(&c->split, c->data, c->used, &length);
    if (st == TW_OK) {
        stamp(c, c->data, length, frame);
        c->dropped = length;
        return TW_OK;
    }
    if (st != TW_EDAMAGED)
        return st;
    c->split = (twi_split){0, false};
    const size_t next = twi_split_find(c->data, c->used, 1);
    drop(c, next);
    return tw_fail(err, TW_EDAMAGED, "standard input: %zu bytes are no picture", next);
}

/* ---- Y4M ------------------------------------------------------------------------- */

static bool take_side(const char *text, uint16_t *out)
{
    char *end = NULL;
    const unsigned long value = strtoul(text, &end, 10);
    *out = (uint16_t)value;
    return end != text && value >= 2 && value <= TWI_JPEG_MAX_SIDE;
}

static bool is_known(const char *colour)
{
    static const char *const known[] = {"Cmono", "C420", "C420jpeg", "C420paldv",
                                        "C420mpeg2"};
    for (size_t i = 0; i < sizeof known / sizeof *known; i++)
        if (strcmp(colour, known[i]) == 0)
            return true;
    return false;
}

/* The parameters of the header's line. */
static tw_status read_header(pipe_camera *c, char *line, tw_error *err)
{
    char *rest = NULL;
    bool sized = true, known = true;
    for (char *word = strtok_r(line, " ", &rest); word;
         word = strtok_r(NULL, " ", &rest)) {
        if (*word == 'W')
            sized = sized && take_side(word + 1, &c->width);
        else if (*word == 'H')
            sized = sized && take_side(word + 1, &c->height);
        else if (*word == 'C') {
            c->grey = strncmp(word, "Cmono", 5) == 0;
            known = is_known(word);
        }
    }
    if (!sized || c->width == 0 || c->height == 0)
        return tw_fail(err, TW_EDAMAGED, "standard input: Y4M without a size");
    if (!known)
        return tw_fail(err, TW_ENOTSUP,
                       "standard input: Y4M is read as 4:2:0 or mono, "
                       "with 8 bits");
    return TW_OK;
}

/* A line at the beginning of what has come. @return its length with the line's end, 0: it
 * goes on. */
static size_t line_length(const pipe_camera *c)
{
    const uint8_t *end = memchr(c->data, '\n', c->used < HEAD_MAX ? c->used : HEAD_MAX);
    return end ? (size_t)(end - c->data) + 1 : 0;
}

static tw_picture planes_at(const pipe_camera *c, const uint8_t *at)
{
    const size_t luma = (size_t)c->width * c->height;
    const uint32_t half = (c->width + 1U) / 2;
    const size_t chroma = (size_t)half * ((c->height + 1U) / 2);
    return (tw_picture){
        .px = {at, c->grey ? NULL : at + luma, c->grey ? NULL : at + luma + chroma},
        .stride = {c->width, half, half},
        .width = c->width,
        .height = c->height,
        .pixels = c->grey ? TW_PIXELS_GREY : TW_PIXELS_I420};
}

static size_t picture_bytes(const pipe_camera *c)
{
    const size_t luma = (size_t)c->width * c->height;
    const size_t chroma = (size_t)((c->width + 1) / 2) * (size_t)((c->height + 1) / 2);
    return luma + (c->grey ? 0 : 2 * chroma);
}

static tw_status next_planes(pipe_camera *c, tw_frame *frame, tw_error *err)
{
    const size_t head = line_length(c);
    if (head == 0 && c->used >= HEAD_MAX)
        return tw_fail(err, TW_EIO, "standard input: this is no Y4M any more");
    if (head == 0 || c->used < head + picture_bytes(c))
        return TW_EAGAIN;
    if (strncmp((const char *)c->data, "FRAME", 5) != 0)
        return tw_fail(err, TW_EIO, "standard input: this is no Y4M any more");
    stamp(c, NULL, 0, frame);
    frame->picture = planes_at(c, c->data + head);
    c->dropped = head + picture_bytes(c);
    return TW_OK;
}

/* ---- the camera ------------------------------------------------------------------ */

/* What comes: Y4M says so in its first bytes. */
static tw_status begin(pipe_camera *c, tw_error *err)
{
    static const char magic[] = "YUV4MPEG2 ";
    char line[HEAD_MAX];
    tw_status st = TW_OK;
    while (st == TW_OK || st == TW_EAGAIN) {
        const size_t known = c->used < sizeof magic - 1 ? c->used : sizeof magic - 1;
        const bool y4m = known > 0 && memcmp(c->data, magic, known) == 0;
        const size_t head = y4m ? line_length(c) : 0;
        if (c->used >= 2 && !y4m)
            return TW_OK;
        if (head > 0) {
            (void)snprintf(line, sizeof line, "%.*s", (int)head - 1,
                           (const char *)c->data);
            c->planes = true;
            st = read_header(c, line, err);
            drop(c, head);
            return st;
        }
        if (c->used >= HEAD_MAX)
            return tw_fail(err, TW_EDAMAGED, "standard input: neither JPEG nor Y4M");
        st = read_more(c, err);
    }
    return st == TW_EEND ? tw_fail(err, TW_EEND, "standard input: nothing came") : st;
}

static tw_status open_camera(void *ctx, tw_stream *stream, tw_error *err)
{
    pipe_camera *c = ctx;
    const tw_status st = c->any
                             ? tw_fail(err, TW_EEND, "standard input: can be read once")
                             : begin(c, err);
    c->any = true;
    *stream = (tw_stream){.codec = c->planes ? TW_CODEC_RAW : TW_CODEC_MJPEG,
                          .pixels = c->grey ? TW_PIXELS_GREY : TW_PIXELS_I420,
                          .codec_name = c->planes ? "y4m" : "mjpeg",
                          .width = c->width,
                          .height = c->height,
                          .fps_num = c->fps,
                          .fps_den = 1};
    return st;
}

static tw_status next(void *ctx, tw_frame *frame, tw_error *err)
{
    pipe_camera *c = ctx;
    memset(frame, 0, sizeof *frame);
    drop(c, c->dropped);
    c->dropped = 0;
    for (;;) { /* each round reads some bytes, or returns */
        tw_status st = c->used == 0 ? TW_EAGAIN
                       : c->planes  ? next_planes(c, frame, err)
                                    : next_jpeg(c, frame, err);
        if (st == TW_EAGAIN)
            st = read_more(c, err);
        else
            return st;
        if (st != TW_OK)
            return st;
    }
}

static void close_camera(void *ctx)
{
    (void)ctx; /* what has come stays until the end: it comes once only */
}

static void destroy(void *ctx)
{
    pipe_camera *c = ctx;
    free(c->data);
    free(c);
}

tw_status twi_linux_pipe_camera(const tw_camera_request *request, tw_camera *out,
                                tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops, "stdin",      TW_RECORDED, open_camera,
                                      next,       close_camera, destroy,     NULL};
    pipe_camera *c = calloc(1, sizeof *c);
    if (!c)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    c->clock = request->clock;
    c->fps = request->fps;
    c->live = request->pace;
    *out = (tw_camera){&ops, c};
    return TW_OK;
}
