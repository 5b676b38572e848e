/* Views: all eight ways a picture can lie, and parts of it. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"
#include "../../src/core/view.h"

enum { W = 5, H = 3 };

/* The slow, plain way: mirror left to right, then turn clockwise once for each quarter.
 */
static void turn_plainly(tw_turn turn, const uint8_t *in, uint16_t *w, uint16_t *h,
                         uint8_t *out)
{
    uint8_t a[W * H], b[W * H];
    *w = W;
    *h = H;
    for (int y = 0; y < H; y++)
        for (int x = 0; x < W; x++)
            a[y * W + x] = in[y * W + (turn.mirror ? W - 1 - x : x)];
    for (int q = 0; q < turn.quarters; q++) {
        const uint16_t tw = *h, th = *w;
        for (int y = 0; y < th; y++)
            for (int x = 0; x < tw; x++)
                b[y * tw + x] = a[(*h - 1 - x) * *w + y];
        memcpy(a, b, sizeof a);
        *w = tw;
        *h = th;
    }
    memcpy(out, a, sizeof a);
}

static tw_turn turn_of(int i)
{
    return (tw_turn){(uint8_t)(i % 4), i >= 4};
}

static void numbers(uint8_t px[W * H])
{
    for (int i = 0; i < W * H; i++)
        px[i] = (uint8_t)(i + 1);
}

static void test_all_turns(void **state)
{
    (void)state;
    uint8_t px[W * H], padded[H * 8], plain[W * H], got[W * H];
    numbers(px);
    memset(padded, 99, sizeof padded);
    for (int y = 0; y < H; y++)
        memcpy(padded + (ptrdiff_t)y * 8, px + (ptrdiff_t)y * W, W);
    const tw_luma src = {padded, 8, W, H};
    for (int i = 0; i < 8; i++) {
        const twi_view view = {.turn = turn_of(i)};
        uint16_t w = 0, h = 0;
        turn_plainly(view.turn, px, &w, &h, plain);
        const twi_rect r = twi_view_rect(&view, W, H, 1);
        assert_int_equal(r.width, w);
        assert_int_equal(r.height, h);
        twi_view_plane(view.turn, &src, &r, got, r.width);
        assert_memory_equal(got, plain, sizeof got);
        assert_int_equal(twi_turn_is_none(view.turn), i == 0);
        assert_int_equal(twi_view_is_plain(&view), i == 0);
    }
}

static void test_two_turns_are_one(void **state)
{
    (void)state;
    uint8_t px[W * H], once[W * H], twice[W * H], both[W * H];
    numbers(px);
    for (int i = 0; i < 8; i++)
        for (int k = 0; k < 8; k++) {
            const twi_view first = {.turn = turn_of(i)}, then = {.turn = turn_of(k)};
            const twi_view all = {.turn = twi_turn_then(first.turn, then.turn)};
            const tw_luma src = {px, W, W, H};
            const twi_rect r = twi_view_rect(&first, W, H, 1);
            twi_view_plane(first.turn, &src, &r, once, r.width);
            const tw_luma middle = {once, r.width, r.width, r.height};
            const twi_rect r2 = twi_view_rect(&then, r.width, r.height, 1);
            twi_view_plane(then.turn, &middle, &r2, twice, r2.width);
            const twi_rect r3 = twi_view_rect(&all, W, H, 1);
            assert_memory_equal(&r2, &r3, sizeof r2);
            twi_view_plane(all.turn, &src, &r3, both, r3.width);
            assert_memory_equal(twice, both, sizeof both);
        }
}

static void test_crops(void **state)
{
    (void)state;
    static const struct {
        twi_view view;
        uint16_t step;
        twi_rect rect; /* of 640 x 360 */
    } CASES[] = {
        {{.turn = {0, false}, .crop = {0, 0, 0, 0}}, 1, {0, 0, 640, 360}},
        {{.turn = {0, false}, .crop = {0, 0, 1000000, 1000000}}, 16, {0, 0, 640, 352}},
        {{.turn = {0, false}, .crop = {250000, 500000, 750000, 1000000}},
         1,
         {160, 180, 320, 180}},
        {{.turn = {1, false}, .crop = {250000, 500000, 750000, 1000000}},
         1,
         {90, 320, 180, 320}},
        {{.turn = {0, false}, .crop = {249999, 0, 250001, 1}}, 1, {159, 0, 2, 1}},
        {{.turn = {0, false}, .crop = {249999, 0, 250001, 1}}, 16, {144, 0, 32, 16}},
        {{.turn = {0, false}, .crop = {999999, 999999, 1000000, 1000000}},
         16,
         {624, 336, 16, 16}},
    };
    for (size_t i = 0; i < sizeof CASES / sizeof *CASES; i++) {
        const twi_rect r = twi_view_rect(&CASES[i].view, 640, 360, CASES[i].step);
        if (memcmp(&r, &CASES[i].rect, sizeof r) != 0)
            fail_msg("%zu: %u,%u %ux%u", i, r.left, r.top, r.width, r.height);
    }
    const twi_view tiny = {.crop = {0, 0, 1, 1}};
    const twi_rect r = twi_view_rect(&tiny, 3, 2, 16); /* smaller than a step */
    assert_true(r.width >= 1 && r.height >= 1 && r.left + r.width <= 3);
}

/* A part of a turned picture is that part of the whole turned picture. */
static void test_parts(void **state)
{
    (void)state;
    uint8_t px[W * H], whole[W * H], part[W * H];
    numbers(px);
    const tw_luma src = {px, W, W, H};
    for (int i = 0; i < 8; i++) {
        const twi_view view = {.turn = turn_of(i)};
        const twi_rect all = twi_view_rect(&view, W, H, 1);
        twi_view_plane(view.turn, &src, &all, whole, all.width);
        const twi_rect r = {1, 1, (uint16_t)(all.width - 1), (uint16_t)(all.height - 1)};
        twi_view_plane(view.turn, &src, &r, part, r.width);
        for (int y = 0; y < r.height; y++)
            assert_memory_equal(part + (ptrdiff_t)y * r.width,
                                whole + (ptrdiff_t)(y + 1) * all.width + 1, r.width);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_all_turns),
        cmocka_unit_test(test_two_turns_are_one),
        cmocka_unit_test(test_crops),
        cmocka_unit_test(test_parts),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
