/* Raw pictures in buffers, against what ffmpeg makes of the same bytes. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/raw.h"
#include "../support/support.h"
#include "tawny/draw.h"

enum { W = 64, H = 48, LUMA = W * H, CHROMA = LUMA / 4 };

/* ffmpeg's names, our layouts, bytes of a picture, and how far brightness may be off. */
static const struct {
    const char *format;
    tw_pixels pixels;
    size_t bytes;
    uint32_t stride[3];
    size_t plane[3]; /* where it begins */
    int off, chroma_off;
} LAYOUTS[] = {
    {"gray", TW_PIXELS_GREY, LUMA, {W}, {0}, 0, 0},
    {"yuvj420p",
     TW_PIXELS_I420,
     LUMA * 3 / 2,
     {W, W / 2, W / 2},
     {0, LUMA, LUMA + CHROMA},
     0,
     0},
    {"nv12", TW_PIXELS_NV12, LUMA * 3 / 2, {W, W}, {0, LUMA}, 0, 0},
    {"yuyv422", TW_PIXELS_YUYV, (size_t)LUMA * 2, {2 * W}, {0}, 0, 6},
    {"rgb24", TW_PIXELS_RGB, (size_t)LUMA * 3, {3 * W}, {0}, 2, 6},
};

/* A picture by ffmpeg in a layout, and what it makes of that as planes of full range. */
static void make_both(const char *folder, const char *format)
{
    char range[128];
    /* Of YUV the numbers are taken as they are: nothing is stretched on the way. */
    (void)snprintf(range, sizeof range,
                   strcmp(format, "rgb24") == 0
                       ? "scale=out_range=full:out_color_matrix=bt601:flags=accurate_rnd"
                       : "scale=in_range=full:out_range=full:flags=accurate_rnd");
    outcome o = run_program(folder, FFMPEG, "-v", "error", "-y", "-f", "lavfi", "-i",
                            "gradients=size=64x48:seed=4:nb_colors=2", "-frames:v", "1",
                            "-pix_fmt", format, "-f", "rawvideo", "in.raw", NULL);
    assert_string_equal(o.err, "");
    free_outcome(&o);
    o = run_program(folder, FFMPEG, "-v", "error", "-y", "-f", "rawvideo",
                    "-pixel_format", format, "-video_size", "64x48", "-i", "in.raw",
                    "-vf", range, "-pix_fmt", "yuvj420p", "-f", "rawvideo", "out.raw",
                    NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
}

static uint8_t *read_of(const char *folder, const char *name, size_t bytes)
{
    char *path = join(folder, name);
    size_t got = 0;
    char *data = read_file(path, &got);
    assert_int_equal(got, bytes);
    free(path);
    return (uint8_t *)data;
}

/* A picture in a layout, over bytes. */
static tw_picture picture_of(size_t layout, const uint8_t *in)
{
    tw_picture p = {.width = W, .height = H, .pixels = LAYOUTS[layout].pixels};
    for (int k = 0; k < 3; k++) {
        p.px[k] = in + LAYOUTS[layout].plane[k];
        p.stride[k] = LAYOUTS[layout].stride[k];
    }
    return p;
}

static void check_near(const uint8_t *a, const uint8_t *b, size_t count, int off)
{
    for (size_t i = 0; i < count; i++)
        if (abs(a[i] - b[i]) > off)
            fail_msg("byte %zu: %d, ffmpeg has %d", i, a[i], b[i]);
}

static void test_planes_are_those_that_ffmpeg_makes(void **state)
{
    (void)state;
    char *folder = make_folder();
    for (size_t i = 0; i < sizeof LAYOUTS / sizeof *LAYOUTS; i++) {
        make_both(folder, LAYOUTS[i].format);
        uint8_t *in = read_of(folder, "in.raw", LAYOUTS[i].bytes);
        uint8_t *out = read_of(folder, "out.raw", LUMA * 3 / 2);
        const tw_picture p = picture_of(i, in);
        twi_buffer *buffer = twi_buffer_picture(&p);
        assert_non_null(buffer);
        check_near(buffer->data, out, LUMA, LAYOUTS[i].off);
        if (LAYOUTS[i].pixels != TW_PIXELS_GREY)
            check_near(buffer->data + LUMA, out + LUMA, (size_t)2 * CHROMA,
                       LAYOUTS[i].chroma_off);
        twi_buffer_unref(buffer);
        free(in);
        free(out);
    }
    remove_folder(folder);
}

static void test_a_jpeg_of_any_layout(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "still.jpg");
    for (size_t i = 0; i < sizeof LAYOUTS / sizeof *LAYOUTS; i++) {
        make_both(folder, LAYOUTS[i].format);
        uint8_t *in = read_of(folder, "in.raw", LAYOUTS[i].bytes);
        const tw_picture p = picture_of(i, in);
        twi_buffer *buffer = NULL;
        tw_stream stream = {.codec = TW_CODEC_H264};
        assert_int_equal(twi_buffer_jpeg(&p, 95, &buffer, NULL), TW_OK);
        twi_buffer_describe(buffer, &stream);
        assert_int_equal(stream.codec, TW_CODEC_MJPEG);
        write_bytes(path, buffer->data, buffer->size);
        outcome o =
            run_program(folder, FFMPEG, "-v", "error", "-y", "-i", "still.jpg",
                        "-pix_fmt", "yuvj420p", "-f", "rawvideo", "back.raw", NULL);
        assert_int_equal(o.code, 0);
        free_outcome(&o);
        uint8_t *back = read_of(folder, "back.raw", LUMA * 3 / 2);
        uint8_t *out = read_of(folder, "out.raw", LUMA * 3 / 2);
        check_near(back, out, LUMA, 24);
        twi_buffer_unref(buffer);
        free(back);
        free(out);
        free(in);
    }
    free(path);
    remove_folder(folder);
}

static void test_what_cannot_be_encoded(void **state)
{
    (void)state;
    static const uint8_t px[16];
    tw_picture p = {
        .px = {px}, .stride = {4}, .width = 4, .height = 4, .pixels = TW_PIXELS_GREY};
    uint8_t *out = NULL;
    size_t bytes = 0;
    tw_error err = {0};
    assert_int_equal(tw_picture_jpeg(&p, 0, &out, &bytes, &err), TW_EINVAL);
    assert_int_equal(tw_picture_jpeg(&p, 101, &out, &bytes, &err), TW_EINVAL);
    assert_int_equal(tw_picture_jpeg(NULL, 90, &out, &bytes, &err), TW_EINVAL);
    assert_int_equal(tw_picture_jpeg(&p, 90, &out, NULL, &err), TW_EINVAL);
    p.stride[0] = 3;
    assert_int_equal(tw_picture_jpeg(&p, 90, &out, &bytes, &err), TW_EINVAL);
    assert_has(err.text, "no picture that could be encoded");
    assert_null(twi_buffer_picture(&p));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_planes_are_those_that_ffmpeg_makes),
        cmocka_unit_test(test_a_jpeg_of_any_layout),
        cmocka_unit_test(test_what_cannot_be_encoded),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
