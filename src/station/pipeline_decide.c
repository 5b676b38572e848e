/* From readings to sightings, and to what is kept of them. */
#include <stdlib.h>
#include <string.h>

#include "../media/jpeg.h"
#include "../media/reserve.h"
#include "feed.h"
#include "pipeline_state.h"
#include "../core/hidden.h"
#include "../core/naming.h"
#include "../core/view.h"
#include "tawny/events.h"

static void hand_over_trace(twi_pipeline *p, bool ends)
{
    twi_trace_minute minute;
    const int64_t wall_us = p->reading.t_us + p->times.wall_offset_us;
    const bool done =
        ends ? twi_trace_end(&p->trace, &minute)
             : twi_trace_add(&p->trace, wall_us, p->reading.activity_ppm, &minute);
    if (done)
        twi_recorder_trace(p->kept.recorder, &minute);
}

static void ended(twi_pipeline *p, bool last_too)
{
    const tw_sighting *s = &p->watch.ended;
    p->result.sightings++;
    if (p->kept.recorder) {
        twi_stills_ended(p, s);
        twi_recorder_ended(p->kept.recorder, s, last_too);
    }
    twi_gpio_ended(p);
    twi_pipeline_tell(p, (tw_event){.kind = TW_EVENT_ENDED, .sighting = s});
}

/* Whether something was ordered; it is done with then. */
static bool take_order(atomic_bool *order)
{
    return atomic_load_explicit(order, memory_order_relaxed) &&
           atomic_exchange(order, false);
}

/* One number for good, by which the catalogue, names, pages and messages know it. */
static void take_number(twi_pipeline *p)
{
    if (p->numbers)
        p->watch.now.number = atomic_fetch_add(p->numbers, 1) + 1;
}

/* The picture at hand, turned and cropped. */
tw_status twi_pipeline_shown(twi_pipeline *p, uint8_t **out, size_t *bytes, tw_error *err)
{
    const twi_view *view = &p->kept.view;
    uint8_t *whole = NULL;
    uint16_t width = 0, height = 0;
    if (twi_view_is_plain(view))
        return twi_stills_picture(p, out, bytes, err);
    tw_status st = twi_stills_picture(p, &whole, bytes, err);
    if (st == TW_OK)
        st = twi_jpeg_view(whole, *bytes, view, out, bytes, &width, &height, err);
    free(whole);
    return st;
}

/* A JPEG that is shown as it came is shared; all else is made. */
static twi_buffer *shown_picture(void *ctx, tw_error *err)
{
    twi_pipeline *p = ctx;
    uint8_t *jpeg = NULL;
    size_t bytes = 0;
    if (p->stream.codec == TW_CODEC_MJPEG && twi_view_is_plain(&p->kept.view) &&
        twi_stills_frame(p))
        return twi_buffer_ref(p->kept.buffer);
    if (twi_pipeline_shown(p, &jpeg, &bytes, err) != TW_OK)
        return NULL;
    twi_buffer *made = twi_buffer_adopt(jpeg, bytes);
    if (!made)
        (void)tw_fail(err, TW_ENOMEM, "out of memory");
    return made;
}

/* What is enough without motion: a sensor, or a sound. */
static unsigned sense(twi_pipeline *p, bool armed)
{
    const bool felt = armed && twi_gpio_senses(p), heard = armed && twi_hearing_begins(p);
    const unsigned what = tw_sighting_sense(&p->watch, felt || heard);
    if ((what & TW_SIGHTING_BEGAN) && !felt)
        p->watch.now.cause.by = TW_CAUSE_SOUND;
    return what;
}

/* Brightness as others may see it. @return NULL: there is none, or no memory. */
static const tw_luma *told_luma(twi_pipeline *p, tw_luma *own)
{
    const twi_view view = {.hidden = p->kept.view.hidden,
                           .hidden_count = p->kept.view.hidden_count};
    if (!p->luma || view.hidden_count == 0)
        return p->luma;
    const size_t bytes = (size_t)p->luma->width * p->luma->height;
    if (!twi_reserve(&p->detect.told, &p->detect.told_bytes, bytes) ||
        twi_hide_prepare(&p->detect.hide, &view, p->luma->width, p->luma->height, NULL) !=
            TW_OK)
        return NULL;
    for (size_t y = 0; y < p->luma->height; y++)
        memcpy(p->detect.told + y * p->luma->width, p->luma->px + y * p->luma->stride,
               p->luma->width);
    twi_hidden_fill(p->detect.hide.blocks, p->luma->width, p->luma->height, 0, 0,
                    p->detect.told, p->luma->width);
    *own = (tw_luma){p->detect.told, p->luma->width, p->luma->width, p->luma->height};
    return own;
}

static void decide(twi_pipeline *p)
{
    twi_gpio_read(p);
    twi_arming_note(p, p->reading.t_us);
    const bool armed = twi_arming_allows(p, p->reading.t_us);
    tw_sighting_arm(&p->watch, armed && twi_gpio_allows(p) && twi_hearing_allows(p));
    unsigned what = tw_sighting_step(&p->watch, &p->reading);
    const bool asked = p->orders && take_order(&p->orders->trigger);
    if (asked)
        what |= tw_sighting_trigger(&p->watch);
    what |= sense(p, armed);
    if (what & TW_SIGHTING_ENDED)
        ended(p, false);
    if (what & TW_SIGHTING_BEGAN) {
        take_number(p);
        twi_pipeline_tell(p, (tw_event){.kind = TW_EVENT_BEGAN,
                                        .sighting = &p->watch.now,
                                        .reading = &p->reading});
        twi_gpio_began(p);
        if (p->kept.recorder) {
            twi_recorder_began(p->kept.recorder, &p->watch.now);
            twi_stills_began(p);
        }
    }
    const bool running = p->watch.state == TW_SIGHTING;
    const struct tw_event_frame shown = {shown_picture, p};
    tw_luma own;
    if (running && p->kept.recorder)
        twi_stills_while(p);
    twi_pipeline_tell(p, (tw_event){.kind = TW_EVENT_READING,
                                    .frame = &shown,
                                    .reading = &p->reading,
                                    .luma = told_luma(p, &own),
                                    .sighting = running ? &p->watch.now : NULL});
}

void twi_pipeline_decide(twi_pipeline *p)
{
    if (p->kept.recorder)
        twi_recorder_hold(p->kept.recorder, p->reading.earliest_us);
    decide(p);
    if (!p->kept.recorder)
        return;
    twi_stills_timed(p);
    if (p->orders && take_order(&p->orders->snap))
        twi_stills_store(p, TWI_KIND_SNAP, 0);
    hand_over_trace(p, false);
}

/* End what is running; what comes next is another footage. */
void twi_pipeline_close_footage(twi_pipeline *p)
{
    if (tw_sighting_finish(&p->watch) & TW_SIGHTING_ENDED)
        ended(p, true);
    if (p->kept.recorder) {
        hand_over_trace(p, true);
        twi_recorder_flush(p->kept.recorder);
    }
    tw_sighting_settle_again(&p->watch);
}

/* The size of what is kept. */
void twi_pipeline_keep_size(twi_pipeline *p, uint16_t width, uint16_t height)
{
    p->kept.width = width;
    p->kept.height = height;
    if (p->kept.recorder)
        twi_recorder_size(p->kept.recorder, width, height);
}

tw_status twi_pipeline_change_size(twi_pipeline *p, const twi_decoded *decoded,
                                   tw_error *err)
{
    const bool first = p->detect.width == 0;
    if (!first) {
        tw_error line = {0};
        (void)tw_fail(
            &line, TW_OK,
            "the picture changed from %u x %u to %u x %u at %.3f s: learning the "
            "place anew",
            p->detect.width, p->detect.height, decoded->width, decoded->height,
            (double)(decoded->t_us - p->result.first_us) / 1e6);
        twi_pipeline_problem(p, TW_OK, line.text);
        twi_pipeline_close_footage(p);
    }
    p->detect.width = decoded->width;
    p->detect.height = decoded->height;
    if (!p->kept.apart)
        twi_pipeline_keep_size(p, p->detect.width, p->detect.height);
    return twi_pipeline_make_detector(p, decoded->luma.width, decoded->luma.height, err);
}
