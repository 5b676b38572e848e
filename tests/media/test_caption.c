/* Captions in pictures: where they stand, and that nothing else is touched. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/caption.h"
#include "../../src/media/jpeg.h"
#include "../support/support.h"
#include "../../src/settings/sections.h"

enum { W = 320, H = 180 };

static const twi_caption_fields FIELDS = {
    {2027, 3, 13, 21, 30, 15, 204567, 6, 72, 3600}, "kerb", "hollin", 7, 12549};

typedef struct picture {
    uint8_t bytes[W * H * 3 / 2];
    twi_canvas canvas;
} picture;

static picture *make_picture(uint8_t luma)
{
    picture *p = malloc(sizeof *p);
    assert_non_null(p);
    memset(p->bytes, luma, W * H);
    memset(p->bytes + W * H, 200, sizeof p->bytes - W * H);
    p->canvas = (twi_canvas){
        {p->bytes, p->bytes + W * H, p->bytes + W * H * 5 / 4}, {W, W / 2, W / 2}, W, H};
    return p;
}

static void draw(const twi_camera_settings *camera, picture *p)
{
    twi_caption *caption = NULL;
    tw_error err = {0};
    if (twi_caption_new(camera, &caption, &err) != TW_OK ||
        twi_caption_draw(caption, &FIELDS, &p->canvas, &err) != TW_OK)
        fail_msg("%s", err.text);
    twi_caption_free(caption);
}

/* The box of what differs from a luma. @return how many pixels do. */
static size_t changed(const picture *p, uint8_t luma, int box[4])
{
    size_t count = 0;
    box[0] = W;
    box[1] = H;
    box[2] = box[3] = -1;
    for (int i = 0; i < W * H; i++) {
        if (p->bytes[i] == luma)
            continue;
        count++;
        box[0] = i % W < box[0] ? i % W : box[0];
        box[1] = i / W < box[1] ? i / W : box[1];
        box[2] = i % W > box[2] ? i % W : box[2];
        box[3] = i / W > box[3] ? i / W : box[3];
    }
    return count;
}

static void test_it_stands_in_its_corner(void **state)
{
    (void)state;
    for (int corner = TWI_TOP_LEFT; corner <= TWI_BOTTOM_RIGHT; corner++) {
        const twi_camera_settings camera = {.caption = "%H:%M:%S {camera}",
                                            .caption_place = corner,
                                            .caption_size_ppm = 80000};
        picture *p = make_picture(3);
        int box[4];
        draw(&camera, p);
        const size_t count = changed(p, 3, box);
        const int width = box[2] - box[0] + 1, height = box[3] - box[1] + 1;
        assert_in_range(height, 14, 24); /* one line of 8 % and its margins */
        assert_in_range(width, 60, 160);
        assert_int_equal(count, width * height); /* one plate, nothing beside it */
        const bool right = corner == TWI_TOP_RIGHT || corner == TWI_BOTTOM_RIGHT,
                   below = corner >= TWI_BOTTOM_LEFT;
        assert_true(right ? box[2] >= W - 2 : box[0] == 0);
        assert_true(below ? box[3] >= H - 2 : box[1] == 0);
        free(p);
    }
}

/* Ink and plate are far apart whatever is behind them. */
static void test_it_can_be_read_on_any_background(void **state)
{
    (void)state;
    for (int luma = 0; luma < 256; luma += 51) {
        const twi_camera_settings camera = {
            .caption = "W", .caption_place = TWI_TOP_LEFT, .caption_size_ppm = 250000};
        picture *p = make_picture((uint8_t)luma);
        int box[4], least = 255, most = 0;
        draw(&camera, p);
        (void)changed(p, (uint8_t)luma, box);
        for (int y = 0; y <= box[3]; y++)
            for (int x = 0; x <= box[2]; x++) {
                const int v = p->bytes[y * W + x];
                least = v < least ? v : least;
                most = v > most ? v : most;
            }
        assert_true(most - least > 110);
        free(p);
    }
}

static void test_a_long_text_is_made_to_fit(void **state)
{
    (void)state;
    const twi_camera_settings camera = {
        .caption = "a caption that is much wider than the picture would ever be, at this "
                   "size at any rate%nand a second line",
        .caption_place = TWI_BOTTOM_LEFT,
        .caption_size_ppm = 250000};
    picture *p = make_picture(3);
    int box[4];
    draw(&camera, p);
    (void)changed(p, 3, box);
    assert_in_range(box[2] - box[0], W * 8 / 10, W - 1);
    assert_true(box[3] - box[1] < H / 4); /* two small lines */
    free(p);
}

static void test_a_still_keeps_its_size(void **state)
{
    (void)state;
    const twi_camera_settings camera = {.caption = "{camera} {activity} \xC3\xB6",
                                        .caption_place = TWI_TOP_LEFT,
                                        .caption_size_ppm = 100000};
    size_t plain = 0, bytes = 0;
    uint8_t *jpeg = plain_jpeg(65, 49, 90, &plain), *out = NULL, *memory = NULL;
    twi_caption *caption = NULL;
    twi_canvas canvas;
    assert_int_equal(twi_caption_new(&camera, &caption, NULL), TW_OK);
    assert_int_equal(
        twi_caption_jpeg(caption, &FIELDS, jpeg, plain, 90, &out, &bytes, NULL), TW_OK);
    assert_int_equal(twi_jpeg_planes(out, bytes, &canvas, &memory, NULL), TW_OK);
    assert_int_equal(canvas.width, 65);
    assert_int_equal(canvas.height, 49);
    tw_error err = {0};
    uint8_t *none = NULL;
    assert_int_equal(
        twi_caption_jpeg(caption, &FIELDS, jpeg, 20, 90, &none, &bytes, &err),
        TW_EDAMAGED);
    assert_has(err.text, "damaged JPEG");
    twi_caption_free(caption);
    free(memory);
    free(out);
    free(jpeg);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_it_stands_in_its_corner),
        cmocka_unit_test(test_it_can_be_read_on_any_background),
        cmocka_unit_test(test_a_long_text_is_made_to_fit),
        cmocka_unit_test(test_a_still_keeps_its_size),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
