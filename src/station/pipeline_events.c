/* What a pipeline tells of. */
#include <inttypes.h>

#include "pipeline_state.h"
#include "tawny/events.h"

enum {
    BAD_TOLD_MAX = 5,  /* damaged frames that are told one by one */
    BAD_IN_A_ROW = 250 /* and after so many without a good one the camera is given up */
};

void twi_pipeline_tell(const twi_pipeline *p, tw_event event)
{
    event.camera = p->camera->name;
    event.state = p->watch.state;
    event.lost_frames = p->kept.recorder ? twi_recorder_lost(p->kept.recorder) : 0;
    if (event.t_us == 0)
        event.t_us = p->reading.t_us;
    event.wall_us = event.t_us + p->times.wall_offset_us;
    if (p->callback)
        p->callback(p->ctx, &event);
}

void twi_pipeline_problem(const twi_pipeline *p, tw_status st, const char *text)
{
    twi_pipeline_tell(p,
                      (tw_event){.kind = TW_EVENT_PROBLEM, .status = st, .text = text});
}

tw_status twi_pipeline_bad_frame(twi_pipeline *p, const tw_error *why, tw_error *err)
{
    p->result.bad_frames++;
    p->bad_in_a_row++;
    if (p->result.bad_frames <= BAD_TOLD_MAX)
        twi_pipeline_problem(p, TW_EDAMAGED, why->text);
    if (p->result.bad_frames == BAD_TOLD_MAX)
        twi_pipeline_problem(p, TW_EDAMAGED,
                             "more damaged frames are only counted from here on");
    if (p->bad_in_a_row < BAD_IN_A_ROW)
        return TW_OK;
    return tw_fail(err, TW_EDAMAGED, "camera %s: %d damaged frames in a row, giving up",
                   p->camera->name, BAD_IN_A_ROW);
}

/* Word what is wrong with the frame at hand: which one, and when. */
tw_status twi_pipeline_bad_picture(twi_pipeline *p, const tw_packet *packet,
                                   const tw_error *why, tw_error *err)
{
    tw_error line = {0};
    const uint64_t number = p->result.frames + p->result.bad_frames + 1;
    const int64_t since = packet ? packet->t_us - p->result.first_us : 0;
    (void)tw_fail(&line, TW_EDAMAGED, "frame %" PRIu64 " at %.3f s left out: %s", number,
                  (double)since / 1e6, why->text);
    return twi_pipeline_bad_frame(p, &line, err);
}
