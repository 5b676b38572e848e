/* Sound: samples that become packets, packets that go into clips, and clocks that do not
 * agree. What it sounds like is told by decoding it again. */
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "../../src/media/codecs.h"
#include "../support/support.h"

enum { RATE = 48000, TONE = 1000, CHUNK = 480 };

#define PI 3.14159265358979323846

static const twi_codecs *codecs(void)
{
    tw_error err = {0};
    const twi_codecs *c = twi_codecs_load(&err);
    if (!c)
        fail_msg("%s", err.text);
    return c;
}

/* What comes out of an encoder, in numbers. */
typedef struct packed {
    size_t packets, bytes;
    int64_t first_us, last_us, most_step_us, least_step_us;
} packed;

static void take_all(twi_av_sound *s, packed *p)
{
    tw_packet packet;
    while (codecs()->sound_take(s, &packet, NULL) == TW_OK) {
        const int64_t step_us = packet.t_us - p->last_us;
        if (p->packets == 0)
            p->first_us = packet.t_us;
        else if (step_us > p->most_step_us)
            p->most_step_us = step_us;
        if (p->packets > 0 && (p->least_step_us == 0 || step_us < p->least_step_us))
            p->least_step_us = step_us;
        p->last_us = packet.t_us;
        p->packets++;
        p->bytes += packet.size;
        assert_true(packet.key && packet.size > 0);
    }
}

static void tone(int16_t *samples, int64_t from, double rate)
{
    for (int i = 0; i < CHUNK; i++)
        samples[i] = (int16_t)(8000 * sin(2 * PI * TONE * (double)(from + i) / rate));
}

/* Seconds of a tone by a clock that is so much faster than ours, told at times of ours
 * that jitter by some milliseconds. */
static packed play(double seconds, double ppm, int64_t *end_us)
{
    twi_av_sound *s = NULL;
    tw_sound what;
    packed p = {0};
    int16_t samples[CHUNK];
    const double real = RATE * (1 + ppm / 1e6);
    assert_int_equal(codecs()->sound_open(RATE, 1, &s, &what, NULL), TW_OK);
    assert_int_equal(what.codec, TW_SOUND_AAC);
    assert_int_equal(what.rate, RATE);
    assert_int_equal(what.channels, 1);
    assert_true(what.extra_size >= 2);
    const int64_t count = (int64_t)(seconds * real / CHUNK);
    for (int64_t i = 0; i < count; i++) {
        const int64_t t_us = 5000000 + (int64_t)((double)(i * CHUNK) / real * 1e6);
        tone(samples, i * CHUNK, real);
        assert_int_equal(codecs()->sound_give(s, samples, CHUNK,
                                              t_us + (i * 7919 % 7 - 3) * 700, NULL),
                         TW_OK);
        take_all(s, &p);
        *end_us = t_us + CHUNK * 1000000 / RATE;
    }
    codecs()->sound_close(s);
    return p;
}

/* An hour by a clock that runs 200 ppm fast ends within 40 ms of ours; it would be 720.
 * Ten minutes usually, which would be 120; TAWNY_SECONDS makes it longer. */
static void test_two_clocks_stay_together(void **state)
{
    (void)state;
    static const double clocks[] = {0, 200, -200, 1000};
    const char *longer = getenv("TAWNY_SECONDS");
    int64_t usual_us = 0;
    for (size_t i = 0; i < sizeof clocks / sizeof *clocks; i++) {
        int64_t end_us = 0;
        const packed p =
            play(clocks[i] == 200 ? (longer ? strtod(longer, NULL) : 600) : 60, clocks[i],
                 &end_us);
        const int64_t length_us = 1024 * INT64_C(1000000) / RATE;
        /* the encoder holds some frames back; what it has given is where it belongs */
        const int64_t behind_us = end_us - (p.last_us + length_us);
        print_message("%g ppm: %zu packets, %lld us behind\n", clocks[i], p.packets,
                      (long long)behind_us);
        assert_true(behind_us > 0 && behind_us < 3 * length_us);
        if (i == 0)
            usual_us = behind_us; /* what the encoder holds back */
        assert_true(behind_us - usual_us > -40000 && behind_us - usual_us < 40000);
        assert_true(p.least_step_us >= length_us && p.most_step_us <= length_us + 1);
        /* the encoder begins with a frame of its own */
        assert_true(p.first_us > 5000000 - length_us - 10000 && p.first_us <= 5010000);
    }
}

/* What was lost on the way is silence; what comes much later begins anew. */
static void test_holes(void **state)
{
    (void)state;
    twi_av_sound *s = NULL;
    tw_sound what;
    packed p = {0};
    int16_t samples[CHUNK];
    int64_t t_us = 0;
    tone(samples, 0, RATE);
    assert_int_equal(codecs()->sound_open(RATE, 1, &s, &what, NULL), TW_OK);
    for (int i = 0; i < 300; i++, t_us += 10000) {
        if (i == 100)
            t_us += 2000000; /* between them: nothing for two seconds */
        if (i == 200)
            t_us += 60000000;
        assert_int_equal(codecs()->sound_give(s, samples, CHUNK, t_us, NULL), TW_OK);
        take_all(s, &p);
    }
    codecs()->sound_close(s);
    const double made_s = (double)p.packets * 1024 / RATE;
    assert_true(made_s > 4.8 && made_s < 5.1); /* three seconds, and two of silence */
    assert_true(p.most_step_us > 59000000 && p.most_step_us < 61000000);
    assert_true(p.last_us > t_us - 200000 && p.last_us < t_us);
}

static void test_what_is_no_sound(void **state)
{
    (void)state;
    twi_av_sound *s = NULL;
    tw_sound what;
    tw_error err = {0};
    static const struct {
        uint32_t rate;
        uint8_t channels;
    } wrong[] = {{0, 1}, {999, 1}, {192001, 1}, {48000, 0}, {48000, 3}};
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++)
        assert_int_equal(
            codecs()->sound_open(wrong[i].rate, wrong[i].channels, &s, &what, &err),
            TW_EINVAL);
    assert_int_equal(codecs()->sound_open(15999, 2, &s, &what, &err), TW_OK);
    assert_int_equal(what.rate, 48000); /* the encoder does not know that one */
    assert_int_equal(what.channels, 2);
    assert_int_equal(codecs()->sound_give(s, (int16_t[2]){0, 0}, 0, 0, &err), TW_OK);
    tw_packet packet;
    assert_int_equal(codecs()->sound_take(s, &packet, &err), TW_EAGAIN);
    codecs()->sound_close(s);
    assert_int_equal(codecs()->sound_open(8000, 1, &s, &what, &err), TW_OK);
    assert_int_equal(what.rate,
                     16000); /* else a packet lasts for an eighth of a second */
    codecs()->sound_close(s);
    codecs()->sound_close(NULL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_two_clocks_stay_together),
        cmocka_unit_test(test_holes),
        cmocka_unit_test(test_what_is_no_sound),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
