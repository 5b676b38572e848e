/* The loops over pixels of each instruction set that this machine has. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/detector_state.h"
#include "../support/kernel_check.h"
#include "../support/support.h"

static void test_each_set_gives_the_bytes_of_the_plain_one(void **state)
{
    (void)state;
    size_t count = 0;
    for (const twi_kernels *k = NULL; (k = twi_kernels_at(count)) != NULL; count++) {
        size_t width = 0;
        const char *wrong = kernel_check(k, &width);
        if (wrong)
            fail_msg("%s of %s differs at a width of %zu", wrong, k->name, width);
    }
    assert_true(count >= 1);
    assert_ptr_equal(twi_kernels_at(count - 1), twi_kernels_c());
#ifdef __x86_64__
    assert_true(count >= 2); /* SSE2 is always there */
#endif
}

/* A check that cannot fail would be none. */
static void learn_badly(uint16_t *background, const uint8_t *frame, const uint16_t *rate,
                        size_t width)
{
    twi_kernels_c()->learn(background, frame, rate, width);
    background[width - 1] ^= 1;
}

static void test_a_single_wrong_bit_is_seen(void **state)
{
    (void)state;
    twi_kernels bad = *twi_kernels_c();
    size_t width = 0;
    bad.learn = learn_badly;
    assert_string_equal(kernel_check(&bad, &width), "learn");
}

/* 40 frames of the scene with a set of loops; a digest of all readings. */
static uint64_t digest_of_readings(const twi_kernels *kernels, uint16_t width,
                                   uint16_t height)
{
    char source[64];
    tw_stream stream;
    tw_frame frame;
    tw_detector_config config;
    tw_detector *d = NULL;
    size_t bytes = 0;
    uint64_t sum = 1;
    (void)snprintf(source, sizeof source, "sim:mere,size=%ux%u,raw=yes", width, height);
    tw_camera camera = open_camera(source, 10, &stream);
    tw_detector_defaults(&config, width, height);
    assert_int_equal(tw_detector_bytes(&config, &bytes), TW_OK);
    void *memory = malloc(bytes);
    assert_int_equal(tw_detector_init(&config, memory, bytes, &d), TW_OK);
    d->kernels = kernels;
    for (int i = 0; i < 40; i++) {
        tw_reading r;
        assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
        tw_luma luma;
        assert_int_equal(tw_picture_luma(&frame.picture, NULL, 0, &luma), TW_OK);
        assert_int_equal(tw_detector_read(d, &luma, frame.packet.t_us, &r), TW_OK);
        for (uint32_t k = 0; k < d->cells; k++)
            sum = (sum ^ (uint32_t)d->cell[k].level) * 1099511628211U;
        sum = (sum ^ r.raw_ppm ^ r.light_ppm) * 1099511628211U;
    }
    free(memory);
    camera.ops->destroy(camera.ctx);
    return sum;
}

static void test_readings_are_the_same_by_any_set(void **state)
{
    (void)state;
    static const uint16_t sizes[][2] = {{64, 64}, {241, 137}, {320, 180}};
    for (size_t s = 0; s < sizeof sizes / sizeof *sizes; s++) {
        const uint64_t want =
            digest_of_readings(twi_kernels_c(), sizes[s][0], sizes[s][1]);
        for (size_t i = 0; twi_kernels_at(i); i++)
            assert_true(digest_of_readings(twi_kernels_at(i), sizes[s][0], sizes[s][1]) ==
                        want);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_each_set_gives_the_bytes_of_the_plain_one),
        cmocka_unit_test(test_a_single_wrong_bit_is_seen),
        cmocka_unit_test(test_readings_are_the_same_by_any_set),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
