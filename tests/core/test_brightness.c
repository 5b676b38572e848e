/* The brightness reader, held pixel for pixel against libjpeg-turbo. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <jpeglib.h>

#include "../support/support.h"

/* How a test picture is encoded. */
typedef struct kind {
    unsigned width, height;
    int across, down; /* sampling of luma; 0: grey */
    int quality;
    unsigned restart; /* MCUs */
    bool own_tables, progressive, arithmetic, rgb;
    bool apart; /* both colours have codes of their own */
} kind;

/* Textured, with hard edges and noise, so that long codes and full blocks occur. */
static void paint(uint8_t *row, unsigned width, unsigned y, uint32_t *seed)
{
    for (unsigned x = 0; x < width * 3; x++) {
        *seed = *seed * 1664525U + 1013904223U;
        const unsigned noise = *seed >> 24;
        row[x] =
            (uint8_t)((x / 40 + y / 9) % 2 ? noise : (x * 3 + y * 5) / 4 + noise / 16);
    }
}

static void choose(struct jpeg_compress_struct *c, const kind *k)
{
    c->image_width = k->width;
    c->image_height = k->height;
    c->input_components = 3;
    c->in_color_space = JCS_RGB;
    jpeg_set_defaults(c);
    jpeg_set_colorspace(c, k->rgb ? JCS_RGB : k->across > 0 ? JCS_YCbCr : JCS_GRAYSCALE);
    jpeg_set_quality(c, k->quality, FALSE);
    if (k->across > 0) {
        c->comp_info[0].h_samp_factor = k->across;
        c->comp_info[0].v_samp_factor = k->down;
    }
    if (k->apart)
        c->comp_info[2].dc_tbl_no = c->comp_info[2].ac_tbl_no = 0;
    c->restart_interval = k->restart;
    c->optimize_coding = k->own_tables;
    c->arith_code = k->arithmetic;
    if (k->progressive)
        jpeg_simple_progression(c);
}

static uint8_t *encode(const kind *k, size_t *bytes)
{
    struct jpeg_compress_struct c;
    struct jpeg_error_mgr errors;
    unsigned char *out = NULL;
    unsigned long size = 0;
    uint32_t seed = 7;
    c.err = jpeg_std_error(&errors);
    jpeg_create_compress(&c);
    jpeg_mem_dest(&c, &out, &size);
    choose(&c, k);
    jpeg_start_compress(&c, TRUE);
    uint8_t *row = malloc((size_t)k->width * 3);
    for (unsigned y = 0; y < k->height; y++) {
        paint(row, k->width, y, &seed);
        (void)jpeg_write_scanlines(&c, &row, 1);
    }
    free(row);
    jpeg_finish_compress(&c);
    jpeg_destroy_compress(&c);
    *bytes = size;
    return out;
}

/* As far as the headers; to be destroyed. */
static void begin_decoding(struct jpeg_decompress_struct *d,
                           struct jpeg_error_mgr *errors, const uint8_t *data,
                           size_t bytes)
{
    d->err = jpeg_std_error(errors);
    jpeg_create_decompress(d);
    jpeg_mem_src(d, data, (unsigned long)bytes);
    (void)jpeg_read_header(d, TRUE);
}

/* Grey at 1/8 by libjpeg-turbo; to be freed. */
static uint8_t *decode(const uint8_t *data, size_t bytes, unsigned *width,
                       unsigned *height)
{
    struct jpeg_decompress_struct d;
    struct jpeg_error_mgr errors;
    begin_decoding(&d, &errors, data, bytes);
    d.out_color_space = JCS_GRAYSCALE;
    d.scale_num = 1;
    d.scale_denom = 8;
    (void)jpeg_start_decompress(&d);
    *width = d.output_width;
    *height = d.output_height;
    uint8_t *out = malloc((size_t)*width * *height);
    while (d.output_scanline < d.output_height) {
        JSAMPROW row = out + (size_t)d.output_scanline * *width;
        (void)jpeg_read_scanlines(&d, &row, 1);
    }
    jpeg_destroy_decompress(&d);
    return out;
}

/* The mean of each block of one colour, by libjpeg-turbo's own coefficients; to be freed.
 */
static uint8_t *colour_means(const uint8_t *data, size_t bytes, int which,
                             unsigned *width, unsigned *height)
{
    struct jpeg_decompress_struct d;
    struct jpeg_error_mgr errors;
    begin_decoding(&d, &errors, data, bytes);
    jvirt_barray_ptr *blocks = jpeg_read_coefficients(&d);
    const jpeg_component_info *c = &d.comp_info[which];
    *width = (c->downsampled_width + 7) / 8;
    *height = (c->downsampled_height + 7) / 8;
    uint8_t *out = malloc((size_t)*width * *height);
    for (unsigned y = 0; y < *height; y++) {
        JBLOCKARRAY row =
            d.mem->access_virt_barray((j_common_ptr)&d, blocks[which], y, 1, FALSE);
        for (unsigned x = 0; x < *width; x++) {
            const int mean =
                ((row[0][x][0] * c->quant_table->quantval[0] + 4) >> 3) + 128;
            out[y * *width + x] = (uint8_t)(mean < 0 ? 0 : mean > 255 ? 255 : mean);
        }
    }
    jpeg_destroy_decompress(&d);
    return out;
}

static twi_brightness *make_reader(void)
{
    twi_brightness *reader = NULL;
    const size_t bytes = twi_brightness_bytes();
    assert_int_equal(twi_brightness_init(malloc(bytes), bytes, &reader), TW_OK);
    return reader;
}

static const kind KINDS[] = {
    {640, 368, 2, 1, 80, 0, false, false, false, false, false},
    {640, 368, 2, 2, 80, 0, false, false, false, false, false},
    {640, 368, 1, 1, 80, 0, false, false, false, false, false},
    {640, 368, 0, 0, 80, 0, false, false, false, false, false},
    {333, 217, 2, 2, 35, 0, true, false, false, false, false},
    {333, 217, 1, 2, 95, 7, true, false, false, false, false},
    {333, 217, 2, 2, 85, 0, false, false, false, false, true},
    {333, 217, 4, 1, 95, 0, true, false, false, false, false},
    {1001, 33, 2, 1, 100, 1, false, false, false, false, false},
    {97, 1003, 2, 1, 100, 100, true, false, false, false, false},
    {1, 1, 2, 2, 50, 0, false, false, false, false, false},
    {9, 17, 2, 2, 1, 0, false, false, false, false, false}, /* 16-bit quantisers */
    {17, 9, 0, 0, 2, 3, true, false, false, false, false},
};
enum { KIND_COUNT = sizeof KINDS / sizeof *KINDS };

/* One reader for all, so that tables of the last picture must not be taken for the
 * next's. */
static void test_gives_the_pixels_of_libjpeg_at_an_eighth(void **state)
{
    (void)state;
    twi_brightness *reader = make_reader();
    for (size_t i = 0; i < 3 * KIND_COUNT; i++) {
        const kind *k = &KINDS[i * 5 % KIND_COUNT];
        size_t bytes = 0;
        unsigned width = 0, height = 0;
        uint16_t w = 0, h = 0;
        twi_brightness_picture picture;
        uint8_t *data = encode(k, &bytes), *want = decode(data, bytes, &width, &height);
        uint8_t *got = malloc((size_t)width * height);
        assert_int_equal(twi_brightness_size(data, bytes, &w, &h), TW_OK);
        assert_int_equal(w, k->width);
        assert_int_equal(h, k->height);
        assert_int_equal(twi_brightness_read(reader, data, bytes, 8, got,
                                             (size_t)width * height, &picture),
                         TW_OK);
        assert_int_equal(picture.width, k->width);
        assert_int_equal(picture.height, k->height);
        assert_int_equal(picture.luma.width, width);
        assert_int_equal(picture.luma.height, height);
        assert_int_equal(picture.rows, height);
        assert_memory_equal(got, want, (size_t)width * height);
        free(got);
        free(want);
        free(data);
    }
    free(reader);
}

static void test_gives_the_mean_colours_of_all_blocks(void **state)
{
    (void)state;
    static uint8_t luma[256 * 256], colour[2 * 256 * 256];
    twi_brightness *reader = make_reader();
    size_t with_colour = 0;
    for (size_t i = 0; i < 3 * KIND_COUNT; i++) {
        const kind *k = &KINDS[i * 5 % KIND_COUNT];
        size_t bytes = 0;
        twi_brightness_picture p;
        uint8_t *data = encode(k, &bytes);
        twi_brightness_want_colour(reader, colour, sizeof colour);
        assert_int_equal(twi_brightness_read(reader, data, bytes, i % 2 ? 8 : 4, luma,
                                             sizeof luma, &p),
                         TW_OK);
        assert_int_equal(p.chroma.u == NULL, k->across == 0);
        for (int c = 1; c <= 2 && p.chroma.u; c++, with_colour++) {
            unsigned width = 0, height = 0;
            uint8_t *want = colour_means(data, bytes, c, &width, &height);
            assert_int_equal(tw_chroma_check(&p.chroma), TW_OK);
            assert_int_equal(p.chroma.width, width);
            assert_int_equal(p.chroma.height, height);
            assert_memory_equal(c == 1 ? p.chroma.u : p.chroma.v, want,
                                (size_t)width * height);
            free(want);
        }
        free(data);
    }
    assert_true(with_colour > KIND_COUNT);
    free(reader);
}

/* Its brightness is read all the same, and nothing is written behind the room. */
static void test_colour_that_has_no_room_is_left_out(void **state)
{
    (void)state;
    static uint8_t luma[80 * 46], again[80 * 46];
    twi_brightness *reader = make_reader();
    twi_brightness_picture p;
    size_t bytes = 0;
    uint8_t *data = encode(&KINDS[1], &bytes), *colour = malloc(2 * 40 * 23);
    assert_int_equal(twi_brightness_read(reader, data, bytes, 8, luma, sizeof luma, &p),
                     TW_OK);
    assert_null(p.chroma.u);
    twi_brightness_want_colour(reader, colour, 2 * 40 * 23 - 1);
    assert_int_equal(twi_brightness_read(reader, data, bytes, 8, again, sizeof again, &p),
                     TW_OK);
    assert_null(p.chroma.u);
    assert_memory_equal(luma, again, sizeof luma);
    twi_brightness_want_colour(reader, colour, 2 * 40 * 23);
    assert_int_equal(twi_brightness_read(reader, data, bytes, 8, again, sizeof again, &p),
                     TW_OK);
    assert_non_null(p.chroma.u);
    assert_memory_equal(luma, again, sizeof luma);
    twi_brightness_want_colour(reader, NULL, 99);
    assert_int_equal(twi_brightness_read(reader, data, bytes, 8, again, sizeof again, &p),
                     TW_OK);
    assert_null(p.chroma.u);
    free(colour);
    free(data);
    free(reader);
}

/* A picture without Huffman tables, as many webcams send it: the usual ones hold, also
 * right after a picture that brought its own. */
static void test_missing_tables_are_the_usual_ones(void **state)
{
    (void)state;
    const kind own = {160, 120, 2, 1, 70, 0, true, false, false, false, false};
    const kind usual = {160, 120, 2, 1, 70, 0, false, false, false, false, false};
    twi_brightness *reader = make_reader();
    twi_brightness_picture picture;
    size_t bytes = 0, other = 0, to = 2;
    unsigned width = 0, height = 0;
    uint8_t got[20 * 15];
    uint8_t *data = encode(&usual, &bytes), *first = encode(&own, &other);
    uint8_t *want = decode(data, bytes, &width, &height), *bare = malloc(bytes);
    memcpy(bare, data, 2);
    for (size_t at = 2; at < bytes;) { /* all segments but the tables */
        const size_t size =
            data[at + 1] == 0xDA ? bytes - at : 2U + data[at + 2] * 256U + data[at + 3];
        if (data[at + 1] != 0xC4) {
            memcpy(bare + to, data + at, size);
            to += size;
        }
        at += size;
    }
    assert_true(to < bytes - 300);
    assert_int_equal(
        twi_brightness_read(reader, first, other, 8, got, sizeof got, &picture), TW_OK);
    assert_int_equal(twi_brightness_read(reader, bare, to, 8, got, sizeof got, &picture),
                     TW_OK);
    assert_memory_equal(got, want, sizeof got);
    free(bare);
    free(want);
    free(first);
    free(data);
    free(reader);
}

/* Four grey quarters of known brightness in each block, so soft that the lowest
 * coefficients hold them. */
static void test_a_quarter_is_the_mean_of_each_quarter_of_a_block(void **state)
{
    (void)state;
    uint8_t px[64 * 48], out[16 * 12], whole[8 * 6];
    uint8_t *data = NULL;
    unsigned long size = 0;
    struct jpeg_compress_struct c;
    struct jpeg_error_mgr errors;
    for (int y = 0; y < 48; y++)
        for (int x = 0; x < 64; x++)
            px[y * 64 + x] = (uint8_t)(40 + x * 2 + y);
    c.err = jpeg_std_error(&errors);
    jpeg_create_compress(&c);
    jpeg_mem_dest(&c, &data, &size);
    c.image_width = 64;
    c.image_height = 48;
    c.input_components = 1;
    c.in_color_space = JCS_GRAYSCALE;
    jpeg_set_defaults(&c);
    jpeg_set_quality(&c, 100, TRUE);
    jpeg_start_compress(&c, TRUE);
    for (int y = 0; y < 48; y++) {
        JSAMPROW row = px + y * 64;
        (void)jpeg_write_scanlines(&c, &row, 1);
    }
    jpeg_finish_compress(&c);
    jpeg_destroy_compress(&c);
    twi_brightness *reader = make_reader();
    twi_brightness_picture picture;
    assert_int_equal(
        twi_brightness_read(reader, data, size, 4, out, sizeof out, &picture), TW_OK);
    assert_int_equal(picture.luma.width, 16);
    assert_int_equal(picture.luma.height, 12);
    assert_int_equal(
        twi_brightness_read(reader, data, size, 8, whole, sizeof whole, &picture), TW_OK);
    for (int y = 0; y < 12; y++)
        for (int x = 0; x < 16; x++) {
            /* the mean of 4 x 4 pixels of the ramp */
            assert_in_range(out[y * 16 + x], 40 + 8 * x + 4 * y + 4 - 1,
                            40 + 8 * x + 4 * y + 5 + 1);
        }
    for (int i = 0; i < 8 * 6; i++) {
        const int x = i % 8 * 2, y = i / 8 * 2;
        const int sum = out[y * 16 + x] + out[y * 16 + x + 1] + out[(y + 1) * 16 + x] +
                        out[(y + 1) * 16 + x + 1];
        assert_in_range(whole[i] * 4 + 4 - sum, 0, 8);
    }
    free(data);
    free(reader);
}

static void test_declines_what_it_does_not_read(void **state)
{
    (void)state;
    static const kind declined[] = {
        {64, 64, 2, 2, 80, 0, false, true, false, false, false}, /* progressive */
        {64, 64, 2, 2, 80, 0, false, false, true, false, false}, /* arithmetic */
        {64, 64, 0, 0, 80, 0, false, false, false, true, false}, /* RGB */
    };
    twi_brightness *reader = make_reader();
    uint8_t out[64];
    for (size_t i = 0; i < sizeof declined / sizeof *declined; i++) {
        twi_brightness_picture picture;
        size_t bytes = 0;
        uint8_t *data = encode(&declined[i], &bytes);
        assert_int_equal(
            twi_brightness_read(reader, data, bytes, 8, out, sizeof out, &picture),
            TW_ENOTSUP);
        assert_int_equal(picture.rows, 0);
        free(data);
    }
    free(reader);
}

static void test_refuses_bad_arguments(void **state)
{
    (void)state;
    twi_brightness *reader = make_reader(), *other = NULL;
    twi_brightness_picture p;
    size_t bytes = 0;
    uint8_t *data = encode(&KINDS[0], &bytes), out[80 * 46];
    uint16_t w = 0, h = 0;
    uint64_t memory[4];
    assert_int_equal(twi_brightness_init(NULL, 1 << 20, &other), TW_EINVAL);
    assert_int_equal(twi_brightness_init(memory, sizeof memory, &other), TW_ESIZE);
    assert_int_equal(twi_brightness_read(reader, data, bytes, 2, out, sizeof out, &p),
                     TW_EINVAL);
    assert_int_equal(twi_brightness_read(reader, data, bytes, 8, NULL, 0, &p), TW_EINVAL);
    assert_int_equal(twi_brightness_read(NULL, data, bytes, 8, out, sizeof out, &p),
                     TW_EINVAL);
    assert_int_equal(twi_brightness_read(reader, data, bytes, 8, out, sizeof out - 1, &p),
                     TW_ESIZE);
    assert_int_equal(p.luma.width, 80);
    assert_int_equal(twi_brightness_size(NULL, bytes, &w, &h), TW_EINVAL);
    assert_int_equal(twi_brightness_size((const uint8_t *)"GIF89a", 6, &w, &h),
                     TW_EDAMAGED);
    free(data);
    free(reader);
}

static void test_a_cut_gives_the_rows_so_far(void **state)
{
    (void)state;
    const kind k = {320, 240, 2, 1, 85, 0, false, false, false, false, false};
    twi_brightness *reader = make_reader();
    size_t bytes = 0;
    unsigned width = 0, height = 0;
    uint16_t before = 0;
    uint8_t *data = encode(&k, &bytes), *want = decode(data, bytes, &width, &height);
    for (size_t cut = 0; cut < bytes - 2; cut += 97) {
        uint8_t *exact = malloc(cut + 1), out[40 * 30];
        twi_brightness_picture p;
        memcpy(exact, data, cut);
        assert_int_equal(twi_brightness_read(reader, exact, cut, 8, out, sizeof out, &p),
                         TW_EDAMAGED);
        assert_true(p.rows >= before && p.rows < 30);
        assert_memory_equal(out, want, (size_t)p.rows * width);
        before = p.rows;
        free(exact);
    }
    assert_true(before >= 28);
    free(want);
    free(data);
    free(reader);
}

/* Any single wrong byte, and restart markers out of order: an answer, in bounds. */
static void test_any_damage_is_survived(void **state)
{
    (void)state;
    const kind k = {112, 80, 2, 2, 60, 5, true, false, false, false, false};
    twi_brightness *reader = make_reader();
    size_t bytes = 0, refused = 0;
    uint8_t *data = encode(&k, &bytes), out[28 * 20], *colour = malloc(2 * 14 * 10);
    twi_brightness_want_colour(reader, colour, 2 * 14 * 10);
    for (size_t at = 0; at < bytes; at++) {
        for (int bit = 0; bit < 8; bit++) {
            twi_brightness_picture p;
            data[at] ^= (uint8_t)(1 << bit);
            const tw_status st = twi_brightness_read(reader, data, bytes, at % 2 ? 4 : 8,
                                                     out, sizeof out, &p);
            assert_true(st == TW_OK || st == TW_EDAMAGED || st == TW_ENOTSUP ||
                        st == TW_ESIZE);
            refused += st != TW_OK;
            data[at] ^= (uint8_t)(1 << bit);
        }
    }
    assert_true(refused > bytes / 4); /* with restarts, much damage is seen */
    for (size_t at = 0; at + 1 < bytes; at++) {
        if (data[at] != 0xFF || data[at + 1] != 0xD1)
            continue;
        twi_brightness_picture p;
        data[at + 1] = 0xD2;
        assert_int_equal(twi_brightness_read(reader, data, bytes, 8, out, sizeof out, &p),
                         TW_EDAMAGED);
        data[at + 1] = 0xD1;
    }
    free(colour);
    free(data);
    free(reader);
}

/* Inputs that fuzzing found to reach all of the reader. */
static void test_survives_the_corpus(void **state)
{
    (void)state;
    char **names = list_files(SOURCE_DIR "/tests/corpus/brightness");
    twi_brightness *reader = make_reader();
    assert_true(list_length(names) >= 12);
    for (size_t i = 0; names[i]; i++) {
        size_t bytes = 0;
        uint8_t out[64 * 64], colour[64 * 64];
        twi_brightness_picture p;
        twi_brightness_want_colour(reader, colour, sizeof colour);
        char *path = join(SOURCE_DIR "/tests/corpus/brightness", names[i]);
        char *content = read_file(path, &bytes);
        for (uint16_t factor = 4; factor <= 8; factor += 4) {
            uint8_t *exact = malloc(bytes + 1);
            memcpy(exact, content, bytes);
            (void)twi_brightness_read(reader, exact, bytes, factor, out, sizeof out, &p);
            assert_true(p.rows <= p.luma.height);
            free(exact);
        }
        free(content);
        free(path);
    }
    free_list(names);
    free(reader);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_gives_the_pixels_of_libjpeg_at_an_eighth),
        cmocka_unit_test(test_gives_the_mean_colours_of_all_blocks),
        cmocka_unit_test(test_colour_that_has_no_room_is_left_out),
        cmocka_unit_test(test_missing_tables_are_the_usual_ones),
        cmocka_unit_test(test_a_quarter_is_the_mean_of_each_quarter_of_a_block),
        cmocka_unit_test(test_declines_what_it_does_not_read),
        cmocka_unit_test(test_refuses_bad_arguments),
        cmocka_unit_test(test_a_cut_gives_the_rows_so_far),
        cmocka_unit_test(test_any_damage_is_survived),
        cmocka_unit_test(test_survives_the_corpus),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
