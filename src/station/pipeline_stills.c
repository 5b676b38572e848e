/* Which frames become stills. */
#include "../media/raw.h"
#include "pipeline_state.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "tawny/draw.h"

static tw_packet times_at(const twi_pipeline *p, int64_t t_us)
{
    return (tw_packet){
        .t_us = t_us, .dts_us = t_us, .wall_us = t_us + p->times.wall_offset_us};
}

twi_buffer *twi_stills_frame(twi_pipeline *p)
{
    if (p->kept.buffer)
        return p->kept.buffer;
    p->kept.buffer = twi_buffer_frame(&p->frame);
    if (p->kept.buffer)
        p->kept.buffer->activity_ppm = p->reading.activity_ppm;
    return p->kept.buffer;
}

tw_status twi_stills_picture(twi_pipeline *p, uint8_t **jpeg, size_t *bytes,
                             tw_error *err)
{
    const int quality = (int)p->camera->still_quality;
    if (p->frame.picture.px[0])
        return tw_picture_jpeg(&p->frame.picture, quality, jpeg, bytes, err);
    return twi_decoder_still(p->kept.apart ? p->kept.decoder : p->detect.decoder, quality,
                             jpeg, bytes, err);
}

/* Whether each frame is a picture of its own, which needs no decoding to be kept. */
static bool stands_alone(const twi_pipeline *p)
{
    return p->stream.codec == TW_CODEC_MJPEG || p->stream.codec == TW_CODEC_RAW;
}

/* The picture at hand: as it came, or as a JPEG where it depends on others.
 * @return NULL: err says why. */
static twi_buffer *take_still(twi_pipeline *p, tw_error *err)
{
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (stands_alone(p) && twi_stills_frame(p))
        return twi_buffer_ref(p->kept.buffer);
    if (twi_stills_picture(p, &jpeg, &bytes, err) != TW_OK)
        return NULL;
    twi_buffer *taken = twi_buffer_adopt(jpeg, bytes);
    if (!taken)
        (void)tw_fail(err, TW_ENOMEM, "out of memory");
    else
        taken->activity_ppm = p->reading.activity_ppm;
    return taken;
}

void twi_stills_store(twi_pipeline *p, twi_kind kind, uint32_t n)
{
    tw_error err = {0};
    const twi_still still = {.kind = kind,
                             .sighting = kind == TWI_KIND_STILL ? &p->watch.now : NULL,
                             .image = take_still(p, &err),
                             .times = times_at(p, p->reading.t_us),
                             .n = n,
                             .width = p->kept.width,
                             .height = p->kept.height};
    if (still.image)
        twi_recorder_still(p->kept.recorder, &still);
    else
        twi_pipeline_problem(p, err.status, err.text);
}

/* The first confirming frame, where its packet is a picture of its own; else the one at
 * hand, by which it was confirmed. */
static void store_first(twi_pipeline *p)
{
    twi_still still = {.kind = TWI_KIND_STILL,
                       .sighting = &p->watch.now,
                       .n = p->camera->burst > 1 ? ++p->stills.count
                                                 : 0, /* one alone has none */
                       .width = p->kept.width,
                       .height = p->kept.height};
    if (!stands_alone(p) || twi_recorder_find(p->kept.recorder, p->watch.now.start_us,
                                              &still.times, &still.image) != TW_OK) {
        twi_stills_store(p, TWI_KIND_STILL, still.n);
        return;
    }
    (void)twi_buffer_ref(still.image);
    twi_recorder_still(p->kept.recorder, &still);
}

/* Encoding a still is dear where the camera sends no JPEG: only for clearly better ones.
 */
static void keep_if_better(twi_pipeline *p)
{
    const uint32_t dear_pct = stands_alone(p) ? 4 : 12;
    twi_best rank = p->stills.best.image ? p->stills.best.rank : (twi_best){0};
    if (!twi_best_take(&rank, &p->reading, p->luma, dear_pct))
        return;
    twi_buffer *image = take_still(p, NULL);
    if (!image)
        return;
    twi_buffer_unref(p->stills.best.image);
    p->stills.best = (best_still){image, rank, times_at(p, p->reading.t_us)};
}

void twi_stills_ended(twi_pipeline *p, const tw_sighting *sighting)
{
    const twi_still still = {.kind = TWI_KIND_STILL,
                             .sighting = sighting,
                             .image = p->stills.best.image,
                             .times = p->stills.best.times,
                             .width = p->kept.width,
                             .height = p->kept.height};
    if (!still.image)
        return;
    twi_recorder_still(p->kept.recorder, &still);
    p->stills.best = (best_still){0};
}

void twi_stills_began(twi_pipeline *p)
{
    p->stills.count = 0;
    p->stills.burst_left = 0;
    p->stills.next_us = p->reading.t_us;
    /* Where nothing moves there is no best frame: the one that it was asked for with. */
    if (p->camera->stills.which == TWI_STILLS_BEST && p->watch.now.cause.of == 0) {
        twi_buffer_unref(p->stills.best.image);
        p->stills.best =
            (best_still){take_still(p, NULL), {0}, times_at(p, p->reading.t_us)};
    }
    if (p->camera->stills.which != TWI_STILLS_FIRST)
        return;
    store_first(p);
    p->stills.burst_left = (uint32_t)p->camera->burst - 1;
    p->stills.next_us = p->reading.t_us + 1; /* the burst goes on with the next frame */
}

void twi_stills_while(twi_pipeline *p)
{
    const bool every = p->camera->stills.which == TWI_STILLS_EVERY;
    const bool goes_on = p->stills.burst_left > 0;
    if (p->camera->stills.which == TWI_STILLS_BEST)
        keep_if_better(p);
    if (p->reading.t_us < p->stills.next_us || (!goes_on && !every))
        return;
    if (!goes_on && p->watch.now.end_us < p->reading.t_us)
        return; /* nothing has moved since: the next one comes when something does */
    if (!goes_on) {
        p->stills.burst_left = (uint32_t)p->camera->burst;
        p->stills.every_from_us = p->reading.t_us;
    }
    p->stills.burst_left--;
    twi_stills_store(p, TWI_KIND_STILL, ++p->stills.count);
    if (p->stills.burst_left == 0 && every)
        p->stills.next_us = p->stills.every_from_us + p->camera->stills.every_us;
}

void twi_stills_timed(twi_pipeline *p)
{
    if (twi_interval_due(&p->stills.timed, p->reading.t_us + p->times.wall_offset_us,
                         p->camera->timed_still_us))
        twi_stills_store(p, TWI_KIND_TIMED_STILL, 0);
}
