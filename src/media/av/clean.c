/* Pictures as the encoder meant them, where the detector is served by a decoder that
 * leaves the loop filter out.
 *
 * Without the filter a big picture is decoded a fifth quicker, and its reduced brightness
 * is as good; but blocks show in a still. So the packets since the key frame are held, by
 * reference, and a second decoder runs through them when a still is wanted. It stays at
 * hand while stills are wanted one after the other. */
#include "av.h"

enum { HELD_MAX = 1024, HELD_BYTES_MAX = 16 << 20 };

struct twi_av_clean {
    AVCodecParameters *parameters;
    AVCodecContext *context; /* NULL: no still was wanted of late */
    AVPacket *held[HELD_MAX];
    size_t count, bytes;
    size_t fed;   /* of those held, how many the second decoder has had */
    bool broken;  /* too much came since the key frame: nothing is held until the next */
    bool ended;   /* no more will come: what decoders keep back is wanted too */
    bool asked;   /* for a still since the last key frame */
    AVFrame *got; /* decoded last; empty if there is none */
};

tw_status twi_av_clean_new(const tw_stream *stream, twi_av_clean **out, tw_error *err)
{
    twi_av_clean *clean = av_mallocz(sizeof *clean);
    if (!clean)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    clean->got = av_frame_alloc();
    clean->broken = true; /* until the first key frame */
    const tw_status st = clean->got ? twi_av_parameters(stream, &clean->parameters, err)
                                    : tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        *out = clean;
    else
        twi_av_clean_free(clean);
    return st;
}

/* Let go of the oldest packets. A decoder that has not had all of them starts anew. */
static void let_go(twi_av_clean *clean, size_t oldest)
{
    for (size_t i = 0; i < oldest; i++) {
        clean->bytes -= (size_t)clean->held[i]->size;
        av_packet_free(&clean->held[i]);
    }
    memmove(clean->held, clean->held + oldest,
            (clean->count - oldest) * sizeof *clean->held);
    clean->count -= oldest;
    if (clean->fed >= oldest) {
        clean->fed -= oldest;
        return;
    }
    clean->fed = 0;
    if (clean->context)
        avcodec_flush_buffers(clean->context);
}

void twi_av_clean_free(twi_av_clean *clean)
{
    if (!clean)
        return;
    let_go(clean, clean->count);
    av_frame_free(&clean->got);
    avcodec_free_context(&clean->context);
    avcodec_parameters_free(&clean->parameters);
    av_free(clean);
}

void twi_av_clean_hold(twi_av_clean *clean, const AVPacket *packet)
{
    clean->ended = packet == NULL;
    const bool key = packet && packet->flags & AV_PKT_FLAG_KEY;
    if (!packet || (clean->broken && !key))
        return;
    clean->broken = false;
    if (clean->count == HELD_MAX ||
        clean->bytes + (size_t)packet->size > HELD_BYTES_MAX ||
        !(clean->held[clean->count] = av_packet_clone(packet))) {
        let_go(clean, clean->count);
        clean->broken = true;
        return;
    }
    clean->count++;
    clean->bytes += (size_t)packet->size;
}

void twi_av_clean_reached(twi_av_clean *clean, int64_t t_us)
{
    size_t start = 0;
    for (size_t i = 1; i < clean->count; i++)
        if ((clean->held[i]->flags & AV_PKT_FLAG_KEY) && clean->held[i]->pts <= t_us)
            start = i;
    if (start == 0)
        return;
    let_go(clean, start);
    if (!clean->asked)
        avcodec_free_context(&clean->context);
    clean->asked = false;
}

/* Take what the second decoder has ready, up to the picture that is wanted. */
static bool take_ready(twi_av_clean *clean, int64_t t_us)
{
    for (int i = 0; i < HELD_MAX; i++) {
        if (avcodec_receive_frame(clean->context, clean->got) < 0)
            return false;
        if (clean->got->best_effort_timestamp == t_us)
            return true;
    }
    return false;
}

static bool start(twi_av_clean *clean)
{
    clean->fed = 0;
    if (clean->context)
        avcodec_flush_buffers(clean->context);
    else
        (void)twi_av_open(clean->parameters, &clean->context, NULL);
    return clean->context != NULL;
}

const AVFrame *twi_av_clean_find(twi_av_clean *clean, int64_t t_us)
{
    clean->asked = true;
    const bool have = clean->got->data[0] != NULL;
    if (have && clean->got->best_effort_timestamp == t_us)
        return clean->got;
    const bool gone_by = have && clean->got->best_effort_timestamp > t_us;
    if ((!clean->context || gone_by) && !start(clean))
        return NULL;
    bool found = take_ready(clean, t_us);
    while (!found && clean->fed < clean->count) {
        if (avcodec_send_packet(clean->context, clean->held[clean->fed++]) == 0)
            found = take_ready(clean, t_us);
    }
    if (!found && clean->ended) {
        (void)avcodec_send_packet(clean->context, NULL);
        found = take_ready(clean, t_us);
    }
    return found ? clean->got : NULL;
}
