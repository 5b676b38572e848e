/* One picture of a camera, and whether it can be opened at all. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../core/best.h"
#include "../media/caption.h"
#include "../media/codecs.h"
#include "../media/drawing.h"
#include "../media/jpeg.h"
#include "../core/sized.h"
#include "pipeline.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "footage.h"
#include "tawny/draw.h"
#include "tawny/port.h"
#include "tawny/settings.h"

enum { FRAMES_MAX = 1000000, QUALITY = 95 };

/* Run on until so much footage has been watched, or it ends. */
static tw_status watch_for(twi_run *run, int64_t after_us, tw_error *err)
{
    for (int i = 0; i < FRAMES_MAX; i++) {
        const tw_status st = twi_run_step(run, err);
        if (st == TW_EEND)
            return TW_OK;
        if (st != TW_OK)
            return st;
        if (twi_pipeline_watched(run->pipeline) >= after_us)
            return TW_OK;
    }
    return TW_OK;
}

static tw_status to_png(const uint8_t *pixels, uint16_t width, uint16_t height,
                        uint8_t **out, size_t *bytes, tw_error *err)
{
    const twi_drawing *drawing = twi_drawing_load(err);
    return drawing ? drawing->png(pixels, width, height, out, bytes, err) : TW_ENOTSUP;
}

/* Draw on the picture that jpeg holds. */
static tw_status draw(const uint8_t *jpeg, size_t jpeg_bytes, const twi_overlay *overlay,
                      bool png, uint8_t **out, size_t *bytes, tw_error *err)
{
    uint8_t *pixels = NULL, *drawn = NULL;
    uint16_t width = 0, height = 0;
    tw_status st = twi_jpeg_pixels(jpeg, jpeg_bytes, 0, &pixels, &width, &height, err);
    if (st == TW_OK && overlay) {
        const twi_drawing *drawing = twi_drawing_load(err);
        st = drawing ? drawing->overlay(pixels, width, height, overlay, &drawn, &width,
                                        &height, err)
                     : TW_ENOTSUP;
    }
    const uint8_t *result = drawn ? drawn : pixels;
    if (st == TW_OK && png)
        st = to_png(result, width, height, out, bytes, err);
    else if (st == TW_OK)
        st = twi_jpeg_encode_pixels(result, width, height, QUALITY, out, bytes, err);
    free(pixels);
    free(drawn);
    return st;
}

/* A live picture has its caption, where that is wanted; an overlay says more. */
static tw_status caption(const tw_platform *platform, const twi_camera_settings *camera,
                         const twi_pipeline *pipeline, const tw_reading *taken,
                         uint8_t **jpeg, size_t *bytes, tw_error *err)
{
    twi_caption *made = NULL;
    uint8_t *drawn = NULL;
    if (camera->caption[0] == '\0' || !(camera->caption_on & TWI_CAPTION_LIVE))
        return TW_OK;
    twi_caption_fields fields = {
        .camera = camera->name, .station = "", .activity_ppm = taken->activity_ppm};
    const int64_t wall_us = taken->t_us + twi_pipeline_wall_offset(pipeline);
    twi_civil_split(wall_us, platform->clock.ops->offset_s(platform->clock.ctx, wall_us),
                    &fields.time);
    tw_status st = twi_caption_new(camera, &made, err);
    if (st == TW_OK)
        st = twi_caption_jpeg(made, &fields, *jpeg, *bytes, (int)camera->still_quality,
                              &drawn, bytes, err);
    twi_caption_free(made);
    if (st != TW_OK)
        return st;
    free(*jpeg);
    *jpeg = drawn;
    return TW_OK;
}

tw_status twi_look(const tw_platform *platform, const twi_camera_settings *camera,
                   const tw_look_options *options, uint8_t **out, size_t *bytes,
                   tw_reading *taken, tw_error *err)
{
    if (!platform || !camera || !options || !out || !bytes || !taken)
        return tw_fail(err, TW_EINVAL, "nothing to look at");
    twi_run run;
    uint8_t *jpeg = NULL;
    size_t jpeg_bytes = 0;
    tw_watch_state state = TW_IDLE;
    tw_status st =
        twi_run_open(&run, platform, camera, false, false, NULL, NULL, NULL, err);
    if (st == TW_OK)
        st = watch_for(&run, options->after_us, err);
    if (st == TW_OK)
        st = twi_pipeline_still(run.pipeline, &jpeg, &jpeg_bytes, taken, &state, err);
    if (st == TW_OK && (options->overlay || options->png)) {
        char time[48];
        (void)snprintf(time, sizeof time, "at %.1f s",
                       (double)twi_pipeline_watched(run.pipeline) / 1e6);
        const twi_overlay overlay = {camera, taken, tw_watch_state_name(state), time};
        st = draw(jpeg, jpeg_bytes, options->overlay ? &overlay : NULL, options->png, out,
                  bytes, err);
    } else if (st == TW_OK) {
        st = caption(platform, camera, run.pipeline, taken, &jpeg, &jpeg_bytes, err);
        *out = jpeg;
        *bytes = jpeg_bytes;
        jpeg = NULL;
    }
    taken->cells = NULL;
    free(jpeg);
    twi_run_close(&run);
    return st;
}

tw_status tw_look_sized(const tw_platform *platform, tw_settings *settings,
                        const char *camera, const tw_look_options *options, uint8_t **out,
                        size_t *bytes, tw_reading *taken, tw_error *err, size_t size)
{
    tw_platform own;
    tw_look_options how;
    tw_reading reading;
    twi_camera_settings of;
    if (!platform || !settings || !camera || !options || !taken)
        return tw_fail(err, TW_EINVAL, "nothing to look at");
    TWI_TAKE(own, platform);
    TWI_TAKE(how, options);
    tw_status st = twi_settings_camera(settings, camera, &of);
    if (st != TW_OK)
        return tw_fail(err, st, "there is no camera %s", camera);
    st = twi_look(&own, &of, &how, out, bytes, &reading, err);
    if (st == TW_OK)
        twi_sized_give(taken, size, &reading, sizeof reading);
    return st;
}

tw_status tw_picture_sharpness(const uint8_t *jpeg, size_t bytes, const tw_blob *box,
                               uint32_t *sharpness, tw_error *err)
{
    static const tw_blob all = {.right_ppm = 1000000, .bottom_ppm = 1000000};
    twi_canvas canvas;
    uint8_t *memory = NULL;
    if (!jpeg || !sharpness)
        return tw_fail(err, TW_EINVAL, "no picture");
    const tw_status st = twi_jpeg_planes(jpeg, bytes, &canvas, &memory, err);
    if (st != TW_OK)
        return st;
    const tw_luma luma = {canvas.px[0], (uint32_t)canvas.stride[0], canvas.width,
                          canvas.height};
    *sharpness = twi_sharpness(&luma, box ? box : &all);
    free(memory);
    return TW_OK;
}

enum { TRIAL_US = 3000000 };

static void note_sound(twi_camera_found *found, const tw_frame *frame)
{
    if (!frame->said)
        found->heard = true;
    else if (frame->said->status != TW_OK)
        found->deaf = *frame->said;
}

/* Frames of a camera that is tried: seconds of them, and so many, at most. */
typedef struct trial {
    const tw_camera *camera;
    const tw_clock *clock;
    int64_t until_us;
    int left;
    twi_camera_found *found;
} trial;

static trial begin_trial(const tw_camera *camera, const tw_platform *platform, int most,
                         twi_camera_found *found)
{
    const tw_clock *clock = &platform->clock;
    return (trial){camera, clock, clock->ops->now_us(clock->ctx) + TRIAL_US, most, found};
}

/* The next one; sound is noted. @return false: that was all. frame is a picture where
 * *pictured is set. */
static bool try_next(trial *t, tw_frame *frame, bool *pictured)
{
    *pictured = false;
    if (t->left-- <= 0 || t->clock->ops->now_us(t->clock->ctx) >= t->until_us)
        return false;
    const tw_status st = t->camera->ops->next(t->camera->ctx, frame, NULL);
    if (st == TW_OK && frame->sound)
        note_sound(t->found, frame);
    *pictured = st == TW_OK && !frame->sound;
    return st == TW_OK || st == TW_EAGAIN || st == TW_EDAMAGED;
}

/* Until sound has come, or something is known of why it does not. */
static void wait_for_sound(const tw_camera *camera, const tw_platform *platform,
                           twi_camera_found *found)
{
    enum { MOST = 2000 };
    trial t = begin_trial(camera, platform, MOST, found);
    tw_frame frame;
    bool pictured = false;
    while (!found->heard && found->deaf.status == TW_OK &&
           try_next(&t, &frame, &pictured))
        ;
}

/* A live camera may let us wait; one that gives pictures rarely need not give any now. */
static tw_status first_frame(const tw_camera *camera, tw_frame *frame,
                             twi_camera_found *found, tw_error *err)
{
    enum { TRIES = 25, SOUNDS = 1000 };
    tw_status st = TW_EAGAIN;
    for (int i = 0, sounds = 0; i < TRIES && sounds < SOUNDS && st == TW_EAGAIN; i++) {
        st = camera->ops->next(camera->ctx, frame, err);
        if (st == TW_OK && frame->sound) {
            note_sound(found, frame);
            st = TW_EAGAIN;
            sounds++;
            i--;
            continue;
        }
        if (st == TW_EAGAIN && camera->ops->live == TW_LIVE_RARE)
            return TW_OK;
    }
    return st == TW_EAGAIN ? tw_fail(err, TW_ETIMEOUT, "it gives no frame") : st;
}

/* How fast frames come by themselves, of three seconds of them. */
static void count_frames(const tw_camera *camera, const tw_platform *platform,
                         const tw_frame *first, twi_camera_found *found)
{
    enum { MOST = 1000 };
    trial t = begin_trial(camera, platform, MOST, found);
    const int64_t from_us = first->packet.t_us;
    int64_t newest_us = from_us, count = 0;
    tw_frame frame;
    bool pictured = false;
    while (newest_us - from_us < TRIAL_US && try_next(&t, &frame, &pictured)) {
        if (!pictured)
            continue;
        found->grouped = found->grouped || (!frame.packet.key && !frame.picture.px[0]);
        if (frame.packet.t_us > newest_us)
            newest_us = frame.packet.t_us;
        count++;
    }
    if (found->stream.fps_num > 0) /* it knows better */
        found->own_milli =
            (uint32_t)((uint64_t)found->stream.fps_num * 1000 / found->stream.fps_den);
    else if (newest_us > from_us)
        found->own_milli =
            (uint32_t)(count * INT64_C(1000000000) / (newest_us - from_us));
}

/* Whether a limit may leave frames out; only then are seconds spent on looking. */
static bool may_exceed(const tw_stream *stream, int64_t fps)
{
    return fps > 0 && (stream->fps_num == 0 || stream->fps_num > fps * stream->fps_den);
}

tw_status twi_camera_try(const tw_platform *platform, const twi_camera_settings *camera,
                         twi_camera_found *found, tw_error *err)
{
    tw_camera_request request = twi_request_of(platform, camera);
    tw_camera made = {0};
    tw_frame frame = {.dropped = 0};
    request.most_fps = 0;
    request.sound = camera->sound;
    *found = (twi_camera_found){.own_milli = 0};
    tw_status st = tw_camera_make(platform->makers, &request, &made, err);
    if (st != TW_OK)
        return st;
    st = made.ops->open(made.ctx, &found->stream, err);
    if (st == TW_OK)
        st = first_frame(&made, &frame, found, err);
    if (st == TW_EEND)
        st = tw_fail(err, st, "%s: there is no frame in it", camera->source);
    if (st == TW_OK && may_exceed(&found->stream, camera->fps) &&
        made.ops->live != TW_LIVE_RARE)
        count_frames(&made, platform, &frame, found);
    if (st == TW_OK && found->stream.sound.codec != TW_SOUND_NONE)
        wait_for_sound(&made, platform, found);
    found->stream.extra = NULL;
    found->stream.extra_size = 0;
    made.ops->destroy(made.ctx);
    return st;
}

bool twi_clips_possible(tw_error *err)
{
    return twi_codecs_load(err) != NULL;
}
