/* Rehearsals: one camera, one thread, as fast as the footage can be read. */
#include <string.h>

#include "../core/sized.h"
#include "pipeline.h"
#include "rehearse.h"
#include "../settings/sections.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

static tw_status run_to_end(twi_run *run, const volatile int *stop, tw_error *err)
{
    tw_status st = TW_OK;
    while (st == TW_OK && !(stop && *stop))
        st = twi_run_step(run, err);
    if (st == TW_EEND)
        return TW_OK;
    return st == TW_OK ? TW_ESTOPPED : st;
}

tw_status twi_rehearse(const tw_platform *platform, const twi_camera_settings *camera,
                       const twi_station_settings *station, const volatile int *stop,
                       tw_event_fn callback, void *ctx, tw_rehearsal_result *result,
                       tw_error *err)
{
    if (!platform || !camera || !result || (platform->card && !station))
        return tw_fail(err, TW_EINVAL, "nothing to rehearse");
    twi_run run;
    twi_writer writer = {.clock = platform->clock, .callback = callback, .ctx = ctx};
    twi_channel channel = {.camera = camera};
    const twi_sink sink = {.channel = &channel, .jobs = twi_writer_jobs(&writer)};
    tw_status st = TW_OK;
    memset(&run, 0, sizeof run);
    twi_writer_add_channel(&writer, &channel);
    if (platform->card)
        st = twi_writer_open(&writer, platform->card, station, err);
    if (st == TW_OK && platform->card) /* what is to be kept must be */
        st = twi_store_probe(platform->card, err);
    if (st == TW_OK)
        st = twi_run_open(&run, platform, camera, false, false,
                          platform->card ? &sink : NULL, callback, ctx, err);
    if (st == TW_OK)
        st = run_to_end(&run, stop, err);
    if (run.pipeline) {
        twi_pipeline_finish(run.pipeline);
        twi_pipeline_result(run.pipeline, result);
        if (st == TW_OK && result->frames == 0)
            st = tw_fail(err, TW_EDAMAGED, "%s: no frame could be read", camera->source);
    }
    twi_run_close(&run);
    twi_writer_end_videos(&writer);
    twi_writer_close(&writer);
    return st;
}

tw_status tw_rehearse_sized(const tw_platform *platform, tw_settings *settings,
                            const char *camera, const volatile int *stop,
                            tw_event_fn callback, void *ctx, tw_rehearsal_result *result,
                            tw_error *err, size_t size)
{
    tw_platform own;
    tw_rehearsal_result got;
    twi_camera_settings of;
    twi_station_settings station;
    if (!platform || !settings || !camera || !result)
        return tw_fail(err, TW_EINVAL, "nothing to rehearse");
    TWI_TAKE(own, platform);
    tw_status st = twi_settings_camera(settings, camera, &of);
    if (st != TW_OK)
        return tw_fail(err, st, "there is no camera %s", camera);
    twi_settings_station(settings, &station);
    st = twi_rehearse(&own, &of, &station, stop, callback, ctx, &got, err);
    if (st == TW_OK || st == TW_ESTOPPED)
        twi_sized_give(result, size, &got, sizeof got);
    return st;
}
