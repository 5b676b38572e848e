/* A camera's pipeline by itself: streams that are met while they run. */
#include <stdlib.h>
#include <string.h>

#include "../../src/station/pipeline.h"
#include "../support/support.h"
#include "tawny/events.h"

typedef struct seen {
    size_t readings;
    problems problems;
} seen;

static void on_event(void *ctx, const tw_event *e)
{
    seen *s = ctx;
    s->readings += e->kind == TW_EVENT_READING;
    if (e->kind == TW_EVENT_PROBLEM)
        collect_problem(&s->problems, e->text);
}

/* A device or a network gives what comes next, which needs pictures that were before:
 * nothing is decoded until a key frame comes, and nothing is called damaged. */
static void test_a_stream_that_is_met_in_its_middle(void **state)
{
    (void)state;
    seen s = {.readings = 0};
    tw_sim_time time = {.now_us = 0};
    twi_camera_settings camera;
    tw_settings *settings = settings_of("[camera brook]\nsource = x\nstills = none\n");
    assert_int_equal(twi_settings_camera(settings, "brook", &camera), TW_OK);
    const tw_stream stream = h264_stream();
    twi_pipeline *p = NULL;
    assert_int_equal(twi_pipeline_new(&camera, tw_sim_clock(&time), &stream, NULL, NULL,
                                      on_event, &s, &p, NULL),
                     TW_OK);
    size_t bytes = 0;
    uint8_t *data = encode_h264(&bytes);
    for (tw_frame frame = {.dropped = 0}; next_h264(data, bytes, &frame.packet);) {
        time.now_us = frame.packet.t_us;
        if (time.now_us >= 400000) /* six, which need others, and then a key frame */
            assert_int_equal(twi_pipeline_frame(p, &frame, NULL), TW_OK);
    }
    twi_pipeline_finish(p);
    twi_pipeline_free(p);
    assert_int_equal(s.problems.count, 0);
    assert_true(s.readings >= 15 &&
                s.readings <= 20); /* of the twenty from the key frame on */
    tw_settings_free(settings);
    free(data);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_stream_that_is_met_in_its_middle),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
