/* One video from many captures. */
#include "reel.h"

#include <errno.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../media/caption.h"
#include "../media/codecs.h"
#include "../media/jpeg.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "../base/system_error.h"

enum { FPS_MAX = 60, DENSEST_US = 1000000 / 60 };

typedef struct reel {
    const twi_reel_spec *spec;
    const twi_codecs *codecs;
    twi_clip *clip; /* NULL: no part has been read yet */
    FILE *file;
    twi_camera_settings look; /* of the caption */
    twi_caption *caption;
    const twi_reel_part *part; /* at hand */
    int64_t base_us;           /* its place in the reel */
    int64_t next_us;           /* where the next part goes */
    int64_t last_us;           /* of the newest frame; -1: none */
} reel;

static tw_status append(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    const reel *r = ctx;
    if (fwrite(data, 1, bytes, r->file) == bytes)
        return TW_OK;
    return tw_fail(err, twi_status_of_errno(errno), "cannot write the reel: %s",
                   strerror(errno));
}

/* The time of a frame is that of its part, and so much into it at the part's own speed.
 */
static tw_status paint(void *ctx, const twi_canvas *canvas, int64_t t_us,
                       uint32_t activity_ppm, tw_error *err)
{
    const reel *r = ctx;
    const int64_t into_us = (t_us - r->base_us) * r->spec->speed_pct / 100;
    const int64_t wall_us = r->part->wall_us + into_us;
    twi_caption_fields fields = {.camera = r->part->camera ? r->part->camera : "",
                                 .station = r->spec->station ? r->spec->station : "",
                                 .sighting = r->part->sighting,
                                 .activity_ppm = activity_ppm};
    const int32_t offset =
        r->spec->offset_s ? r->spec->offset_s(r->spec->offset_ctx, wall_us) : 0;
    twi_civil_split(wall_us, offset, &fields.time);
    return twi_caption_draw(r->caption, &fields, canvas, err);
}

static tw_status use_stream(reel *r, const tw_stream *stream, tw_error *err)
{
    if (r->clip)
        return r->codecs->clip_source(r->clip, stream, err);
    const twi_clip_spec spec = {.stream = stream,
                                .encode = true,
                                .quality = (int)r->spec->quality,
                                .width = r->spec->width,
                                .view = {.turn = stream->turn},
                                .wall_us = r->part->wall_us,
                                .sink = {append, r},
                                .painter = {r->caption ? paint : NULL, r}};
    return r->codecs->clip_open(&spec, &r->clip, err);
}

static tw_status add_packet(reel *r, const tw_packet *packet, int64_t t_us, tw_error *err)
{
    tw_packet at = *packet;
    at.t_us = t_us;
    at.dts_us = t_us;
    return twi_clip_copy(r->codecs, r->clip, &at, err);
}

/* ---- stills ---------------------------------------------------------------------- */

static tw_status add_still(reel *r, tw_error *err)
{
    const tw_stream stream = {.codec = TW_CODEC_MJPEG,
                              .codec_name = "mjpeg",
                              .fps_num = r->spec->fps,
                              .fps_den = 1};
    uint8_t *jpeg = NULL;
    size_t bytes = 0, capacity = 0;
    tw_status st = twi_jpeg_read_file(r->part->path, &jpeg, &capacity, &bytes, err);
    if (st == TW_OK)
        st = use_stream(r, &stream, err);
    if (st == TW_OK) {
        const tw_packet packet = {.data = jpeg, .size = bytes, .key = true};
        st = add_packet(r, &packet, r->base_us, err);
        r->next_us = r->base_us + 1000000 / r->spec->fps;
    }
    free(jpeg);
    return st;
}

/* ---- videos ---------------------------------------------------------------------- */

/* Whether a frame is wanted: at great speed there are more than anybody sees. Those that
 * others may need are all decoded. */
static bool too_dense(const reel *r, const tw_stream *stream, int64_t t_us)
{
    return stream->codec == TW_CODEC_MJPEG && r->last_us >= 0 &&
           t_us - r->last_us < DENSEST_US;
}

static tw_status add_frames(reel *r, twi_footage *footage, const tw_stream *stream,
                            tw_error *err)
{
    tw_status st = TW_OK;
    int64_t step_us = 100000;
    while (st == TW_OK) {
        tw_packet packet;
        st = r->codecs->footage_next(footage, &packet, err);
        if (st != TW_OK)
            break;
        const int64_t t_us = r->base_us + packet.t_us * 100 / r->spec->speed_pct;
        if (too_dense(r, stream, t_us))
            continue;
        if (r->last_us >= 0 && t_us > r->last_us && t_us - r->last_us < 1000000)
            step_us = t_us - r->last_us;
        st = add_packet(r, &packet, t_us, err);
        r->last_us = t_us > r->last_us ? t_us : r->last_us;
        r->next_us = r->last_us + step_us;
    }
    return st == TW_EEND ? TW_OK : st;
}

static tw_status add_video(reel *r, tw_error *err)
{
    twi_footage *footage = NULL;
    tw_stream stream;
    int64_t wall_us = 0;
    tw_status st =
        r->codecs->footage_open(r->part->path, &footage, &stream, &wall_us, err);
    if (st == TW_OK)
        st = use_stream(r, &stream, err);
    if (st == TW_OK)
        st = add_frames(r, footage, &stream, err);
    r->codecs->footage_close(footage);
    return st;
}

/* ---- the reel -------------------------------------------------------------------- */

static bool is_still(const char *path)
{
    const char *dot = strrchr(path, '.');
    return dot && (strcmp(dot, ".jpg") == 0 || strcmp(dot, ".jpeg") == 0);
}

static tw_status check_caption(const char *caption, tw_error *err)
{
    char text[TWI_CAPTION_MAX];
    const twi_caption_fields fields = {
        .time = {.year = 2027, .month = 1, .day = 1}, .camera = "", .station = ""};
    const char *at = caption;
    const tw_status st =
        caption ? twi_caption_expand(caption, &fields, text, sizeof text, &at) : TW_OK;
    if (st == TW_ESYNTAX)
        return tw_fail(err, st, "caption: \"%.12s\" is no conversion or field", at);
    return st == TW_OK ? TW_OK : tw_fail(err, st, "caption: %s", tw_status_text(st));
}

static tw_status check(const twi_reel_spec *s, const twi_reel_part *parts, uint32_t count,
                       tw_error *err)
{
    if (!s || !parts || count == 0)
        return tw_fail(err, TW_EINVAL, "there is nothing to make a reel of");
    if (s->fps < 1 || s->fps > FPS_MAX)
        return tw_fail(err, TW_EINVAL, "%u frames a second: 1 to %d are possible",
                       (unsigned)s->fps, FPS_MAX);
    if (s->speed_pct < 1 || s->speed_pct > 10000)
        return tw_fail(err, TW_EINVAL, "speed: 0.01 to 100 times is possible");
    if (s->width != 0 && (s->width < 16 || s->width > 8192))
        return tw_fail(err, TW_EINVAL, "a width of %u: 16 to 8192 pixels are possible",
                       s->width);
    if (s->quality < 1 || s->quality > 100)
        return tw_fail(err, TW_EINVAL, "a quality of %u: 1 to 100 is possible",
                       (unsigned)s->quality);
    return check_caption(s->caption, err);
}

static tw_status set_caption(reel *r, tw_error *err)
{
    r->look.caption = r->spec->caption;
    r->look.caption_place = TWI_BOTTOM_LEFT;
    r->look.caption_size_ppm = 40000;
    if (!r->spec->caption || r->spec->caption[0] == '\0')
        return TW_OK;
    return twi_caption_new(&r->look, &r->caption, err);
}

/* A part that cannot be read is left out; a reel that cannot be written ends it. */
static tw_status add_parts(reel *r, const twi_reel_part *parts, uint32_t count,
                           twi_reel_progress_fn callback, void *ctx, uint32_t *left_out,
                           tw_error *err)
{
    for (uint32_t i = 0; i < count; i++) {
        r->part = &parts[i];
        r->base_us = r->next_us;
        const tw_status st =
            is_still(r->part->path) ? add_still(r, err) : add_video(r, err);
        *left_out += st != TW_OK;
        if (st == TW_ENOSPC || st == TW_ENOMEM || st == TW_ENOTSUP || ferror(r->file))
            return st;
        if (callback && !callback(ctx, i + 1, count))
            return TW_ESTOPPED;
    }
    return TW_OK;
}

tw_status twi_reel_write(const twi_reel_spec *spec, const twi_reel_part *parts,
                         uint32_t count, const char *path, twi_reel_progress_fn callback,
                         void *ctx, uint32_t *skipped, tw_error *err)
{
    reel r = {.spec = spec, .last_us = -1};
    uint32_t left_out = 0;
    tw_status st = check(spec, parts, count, err);
    if (st != TW_OK || !path)
        return st;
    r.codecs = twi_codecs_load(err);
    if (!r.codecs)
        return TW_ENOTSUP;
    st = set_caption(&r, err);
    if (st == TW_OK && !(r.file = fopen(path, "wbx")))
        st = tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    if (st == TW_OK)
        st = add_parts(&r, parts, count, callback, ctx, &left_out, err);
    if (r.clip) {
        const bool good = st == TW_OK || st == TW_ESTOPPED;
        const tw_status closed = r.codecs->clip_close(r.clip, good ? err : NULL);
        st = good && closed != TW_OK ? closed : st;
    } else if (st == TW_OK) {
        st = TW_EDAMAGED; /* err has the last part's words */
    }
    if (r.file && fclose(r.file) != 0 && st == TW_OK)
        st = tw_fail(err, twi_status_of_errno(errno), "%s: %s", path, strerror(errno));
    if (r.file && st != TW_OK && st != TW_ESTOPPED)
        (void)remove(path);
    twi_caption_free(r.caption);
    if (skipped)
        *skipped = left_out;
    return st;
}
