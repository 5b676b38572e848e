/* Decoding for detection and stills: what the codec module gives, against what the ffmpeg
 * program makes of the same footage. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/codecs.h"
#include "../support/support.h"

enum { FRAMES = 48, GROUP = 16 };

typedef tw_status (*reduce_fn)(const tw_luma *src, uint16_t factor, uint8_t *dst,
                               size_t dst_bytes, tw_luma *out);

typedef struct footage {
    uint16_t w, h;
    char *folder, *path;
    uint8_t *expected; /* 4:2:0 pictures, decoded whole */
    size_t picture_bytes;
    const twi_codecs *codecs;
    twi_footage *file;
    twi_av_decoder *decoder;
    tw_luma luma; /* received last */
    tw_chroma chroma;
    int64_t t_us;
    int received;
} footage;

/* How footage is made. */
typedef struct kind {
    const char *encoder;
    const char *option, *value; /* one more of the encoder's */
    const char *filter;    /* what of the loop filter is left out in what is expected */
    uint16_t w, h;         /* as it is shown */
    uint16_t cut_x, cut_y; /* so much larger it is encoded, and cropped when shown */
} kind;

/* Coarse on purpose, so that the loop filter has much to do, with frames that are decoded
 * in another order than they are shown. */
static footage *make_footage(const kind *k)
{
    const uint16_t w = k->w, h = k->h;
    footage *f = calloc(1, sizeof *f);
    assert_non_null(f);
    f->w = w;
    f->h = h;
    f->folder = make_folder();
    f->path = join(f->folder, "coarse.mp4");
    char pattern[64], frames[16], group[16];
    (void)snprintf(pattern, sizeof pattern, "testsrc2=size=%ux%u:rate=10", w + k->cut_x,
                   h + k->cut_y);
    (void)snprintf(frames, sizeof frames, "%d", FRAMES);
    (void)snprintf(group, sizeof group, "%d", GROUP);
    outcome o = run_program(f->folder, FFMPEG, "-v", "error", "-f", "lavfi", "-i",
                            pattern, "-frames:v", frames, "-c:v", k->encoder, "-preset",
                            "veryfast", "-bf", "2", "-g", group, "-qp", "40", "-pix_fmt",
                            "yuvj420p", k->option, k->value, "coarse.mp4", NULL);
    if (o.code != 0)
        fail_msg("%s", o.err);
    free_outcome(&o);
    o = run_program(f->folder, FFMPEG, "-v", "error", "-skip_loop_filter", k->filter,
                    "-i", "coarse.mp4", "-f", "rawvideo", "-pix_fmt", "yuvj420p", "raw",
                    NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    char *raw = join(f->folder, "raw");
    size_t bytes = 0;
    f->expected = (uint8_t *)read_file(raw, &bytes);
    free(raw);
    f->picture_bytes = (size_t)w * h * 3 / 2;
    assert_int_equal(bytes, f->picture_bytes * FRAMES);
    tw_stream stream;
    int64_t wall = 0;
    tw_error err = {0};
    f->codecs = twi_codecs_load(&err);
    if (!f->codecs) {
        fail_msg("%s", err.text);
        abort(); /* never reached, which the analyser cannot know */
    }
    assert_int_equal(f->codecs->footage_open(f->path, &f->file, &stream, &wall, NULL),
                     TW_OK);
    assert_int_equal(f->codecs->decoder_open(&stream, TWI_INSPECT_ALL, &f->decoder, NULL),
                     TW_OK);
    return f;
}

static void leave(footage *f)
{
    f->codecs->decoder_close(f->decoder);
    f->codecs->footage_close(f->file);
    remove_folder(f->folder);
    free(f->path);
    free(f->expected);
    free(f);
}

/* On to the next picture. @return whether there is one. */
static bool next(footage *f)
{
    tw_packet packet;
    twi_decoded out;
    for (int i = 0; i < FRAMES; i++) {
        const tw_status st = f->codecs->decoder_receive(f->decoder, &out, NULL);
        if (st == TW_OK) {
            f->luma = out.luma;
            f->chroma = out.chroma;
            f->t_us = out.t_us;
            assert_int_equal(out.width, f->w);
            f->received++;
            return true;
        }
        if (st == TW_EEND)
            return false;
        const bool more = f->codecs->footage_next(f->file, &packet, NULL) == TW_OK;
        assert_int_equal(f->codecs->decoder_send(f->decoder, more ? &packet : NULL, NULL),
                         TW_OK);
    }
    return false;
}

static const uint8_t *expected(const footage *f)
{
    return f->expected + (size_t)(f->received - 1) * f->picture_bytes;
}

/* The picture received last is what it should be, to the pixel. */
static void check_picture(footage *f)
{
    tw_picture picture;
    assert_int_equal(f->codecs->decoder_picture(f->decoder, &picture, NULL), TW_OK);
    const uint8_t *want = expected(f);
    for (size_t plane = 0; plane < 3; plane++) {
        const size_t w = plane ? f->w / 2U : f->w, h = plane ? f->h / 2U : f->h;
        for (size_t y = 0; y < h; y++, want += w)
            assert_memory_equal(picture.px[plane] + y * picture.stride[plane], want, w);
    }
}

/* Sum of the differences between what the detector is given and the reduced picture. */
static uint64_t luma_off_by(const footage *f, reduce_fn reduce)
{
    const tw_luma whole = {expected(f), f->w, f->w, f->h};
    uint8_t *reduced = malloc((size_t)f->w * f->h);
    tw_luma want;
    uint64_t sum = 0;
    assert_int_equal(
        reduce(&whole, tw_luma_factor(f->w), reduced, (size_t)f->w * f->h, &want), TW_OK);
    assert_int_equal(want.width, f->luma.width);
    assert_int_equal(want.height, f->luma.height);
    for (size_t y = 0; y < want.height; y++)
        for (size_t x = 0; x < want.width; x++)
            sum += (uint64_t)abs(f->luma.px[y * f->luma.stride + x] -
                                 want.px[y * want.stride + x]);
    free(reduced);
    return sum;
}

/* The chroma that the detector is given is that of the whole picture, reduced. */
static void check_chroma(const footage *f, int off_most)
{
    const uint8_t *y = expected(f);
    const uint8_t *u = y + (size_t)f->w * f->h, *v = u + (size_t)f->w * f->h / 4;
    const uint32_t across = f->w / 2U;
    const tw_picture whole = {
        {y, u, v}, {f->w, across, across}, f->w, f->h, TW_PIXELS_I420};
    const size_t bytes = tw_picture_chroma_bytes(&whole);
    uint8_t *memory = malloc(bytes);
    tw_chroma want;
    int coloured = 0;
    assert_int_equal(tw_picture_chroma(&whole, memory, bytes, &want), TW_OK);
    assert_int_equal(tw_chroma_check(&f->chroma), TW_OK);
    assert_int_equal(f->chroma.width, want.width);
    assert_int_equal(f->chroma.height, want.height);
    for (size_t i = 0; i < bytes / 2; i++) {
        const size_t at = i / want.width * f->chroma.stride + i % want.width;
        assert_true(abs(f->chroma.u[at] - want.u[i]) <= off_most);
        assert_true(abs(f->chroma.v[at] - want.v[i]) <= off_most);
        coloured += abs(want.u[i] - 128) > 10;
    }
    assert_true(coloured > 0);
    free(memory);
}

/* Big pictures are decoded without the loop filter for the detector; stills have it, in
 * whatever frames they are wanted: in a row, twice, long after each other, from the first
 * and the last of a group. */
static void check_stills_of_big_pictures(const char *encoder)
{
    static const int wanted[] = {1, 2, 3, 17, 18, 18, 32, 33, 47, 48};
    const kind big = {encoder, "-refs", "3", "none", 960, 544, 0, 0};
    footage *f = make_footage(&big);
    size_t k = 0;
    uint64_t off = 0;
    while (next(f)) {
        off += luma_off_by(f, tw_luma_reduce);
        for (; k < sizeof wanted / sizeof *wanted && wanted[k] == f->received; k++)
            check_picture(f);
    }
    assert_int_equal(f->received, FRAMES);
    assert_int_equal(k, sizeof wanted / sizeof *wanted);
    /* another picture, but not a very different one: less than 3 levels */
    assert_in_range(off, 1, (uint64_t)FRAMES * f->luma.width * f->luma.height * 3);
    leave(f);
}

static void test_stills_of_big_pictures(void **state)
{
    (void)state;
    check_stills_of_big_pictures("libx264");
}

static void test_stills_of_big_pictures_in_h265(void **state)
{
    (void)state;
    check_stills_of_big_pictures("libx265");
}

static void test_small_pictures_are_decoded_whole(void **state)
{
    (void)state;
    const kind small = {"libx264", "-refs", "3", "none", 320, 192, 0, 0};
    footage *f = make_footage(&small);
    while (next(f)) {
        assert_int_equal(luma_off_by(f, tw_luma_reduce), 0);
        check_chroma(f, 0);
        check_picture(f);
    }
    assert_int_equal(f->received, FRAMES);
    leave(f);
}

/* What the detector is given of big ones is the unfiltered picture, reduced, to the
 * pixel: of one slice or several, interlaced, with edges cut off. */
static void test_big_pictures_are_reduced_unfiltered(void **state)
{
    (void)state;
    static const kind kinds[] = {
        {"libx264", "-refs", "3", "all", 1200, 540, 0, 0},
        {"libx264", "-x264-params", "slices=5", "all", 960, 540, 0, 0},
        {"libx264", "-x264-params", "tff=1", "all", 960, 544, 0, 0},
        {"libx264", "-x264-params", "crop-rect=64,8,0,0", "all", 960, 540, 64, 8},
        {"libx264", "-x264-params", "crop-rect=0,0,16,8", "all", 960, 540, 16, 8},
        {"libx265", "-refs", "3", "all", 960, 544, 0, 0}};
    for (size_t i = 0; i < sizeof kinds / sizeof *kinds; i++) {
        footage *f = make_footage(&kinds[i]);
        while (next(f))
            assert_int_equal(luma_off_by(f, tw_luma_reduce_half), 0);
        assert_int_equal(f->received, FRAMES);
        leave(f);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_stills_of_big_pictures),
        cmocka_unit_test(test_stills_of_big_pictures_in_h265),
        cmocka_unit_test(test_small_pictures_are_decoded_whole),
        cmocka_unit_test(test_big_pictures_are_reduced_unfiltered),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
