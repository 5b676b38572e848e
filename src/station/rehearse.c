/* Rehearsals: one camera, one thread, as fast as the footage can be read. */
#include <string.h>

#include "pipeline.h"

static tw_status run_to_end(tw_run *run, const volatile int *stop, tw_error *err)
{
    tw_status st = TW_OK;
    while (st == TW_OK && !(stop && *stop))
        st = tw_run_step(run, err);
    if (st == TW_EEND)
        return TW_OK;
    return st == TW_OK ? TW_ESTOPPED : st;
}

tw_status tw_rehearse(const tw_board *board, const tw_camera_settings *camera,
                      const tw_station_settings *station, const volatile int *stop,
                      tw_event_fn told, void *ctx, tw_rehearsal_result *result,
                      tw_error *err)
{
    if (!board || !camera || !result || (board->card && !station))
        return tw_fail(err, TW_EINVAL, "nothing to rehearse");
    tw_run run;
    tw_writer writer = {.clock = board->clock, .told = told, .ctx = ctx};
    tw_lane lane = {.camera = camera};
    const tw_keep keep = {.lane = &lane, .sink = tw_writer_sink(&writer)};
    tw_status st = TW_OK;
    memset(&run, 0, sizeof run);
    tw_writer_add_lane(&writer, &lane);
    if (board->card)
        st = tw_writer_open(&writer, board->card, station, err);
    if (st == TW_OK && board->card) /* what is to be kept must be */
        st = tw_store_probe(board->card, err);
    if (st == TW_OK)
        st = tw_run_open(&run, board, camera, false, false, board->card ? &keep : NULL,
                         told, ctx, err);
    if (st == TW_OK)
        st = run_to_end(&run, stop, err);
    if (run.pipeline) {
        tw_pipeline_finish(run.pipeline);
        tw_pipeline_result(run.pipeline, result);
        if (st == TW_OK && result->frames == 0)
            st = tw_fail(err, TW_EDAMAGED, "%s: no frame could be read", camera->source);
    }
    tw_run_close(&run);
    tw_writer_end_videos(&writer);
    tw_writer_close(&writer);
    return st;
}
