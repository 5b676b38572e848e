/* Cameras that give pixels: what is encoded, when, and what comes of it. */
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>

#include "../../src/media/raw.h"
#include "../../src/station/writer.h"
#include "../support/support.h"
#include "../../src/settings/sections.h"
#include "../../src/station/rehearse.h"
#include "../../src/station/footage.h"
#include "tawny/rehearse.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* ---- how often something is encoded ------------------------------------------------ */

static atomic_uint encoded;

tw_status __real_tw_picture_jpeg(const tw_picture *picture, int quality, uint8_t **out,
                                 size_t *bytes, tw_error *err);
tw_status __wrap_tw_picture_jpeg(const tw_picture *picture, int quality, uint8_t **out,
                                 size_t *bytes, tw_error *err);

tw_status __wrap_tw_picture_jpeg(const tw_picture *picture, int quality, uint8_t **out,
                                 size_t *bytes, tw_error *err)
{
    atomic_fetch_add(&encoded, 1);
    return __real_tw_picture_jpeg(picture, quality, out, bytes, err);
}

/* ---- rehearsals -------------------------------------------------------------------- */

#define SCENE "sim:kerb,size=240x136"

/* Rehearse a scene into a folder, in names that do not depend on what is kept. */
static noted rehearse(const char *folder, const char *source, const char *lines)
{
    char text[1024];
    noted s = {0};
    twi_camera_settings camera;
    twi_station_settings station;
    tw_rehearsal_result result;
    tw_error err = {0};
    tw_card card;
    (void)snprintf(text, sizeof text,
                   "[station]\nnames = {sighting}-{kind}\n"
                   "[camera kerb]\nsource = %s\nfps = 5\n%s",
                   source, lines);
    tw_settings *settings = settings_of(text);
    assert_int_equal(twi_settings_camera(settings, "kerb", &camera), TW_OK);
    twi_settings_station(settings, &station);
    assert_int_equal(tw_linux_card(folder, &card, &err), TW_OK);
    const tw_platform platform = {
        .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &card};
    atomic_store(&encoded, 0);
    if (twi_rehearse(&platform, &camera, &station, NULL, note_event, &s, &result, &err) !=
        TW_OK)
        fail_msg("%s", err.text);
    card.ops->destroy(card.ctx);
    tw_settings_free(settings);
    return s;
}

static unsigned frames_in(const char *folder, const char *name, const char *codec)
{
    char text[64];
    describe_video(folder, name, text);
    assert_int_equal(strncmp(text, codec, strlen(codec)), 0);
    assert_non_null(strstr(text, ",240,136,"));
    return (unsigned)atoi(strrchr(text, ',') + 1);
}

/* The same frames are in clips however pixels are held: as they are, or as JPEG where
 * memory is little. Of packets it may be a frame more or less, as JPEG has a noise of its
 * own. */
static void test_clips_hold_the_same_frames(void **state)
{
    (void)state;
    static const struct {
        const char *source, *lines, *codec;
    } cases[] = {
        {SCENE, "clip_video = mjpeg\n", "mjpeg"},
        {SCENE ",raw=yes", "clip_video = mjpeg\n", "mjpeg"},
        {SCENE ",raw=yes", "clip_video = copy\n", "mjpeg"},
        {SCENE ",raw=yes", "clip_video = h264\n", "h264"},
        {SCENE ",raw=yes", "pre_event_memory = 1 MB\nclip_video = mjpeg\n", "mjpeg"},
        {SCENE ",raw=yes", "pre_event_memory = 1 MB\n", "h264"},
        {SCENE ",raw=yes", "caption = {camera}\ncaption_clean = yes\n", "h264"}};
    unsigned frames[3] = {0};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char *folder = make_folder();
        const noted s = rehearse(folder, cases[i].source, cases[i].lines);
        assert_int_equal(s.problems.count, 0);
        assert_int_equal(s.sightings, 3);
        assert_int_equal(s.clips, 3);
        assert_int_equal(s.stills, 3);
        for (unsigned k = 0; k < 3; k++) {
            char name[32];
            (void)snprintf(name, sizeof name, "%03u-clip.mp4", k + 1);
            const unsigned found = frames_in(folder, name, cases[i].codec);
            if (i == 1)
                assert_in_range(found + 4, frames[k], frames[k] + 8);
            frames[k] = i <= 1 ? found : frames[k];
            assert_int_equal(found, frames[k]);
        }
        remove_folder(folder);
    }
}

/* Nothing is encoded that is not kept: not while nothing comes, nor while disarmed. */
static void test_only_what_is_kept_is_encoded(void **state)
{
    (void)state;
    char *folder = make_folder();
    noted s = rehearse(folder, SCENE ",raw=yes", "armed = no\n");
    assert_int_equal(s.sightings, 0);
    assert_int_equal(atomic_load(&encoded), 0);
    s = rehearse(folder, SCENE ",raw=yes", "start_at = 90 %\nstay_at = 80 %\n");
    assert_int_equal(s.sightings, 0);
    assert_int_equal(atomic_load(&encoded), 0);
    s = rehearse(folder, SCENE ",raw=yes", "clips = no\n");
    assert_int_equal(s.stills, 3);
    assert_int_equal(atomic_load(&encoded), 3);
    remove_folder(folder);
    folder = make_folder(); /* as video they are no JPEG on the way */
    s = rehearse(folder, SCENE ",raw=yes", "clip_video = h264\n");
    assert_int_equal(s.clips, 3);
    assert_int_equal(atomic_load(&encoded), 3);
    remove_folder(folder);
    folder = make_folder();
    s = rehearse(folder, SCENE ",raw=yes", "clip_video = mjpeg\nstills = none\n");
    unsigned in_clips = 0;
    for (unsigned k = 1; k <= 3; k++) {
        char name[32];
        (void)snprintf(name, sizeof name, "%03u-clip.mp4", k);
        in_clips += frames_in(folder, name, "mjpeg");
    }
    assert_int_equal(atomic_load(&encoded), in_clips);
    remove_folder(folder);
}

static void test_footage_is_written_of_pixels(void **state)
{
    (void)state;
    static const struct {
        const char *video, *codec;
    } cases[] = {{"copy", "mjpeg"}, {"h264", "h264"}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char *folder = make_folder(), *path = join(folder, "all.mp4"), text[256];
        twi_camera_settings camera;
        tw_error err = {0};
        (void)snprintf(text, sizeof text,
                       "[camera kerb]\nsource = " SCENE ",raw=yes\nfps = 1\n"
                       "clip_video = %s\n",
                       cases[i].video);
        tw_settings *settings = settings_of(text);
        assert_int_equal(twi_settings_camera(settings, "kerb", &camera), TW_OK);
        const tw_platform platform = {.makers = TEST_MAKERS, .clock = tw_linux_clock()};
        if (twi_footage_write(&platform, &camera, path, NULL, &err) != TW_OK)
            fail_msg("%s", err.text);
        assert_int_equal(frames_in(folder, "all.mp4", cases[i].codec), 150);
        tw_settings_free(settings);
        free(path);
        remove_folder(folder);
    }
}

static tw_status append_to(void *file, const void *data, size_t bytes, tw_error *err)
{
    (void)err;
    return fwrite(data, 1, bytes, file) == bytes ? TW_OK : TW_EIO;
}

/* Pixels that gather are held as JPEG meanwhile: one clip is made of both. */
static void test_a_clip_of_pixels_and_of_what_was_encoded(void **state)
{
    (void)state;
    enum { FRAMES = 30, EACH = 10 };
    static uint8_t px[240 * 136];
    const twi_codecs *codecs = twi_codecs_load(NULL);
    assert_non_null(codecs);
    for (int encodes = 0; encodes < 2; encodes++) {
        char *folder = make_folder(), *path = join(folder, "both.mp4");
        FILE *file = fopen(path, "wb");
        tw_error err = {0};
        twi_clip_frames frames = {.codecs = codecs,
                                  .encodes = encodes,
                                  .source = {.codec = TW_CODEC_RAW,
                                             .pixels = TW_PIXELS_GREY,
                                             .width = 240,
                                             .height = 136,
                                             .fps_num = 10,
                                             .fps_den = 1}};
        const tw_stream made_of = twi_clip_stream(&frames.source, encodes);
        const twi_clip_spec spec = {.stream = &made_of,
                                    .encode = encodes,
                                    .quality = 60,
                                    .view = {.crop = {0, 0, 1000000, 1000000}},
                                    .sink = {append_to, file}};
        if (codecs->clip_open(&spec, &frames.clip, &err) != TW_OK)
            fail_msg("%s", err.text);
        for (int i = 0; i < FRAMES; i++) {
            const tw_picture picture = {.px = {px},
                                        .stride = {240},
                                        .width = 240,
                                        .height = 136,
                                        .pixels = TW_PIXELS_GREY};
            const tw_packet packet = {
                .t_us = i * 100000, .dts_us = i * 100000, .key = true};
            twi_buffer *buffer = NULL;
            memset(px, 5 * i, sizeof px);
            if (i / EACH == 1)
                assert_int_equal(twi_buffer_jpeg(&picture, 90, &buffer, NULL), TW_OK);
            else
                buffer = twi_buffer_picture(&picture);
            if (twi_clip_frame(&frames, &packet, buffer, &err) != TW_OK)
                fail_msg("%s", err.text);
            twi_buffer_unref(buffer);
        }
        assert_int_equal(codecs->clip_close(frames.clip, &err), TW_OK);
        (void)fclose(file);
        assert_int_equal(frames_in(folder, "both.mp4", encodes ? "h264" : "mjpeg"),
                         FRAMES);
        free(path);
        remove_folder(folder);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_clips_hold_the_same_frames),
        cmocka_unit_test(test_only_what_is_kept_is_encoded),
        cmocka_unit_test(test_footage_is_written_of_pixels),
        cmocka_unit_test(test_a_clip_of_pixels_and_of_what_was_encoded),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
