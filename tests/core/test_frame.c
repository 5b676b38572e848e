/* Luma views and their reduction. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

static void test_check_refuses_what_cannot_be_read(void **state)
{
    (void)state;
    const uint8_t px[4] = {0};
    const tw_luma good = {px, 2, 2, 2};
    const tw_luma bad[] = {{NULL, 2, 2, 2}, {px, 1, 2, 2}, {px, 2, 0, 2}, {px, 2, 2, 0}};
    assert_int_equal(tw_luma_check(&good), TW_OK);
    assert_int_equal(tw_luma_check(NULL), TW_EINVAL);
    for (size_t i = 0; i < 4; i++)
        assert_int_equal(tw_luma_check(&bad[i]), TW_EINVAL);
}

static void test_factor_leaves_enough_pixels(void **state)
{
    (void)state;
    static const struct {
        uint16_t width, factor;
    } cases[] = {{1, 1},    {239, 1},  {240, 1},   {479, 1},   {480, 2},   {640, 2},
                 {1280, 5}, {1920, 8}, {3840, 16}, {4096, 16}, {65535, 16}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        assert_int_equal(tw_luma_factor(cases[i].width), cases[i].factor);
        if (cases[i].width >= TW_LUMA_MIN_WIDTH)
            assert_true(cases[i].width / cases[i].factor >= TW_LUMA_MIN_WIDTH);
    }
}

/* The definition, in the plainest form. */
static uint8_t mean_of(const tw_luma *src, size_t x, size_t y, size_t factor, bool half)
{
    const size_t step = half ? 2 : 1, rows = half ? factor / 2 : factor;
    uint32_t sum = 0;
    for (size_t row = 0; row < rows; row++)
        for (size_t dx = 0; dx < factor; dx++)
            sum += src->px[(y * factor + row * step) * src->stride + x * factor + dx];
    const uint32_t area = (uint32_t)(factor * rows);
    return (uint8_t)((sum + area / 2) / area);
}

static void check_means(const tw_luma *src, const tw_luma *out, uint16_t factor,
                        bool half)
{
    assert_int_equal(out->width, src->width / factor);
    assert_int_equal(out->height, src->height / factor);
    for (size_t y = 0; y < out->height; y++)
        for (size_t x = 0; x < out->width; x++)
            assert_int_equal(out->px[y * out->stride + x],
                             mean_of(src, x, y, factor, half));
}

static void check_reduction(uint16_t width, uint16_t height, uint32_t stride,
                            uint16_t factor)
{
    const size_t bytes = (size_t)stride * height;
    uint8_t *px = malloc(bytes), *dst = malloc(bytes);
    uint32_t chance = width * 31U + height;
    for (size_t i = 0; i < bytes; i++) {
        chance = chance * 1664525U + 1013904223U;
        px[i] = i % 7 == 0 ? 255 : (uint8_t)(chance >> 24);
    }
    const tw_luma src = {px, stride, width, height};
    tw_luma out = {0};
    assert_int_equal(tw_luma_reduce(&src, factor, dst, bytes, &out), TW_OK);
    check_means(&src, &out, factor, false);
    assert_int_equal(tw_luma_reduce_half(&src, factor, dst, bytes, &out), TW_OK);
    check_means(&src, &out, factor, factor > 1);
    free(px);
    free(dst);
}

static void test_reduction_is_the_rounded_mean(void **state)
{
    (void)state;
    for (int f = 1; f <= TW_REDUCE_MAX; f++) {
        const uint16_t factor = (uint16_t)f;
        check_reduction(factor, factor, factor, factor);
        check_reduction((uint16_t)(factor * 5 + 1), (uint16_t)(factor * 3 + factor - 1),
                        factor * 5U + 9, factor);
        check_reduction((uint16_t)(factor * 300), factor, factor * 300U, factor);
    }
}

static void test_reduction_of_white_stays_white(void **state)
{
    (void)state;
    uint8_t white[32 * 32], dst[4];
    memset(white, 255, sizeof white);
    const tw_luma src = {white, 32, 32, 32};
    tw_luma out;
    assert_int_equal(tw_luma_reduce(&src, 16, dst, sizeof dst, &out), TW_OK);
    for (size_t i = 0; i < sizeof dst; i++)
        assert_int_equal(dst[i], 255);
}

static void test_reduction_refuses(void **state)
{
    (void)state;
    uint8_t px[16] = {0}, dst[16];
    const tw_luma src = {px, 4, 4, 4};
    tw_luma out = {px, 9, 9, 9};
    assert_int_equal(tw_luma_reduce(&src, 0, dst, 16, &out), TW_EINVAL);
    assert_int_equal(tw_luma_reduce(&src, 17, dst, 16, &out), TW_EINVAL);
    assert_int_equal(tw_luma_reduce(&src, 2, NULL, 16, &out), TW_EINVAL);
    assert_int_equal(tw_luma_reduce(&src, 2, dst, 3, &out), TW_ESIZE);
    assert_int_equal(tw_luma_reduce(&src, 5, dst, 16, &out), TW_ESIZE);
    assert_int_equal(out.width, 9); /* left as it was */
}

static void test_every_status_has_name_and_text(void **state)
{
    (void)state;
#define CHECK(name, value, text)                                                         \
    assert_string_equal(tw_status_name(name), #name);                                    \
    assert_true(strlen(tw_status_text(name)) > 3);                                       \
    assert_int_equal(name, value);
    TW_STATUS_LIST(CHECK)
#undef CHECK
    assert_string_equal(tw_status_name((tw_status)-99), "TW_?");
    assert_string_equal(tw_status_text((tw_status)1), "unknown status");
    assert_string_equal(tw_version(), TW_VERSION_TEXT);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_check_refuses_what_cannot_be_read),
        cmocka_unit_test(test_factor_leaves_enough_pixels),
        cmocka_unit_test(test_reduction_is_the_rounded_mean),
        cmocka_unit_test(test_reduction_of_white_stays_white),
        cmocka_unit_test(test_reduction_refuses),
        cmocka_unit_test(test_every_status_has_name_and_text),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
