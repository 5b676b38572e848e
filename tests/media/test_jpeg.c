/* JPEG: reduced luma, damage, sizes; encoding and pixels. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/jpeg.h"
#include "../support/support.h"
#include "../../src/core/view.h"

/* A picture with a bright square, of quality 95. */
static uint8_t *square_jpeg(uint16_t width, uint16_t height, size_t *bytes)
{
    uint8_t *px = malloc((size_t)width * height), *out = NULL;
    for (size_t y = 0; y < height; y++)
        for (size_t x = 0; x < width; x++)
            px[y * width + x] = x >= width / 2U && y >= height / 2U
                                    ? 200
                                    : (uint8_t)(40 + (x * 7 + y * 3) % 9);
    const tw_picture picture = {{px}, {width}, width, height, TW_PIXELS_GREY};
    assert_int_equal(twi_jpeg_encode(&picture, 95, &out, bytes, NULL), TW_OK);
    free(px);
    return out;
}

static void test_luma_is_reduced_as_far_as_it_may(void **state)
{
    (void)state;
    static const struct {
        uint16_t width, height, luma_width, luma_height;
    } cases[] = {{64, 48, 64, 48},      {320, 240, 320, 240},   {640, 360, 320, 180},
                 {1280, 720, 320, 180}, {1920, 1080, 240, 135}, {4096, 64, 256, 4},
                 {1922, 1082, 241, 136}};
    twi_jpeg *jpeg = twi_jpeg_new(TWI_INSPECT_ALL);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        size_t bytes = 0;
        twi_decoded read = {0};
        uint8_t *data = square_jpeg(cases[i].width, cases[i].height, &bytes);
        assert_int_equal(twi_jpeg_read(jpeg, data, bytes, &read, NULL), TW_OK);
        const tw_luma luma = read.luma;
        assert_int_equal(read.width, cases[i].width);
        assert_int_equal(read.height, cases[i].height);
        assert_int_equal(luma.width, cases[i].luma_width);
        assert_int_equal(luma.height, cases[i].luma_height);
        assert_in_range(luma.px[0], 36, 52);
        assert_in_range(luma.px[(luma.height - 1U) * luma.stride + luma.width - 1U], 196,
                        204);
        free(data);
    }
    twi_jpeg_free(jpeg);
}

static tw_status read(twi_jpeg *jpeg, const uint8_t *data, size_t bytes, tw_error *err)
{
    twi_decoded out;
    return twi_jpeg_read(jpeg, data, bytes, &out, err);
}

static void test_damage_is_told_and_the_next_picture_is_fine(void **state)
{
    (void)state;
    size_t bytes = 0;
    uint8_t *data = square_jpeg(640, 360, &bytes);
    twi_jpeg *jpeg = twi_jpeg_new(TWI_INSPECT_ALL);
    tw_error err = {0};
    assert_int_equal(read(jpeg, data, bytes / 2, &err), TW_EDAMAGED); /* cut short */
    assert_has(err.text, "damaged JPEG (Premature end of JPEG file)");
    assert_int_equal(read(jpeg, data, 3, &err), TW_EDAMAGED);
    assert_has(err.text, "not a JPEG picture (3 bytes)");
    assert_int_equal(read(jpeg, (const uint8_t *)"GIF89a-and-more", 15, &err),
                     TW_EDAMAGED);
    uint8_t *bad = malloc(bytes);
    memcpy(bad, data, bytes);
    memset(bad + bytes / 2, 0xFF, 40);
    assert_int_equal(read(jpeg, bad, bytes, &err), TW_EDAMAGED);
    assert_int_equal(read(jpeg, data, bytes, &err), TW_OK);
    free(bad);
    free(data);
    twi_jpeg_free(jpeg);
}

/* Every cut and every single wrong byte: an answer, never a crash. */
static void test_any_damage_is_survived(void **state)
{
    (void)state;
    size_t bytes = 0;
    uint8_t *data = square_jpeg(96, 80, &bytes);
    twi_jpeg *jpeg = twi_jpeg_new(TWI_INSPECT_ALL);
    for (size_t cut = 0; cut < bytes; cut++) {
        uint8_t *exact = malloc(cut + 1);
        memcpy(exact, data, cut);
        assert_int_equal(read(jpeg, exact, cut, NULL), TW_EDAMAGED);
        free(exact);
    }
    for (size_t at = 0; at < bytes; at++) {
        data[at] ^= 0x55;
        const tw_status st = read(jpeg, data, bytes, NULL);
        assert_true(st == TW_OK || st == TW_EDAMAGED || st == TW_ESIZE);
        data[at] ^= 0x55;
    }
    assert_int_equal(read(jpeg, data, bytes, NULL), TW_OK);
    free(data);
    twi_jpeg_free(jpeg);
}

static void test_bytes_behind_the_picture_are_harmless(void **state)
{
    (void)state;
    size_t bytes = 0;
    uint8_t *data = square_jpeg(64, 48, &bytes);
    twi_jpeg *jpeg = twi_jpeg_new(TWI_INSPECT_ALL);
    uint8_t *padded = calloc(1, bytes + 64);
    memcpy(padded, data, bytes);
    assert_int_equal(read(jpeg, padded, bytes + 64, NULL), TW_OK);
    /* padding before the end marker, as some webcams send it */
    memmove(padded + bytes - 2 + 16, data + bytes - 2, 2);
    memset(padded + bytes - 2, 0, 16);
    assert_int_equal(read(jpeg, padded, bytes + 16, NULL), TW_OK);
    free(padded);
    free(data);
    twi_jpeg_free(jpeg);
}

static void test_giants_are_refused_unread(void **state)
{
    (void)state;
    size_t bytes = 0;
    uint8_t *data = square_jpeg(64, 48, &bytes);
    twi_jpeg *jpeg = twi_jpeg_new(TWI_INSPECT_ALL);
    tw_error err = {0};
    for (size_t i = 0; i + 9 < bytes; i++) { /* the frame header says 65500 x 65500 */
        if (data[i] != 0xFF || data[i + 1] != 0xC0)
            continue;
        data[i + 5] = data[i + 7] = 0xFF;
        data[i + 6] = data[i + 8] = 0xDC;
        break;
    }
    assert_int_equal(read(jpeg, data, bytes, &err), TW_ESIZE);
    assert_has(err.text, "65500 x 65500 is over the limit of 16384");
    free(data);
    twi_jpeg_free(jpeg);
}

/* A progressive picture of a few bytes, whose scans hold nothing. */
static size_t make_progressive(uint8_t *out, uint16_t side, unsigned scans)
{
    static const uint8_t head[] = {0xFF, 0xD8, 0xFF, 0xC2, 0, 17, 8},
                         parts[] = {3, 1, 0x11, 0, 2, 0x11, 0, 3, 0x11, 0},
                         table[] = {0xFF, 0xC4, 0, 20, 0, 1, 0, 0, 0, 0, 0,
                                    0,    0,    0, 0,  0, 0, 0, 0, 0, 0, 0},
                         dc[] = {0xFF, 0xDA, 0, 12, 3, 1, 0, 2, 0, 3, 0,
                                 0,    0,    0, 0,  0, 0, 0, 0, 0, 0, 0};
    size_t n = 0;
    memcpy(out, head, sizeof head);
    n = sizeof head;
    out[n++] = (uint8_t)(side >> 8);
    out[n++] = (uint8_t)side;
    out[n++] = (uint8_t)(side >> 8);
    out[n++] = (uint8_t)side;
    memcpy(out + n, parts, sizeof parts);
    n += sizeof parts;
    memcpy(out + n, table, sizeof table);
    n += sizeof table;
    for (unsigned i = 0; i < scans; i++, n += sizeof dc)
        memcpy(out + n, dc, sizeof dc);
    out[n++] = 0xFF;
    out[n++] = 0xD9;
    return n;
}

static void test_a_few_bytes_do_not_ask_for_gigabytes(void **state)
{
    (void)state;
    static uint8_t jpeg[8192];
    static const struct {
        uint16_t side;
        unsigned scans;
    } bombs[] = {{16384, 1}, {16384, 90}, {8192, 1}, {4000, 90}, {2800, 99}};
    twi_jpeg *reader = twi_jpeg_new(1);
    twi_decoded out;
    const twi_view turned = {.turn = {1, false}};
    uint16_t w = 0, h = 0;
    uint8_t *pixels = NULL;
    size_t n = 0;
    for (size_t i = 0; i < sizeof bombs / sizeof *bombs; i++) {
        tw_error err = {0};
        const size_t bytes = make_progressive(jpeg, bombs[i].side, bombs[i].scans);
        assert_int_equal(twi_jpeg_read(reader, jpeg, bytes, &out, &err), TW_ESIZE);
        assert_has(err.text, "takes too much to decode");
        assert_int_equal(twi_jpeg_pixels(jpeg, bytes, 0, &pixels, &w, &h, &err),
                         TW_ESIZE);
        assert_int_equal(twi_jpeg_view(jpeg, bytes, &turned, &pixels, &n, &w, &h, &err),
                         TW_ESIZE);
    }
    /* One as a camera may send it is looked at. */
    tw_error err = {0};
    const size_t bytes = make_progressive(jpeg, 512, 10);
    assert_int_not_equal(twi_jpeg_read(reader, jpeg, bytes, &out, &err), TW_ESIZE);
    twi_jpeg_free(reader);
}

static void test_pixels_go_there_and_back(void **state)
{
    (void)state;
    size_t bytes = 0, again = 0;
    uint16_t w = 0, h = 0;
    uint8_t *data = square_jpeg(64, 48, &bytes), *pixels = NULL, *encoded = NULL;
    tw_error err = {0};
    assert_int_equal(twi_jpeg_pixels(data, bytes, 0, &pixels, &w, &h, &err), TW_OK);
    assert_int_equal(w, 64);
    assert_int_equal(h, 48);
    const uint8_t *last = pixels + (63 + 47 * 64) * 4;
    for (int i = 0; i < 3; i++)
        assert_in_range(last[i], 196, 204);
    assert_int_equal(twi_jpeg_encode_pixels(pixels, w, h, 90, &encoded, &again, &err),
                     TW_OK);
    assert_true(encoded[0] == 0xFF && encoded[1] == 0xD8);
    free(encoded);
    free(pixels);
    assert_int_equal(twi_jpeg_pixels(data, bytes / 2, 0, &pixels, &w, &h, &err),
                     TW_EDAMAGED);
    assert_int_equal(twi_jpeg_pixels((const uint8_t *)"no", 2, 0, &pixels, &w, &h, &err),
                     TW_EDAMAGED);
    free(data);
}

static void test_colour_planes(void **state)
{
    (void)state;
    uint8_t luma[16 * 16], chroma[2][8 * 8], *data = NULL, *pixels = NULL;
    size_t bytes = 0;
    uint16_t w = 0, h = 0;
    memset(luma, 100, sizeof luma);
    memset(chroma[0], 90, sizeof chroma[0]);
    memset(chroma[1], 200, sizeof chroma[1]); /* red */
    const tw_picture picture = {
        {luma, chroma[0], chroma[1]}, {16, 8, 8}, 16, 16, TW_PIXELS_I420};
    assert_int_equal(twi_jpeg_encode(&picture, 95, &data, &bytes, NULL), TW_OK);
    assert_int_equal(twi_jpeg_pixels(data, bytes, 0, &pixels, &w, &h, NULL), TW_OK);
    assert_true(pixels[2] > 180 && pixels[0] < 60); /* red over blue */
    free(data);
    free(pixels);
}

/* By our own reader and by libjpeg, and not at all of grey. */
static void test_chroma_comes_with_the_luma(void **state)
{
    (void)state;
    enum { MOST = 1280 * 720 };
    static const uint16_t sizes[][2] = {{320, 240}, {640, 360}, {1280, 720}};
    static uint8_t luma[MOST], u[MOST / 4], v[MOST / 4];
    twi_jpeg *reader = twi_jpeg_new(TWI_INSPECT_ALL);
    memset(luma, 100, sizeof luma);
    for (size_t i = 0; i < sizeof sizes / sizeof *sizes; i++) {
        const uint16_t w = sizes[i][0], h = sizes[i][1], across = w / 2;
        for (size_t at = 0; at < (size_t)across * (h / 2U); at++) {
            u[at] =
                at % across < across / 2U ? 60 : 150; /* another colour at the right */
            v[at] = at / across < h / 4U ? 180 : 90;
        }
        const tw_picture picture = {
            {luma, u, v}, {w, across, across}, w, h, TW_PIXELS_I420};
        uint8_t *data = NULL;
        size_t bytes = 0;
        twi_decoded out = {0};
        assert_int_equal(twi_jpeg_encode(&picture, 95, &data, &bytes, NULL), TW_OK);
        assert_int_equal(twi_jpeg_read(reader, data, bytes, &out, NULL), TW_OK);
        const tw_chroma *c = &out.chroma;
        assert_int_equal(tw_chroma_check(c), TW_OK);
        assert_true(c->width >= TW_CHROMA_ACROSS && c->width < 2 * TW_CHROMA_ACROSS);
        assert_in_range(c->u[c->width / 4], 57, 63);
        assert_in_range(c->u[c->width * 3 / 4], 147, 153);
        assert_in_range(c->v[c->height / 4U * c->stride], 177, 183);
        assert_in_range(c->v[c->height * 3U / 4 * c->stride], 87, 93);
        free(data);
    }
    size_t bytes = 0;
    twi_decoded out = {0};
    uint8_t *grey = square_jpeg(640, 360, &bytes);
    assert_int_equal(twi_jpeg_read(reader, grey, bytes, &out, NULL), TW_OK);
    assert_null(out.chroma.u);
    free(grey);
    twi_jpeg_free(reader);
}

/* A ramp both ways, so that each turn gives another picture. */
static uint8_t *ramp_jpeg(uint16_t w, uint16_t h, size_t *bytes)
{
    uint8_t *px = malloc((size_t)w * h), *jpeg = NULL;
    assert_non_null(px);
    for (int y = 0; y < h; y++)
        for (int x = 0; x < w; x++)
            px[y * w + x] = (uint8_t)(20 + x * 150 / w + y * 70 / h);
    const tw_picture picture = {{px, NULL, NULL}, {w, 0, 0}, w, h, TW_PIXELS_GREY};
    assert_int_equal(twi_jpeg_encode(&picture, 95, &jpeg, bytes, NULL), TW_OK);
    free(px);
    return jpeg;
}

static uint8_t *pixels_of(const uint8_t *jpeg, size_t bytes, uint16_t *w, uint16_t *h)
{
    uint8_t *px = NULL;
    assert_int_equal(twi_jpeg_pixels(jpeg, bytes, 0, &px, w, h, NULL), TW_OK);
    for (int i = 0; i < *w * *h; i++)
        px[i] = px[(ptrdiff_t)i * 4]; /* grey: all channels are the same */
    return px;
}

static void test_views(void **state)
{
    (void)state;
    size_t bytes = 0;
    uint16_t w = 0, h = 0;
    uint8_t *jpeg = ramp_jpeg(48, 32, &bytes), *plain = pixels_of(jpeg, bytes, &w, &h);
    for (int i = 0; i < 16; i++) {
        twi_view view = {.turn = {(uint8_t)(i % 4), i / 4 % 2 == 1}};
        if (i >= 8)
            view.crop = (twi_crop){250000, 250000, 1000000, 1000000};
        uint8_t *out = NULL, expected[48 * 32];
        size_t out_bytes = 0;
        uint16_t ow = 0, oh = 0;
        assert_int_equal(
            twi_jpeg_view(jpeg, bytes, &view, &out, &out_bytes, &ow, &oh, NULL), TW_OK);
        uint8_t *got = pixels_of(out, out_bytes, &w, &h);
        const twi_rect r = twi_view_rect(&view, 48, 32, 8);
        assert_int_equal(w, r.width);
        assert_int_equal(h, r.height);
        assert_true(ow == w && oh == h);
        const tw_luma src = {plain, 48, 48, 32};
        twi_view_plane(view.turn, &src, &r, expected, r.width);
        for (int k = 0; k < w * h; k++)
            assert_in_range(got[k] - expected[k] + 2, 0, 4);
        free(got);
        free(out);
    }
    free(plain);
    free(jpeg);
}

static void test_views_of_what_is_no_picture(void **state)
{
    (void)state;
    const twi_view view = {.turn = {1, false}};
    uint8_t *out = NULL;
    size_t bytes = 0;
    uint16_t w = 0, h = 0;
    tw_error err = {0};
    assert_int_equal(twi_jpeg_view((const uint8_t *)"no picture", 10, &view, &out, &bytes,
                                   &w, &h, &err),
                     TW_EIO);
    assert_has(err.text, "cannot make a JPEG");
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_luma_is_reduced_as_far_as_it_may),
        cmocka_unit_test(test_damage_is_told_and_the_next_picture_is_fine),
        cmocka_unit_test(test_any_damage_is_survived),
        cmocka_unit_test(test_bytes_behind_the_picture_are_harmless),
        cmocka_unit_test(test_giants_are_refused_unread),
        cmocka_unit_test(test_a_few_bytes_do_not_ask_for_gigabytes),
        cmocka_unit_test(test_pixels_go_there_and_back),
        cmocka_unit_test(test_colour_planes),
        cmocka_unit_test(test_chroma_comes_with_the_luma),
        cmocka_unit_test(test_views),
        cmocka_unit_test(test_views_of_what_is_no_picture),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
