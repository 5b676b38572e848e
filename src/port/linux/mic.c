/* A microphone of the board, by ALSA. */
#include "mic.h"

#include <alsa/asoundlib.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../../base/thread.h"
#include "../../core/backoff.h"
#include "../../media/codecs.h"
#include "../../media/packets.h"

enum {
    NAME_BYTES = 400,
    RATE = 48000, /* ALSA makes it of what the device has */
    CHANNELS = 1,
    PIECE = 960,         /* samples that are read at once: 20 ms */
    BUFFER_US = 500000,  /* that the device holds for us */
    WAIT_MS = 200,       /* between looks whether it is to end */
    SILENT_US = 3000000, /* a device that gives nothing for so long has gone */
    WAITING_MAX = 256    /* packets that nobody takes; then the newest are lost */
};

struct twi_mic {
    char *device;
    tw_clock clock;
    const twi_codecs *codecs;
    twi_av_sound *sound;
    twi_packets *packets;
    pthread_t thread;
    bool started;
    atomic_bool stop;
    pthread_mutex_t lock;
    /* Under the lock: */
    tw_error news;
    bool any_news;
    /* The thread's own: */
    snd_pcm_t *pcm;
    twi_backoff again;
    bool lost; /* and that is known */
};

/* ---- what is told --------------------------------------------------------------------
 */

static void tell(twi_mic *m, tw_status st, const char *what, const char *why)
{
    (void)pthread_mutex_lock(&m->lock);
    (void)tw_fail(&m->news, st, "microphone %s %s%s", m->device, what, why);
    m->any_news = true;
    (void)pthread_mutex_unlock(&m->lock);
}

static void lost(twi_mic *m, const char *why)
{
    if (m->pcm)
        (void)snd_pcm_close(m->pcm);
    m->pcm = NULL;
    if (!m->lost)
        tell(m, TW_EAGAIN, "gives nothing, pictures go on without sound: ", why);
    m->lost = true;
}

static void found(twi_mic *m)
{
    twi_backoff_reset(&m->again);
    if (m->lost)
        tell(m, TW_OK, "is heard again", "");
    m->lost = false;
}

/* Else the library writes to the standard error of whoever uses us. */
static void quiet(const char *file, int line, const char *function, int code,
                  const char *format, va_list args)
{
    (void)file;
    (void)line;
    (void)function;
    (void)code;
    (void)format;
    (void)args;
}

/* ---- reading -------------------------------------------------------------------------
 */

/* A device of the kernel's by way of the library's conversion: what it has may be another
 * rate, or two channels. */
static const char *converted(const twi_mic *m, char name[NAME_BYTES])
{
    const bool plain = strncmp(m->device, "hw:", 3) == 0;
    (void)snprintf(name, NAME_BYTES, "%s%s", plain ? "plug" : "", m->device);
    return name;
}

static bool open_device(twi_mic *m)
{
    char name[NAME_BYTES];
    int code = snd_pcm_open(&m->pcm, converted(m, name), SND_PCM_STREAM_CAPTURE,
                            SND_PCM_NONBLOCK);
    if (code < 0) {
        m->pcm = NULL;
        lost(m, snd_strerror(code));
        return false;
    }
    code = snd_pcm_set_params(m->pcm, SND_PCM_FORMAT_S16, SND_PCM_ACCESS_RW_INTERLEAVED,
                              CHANNELS, RATE, 1, BUFFER_US);
    if (code >= 0)
        code = snd_pcm_start(m->pcm);
    if (code < 0)
        lost(m, snd_strerror(code));
    return code >= 0;
}

static int64_t now_of(const twi_mic *m)
{
    return m->clock.ops->now_us(m->clock.ctx);
}

static void pass_on(twi_mic *m)
{
    tw_frame frame = {.sound = true};
    while (m->codecs->sound_take(m->sound, &frame.packet, NULL) == TW_OK) {
        frame.packet.wall_us =
            m->clock.ops->wall_us(m->clock.ctx) - (now_of(m) - frame.packet.t_us);
        (void)twi_packets_put(m->packets, &frame, false, NULL);
    }
}

/* When the first of the samples was captured that have just been read: those that the
 * device still holds came after them. */
static int64_t captured_at(twi_mic *m, snd_pcm_sframes_t count)
{
    snd_pcm_sframes_t held = 0;
    if (snd_pcm_delay(m->pcm, &held) < 0 || held < 0)
        held = 0;
    return now_of(m) - (int64_t)(count + held) * 1000000 / RATE;
}

/* @return samples that were read; 0: none now; negative: the library's code. */
static snd_pcm_sframes_t read_piece(twi_mic *m, int16_t *samples)
{
    const int ready = snd_pcm_wait(m->pcm, WAIT_MS);
    snd_pcm_sframes_t n = ready < 0 ? ready : snd_pcm_readi(m->pcm, samples, PIECE);
    if (n == -EAGAIN)
        return 0;
    if (n == -EPIPE || n == -ESTRPIPE || n == -EINTR) { /* we were too slow: a hole */
        n = snd_pcm_recover(m->pcm, (int)n, 1);
        if (n >= 0)
            n = snd_pcm_start(m->pcm);
        return n < 0 ? n : 0;
    }
    return n;
}

/* Until it ends, or the device does. */
static void listen_on(twi_mic *m)
{
    int16_t samples[PIECE * CHANNELS];
    int64_t heard_us = now_of(m);
    while (!atomic_load(&m->stop)) {
        const snd_pcm_sframes_t n = read_piece(m, samples);
        if (n < 0 || (n == 0 && now_of(m) - heard_us > SILENT_US)) {
            lost(m, n < 0 ? snd_strerror((int)n) : "no sound for 3 s");
            return;
        }
        if (n == 0)
            continue;
        heard_us = now_of(m);
        found(m);
        (void)m->codecs->sound_give(m->sound, samples, (size_t)n, captured_at(m, n),
                                    NULL);
        pass_on(m);
    }
}

static void rest(twi_mic *m)
{
    const int64_t until_us = now_of(m) + twi_backoff_next(&m->again);
    while (!atomic_load(&m->stop) && now_of(m) < until_us)
        m->clock.ops->sleep_until(m->clock.ctx, now_of(m) + WAIT_MS * 1000);
}

static void *work(void *ctx)
{
    twi_mic *m = ctx;
    (void)snd_lib_error_set_local(quiet);
    while (!atomic_load(&m->stop)) {
        if (open_device(m))
            listen_on(m);
        if (!atomic_load(&m->stop))
            rest(m);
    }
    if (m->pcm)
        (void)snd_pcm_close(m->pcm);
    return NULL;
}

/* ---- the microphone -------------------------------------------------------------------
 */

tw_status twi_mic_open(const char *device, tw_clock clock, twi_mic **out, tw_sound *sound,
                       tw_error *err)
{
    twi_mic *m = calloc(1, sizeof *m);
    if (!m)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    m->clock = clock;
    (void)pthread_mutex_init(&m->lock, NULL);
    m->device = strdup(device);
    m->packets = twi_packets_new(WAITING_MAX);
    m->codecs = twi_codecs_load(err);
    tw_status st = m->codecs ? TW_OK : TW_ENOTSUP;
    if (st == TW_OK && (!m->device || !m->packets))
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        st = m->codecs->sound_open(RATE, CHANNELS, &m->sound, sound, err);
    if (st == TW_OK && !(m->started = twi_thread_start(&m->thread, work, m)))
        st =
            tw_fail(err, TW_ENOMEM, "cannot start the thread that listens to %s", device);
    if (st == TW_OK)
        *out = m;
    else
        twi_mic_close(m);
    return st;
}

tw_status twi_mic_take(twi_mic *m, tw_frame *frame)
{
    return twi_packets_take(m->packets, 0, frame, NULL);
}

bool twi_mic_news(twi_mic *m, tw_error *out)
{
    (void)pthread_mutex_lock(&m->lock);
    const bool any = m->any_news;
    if (any)
        *out = m->news;
    m->any_news = false;
    (void)pthread_mutex_unlock(&m->lock);
    return any;
}

void twi_mic_close(twi_mic *m)
{
    if (!m)
        return;
    atomic_store(&m->stop, true);
    if (m->started)
        (void)pthread_join(m->thread, NULL);
    if (m->sound)
        m->codecs->sound_close(m->sound);
    twi_packets_free(m->packets);
    (void)pthread_mutex_destroy(&m->lock);
    free(m->device);
    free(m);
}
