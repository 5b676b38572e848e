/* Footage with its quiet beginning shown several times over first. A clip begins some
 * seconds before its sighting; a detector that begins with it knows the place less well
 * than the one that was there for days. */
#include "prime.h"

#include <stdlib.h>
#include <string.h>

#include "common.h"

enum { PACKETS_MOST = 1000, BYTES_MOST = 128 * 1000 * 1000 };
#define KNOWN_US INT64_C(12000000) /* so long the place is shown, at least */
#define SCHEME "prime:"

typedef struct primed {
    tw_camera inner;
    int64_t want_us; /* length of the beginning */
    GPtrArray *data; /* GBytes of its packets */
    GArray *packets; /* tw_packet */
    gsize bytes;
    guint next, rounds; /* in packets; rounds before the one that is its own */
    guint round;        /* that is given now */
    gboolean begun;
    gboolean pending; /* the frame after the beginning has been read */
    tw_frame after;
    uint8_t *after_data;
} primed;

static tw_status open_primed(void *ctx, tw_stream *stream, tw_error *err)
{
    primed *p = ctx;
    return p->inner.ops->open(p->inner.ctx, stream, err);
}

static void keep(primed *p, const tw_frame *f)
{
    g_ptr_array_add(p->data, g_bytes_new(f->packet.data, f->packet.size));
    g_array_append_val(p->packets, f->packet);
    p->bytes += f->packet.size;
}

static int64_t since_first(const primed *p, const tw_frame *f)
{
    return f->packet.t_us - g_array_index(p->packets, tw_packet, 0).t_us;
}

/* What is borrowed until the next call is kept, as it is to be given after the rounds. */
static void put_off(primed *p, const tw_frame *f)
{
    p->after = *f;
    p->after_data = g_memdup2(f->packet.data, f->packet.size);
    p->after.packet.data = p->after_data;
    p->pending = TRUE;
}

/* Read the beginning. Footage without packets is not kept: it is shown once. */
static tw_status begin(primed *p, tw_error *err)
{
    tw_status st = TW_OK;
    tw_frame f;
    p->begun = TRUE;
    while (st == TW_OK && !p->pending) {
        st = p->inner.ops->next(p->inner.ctx, &f, err);
        if (st == TW_EAGAIN || st == TW_EDAMAGED) {
            st = TW_OK;
            continue;
        }
        if (st != TW_OK)
            break;
        if (!f.packet.data || p->packets->len >= PACKETS_MOST || p->bytes >= BYTES_MOST ||
            (p->packets->len > 0 && since_first(p, &f) >= p->want_us))
            put_off(p, &f);
        else
            keep(p, &f);
    }
    if (p->packets->len > 0)
        p->rounds = (guint)(cli_prime_lead(p->want_us) / p->want_us);
    return st == TW_EEND && p->packets->len > 0 ? TW_OK : st;
}

static void shift(tw_packet *packet, int64_t by_us)
{
    packet->t_us += by_us;
    packet->dts_us += by_us;
    packet->wall_us += by_us;
}

/* One of the beginning, once more. */
static void give_kept(primed *p, tw_frame *out)
{
    *out = (tw_frame){.packet = g_array_index(p->packets, tw_packet, p->next)};
    out->packet.data = g_bytes_get_data(g_ptr_array_index(p->data, p->next), NULL);
    shift(&out->packet, (int64_t)p->round * p->want_us);
    if (++p->next >= p->packets->len && p->round < p->rounds) {
        p->round++;
        p->next = 0;
    }
}

static tw_status next_primed(void *ctx, tw_frame *frame, tw_error *err)
{
    primed *p = ctx;
    tw_status st = p->begun ? TW_OK : begin(p, err);
    if (st != TW_OK)
        return st;
    if (p->next < p->packets->len) {
        give_kept(p, frame);
        return TW_OK;
    }
    if (p->pending)
        *frame = p->after;
    else
        st = p->inner.ops->next(p->inner.ctx, frame, err);
    p->pending = FALSE;
    if (st == TW_OK)
        shift(&frame->packet, (int64_t)p->rounds * p->want_us);
    return st;
}

static void close_primed(void *ctx)
{
    primed *p = ctx;
    p->inner.ops->close(p->inner.ctx);
}

static void destroy_primed(void *ctx)
{
    primed *p = ctx;
    p->inner.ops->destroy(p->inner.ctx);
    g_ptr_array_unref(p->data);
    (void)g_array_free(p->packets, TRUE);
    g_free(p->after_data);
    g_free(p);
}

int64_t cli_prime_lead(int64_t beginning_us)
{
    return ((KNOWN_US - 1) / beginning_us + 1) * beginning_us;
}

char *cli_prime_source(const char *source, int64_t beginning_us)
{
    return g_strdup_printf(SCHEME "%lld:%s", (long long)beginning_us, source);
}

tw_status cli_prime_make(const tw_camera_request *request, tw_camera *out, tw_error *err)
{
    static const tw_camera_ops ops = {sizeof ops,     "primed",    TW_RECORDED,
                                      open_primed,    next_primed, close_primed,
                                      destroy_primed, NULL};
    const tw_platform platform = cli_platform();
    tw_camera_request inner = *request;
    char *end = NULL;
    if (strncmp(request->source, SCHEME, strlen(SCHEME)) != 0)
        return TW_ENOTSUP;
    const int64_t want_us = strtoll(request->source + strlen(SCHEME), &end, 10);
    if (want_us <= 0)
        return tw_fail(err, TW_EINVAL, "%s: no length", request->source);
    inner.source = end + (*end == ':');
    primed *p = g_new0(primed, 1);
    const tw_status st = tw_camera_make(platform.makers, &inner, &p->inner, err);
    if (st != TW_OK) {
        g_free(p);
        return st;
    }
    p->want_us = want_us;
    p->data = g_ptr_array_new_with_free_func((GDestroyNotify)g_bytes_unref);
    p->packets = g_array_new(FALSE, FALSE, sizeof(tw_packet));
    *out = (tw_camera){&ops, p};
    return TW_OK;
}
