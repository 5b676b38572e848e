/* Clips: copied and encoded, whole and cut off, on cards that fail; footage read back. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/codecs.h"
#include "../../src/media/decoder.h"
#include "../support/support.h"
#include "../../src/station/footage.h"

enum { FRAMES = 40 };

/* A clip in memory. */
typedef struct memory_file {
    uint8_t *data;
    size_t bytes, limit; /* a write beyond limit fails; 0: none */
} memory_file;

static tw_status keep(void *ctx, const void *data, size_t bytes, tw_error *err)
{
    memory_file *f = ctx;
    if (f->limit > 0 && f->bytes + bytes > f->limit)
        return tw_fail(err, TW_ENOSPC, "the test's card is full");
    f->data = realloc(f->data, f->bytes + bytes);
    assert_non_null(f->data);
    memcpy(f->data + f->bytes, data, bytes);
    f->bytes += bytes;
    return TW_OK;
}

static const twi_codecs *codecs(void)
{
    tw_error err = {0};
    const twi_codecs *c = twi_codecs_load(&err);
    if (!c)
        fail_msg("%s", err.text);
    return c;
}

/* Frames of the scene into a clip; the time between two is uneven on purpose. */
static tw_status write_clip(memory_file *file, bool encode, tw_error *err)
{
    tw_stream stream;
    tw_frame frame;
    twi_clip *clip = NULL;
    tw_camera camera = open_camera("sim:kerb,size=160x90", 10, &stream);
    const twi_clip_spec spec = {.stream = &stream,
                                .encode = encode,
                                .quality = 60,
                                .wall_us = INT64_C(1804969815204567),
                                .why = "2 of 3 frames",
                                .sink = {keep, file}};
    tw_status st = codecs()->clip_open(&spec, &clip, err);
    for (int i = 0; i < FRAMES && st == TW_OK; i++) {
        assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
        frame.packet.t_us = frame.packet.dts_us =
            7000000 + (int64_t)i * 100000 + (i % 3) * 20000;
        st = twi_clip_copy(codecs(), clip, &frame.packet, err);
    }
    if (clip) {
        const tw_status closed = codecs()->clip_close(clip, st == TW_OK ? err : NULL);
        st = st == TW_OK ? closed : st;
    }
    camera.ops->destroy(camera.ctx);
    return st;
}

/* Count the frames that can be read and decoded; checks their times. */
static int decode_all(const char *path, tw_codec codec, int64_t *wall_us)
{
    twi_footage *footage = NULL;
    tw_stream stream;
    tw_packet packet;
    twi_decoder *decoder = NULL;
    twi_decoded decoded;
    int count = 0;
    if (codecs()->footage_open(path, &footage, &stream, wall_us, NULL) != TW_OK)
        return 0;
    assert_int_equal(stream.codec, codec);
    assert_int_equal(stream.width, 160);
    assert_int_equal(twi_decoder_open(&stream, TWI_INSPECT_ALL, &decoder, NULL), TW_OK);
    tw_status st = TW_OK;
    for (bool more = true; more;) {
        more = codecs()->footage_next(footage, &packet, NULL) == TW_OK;
        (void)twi_decoder_send(decoder, more ? &packet : NULL, NULL);
        while ((st = twi_decoder_receive(decoder, &decoded, NULL)) != TW_EAGAIN &&
               st != TW_EEND) {
            if (st != TW_OK)
                continue;
            const int64_t expected = (int64_t)count * 100000 + (count % 3) * 20000;
            assert_in_range(decoded.t_us - expected + 1000, 0, 2000);
            assert_int_equal(decoded.width, 160);
            count++;
        }
    }
    twi_decoder_close(decoder);
    codecs()->footage_close(footage);
    return count;
}

static void check_whole_and_cut(bool encode)
{
    char *folder = make_folder(), *path = join(folder, "clip.mp4");
    memory_file file = {0};
    tw_error err = {0};
    int64_t wall_us = 0;
    const tw_codec codec = encode ? TW_CODEC_H264 : TW_CODEC_MJPEG;
    assert_int_equal(write_clip(&file, encode, &err), TW_OK);
    write_bytes(path, file.data, file.bytes);
    assert_int_equal(decode_all(path, codec, &wall_us), FRAMES);
    assert_true(wall_us == INT64_C(1804969815000000)); /* MP4 dates have seconds */
    for (int part = 3; part < 10; part++) { /* cut off: what is there can be seen */
        write_bytes(path, file.data, file.bytes * (size_t)part / 10);
        const int left = decode_all(path, codec, &wall_us);
        assert_true(left >= FRAMES * part / 10 - 21 && left <= FRAMES);
        if (part >= 8)
            assert_true(left >= 15);
    }
    free(file.data);
    free(path);
    remove_folder(folder);
}

static void test_copied_clip(void **state)
{
    (void)state;
    check_whole_and_cut(false);
}

static void test_encoded_clip(void **state)
{
    (void)state;
    check_whole_and_cut(true);
}

static void test_the_same_frames_give_the_same_file(void **state)
{
    (void)state;
    for (int encode = 0; encode < 2; encode++) {
        memory_file a = {0}, b = {0};
        assert_int_equal(write_clip(&a, encode, NULL), TW_OK);
        assert_int_equal(write_clip(&b, encode, NULL), TW_OK);
        assert_int_equal(a.bytes, b.bytes);
        assert_memory_equal(a.data, b.data, a.bytes);
        free(a.data);
        free(b.data);
    }
}

static void test_a_full_card_is_told_in_its_own_words(void **state)
{
    (void)state;
    for (int encode = 0; encode < 2; encode++) {
        memory_file whole = {0};
        assert_int_equal(write_clip(&whole, encode, NULL), TW_OK);
        for (size_t limit = 1; limit < whole.bytes; limit += whole.bytes / 9 + 1) {
            memory_file file = {.limit = limit};
            tw_error err = {0};
            assert_int_equal(write_clip(&file, encode, &err), TW_ENOSPC);
            assert_string_equal(err.text, "the test's card is full");
            free(file.data);
        }
        free(whole.data);
    }
}

static void test_a_clip_without_frames_is_none(void **state)
{
    (void)state;
    const tw_stream stream = {.codec = TW_CODEC_MJPEG, .width = 64, .height = 64};
    memory_file file = {0};
    twi_clip *clip = NULL;
    tw_error err = {0};
    const twi_clip_spec spec = {
        .stream = &stream, .encode = true, .quality = 60, .sink = {keep, &file}};
    assert_int_equal(codecs()->clip_open(&spec, &clip, &err), TW_OK);
    const tw_packet bad = {
        .data = (const uint8_t *)"no picture", .size = 10, .key = true};
    assert_int_equal(twi_clip_copy(codecs(), clip, &bad, &err), TW_OK);
    assert_int_equal(codecs()->clip_close(clip, &err), TW_EDAMAGED);
    assert_has(err.text, "no frame could be decoded");
    free(file.data);
}

static void test_what_clips_carry(void **state)
{
    (void)state;
    tw_stream stream = {.codec = TW_CODEC_H264};
    assert_true(codecs()->clip_carries(&stream));
    stream.codec = TW_CODEC_OTHER;
    assert_false(codecs()->clip_carries(&stream));
}

static void test_a_missing_module_is_told(void **state)
{
    (void)state;
    tw_error err = {0};
    (void)setenv("TAWNY_MODULES", "/none/here", 1);
    assert_null(twi_codecs_load(&err));
    assert_has(err.text, "tawny-codecs.so is not there (looked in /none/here)");
    assert_false(twi_clips_possible(&err));
    (void)unsetenv("TAWNY_MODULES");
}

/* A device's stream, whose description has no parameter sets, from its second key frame
 * on. */
static void test_parameter_sets_are_in_the_stream(void **state)
{
    (void)state;
    const tw_stream stream = h264_stream();
    memory_file file = {.limit = 0};
    const twi_clip_spec spec = {.stream = &stream, .why = "", .sink = {keep, &file}};
    twi_clip *clip = NULL;
    size_t bytes = 0;
    uint8_t *data = encode_h264(&bytes);
    assert_int_equal(codecs()->clip_open(&spec, &clip, NULL), TW_OK);
    for (tw_packet p = {.data = NULL}; next_h264(data, bytes, &p);)
        if (p.t_us >= 1000000)
            assert_int_equal(twi_clip_copy(codecs(), clip, &p, NULL), TW_OK);
    assert_int_equal(codecs()->clip_close(clip, NULL), TW_OK);
    char *folder = make_folder(), *path = join(folder, "clip.mp4");
    write_bytes(path, file.data, file.bytes);
    outcome o =
        run_program(NULL, FFPROBE, "-v", "warning", "-count_frames", "-show_entries",
                    "stream=nb_read_frames,width", "-of", "csv=p=0", path, NULL);
    assert_string_equal(o.err, "");
    assert_string_equal(o.out, "160,20\n");
    free_outcome(&o);
    remove_folder(folder);
    free(path);
    free(file.data);
    free(data);
}

/* A device that sent them once, and not with the frame that the clip begins with. */
static void test_no_parameter_sets_at_all(void **state)
{
    (void)state;
    static const uint8_t slice[] = {0, 0, 0, 1, 0x65, 0x88, 0x84, 0x21, 0xA0};
    const tw_stream stream = h264_stream();
    memory_file file = {.limit = 0};
    const twi_clip_spec spec = {.stream = &stream, .why = "", .sink = {keep, &file}};
    const tw_packet packet = {.data = slice, .size = sizeof slice, .key = true};
    twi_clip *clip = NULL;
    tw_error err = {0};
    assert_int_equal(codecs()->clip_open(&spec, &clip, NULL), TW_OK);
    assert_int_equal(twi_clip_copy(codecs(), clip, &packet, &err), TW_EDAMAGED);
    assert_has(err.text, "the stream's key frames do not say how it is decoded");
    assert_int_not_equal(codecs()->clip_close(clip, NULL), TW_OK);
    assert_int_equal(file.bytes, 0);
    free(file.data);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_copied_clip),
        cmocka_unit_test(test_encoded_clip),
        cmocka_unit_test(test_the_same_frames_give_the_same_file),
        cmocka_unit_test(test_a_full_card_is_told_in_its_own_words),
        cmocka_unit_test(test_a_clip_without_frames_is_none),
        cmocka_unit_test(test_what_clips_carry),
        cmocka_unit_test(test_a_missing_module_is_told),
        cmocka_unit_test(test_parameter_sets_are_in_the_stream),
        cmocka_unit_test(test_no_parameter_sets_at_all),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
