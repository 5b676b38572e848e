/* One camera's pipeline. */
#include "pipeline_state.h"

#include <stdlib.h>

#include "../core/brightness.h"
#include "../media/jpeg.h"
#include "../media/mask.h"
#include "../media/raw.h"
#include "../core/view.h"
#include "../settings/sections.h"
#include "why.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"

/* ---- making ---------------------------------------------------------------------- */

/* What a camera's settings and streams need, and what can fail.
 * @param second  Another stream is looked at than is kept. */
static tw_status open_parts(twi_pipeline *p, bool second, const twi_sink *sink,
                            tw_error *err)
{
    const twi_camera_settings *camera = p->camera;
    const tw_sighting_config config = twi_sighting_config_of(camera);
    tw_status st = tw_sighting_init(&p->watch, &config);
    if (st != TW_OK)
        st = tw_fail(err, st, "camera %s: start_at and stay_at contradict each other",
                     camera->name);
    if (st == TW_OK && camera->hours)
        st = twi_hours_parse(camera->hours, &p->arming.hours, NULL);
    if (st == TW_OK && camera->mask[0] != '\0')
        st = twi_mask_read(camera->mask, &p->detect.mask_picture, &p->detect.mask, err);
    if (st == TW_OK && p->detect.stream.codec != TW_CODEC_RAW)
        st = twi_decoder_open(&p->detect.stream,
                              twi_pipeline_inspected_ppm(&p->detect.view),
                              &p->detect.decoder, err);
    if (st == TW_OK && second && p->stream.codec != TW_CODEC_RAW)
        st = twi_decoder_open(&p->stream, 0, &p->kept.decoder, err);
    if (st == TW_OK && sink)
        st = twi_recorder_new(camera, sink->channel, &p->stream, sink->jobs,
                              &p->kept.recorder, err);
    return st;
}

tw_status twi_pipeline_new(const twi_camera_settings *given, tw_clock clock,
                           const tw_stream *stream, const tw_stream *inspected,
                           const twi_sink *sink, tw_event_fn callback, void *ctx,
                           twi_pipeline **out, tw_error *err)
{
    /* What holds by light and hour is known with the first frames. */
    const twi_camera_settings *camera = given->conditions ? given->conditions->by : given;
    twi_pipeline *p = calloc(1, sizeof *p);
    if (!p)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    p->camera = camera;
    twi_light_begin(p, camera->conditions);
    p->clock = clock;
    p->arming.from_us = INT64_MIN;
    p->orders = sink ? sink->orders : NULL;
    p->arming.arms = p->orders ? atomic_load(&p->orders->arms) : 0;
    p->gpio = (twi_gpio){.pins = sink ? sink->pins : NULL, .sensed_us = INT64_MIN};
    p->hearing = (twi_hearing){.listened_us = INT64_MIN, .loud_us = INT64_MIN};
    p->stream = *stream;
    p->detect.stream = inspected ? *inspected : *stream;
    /* Of a device that runs already, or a network, the first may be any. */
    p->times.waits_for_key = p->detect.stream.codec != TW_CODEC_MJPEG;
    p->kept.apart = inspected != NULL;
    p->kept.view = twi_view_of(camera, stream->turn);
    p->detect.view = twi_pipeline_seen(camera, p->detect.stream.turn);
    p->callback = callback;
    p->ctx = ctx;
    p->numbers = sink ? sink->numbers : NULL;
    tw_sighting_number_after(&p->watch, sink ? sink->number : 0);
    const tw_status st = open_parts(p, inspected != NULL, sink, err);
    if (st == TW_OK) {
        *out = p;
        twi_pipeline_tell(p, (tw_event){.kind = TW_EVENT_OPENED, .stream = stream});
    } else {
        twi_pipeline_free(p);
    }
    return st;
}

void twi_pipeline_free(twi_pipeline *p)
{
    if (!p)
        return;
    twi_hearing_close(p);
    twi_decoder_close(p->detect.decoder);
    twi_decoder_close(p->kept.decoder);
    twi_recorder_free(p->kept.recorder);
    free(p->detect.memory);
    free(p->detect.mask_picture);
    twi_buffer_unref(p->stills.best.image);
    twi_buffer_unref(p->kept.buffer);
    free(p->detect.px);
    free(p->detect.reduced);
    free(p->detect.chroma);
    free(p->detect.shown);
    free(p->detect.shown_chroma);
    free(p->detect.told);
    twi_hide_free(&p->detect.hide);
    free(p);
}

/* ---- frames ---------------------------------------------------------------------- */

static void tell_lost(twi_pipeline *p)
{
    const uint64_t lost = twi_recorder_lost(p->kept.recorder);
    if (lost == p->kept.lost_reported)
        return;
    if (p->kept.lost_reported == 0)
        twi_pipeline_problem(
            p, TW_ENOSPC, "the card is too slow: footage of this sighting is being lost");
    p->kept.lost_reported = lost;
}

/* What the recorder gets of the frame at hand: its packet; or its planes, or those as
 * JPEG. @return with one holder; NULL: err says why. */
static twi_buffer *buffer_to_hold(twi_pipeline *p, tw_error *err)
{
    const tw_picture *picture = &p->frame.picture;
    twi_buffer *made = NULL;
    p->kept.raw =
        picture->px[0] && twi_recorder_holds_raw(p->kept.recorder, p->frame.packet.size);
    if (!picture->px[0] || p->kept.raw) {
        made = twi_stills_frame(p);
        p->kept.buffer = NULL;
        if (!made)
            (void)tw_fail(err, TW_ENOMEM, "out of memory: a frame is not kept");
        return made;
    }
    if (twi_buffer_jpeg(p->kept.buffer ? &p->kept.buffer->planes : picture,
                        TWI_HELD_QUALITY, &made, err) != TW_OK)
        return NULL;
    made->activity_ppm = p->reading.activity_ppm;
    return made;
}

/* Hand the frame at hand to the recorder. */
static void record(twi_pipeline *p)
{
    tw_error why = {0};
    twi_buffer *buffer = buffer_to_hold(p, &why);
    if (!buffer) {
        twi_pipeline_problem(p, why.status, why.text);
        return;
    }
    if (twi_recorder_packet(p->kept.recorder, &p->frame.packet, buffer, &why) != TW_OK)
        twi_pipeline_problem(p, why.status, why.text);
    tell_lost(p);
}

/* What is kept, where something else is looked at: its size, and what stills are made of.
 */
static void keep_apart(twi_pipeline *p, const tw_frame *frame)
{
    uint16_t width = p->stream.width, height = p->stream.height;
    if (frame->picture.px[0]) {
        width = frame->picture.width;
        height = frame->picture.height;
    } else if (p->stream.codec == TW_CODEC_MJPEG) {
        (void)twi_brightness_size(frame->packet.data, frame->packet.size, &width,
                                  &height);
    }
    if (width != p->kept.width || height != p->kept.height)
        twi_pipeline_keep_size(p, width, height);
    if (p->kept.decoder)
        (void)twi_decoder_send(p->kept.decoder, &frame->packet, NULL);
}

static void take_frame(twi_pipeline *p, const tw_frame *frame)
{
    const tw_packet *packet = &p->frame.packet;
    p->frame = *frame;
    twi_frame_complete(&p->frame);
    p->kept.any = true;
    if (p->arming.from_us == INT64_MIN)
        p->arming.from_us = packet->t_us;
    p->result.packet_bytes += packet->size;
    p->times.wall_offset_us = packet->wall_us - packet->t_us;
}

tw_status twi_pipeline_frame(twi_pipeline *p, const tw_frame *frame, tw_error *err)
{
    if (!twi_detect_is_whole(&p->stream, frame))
        return twi_detect_bad_form(p, frame, err);
    take_frame(p, frame);
    twi_light_follow(p, &p->frame.packet);
    bool bad = false;
    tw_status st = TW_OK;
    if (p->kept.apart)
        keep_apart(p, &p->frame);
    else
        st = twi_detect_frame(p, &p->frame, &bad, err);
    /* A damaged JPEG would spoil a clip; a damaged packet of another codec may be needed
     * by those after it. */
    const bool usable = !bad || p->stream.codec != TW_CODEC_MJPEG;
    if (st == TW_OK && usable && twi_pipeline_is_kept(p))
        record(p);
    twi_buffer_unref(p->kept.buffer); /* where nobody has taken it over */
    p->kept.buffer = NULL;
    return st;
}

void twi_pipeline_sound(twi_pipeline *p, const tw_frame *frame)
{
    tw_error why = {0};
    if (frame->said)
        twi_pipeline_problem(p, frame->said->status, frame->said->text);
    else
        twi_hearing_packet(p, &frame->packet);
    if (frame->said || !p->kept.recorder || !twi_pipeline_is_kept(p))
        return;
    twi_buffer *buffer = twi_buffer_frame(frame);
    if (buffer)
        (void)twi_recorder_sound(p->kept.recorder, &frame->packet, buffer, &why);
}

void twi_pipeline_finish(twi_pipeline *p)
{
    bool bad = false;
    if (p->detect.decoder && p->detect.stream.codec != TW_CODEC_MJPEG)
        (void)twi_detect_packet(p, NULL, &bad, NULL);
    twi_pipeline_close_footage(p);
    if (p->result.frames > 0)
        p->result.length_us = p->times.last_us + p->times.step_us - p->result.first_us;
}

uint32_t twi_pipeline_number(const twi_pipeline *p)
{
    return p->watch.now.number;
}

void twi_pipeline_health(const twi_pipeline *p, twi_health *out)
{
    const twi_rect shown =
        p->kept.width > 0 ? twi_view_rect(&p->kept.view, p->kept.width, p->kept.height, 1)
                          : (twi_rect){0, 0, 0, 0};
    *out = (twi_health){.width = shown.width,
                        .height = shown.height,
                        .damaged = p->result.bad_frames,
                        .kept_bytes =
                            p->kept.recorder ? twi_recorder_held(p->kept.recorder) : 0,
                        .kept_raw = p->kept.raw,
                        .arming = p->arming.now,
                        .arming_until_us = p->arming.until_us,
                        .sound_level = twi_hearing_level(p),
                        .darkness = !p->light.dark.known ? TW_DARKNESS_UNKNOWN
                                    : p->light.dark.dark ? TW_DARK
                                                         : TW_LIGHT,
                        .holds = p->light.bits};
    if (p->detect.detector)
        tw_detector_conditions(p->detect.detector, &out->light_ppm, &out->noise);
}

bool twi_pipeline_in_sighting(const twi_pipeline *p)
{
    return p->watch.state == TW_SIGHTING;
}

int64_t twi_pipeline_watched(const twi_pipeline *p)
{
    return p->result.frames > 0 ? p->times.last_us - p->result.first_us : -1;
}

int64_t twi_pipeline_wall_offset(const twi_pipeline *p)
{
    return p->times.wall_offset_us;
}

void twi_pipeline_result(const twi_pipeline *p, tw_rehearsal_result *out)
{
    *out = p->result;
}

tw_status twi_pipeline_still(twi_pipeline *p, uint8_t **jpeg, size_t *bytes,
                             tw_reading *reading, tw_watch_state *state, tw_error *err)
{
    if (p->result.frames == 0)
        return tw_fail(err, TW_ENOENT, "camera %s: no frame could be read",
                       p->camera->name);
    *reading = p->reading;
    *state = p->watch.state;
    return twi_pipeline_shown(p, jpeg, bytes, err);
}
