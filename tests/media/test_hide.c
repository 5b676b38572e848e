/* Parts of a JPEG that nobody may see: black, whatever its form, and the rest as it was;
 * judged by another decoder. */
#include <stdlib.h>
#include <string.h>

#include <turbojpeg.h>

#include "../../src/core/hidden.h"
#include "../../src/media/hide.h"
#include "../../src/media/jpeg.h"
#include "../support/support.h"

enum { W = 200, H = 120 };

static const tw_point BOX[] = {
    {300000, 300000}, {700000, 300000}, {700000, 700000}, {300000, 700000}};
static const tw_zone ZONE = {.points = BOX, .count = 4};
static const twi_view VIEW = {.hidden = &ZONE, .hidden_count = 1};

static void make(const char *folder, const char *pixels, const char *name)
{
    outcome o =
        run_program(folder, FFMPEG, "-v", "error", "-y", "-f", "lavfi", "-i",
                    "testsrc2=size=200x120", "-frames:v", "1", "-pix_fmt", pixels,
                    "-strict", "unofficial", "-c:v", "mjpeg", "-q:v", "3", name, NULL);
    assert_string_equal(o.err, "");
    free_outcome(&o);
}

/* Planes as they are in the file, one behind the other. */
static uint8_t *planes(const char *folder, const char *name, size_t *bytes)
{
    char *raw = join(folder, "raw");
    outcome o = run_program(folder, FFMPEG, "-v", "error", "-y", "-i", name, "-f",
                            "rawvideo", raw, NULL);
    assert_string_equal(o.err, "");
    free_outcome(&o);
    uint8_t *px = (uint8_t *)read_file(raw, bytes);
    free(raw);
    return px;
}

static void hide(const char *folder, const char *from, const char *to)
{
    char *in = join(folder, from), *out = join(folder, to);
    twi_hide h = {0};
    tw_error err = {0};
    size_t bytes = 0, made_bytes = 0;
    uint8_t *data = (uint8_t *)read_file(in, &bytes), *made = NULL;
    if (twi_hide_jpeg(&h, &VIEW, data, bytes, &made, &made_bytes, &err) != TW_OK)
        fail_msg("%s: %s", from, err.text);
    FILE *file = fopen(out, "wb");
    assert_int_equal(fwrite(made, 1, made_bytes, file), made_bytes);
    assert_int_equal(fclose(file), 0);
    twi_hide_free(&h);
    free(made);
    free(data);
    free(in);
    free(out);
}

/* A plane of so many pixels, on which a hidden block is so large. */
static void check_plane(const uint8_t *was, const uint8_t *is, int width, int height,
                        int unit_x, int unit_y, int black, const char *what)
{
    int hidden = 0, first_x = W, first_y = H;
    for (int y = 0; y < height; y++)
        for (int x = 0; x < width; x++) {
            const bool same = was[y * width + x] == is[y * width + x];
            const bool in = x * 10 >= width * 3 && x * 10 < width * 7 &&
                            y * 10 >= height * 3 && y * 10 < height * 7;
            if (in && is[y * width + x] != black)
                fail_msg("%s: %d at %d, %d", what, is[y * width + x], x, y);
            hidden += is[y * width + x] == black && !same;
            if (!same) {
                first_x = x < first_x ? x : first_x;
                first_y = y < first_y ? y : first_y;
            }
            if (!same &&
                (x + unit_x <= width * 3 / 10 / unit_x * unit_x ||
                 y + unit_y <= height * 3 / 10 / unit_y * unit_y ||
                 x >= width * 7 / 10 + 2 * unit_x || y >= height * 7 / 10 + 2 * unit_y))
                fail_msg("%s: not as it was at %d, %d", what, x, y);
        }
    assert_true(hidden > width * height / 10);
    assert_int_equal(first_x % unit_x, 0); /* whole units, and no others */
    assert_int_equal(first_y % unit_y, 0);
}

static void test_it_is_black_and_the_rest_as_it_was(void **state)
{
    (void)state;
    static const struct {
        const char *pixels;
        int across, down; /* chroma is so many times smaller; 0: there is none */
    } cases[] = {
        {"yuvj420p", 2, 2}, {"yuvj422p", 2, 1}, {"yuvj444p", 1, 1}, {"gray", 0, 0}};
    char *folder = make_folder();
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        size_t bytes = 0, black_bytes = 0;
        make(folder, cases[i].pixels, "as-it-was.jpg");
        hide(folder, "as-it-was.jpg", "black.jpg");
        uint8_t *was = planes(folder, "as-it-was.jpg", &bytes),
                *is = planes(folder, "black.jpg", &black_bytes);
        assert_int_equal(bytes, black_bytes);
        check_plane(was, is, W, H, 16, 16, 0, cases[i].pixels);
        if (cases[i].across > 0) {
            const int w = W / cases[i].across, h = H / cases[i].down;
            check_plane(was + W * H, is + W * H, w, h, 16 / cases[i].across,
                        16 / cases[i].down, 128, cases[i].pixels);
            check_plane(was + W * H + w * h, is + W * H + w * h, w, h,
                        16 / cases[i].across, 16 / cases[i].down, 128, cases[i].pixels);
        }
        free(was);
        free(is);
    }
    remove_folder(folder);
}

/* The same picture in several scans. */
static void make_scans(const char *folder, const char *from, const char *to)
{
    char *in = join(folder, from), *out = join(folder, to);
    size_t bytes = 0;
    unsigned long made_bytes = 0;
    unsigned char *data = (unsigned char *)read_file(in, &bytes), *made = NULL;
    tjtransform scans = {.options = TJXOPT_PROGRESSIVE};
    tjhandle handle = tjInitTransform();
    assert_int_equal(tjTransform(handle, data, bytes, 1, &made, &made_bytes, &scans, 0),
                     0);
    FILE *file = fopen(out, "wb");
    assert_int_equal(fwrite(made, 1, made_bytes, file), made_bytes);
    assert_int_equal(fclose(file), 0);
    tjFree(made);
    (void)tjDestroy(handle);
    free(data);
    free(in);
    free(out);
}

static void test_pictures_of_several_scans(void **state)
{
    (void)state;
    char *folder = make_folder();
    size_t bytes = 0;
    make(folder, "yuvj420p", "plain.jpg");
    make_scans(folder, "plain.jpg", "scans.jpg");
    hide(folder, "scans.jpg", "black.jpg");
    hide(folder, "plain.jpg", "same.jpg");
    uint8_t *one = planes(folder, "black.jpg", &bytes),
            *other = planes(folder, "same.jpg", &bytes);
    assert_memory_equal(one, other, bytes);
    free(one);
    free(other);
    remove_folder(folder);
}

static bool holds(const uint8_t *data, size_t bytes, const char *text)
{
    const size_t n = strlen(text);
    for (size_t i = 0; i + n <= bytes; i++)
        if (memcmp(data + i, text, n) == 0)
            return true;
    return false;
}

/* A thumbnail in EXIF, a comment, a second picture behind the end: what a camera adds may
 * show the same. */
static void test_nothing_else_shows_it(void **state)
{
    (void)state;
    static const char secret[] = "the neighbours, small";
    size_t bytes = 0, made_bytes = 0;
    twi_hide h = {0};
    uint8_t *plain = plain_jpeg(W, H, 90, &bytes), *made = NULL,
            *with = malloc(bytes + 200);
    const size_t n = sizeof secret - 1;
    size_t at = 2;
    memcpy(with, plain, 2);
    for (int i = 0; i < 3; i++) { /* APP1, APP2, a comment */
        const uint8_t head[] = {0xFF, (uint8_t)(i == 2 ? 0xFE : 0xE1 + i), 0,
                                (uint8_t)(2 + n)};
        memcpy(with + at, head, 4);
        memcpy(with + at + 4, secret, n);
        at += 4 + n;
    }
    memcpy(with + at, plain + 2, bytes - 2);
    at += bytes - 2;
    memcpy(with + at, secret, n);
    at += n;
    assert_true(holds(with, at, secret));
    assert_int_equal(twi_hide_jpeg(&h, &VIEW, with, at, &made, &made_bytes, NULL), TW_OK);
    assert_false(holds(made, made_bytes, secret));
    twi_hide_free(&h);
    free(made);
    free(with);
    free(plain);
}

/* The blocks are marked anew for pictures of another size. */
static void test_sizes_may_change(void **state)
{
    (void)state;
    twi_hide h = {0};
    for (int i = 0; i < 3; i++) {
        const uint16_t w = (uint16_t)(64 << i), height = (uint16_t)(48 << i);
        size_t bytes = 0, made_bytes = 0;
        uint8_t *plain = plain_jpeg(w, height, 200, &bytes), *made = NULL, *memory = NULL;
        twi_canvas canvas;
        assert_int_equal(twi_hide_jpeg(&h, &VIEW, plain, bytes, &made, &made_bytes, NULL),
                         TW_OK);
        assert_int_equal(twi_jpeg_planes(made, made_bytes, &canvas, &memory, NULL),
                         TW_OK);
        assert_int_equal(canvas.px[0][height / 2 * (int)canvas.stride[0] + w / 2], 0);
        assert_in_range(canvas.px[0][0], 198, 202);
        free(memory);
        free(made);
        free(plain);
    }
    twi_hide_free(&h);
}

static void test_what_is_damaged_is_black_or_told(void **state)
{
    (void)state;
    size_t bytes = 0;
    twi_hide h = {0};
    uint8_t *plain = plain_jpeg(W, H, 200, &bytes);
    for (size_t cut = 0; cut < bytes; cut += 3) {
        uint8_t *made = NULL;
        size_t made_bytes = 0;
        tw_error err = {0};
        if (twi_hide_jpeg(&h, &VIEW, plain, cut, &made, &made_bytes, &err) == TW_OK)
            assert_true(made_bytes > 100);
        else
            assert_true(err.text[0] != '\0' && !made);
        free(made);
    }
    uint32_t chance = 1;
    for (int i = 0; i < 2000; i++) { /* bytes that are wrong */
        uint8_t *copy = malloc(bytes), *made = NULL;
        size_t made_bytes = 0;
        memcpy(copy, plain, bytes);
        for (int k = 0; k < 4; k++) {
            chance = chance * 1664525U + 1013904223U;
            copy[(chance >> 8) % bytes] = (uint8_t)chance;
        }
        (void)twi_hide_jpeg(&h, &VIEW, copy, bytes, &made, &made_bytes, NULL);
        free(made);
        free(copy);
    }
    twi_hide_free(&h);
    free(plain);
}

/* Together with a turn and a crop, as stills are made. */
static void test_a_view_hides_before_it_turns(void **state)
{
    (void)state;
    size_t bytes = 0, made_bytes = 0;
    uint8_t *plain = plain_jpeg(W, H, 200, &bytes), *made = NULL, *memory = NULL;
    uint16_t width = 0, height = 0;
    const twi_view view = {.turn = {1, true},
                           .crop = {0, 0, 1000000, 800000},
                           .hidden = &ZONE,
                           .hidden_count = 1};
    twi_canvas canvas;
    assert_int_equal(
        twi_jpeg_view(plain, bytes, &view, &made, &made_bytes, &width, &height, NULL),
        TW_OK);
    assert_int_equal(twi_jpeg_planes(made, made_bytes, &canvas, &memory, NULL), TW_OK);
    for (int y = height * 3 / 10 + 1; y < height * 7 / 10; y++)
        for (int x = width * 3 / 10 + 1; x < width * 7 / 10; x++)
            assert_int_equal(canvas.px[0][y * (int)canvas.stride[0] + x], 0);
    assert_in_range(canvas.px[0][(height - 1) * (int)canvas.stride[0] + width - 1], 198,
                    202);
    free(memory);
    free(made);
    free(plain);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_it_is_black_and_the_rest_as_it_was),
        cmocka_unit_test(test_pictures_of_several_scans),
        cmocka_unit_test(test_nothing_else_shows_it),
        cmocka_unit_test(test_sizes_may_change),
        cmocka_unit_test(test_what_is_damaged_is_black_or_told),
        cmocka_unit_test(test_a_view_hides_before_it_turns),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
