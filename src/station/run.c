/* Running a camera to its end; shared by rehearsals, looks and stations. */
#include <stdlib.h>
#include <string.h>

#include "../base/module.h"
#include "pipeline.h"
#include "../core/sized.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/port.h"

enum { FPS_USUAL = 10 }; /* where neither source nor settings say */

tw_camera_request twi_request_of(const tw_platform *platform,
                                 const twi_camera_settings *camera)
{
    return (tw_camera_request){.name = camera->name,
                               .source = camera->source,
                               .fps = camera->fps > 0 ? (uint32_t)camera->fps : FPS_USUAL,
                               .most_fps = (uint32_t)camera->fps,
                               .width = camera->size.width,
                               .height = camera->size.height,
                               .format = twi_format_name(camera->format),
                               .controls = camera->controls,
                               .fetch_every_us = camera->fetch_every_us,
                               .udp = camera->transport == 1,
                               .clock = platform->clock,
                               .pushed = platform->pushed};
}

tw_status twi_run_open(twi_run *run, const tw_platform *platform,
                       const twi_camera_settings *camera, bool pace, bool loop,
                       const twi_sink *sink, tw_event_fn callback, void *ctx,
                       tw_error *err)
{
    memset(run, 0, sizeof *run);
    tw_camera_request request = twi_request_of(platform, camera);
    request.loop = loop;
    request.pace = pace;
    request.sound =
        sink ? camera->sound : NULL; /* where nothing is kept, it is not heard */
    tw_status st = tw_camera_make(platform->makers, &request, &run->camera, err);
    if (st != TW_OK)
        return st;
    tw_stream stream, inspected;
    st = run->camera.ops->open(run->camera.ctx, &stream, err);
    const bool second =
        sink && sink->orders && camera->detect_source && camera->detect_source[0] != '\0';
    request.source = camera->detect_source;
    request.sound = NULL;
    if (st == TW_OK && second)
        st = twi_prefetch_open(platform, &request, &run->prefetch, &inspected, err);
    if (st == TW_OK)
        run->controls = strdup(camera->controls ? camera->controls : "");
    if (st == TW_OK && stream.fps_den > 0)
        run->wanted_milli = (uint32_t)((uint64_t)stream.fps_num * 1000 / stream.fps_den);
    if (st == TW_OK)
        st =
            twi_pipeline_new(camera, platform->clock, &stream, second ? &inspected : NULL,
                             sink, callback, ctx, &run->pipeline, err);
    twi_module_give_back();
    return st;
}

/* Take what there is to be looked at by now. */
static tw_status prefetch(twi_run *run, tw_error *err)
{
    enum { MOST = 64 };
    tw_status st = TW_OK;
    for (int i = 0; run->prefetch && st == TW_OK && i < MOST; i++) {
        tw_frame frame;
        tw_error why = {0};
        st = twi_prefetch_take(run->prefetch, &frame, &why);
        if (st == TW_OK)
            st = twi_pipeline_detect(run->pipeline, &frame, err);
        else if (st == TW_EDAMAGED)
            st = twi_pipeline_bad_frame(run->pipeline, &why, err);
        else if (st != TW_EAGAIN && err)
            *err = why;
    }
    return st == TW_EAGAIN ? TW_OK : st;
}

/* A device is given other controls while it runs: by other settings, or by light and
 * hour. What they leave out stays as it is. */
static void follow_controls(twi_run *run)
{
    const char *wanted = twi_pipeline_settings(run->pipeline)->controls;
    if (!wanted || (run->controls && strcmp(wanted, run->controls) == 0))
        return;
    char *copy = strdup(wanted);
    if (!copy)
        return; /* tried again with the next frame */
    free(run->controls);
    run->controls = copy;
    const tw_camera_ops *ops = run->camera.ops;
    tw_error err = {0};
    const tw_status st = TWI_HAS(ops, control) && ops->control
                             ? ops->control(run->camera.ctx, copy, &err)
                             : TW_OK;
    if (st != TW_OK)
        twi_pipeline_problem(run->pipeline, st, err.text);
}

tw_status twi_run_step(twi_run *run, tw_error *err)
{
    tw_frame frame;
    tw_error why = {0};
    const tw_status st = run->camera.ops->next(run->camera.ctx, &frame, &why);
    if (st == TW_OK && frame.sound) {
        twi_pipeline_sound(run->pipeline, &frame);
        return TW_OK;
    }
    run->frames += st == TW_OK || st == TW_EDAMAGED;
    if (st == TW_OK) {
        run->dropped = frame.dropped;
        const tw_status taken = twi_pipeline_frame(run->pipeline, &frame, err);
        follow_controls(run);
        return taken == TW_OK ? prefetch(run, err) : taken;
    }
    if (st == TW_EAGAIN)
        return TW_OK;
    if (st == TW_EDAMAGED)
        return twi_pipeline_bad_frame(run->pipeline, &why, err);
    if (err)
        *err = why;
    return st;
}

void twi_run_close(twi_run *run)
{
    if (run->pipeline) {
        twi_pipeline_finish(run->pipeline);
        twi_pipeline_free(run->pipeline);
    }
    twi_prefetch_close(run->prefetch);
    if (run->camera.ops)
        run->camera.ops->destroy(run->camera.ctx);
    free(run->controls);
    memset(run, 0, sizeof *run);
}
