/* Recovery: what a power cut leaves behind. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/codecs.h"
#include "../../src/media/decoder.h"
#include "../../src/media/jpeg.h"
#include "../../src/station/catalogue_write.h"
#include "../../src/station/recorder.h"
#include "../../src/station/recovery.h"
#include "../support/place.h"
#include "../../src/core/naming.h"
#include "../../src/settings/sections.h"

enum { FPS = 10, FRAMES = 90, FIRST = 20, LAST = 70 };

typedef struct footage {
    uint8_t *data[FRAMES];
    size_t bytes[FRAMES];
} footage;

static footage *make_footage(void)
{
    tw_stream stream;
    tw_frame frame;
    footage *f = calloc(1, sizeof *f);
    tw_camera camera = open_camera("sim:kerb,size=64x64", FPS, &stream);
    assert_non_null(f);
    for (int i = 0; i < FRAMES; i++) {
        assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
        f->bytes[i] = frame.packet.size;
        f->data[i] = malloc(frame.packet.size);
        assert_non_null(f->data[i]);
        memcpy(f->data[i], frame.packet.data, frame.packet.size);
    }
    camera.ops->destroy(camera.ctx);
    return f;
}

static void free_footage(footage *f)
{
    for (int i = 0; i < FRAMES; i++)
        free(f->data[i]);
    free(f);
}

static void still_of(twi_recorder *r, const footage *f, int i, const tw_sighting *s)
{
    const twi_still still = {
        .kind = TWI_KIND_STILL,
        .sighting = s,
        .image = twi_buffer_copy(f->data[i], f->bytes[i]),
        .times = {.t_us = i * S / FPS, .wall_us = WALL + i * S / FPS},
        .n = 1,
        .width = 64,
        .height = 64};
    twi_recorder_still(r, &still);
}

/* One sighting, recorded until the card has had so many calls; 0: to its end.
 * @return the time of the last frame that was given. */
static int64_t record(place *p, const footage *f, uint32_t calls)
{
    const tw_stream stream = {.codec = TW_CODEC_MJPEG,
                              .codec_name = "mjpeg",
                              .width = 64,
                              .height = 64,
                              .fps_num = FPS,
                              .fps_den = 1};
    tw_sighting s = {.number = 1,
                     .part = 1,
                     .start_us = FIRST * S / FPS,
                     .end_us = LAST * S / FPS,
                     .clip_start_us = (FIRST - 5) * S / FPS,
                     .clip_end_us = (LAST + 5) * S / FPS};
    twi_recorder *r = NULL;
    assert_int_equal(twi_recorder_new(&p->camera[0], &p->channel[0], &stream,
                                      twi_writer_jobs(&p->writer), &r, NULL),
                     TW_OK);
    int i = 0;
    for (; i < FRAMES && (calls == 0 || tw_sim_card_calls(&p->card) < calls); i++) {
        p->time.now_us = i * S / FPS;
        const tw_packet packet = {.data = f->data[i],
                                  .size = f->bytes[i],
                                  .t_us = i * S / FPS,
                                  .dts_us = i * S / FPS,
                                  .wall_us = WALL + i * S / FPS,
                                  .key = true};
        if (i == FIRST)
            twi_recorder_began(r, &s);
        if (i == FIRST + 10)
            still_of(r, f, i, &s);
        if (i == LAST)
            twi_recorder_ended(r, &s, false);
        (void)twi_recorder_packet(r, &packet, twi_buffer_copy(packet.data, packet.size),
                                  NULL);
    }
    twi_recorder_free(r);
    return (i - 1) * S / FPS;
}

/* @return time of the last frame of a clip that can be read and decoded, -1: none. */
static int64_t play(const char *folder, const uint8_t *data, size_t bytes)
{
    char *path = join(folder, "played.mp4");
    const twi_codecs *codecs = twi_codecs_load(NULL);
    twi_footage *clip = NULL;
    tw_stream stream;
    tw_packet packet;
    twi_decoder *decoder = NULL;
    twi_decoded decoded;
    int64_t wall = 0, last = -1;
    write_bytes(path, data, bytes);
    assert_non_null(codecs);
    assert_int_equal(codecs->footage_open(path, &clip, &stream, &wall, NULL), TW_OK);
    assert_int_equal(twi_decoder_open(&stream, TWI_INSPECT_ALL, &decoder, NULL), TW_OK);
    for (bool more = true; more;) {
        more = codecs->footage_next(clip, &packet, NULL) == TW_OK;
        (void)twi_decoder_send(decoder, more ? &packet : NULL, NULL);
        while (twi_decoder_receive(decoder, &decoded, NULL) == TW_OK)
            last = decoded.t_us;
    }
    twi_decoder_close(decoder);
    codecs->footage_close(clip);
    free(path);
    return last;
}

/* What is on the card after a cut and mending: whole files with names, known to the
 * catalogue; a clip that was being written plays to two seconds before the cut. */
static void check_after_cut(place *p, const char *folder, int64_t cut_us, size_t *clips)
{
    assert_int_equal(held(p, TWI_PART), 0);
    for (size_t i = 0; i < tw_sim_card_count(&p->card); i++) {
        const char *name = NULL;
        const uint8_t *data = NULL;
        size_t bytes = 0;
        assert_int_equal(tw_sim_card_file(&p->card, i, &name, &data, &bytes), TW_OK);
        assert_true(twi_catalogue_knows(p->writer.catalogue, name, NULL));
        if (strstr(name, "clip")) {
            const int64_t start_us = (FIRST - 5) * S / FPS;
            const int64_t end_us =
                cut_us < (LAST + 4) * S / FPS ? cut_us : (LAST + 4) * S / FPS;
            const int64_t last_us = play(folder, data, bytes);
            if (last_us < end_us - start_us - 2 * S)
                fail_msg("%s plays %lld us of %lld", name, (long long)last_us,
                         (long long)(end_us - start_us));
            ++*clips;
        } else {
            twi_jpeg *jpeg = twi_jpeg_new(TWI_INSPECT_ALL);
            twi_decoded out;
            assert_int_equal(twi_jpeg_read(jpeg, data, bytes, &out, NULL), TW_OK);
            twi_jpeg_free(jpeg);
        }
    }
}

enum { CUTS = 150 };

static void check_power_cuts(twi_clip_video video)
{
    char *folder = make_folder();
    footage *f = make_footage();
    place *p = make_place(NULL);
    p->camera[0].clip_video = video;
    open_writer(p);
    (void)record(p, f, 0);
    const uint32_t calls = tw_sim_card_calls(&p->card);
    assert_int_equal(tw_sim_card_count(&p->card), 2);
    leave(p);
    assert_true(calls > 20);
    size_t clips = 0, told = 0;
    for (uint32_t cut = 0; cut < CUTS; cut++) {
        const uint32_t at =
            6 + cut * (calls - 6) / CUTS; /* those before are for opening */
        const tw_sim_faults faults = {.fail_call = at, .fail_with = TW_EIO, .dead = true};
        p = make_place(&faults);
        p->camera[0].clip_video = video;
        open_writer(p);
        const int64_t cut_us = record(p, f, at);
        twi_writer_close(&p->writer);
        twi_recording *cut_off = &p->channel[0].own[TWI_KIND_CLIP];
        if (cut_off->frames.clip) /* what is in memory does not reach the dead card */
            (void)cut_off->frames.codecs->clip_close(cut_off->frames.clip, NULL);
        cut_off->frames.clip = NULL;
        tw_sim_card_cut(&p->card, cut * 2654435761U);
        open_writer(p);
        twi_recovery_run(&p->writer);
        told += strstr(p->problems.text, "1 clips that were cut off were kept") != NULL;
        check_after_cut(p, folder, cut_us, &clips);
        leave(p);
    }
    assert_true(clips > CUTS / 3);
    assert_true(told > 0 && told <= clips);
    free_footage(f);
    remove_folder(folder);
}

static void test_power_cuts_while_a_clip_is_copied(void **state)
{
    (void)state;
    check_power_cuts(TWI_VIDEO_MJPEG);
}

static void test_power_cuts_while_a_clip_is_encoded(void **state)
{
    (void)state;
    check_power_cuts(TWI_VIDEO_AUTO);
}

static void put_file(tw_card *card, const char *name, size_t bytes)
{
    void *file = NULL;
    uint8_t *data = calloc(1, bytes);
    assert_non_null(data);
    assert_int_equal(card->ops->create(card->ctx, name, &file, NULL), TW_OK);
    assert_int_equal(card->ops->append(card->ctx, file, data, bytes, NULL), TW_OK);
    assert_int_equal(card->ops->close(card->ctx, file, NULL), TW_OK);
    free(data);
}

static bool count_captures(void *ctx, const tw_sighting_record *r)
{
    size_t *n = ctx;
    n[0]++;
    n[1] += r->stills + r->clips;
    return true;
}

static void test_mending_makes_files_and_catalogue_agree(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    open_writer(p);
    (void)capture(p, 0);
    assert_int_equal(p->card.ops->remove(p->card.ctx,
                                         "2027-03-13/kerb/kerb-20270313T203000.000-001-"
                                         "still.jpg",
                                         NULL),
                     TW_OK);             /* behind the catalogue's back */
    put_file(&p->card, "notes.txt", 30); /* somebody else's */
    put_file(&p->card, "2027-03-13/mere/mere-20270313T190000.000-007-still.jpg", 900);
    put_file(&p->card, "2027-03-13/mere/mere-20270313T185955.000-007-clip.mp4", 90000);
    put_file(&p->card, "2027-03-13/mere/mere-20270313T200000.000-008-clip.mp4.part",
             9000);
    put_file(&p->card, "2027-03-13/mere/mere-20270313T201000.000-009-still.jpg.part", 90);
    twi_recovery_run(&p->writer);
    assert_int_equal(held(p, TWI_PART), 0);
    assert_int_equal(held(p, "notes.txt"), 1);
    assert_int_equal(held(p, "-008-"), 0); /* no header, no fragment: nothing to play */
    assert_int_equal(held(p, "-009-"), 0);
    assert_has(p->problems.text, "2 half-written files were removed");
    assert_has(p->problems.text, "2 files were taken into the catalogue");
    assert_has(p->problems.text, "1 captures are gone from the card");
    size_t n[2] = {0, 0};
    const tw_sighting_filter mere = {.camera = "mere"};
    assert_int_equal(
        tw_catalogue_sightings(p->writer.catalogue, &mere, count_captures, n, NULL),
        TW_OK);
    assert_int_equal(n[0], 1); /* the still and the clip of number 7 belong together */
    assert_int_equal(n[1], 2);
    p->problems.count = 0;
    twi_recovery_run(&p->writer); /* nothing is left to mend */
    assert_int_equal(p->problems.count, 0);
    leave(p);
}

/* The catalogue of this card is in memory, and so is lost with the writer: the next
 * number follows the highest that a file's name tells. */
static void test_numbers_go_on_after_a_lost_catalogue(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    open_writer(p);
    for (int i = 0; i < 3; i++)
        (void)capture(p, i % 2);
    assert_int_equal(held(p, "-003-"), 1);
    twi_writer_close(&p->writer);
    open_writer(p);
    assert_int_equal(atomic_load(&p->writer.last_number), 3);
    leave(p);
}

/* Others put sightings into the catalogue while a station runs, as restoring does:
 * numbers go on after those. */
static void test_numbers_go_on_after_what_others_brought(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    open_writer(p);
    const tw_sighting brought = {.number = 50, .part = 1, .start_us = S, .end_us = 2 * S};
    const twi_sighting_entry entry = {
        .camera = "kerb", .sighting = &brought, .wall_offset_us = WALL, .over = true};
    assert_int_equal(twi_catalogue_put(p->writer.catalogue, &entry, NULL, NULL), TW_OK);
    assert_true(atomic_load(&p->writer.last_number) < 50);
    twi_writer_tend(&p->writer);
    assert_int_equal(atomic_load(&p->writer.last_number), 50);
    leave(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_numbers_go_on_after_what_others_brought),
        cmocka_unit_test(test_power_cuts_while_a_clip_is_copied),
        cmocka_unit_test(test_power_cuts_while_a_clip_is_encoded),
        cmocka_unit_test(test_mending_makes_files_and_catalogue_agree),
        cmocka_unit_test(test_numbers_go_on_after_a_lost_catalogue),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
