/* Key frames of H.264 byte streams: by hand, and in what an encoder writes. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/h264.h"
#include "../support/support.h"

static void test_the_first_slice_decides(void **state)
{
    (void)state;
    static const struct {
        size_t bytes;
        bool key;
        uint8_t data[24];
    } all[] = {
        {8, true, {0, 0, 1, 0x65, 0x88, 0, 0, 0}},
        {8, true, {0, 0, 0, 1, 0x25, 0x88, 0, 0}},     /* another nal_ref_idc */
        {8, false, {0, 0, 0, 1, 0x41, 0x9A, 0, 0}},    /* a slice of another picture */
        {8, false, {0, 0, 0, 1, 0x01, 0x9A, 0, 0}},    /* that nothing refers to */
        {8, false, {0, 0, 1, 0x67, 0x42, 0, 0, 0x28}}, /* parameters alone */
        {20, true, {0,    0, 0, 1, 9,    0x10, 0, 0, 1, 0x67,
                    0x42, 0, 0, 1, 0x68, 0xCE, 0, 0, 1, 0x65}},
        {14, false, {0, 0, 1, 0x41, 0x9A, 1, 0, 0, 1, 0x65, 0x88, 1, 1, 1}},
        {10, false, {0, 0, 3, 1, 0x65, 0, 0, 2, 0x65, 1}}, /* no start code */
        {4, true, {0, 0, 1, 0x65}},
        {3, false, {0, 0, 1}},
        {1, false, {0}},
        {0, false, {0}},
    };
    for (size_t i = 0; i < sizeof all / sizeof *all; i++)
        if (twi_h264_is_key(all[i].data, all[i].bytes) != all[i].key)
            fail_msg("case %zu", i);
    assert_false(twi_h264_is_key(NULL, 0));
}

static void test_an_encoders_stream(void **state)
{
    (void)state;
    size_t bytes = 0;
    uint8_t *data = encode_h264(&bytes);
    int frames = 0;
    for (tw_packet p = {.data = NULL}; next_h264(data, bytes, &p); frames++)
        assert_int_equal(twi_h264_is_key(p.data, p.size), frames % 10 == 0);
    assert_int_equal(frames, 30);
    free(data);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_first_slice_decides),
        cmocka_unit_test(test_an_encoders_stream),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
