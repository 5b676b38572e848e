/* A microphone, against a stand-in for the calls of ALSA's library: a device whose clock
 * is its own, that is not there, goes, falls silent, and was not read in time. */
#include <alsa/asoundlib.h>
#include <errno.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"
#include "../../src/port/linux/mic.h"

enum { RATE = 48000, FRAME = 1024 };

/* The device. Its samples come by the quick clock, a little faster or slower. */
static struct {
    double ppm;
    atomic_int refuse; /* openings that fail yet */
    atomic_int late;   /* readings that were too late yet */
    atomic_bool gone, silent;
    atomic_int opened, recovered;
    int64_t begun_us;
    int64_t taken; /* samples */
} device;

static int64_t now(void)
{
    const tw_clock clock = quick_clock();
    return clock.ops->now_us(clock.ctx);
}

static int64_t there(void)
{
    const double passed_s = (double)(now() - device.begun_us) / 1e6;
    return (int64_t)(passed_s * RATE * (1 + device.ppm / 1e6)) - device.taken;
}

int __wrap_snd_pcm_open(snd_pcm_t **pcm, const char *name, snd_pcm_stream_t stream,
                        int mode);
int __wrap_snd_pcm_set_params(snd_pcm_t *pcm, snd_pcm_format_t format,
                              snd_pcm_access_t access, unsigned channels, unsigned rate,
                              int soft, unsigned latency);
int __wrap_snd_pcm_start(snd_pcm_t *pcm);
int __wrap_snd_pcm_wait(snd_pcm_t *pcm, int timeout);
snd_pcm_sframes_t __wrap_snd_pcm_readi(snd_pcm_t *pcm, void *buffer,
                                       snd_pcm_uframes_t size);
int __wrap_snd_pcm_delay(snd_pcm_t *pcm, snd_pcm_sframes_t *delay);
int __wrap_snd_pcm_recover(snd_pcm_t *pcm, int err, int silent);
int __wrap_snd_pcm_close(snd_pcm_t *pcm);

int __wrap_snd_pcm_open(snd_pcm_t **pcm, const char *name, snd_pcm_stream_t stream,
                        int mode)
{
    assert_string_equal(name, "plughw:1");
    assert_int_equal(stream, SND_PCM_STREAM_CAPTURE);
    (void)mode;
    if (atomic_load(&device.refuse) > 0 || atomic_load(&device.gone)) {
        (void)atomic_fetch_sub(&device.refuse, 1);
        return -ENOENT;
    }
    (void)atomic_fetch_add(&device.opened, 1);
    *pcm = (snd_pcm_t *)&device;
    return 0;
}

int __wrap_snd_pcm_set_params(snd_pcm_t *pcm, snd_pcm_format_t format,
                              snd_pcm_access_t access, unsigned channels, unsigned rate,
                              int soft, unsigned latency)
{
    assert_ptr_equal(pcm, &device);
    assert_int_equal(format, SND_PCM_FORMAT_S16);
    assert_int_equal(access, SND_PCM_ACCESS_RW_INTERLEAVED);
    assert_int_equal(channels, 1);
    assert_int_equal(rate, RATE);
    assert_true(soft == 1 && latency > 100000);
    return 0;
}

int __wrap_snd_pcm_start(snd_pcm_t *pcm)
{
    (void)pcm;
    device.begun_us = now();
    device.taken = 0;
    return 0;
}

int __wrap_snd_pcm_wait(snd_pcm_t *pcm, int timeout)
{
    (void)pcm;
    const int64_t until_us = now() + timeout * INT64_C(1000);
    while ((atomic_load(&device.silent) || there() < 480) && !atomic_load(&device.gone) &&
           now() < until_us)
        (void)usleep(200);
    return now() < until_us;
}

snd_pcm_sframes_t __wrap_snd_pcm_readi(snd_pcm_t *pcm, void *buffer,
                                       snd_pcm_uframes_t size)
{
    (void)pcm;
    const int64_t ready = there();
    if (atomic_load(&device.gone))
        return -ENODEV;
    if (atomic_load(&device.late) > 0) {
        (void)atomic_fetch_sub(&device.late, 1);
        return -EPIPE;
    }
    if (atomic_load(&device.silent) || ready <= 0)
        return -EAGAIN;
    const int64_t n = ready < (int64_t)size ? ready : (int64_t)size;
    memset(buffer, 0, (size_t)n * sizeof(int16_t));
    device.taken += n;
    return n;
}

int __wrap_snd_pcm_delay(snd_pcm_t *pcm, snd_pcm_sframes_t *delay)
{
    (void)pcm;
    *delay = there();
    return 0;
}

int __wrap_snd_pcm_recover(snd_pcm_t *pcm, int err, int silent)
{
    (void)pcm;
    (void)silent;
    assert_int_equal(err, -EPIPE);
    (void)atomic_fetch_add(&device.recovered, 1);
    return 0;
}

int __wrap_snd_pcm_close(snd_pcm_t *pcm)
{
    assert_ptr_equal(pcm, &device);
    return 0;
}

/* ---- listening
 * -------------------------------------------------------------------------- */

/* Until it is so, six seconds at most. */
#define WAIT_A_WHILE(so)                                                                 \
    do {                                                                                 \
        for (int i = 0; i < 6000 && !(so); i++)                                          \
            (void)usleep(1000);                                                          \
        assert_true(so);                                                                 \
    } while (0)

static twi_mic *begin(double ppm, int refuse)
{
    twi_mic *mic = NULL;
    tw_sound sound;
    tw_error err = {0};
    device.ppm = ppm;
    atomic_store(&device.refuse, refuse);
    atomic_store(&device.late, 0);
    atomic_store(&device.gone, false);
    atomic_store(&device.silent, false);
    atomic_store(&device.opened, 0);
    atomic_store(&device.recovered, 0);
    if (twi_mic_open("hw:1", quick_clock(), &mic, &sound, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(sound.codec, TW_SOUND_AAC);
    assert_int_equal(sound.rate, RATE);
    assert_int_equal(sound.channels, 1);
    return mic;
}

/* Take packets for so long. @return how many; the last one's time is set. */
static int take_for(twi_mic *mic, double seconds, int64_t *last_us)
{
    const int64_t until_us = now() + (int64_t)(seconds * 1e6);
    int count = 0;
    tw_frame frame;
    while (now() < until_us) {
        if (twi_mic_take(mic, &frame) != TW_OK) {
            (void)usleep(500);
            continue;
        }
        assert_true(frame.sound && !frame.said && frame.packet.size > 0);
        assert_true(frame.packet.t_us > *last_us && frame.packet.t_us < now());
        *last_us = frame.packet.t_us;
        count++;
    }
    return count;
}

/* Wait for so many packets, two minutes at most: a busy machine may take its time.
 * @return whether they came. */
static bool come(twi_mic *mic, int count, int64_t *last_us)
{
    const int64_t until_us = now() + 120000000;
    while (count > 0 && now() < until_us)
        count -= take_for(mic, 0.2, last_us);
    return count <= 0;
}

/* @return what is news, waited for; NULL: nothing for a minute. */
static const char *news_of(twi_mic *mic, tw_status *st)
{
    static tw_error said;
    const int64_t until_us = now() + 60000000;
    while (now() < until_us) {
        if (twi_mic_news(mic, &said)) {
            *st = said.status;
            return said.text;
        }
        (void)usleep(1000);
    }
    return NULL;
}

/* Its clock runs 500 ppm fast or slow: a minute later that would be 30 ms; what is given
 * stays with our clock, but for what the encoder holds back. */
static void test_it_keeps_our_time(void **state)
{
    (void)state;
    static const double clocks[] = {0, 500, -500};
    tw_error said;
    for (size_t i = 0; i < sizeof clocks / sizeof *clocks; i++) {
        int64_t last_us = 0;
        twi_mic *mic = begin(clocks[i], 0);
        const int count = take_for(mic, 60, &last_us);
        const int64_t behind_us = now() - last_us;
        print_message("%g ppm: %d packets, the last %lld ms ago\n", clocks[i], count,
                      (long long)behind_us / 1000);
        assert_in_range(count, 50 * RATE / FRAME, 60 * RATE / FRAME + 5);
        assert_true(behind_us < 3000000); /* a busy machine is late, and loses nothing */
        assert_false(twi_mic_news(mic, &said)); /* all is well: nothing is told */
        twi_mic_close(mic);
    }
}

static void test_one_that_is_not_there_yet(void **state)
{
    (void)state;
    tw_status st = TW_OK;
    int64_t last_us = 0;
    twi_mic *mic = begin(0, INT32_MAX); /* until it was told: the newest is kept alone */
    assert_string_equal(news_of(mic, &st),
                        "microphone hw:1 gives nothing, pictures go on without "
                        "sound: No such file or directory");
    assert_int_equal(st, TW_EAGAIN);
    atomic_store(&device.refuse, 0);
    assert_string_equal(news_of(mic, &st),
                        "microphone hw:1 is heard again"); /* told once */
    assert_int_equal(st, TW_OK);
    assert_true(come(mic, 50, &last_us));
    twi_mic_close(mic);
}

static void test_one_that_vanishes_and_comes_back(void **state)
{
    (void)state;
    tw_status st = TW_OK;
    int64_t last_us = 0;
    twi_mic *mic = begin(0, 0);
    assert_true(come(mic, 50, &last_us));
    atomic_store(&device.gone, true);
    assert_has(news_of(mic, &st),
               "gives nothing, pictures go on without sound: No such device");
    (void)take_for(mic, 5, &last_us); /* what was under way */
    assert_int_equal(take_for(mic, 5, &last_us), 0);
    atomic_store(&device.gone, false);
    assert_has(news_of(mic, &st), "is heard again");
    assert_true(come(mic, 50, &last_us));
    assert_true(atomic_load(&device.opened) >= 2);
    twi_mic_close(mic);
}

static void test_one_that_falls_silent(void **state)
{
    (void)state;
    tw_status st = TW_OK;
    int64_t last_us = 0;
    twi_mic *mic = begin(0, 0);
    assert_true(come(mic, 30, &last_us));
    atomic_store(&device.silent, true);
    assert_has(news_of(mic, &st), "no sound for 3 s");
    atomic_store(&device.silent, false);
    assert_has(news_of(mic, &st), "is heard again");
    twi_mic_close(mic);
}

/* What was not read in time is a hole, and no matter of anybody's. */
static void test_one_that_was_read_too_late(void **state)
{
    (void)state;
    tw_error said;
    int64_t last_us = 0;
    twi_mic *mic = begin(0, 0);
    assert_true(come(mic, 50, &last_us));
    atomic_store(&device.late, 2);
    assert_true(come(mic, 50, &last_us));
    WAIT_A_WHILE(atomic_load(&device.recovered) == 2);
    assert_int_equal(atomic_load(&device.opened), 1);
    assert_false(twi_mic_news(mic, &said));
    twi_mic_close(mic);
}

/* A camera with it gives both, in turn; what it says of itself comes as a frame. */
static void test_a_camera_that_hears(void **state)
{
    (void)state;
    char *folder = make_folder(), source[256];
    tw_camera camera;
    tw_stream stream;
    tw_frame frame;
    int pictures = 0, sounds = 0, said = 0;
    assert_true(write_pictures(folder, "sim:kerb,size=160x90", 10, 60) == 60);
    (void)snprintf(source, sizeof source, "file:%s", folder);
    twi_mic *other = begin(0, 1); /* it is refused once */
    twi_mic_close(other);
    atomic_store(&device.refuse, 1);
    const tw_camera_request request = {.size = sizeof request,
                                       .name = "kerb",
                                       .source = source,
                                       .fps = 10,
                                       .pace = true,
                                       .clock = quick_clock(),
                                       .sound = "alsa:hw:1"};
    assert_int_equal(tw_linux_camera_make(&request, &camera, NULL), TW_OK);
    assert_int_equal(camera.ops->open(camera.ctx, &stream, NULL), TW_OK);
    assert_int_equal(stream.sound.codec, TW_SOUND_AAC);
    for (tw_status st = TW_OK; st == TW_OK || st == TW_EAGAIN;) {
        st = camera.ops->next(camera.ctx, &frame, NULL);
        said += st == TW_OK && frame.said != NULL;
        sounds += st == TW_OK && frame.sound && !frame.said;
        pictures += st == TW_OK && !frame.sound;
    }
    print_message("%d pictures, %d packets of sound, said %d\n", pictures, sounds, said);
    assert_int_equal(pictures, 60);
    assert_in_range(said, 1, 2); /* the newest of it */
    assert_true(sounds > 100);
    camera.ops->destroy(camera.ctx);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_it_keeps_our_time),
        cmocka_unit_test(test_one_that_is_not_there_yet),
        cmocka_unit_test(test_one_that_vanishes_and_comes_back),
        cmocka_unit_test(test_one_that_falls_silent),
        cmocka_unit_test(test_one_that_was_read_too_late),
        cmocka_unit_test(test_a_camera_that_hears),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
