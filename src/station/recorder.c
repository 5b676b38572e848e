/* One camera's recorder. The ring holds the pre-event footage, and what a slow card has
 * not taken yet; it grows as far as pre_event_memory allows, and only as it must. */
#include "recorder.h"

#include <stdlib.h>
#include <string.h>

enum {
    PLANS_MAX = 8, /* clips begun or waiting to begin */
    US = 1000000,
    MARGIN_US = US / 5, /* kept beside what can be wanted */
    STEP_USUAL_US = US / 10,
    FIRST_BYTES = 256 * 1024,
    GROW_BYTES = 512 * 1024, /* at least, so that growing is rare */
    FIRST_SLOTS = 64
};

typedef struct plan {
    tw_sighting sighting;
    int64_t stop_us; /* the clip holds packets decoded before this; set once ended */
    bool ended;
    bool begun;    /* its first job is given */
    uint64_t next; /* sequence number of the next packet to give */
} plan;

struct tw_recorder {
    tw_lane *lane;
    tw_stream stream;
    uint8_t *extra;
    tw_job_sink sink;
    void *memory; /* of the ring */
    tw_ring *ring;
    size_t bytes; /* packets that the ring has room for */
    uint32_t slots;
    size_t largest; /* packet so far */
    plan plans[PLANS_MAX];
    size_t plan_count;
    uint64_t given; /* one more than the newest packet that is in a clip */
    int64_t newest_us;
    int64_t hold_us;        /* see tw_recorder_hold */
    int64_t wall_offset_us; /* wall time less capture time, of the newest packet */
    uint64_t lost;
};

/* ---- the ring -------------------------------------------------------------------- */

/* A ring of another size with the same packets; their numbers begin anew. */
static tw_status resize(tw_recorder *r, size_t bytes, uint32_t slots)
{
    tw_ring *ring = NULL;
    const size_t need = tw_ring_bytes(slots, bytes);
    void *memory = malloc(need);
    if (!memory || tw_ring_init(memory, need, slots, &ring) != TW_OK) {
        free(memory);
        return TW_ENOMEM;
    }
    const uint64_t first = tw_ring_first(r->ring), end = tw_ring_end(r->ring);
    for (uint64_t i = first; i != end; i++) {
        tw_packet packet;
        if (tw_ring_get(r->ring, i, &packet) == TW_OK)
            (void)tw_ring_push(ring, &packet);
    }
    for (size_t i = 0; i < r->plan_count; i++)
        r->plans[i].next = r->plans[i].next > first ? r->plans[i].next - first : 0;
    r->given = r->given > first ? r->given - first : 0;
    free(r->memory);
    r->memory = memory;
    r->ring = ring;
    r->bytes = bytes;
    r->slots = slots;
    return TW_OK;
}

/* Make room for a packet without losing what is still wanted, as far as that is allowed.
 */
static void grow_for(tw_recorder *r, size_t packet)
{
    const size_t most = (size_t)r->lane->camera->pre_bytes;
    if (packet > r->largest)
        r->largest = packet;
    size_t bytes = r->bytes;
    uint32_t slots = r->slots;
    /* Up to the largest packet is unused where the ring wraps. */
    const size_t need = tw_ring_held(r->ring) + packet + r->largest;
    if (need > bytes && bytes < most) {
        const size_t step = bytes / 32 > GROW_BYTES ? bytes / 32 : GROW_BYTES;
        bytes = need + step > most ? most : need + step;
    }
    if (tw_ring_end(r->ring) - tw_ring_first(r->ring) == slots)
        slots *= 2;
    if (bytes != r->bytes || slots != r->slots)
        (void)resize(r, bytes, slots); /* else the oldest packets have to go */
}

/* How far back from now a clip may begin: a sighting is confirmed some frames after its
 * first one, from which the pre-event time counts. */
static int64_t reach_us(const tw_recorder *r)
{
    const tw_stream *s = &r->stream;
    const int64_t step =
        s->fps_num > 0 ? INT64_C(1000000) * s->fps_den / s->fps_num : STEP_USUAL_US;
    return r->lane->camera->pre_us + (r->lane->camera->confirm.n + 1) * step + MARGIN_US;
}

/* Forget what no clip can need any more. */
static void trim(tw_recorder *r)
{
    const int64_t from_us = r->hold_us < r->newest_us ? r->hold_us : r->newest_us;
    int64_t keep_us = from_us - reach_us(r);
    for (size_t i = 0; i < r->plan_count; i++) {
        tw_packet packet;
        if (tw_ring_get(r->ring, r->plans[i].next, &packet) == TW_OK &&
            packet.t_us < keep_us)
            keep_us = packet.t_us;
    }
    tw_ring_trim(r->ring, keep_us);
}

/* ---- plans ----------------------------------------------------------------------- */

/* What has been pushed out of the ring before it could be given is lost. */
static void skip_lost(tw_recorder *r, plan *p)
{
    const uint64_t first = tw_ring_first(r->ring);
    if (p->next >= first)
        return;
    r->lost += first - p->next;
    p->next = first;
}

/* @return false: the sink is full. The job's data is the caller's then. */
static bool give(const tw_recorder *r, tw_job *job, bool wait)
{
    job->lane = r->lane;
    job->wall_offset_us = r->wall_offset_us;
    return r->sink.give(r->sink.ctx, job, wait);
}

static bool give_begin(tw_recorder *r, plan *p, bool wait)
{
    tw_packet first;
    skip_lost(r, p);
    /* What an earlier clip holds is not stored again, where a clip can begin after it. */
    if (p->next < r->given &&
        (tw_ring_get(r->ring, r->given, &first) != TW_OK || first.key))
        p->next = r->given;
    if (tw_ring_get(r->ring, p->next, &first) != TW_OK)
        return false;
    tw_job job = {
        .kind = TW_JOB_CLIP_BEGIN, .sighting = p->sighting, .stream = r->stream};
    if (tw_job_copy(&job, r->extra, r->stream.extra_size) != TW_OK)
        return false;
    job.packet.t_us = first.t_us;
    job.packet.dts_us = first.dts_us;
    job.packet.wall_us = first.wall_us;
    if (!give(r, &job, wait)) {
        free((void *)job.packet.data);
        return false;
    }
    p->begun = true;
    return true;
}

static bool give_packet(tw_recorder *r, const plan *p, const tw_packet *packet, bool wait)
{
    tw_job job = {.kind = TW_JOB_CLIP_PACKET, .sighting = p->sighting, .packet = *packet};
    if (tw_job_copy(&job, packet->data, packet->size) != TW_OK)
        return false;
    if (give(r, &job, wait))
        return true;
    free((void *)job.packet.data);
    return false;
}

/* @return false: the sink is full. */
static bool give_packets(tw_recorder *r, plan *p, bool wait, bool *passed_end)
{
    const uint64_t end = tw_ring_end(r->ring);
    skip_lost(r, p);
    for (; p->next < end; p->next++) {
        tw_packet packet;
        if (tw_ring_get(r->ring, p->next, &packet) != TW_OK)
            return true;
        if (p->ended && packet.dts_us >= p->stop_us) {
            *passed_end = true;
            return true;
        }
        if (!give_packet(r, p, &packet, wait))
            return false;
        r->given = p->next + 1;
    }
    return true;
}

static bool give_end(tw_recorder *r, const plan *p, bool wait)
{
    tw_job job = {.kind = TW_JOB_CLIP_END, .sighting = p->sighting};
    return give(r, &job, wait);
}

static void drop_first_plan(tw_recorder *r)
{
    r->plan_count--;
    memmove(r->plans, r->plans + 1, r->plan_count * sizeof r->plans[0]);
}

/* Give as much as the sink takes. @param all No more packets will come. */
static void pump(tw_recorder *r, bool all)
{
    while (r->plan_count > 0) {
        plan *p = &r->plans[0];
        bool passed_end = false;
        if (!p->begun && !give_begin(r, p, all)) {
            if (!all)
                return;
            drop_first_plan(r); /* no packet of it was ever held */
            continue;
        }
        if (!give_packets(r, p, all, &passed_end) && !all)
            return;
        if (!all && !(p->ended && passed_end))
            return;
        if (!give_end(r, p, all))
            return;
        drop_first_plan(r);
    }
}

/* ---- for the pipeline ------------------------------------------------------------ */

tw_status tw_recorder_new(tw_lane *lane, const tw_stream *stream, tw_job_sink sink,
                          tw_recorder **out, tw_error *err)
{
    tw_recorder *r = calloc(1, sizeof *r);
    if (!r)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    r->lane = lane;
    r->sink = sink;
    r->stream = *stream;
    r->hold_us = INT64_MAX;
    r->extra = malloc(stream->extra_size ? stream->extra_size : 1);
    if (!r->extra || resize(r, FIRST_BYTES, FIRST_SLOTS) != TW_OK) {
        tw_recorder_free(r);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    if (stream->extra_size > 0)
        memcpy(r->extra, stream->extra, stream->extra_size);
    r->stream.extra = r->extra;
    *out = r;
    return TW_OK;
}

void tw_recorder_free(tw_recorder *r)
{
    if (!r)
        return;
    free(r->memory);
    free(r->extra);
    free(r);
}

void tw_recorder_hold(tw_recorder *r, int64_t t_us)
{
    r->hold_us = t_us;
}

void tw_recorder_size(tw_recorder *r, uint16_t width, uint16_t height)
{
    r->stream.width = width;
    r->stream.height = height;
}

tw_status tw_recorder_packet(tw_recorder *r, const tw_packet *packet, tw_error *err)
{
    r->newest_us = packet->t_us;
    r->wall_offset_us = packet->wall_us - packet->t_us;
    trim(r);
    grow_for(r, packet->size);
    const tw_status st = tw_ring_push(r->ring, packet);
    pump(r, false);
    if (st == TW_ESIZE)
        return tw_fail(
            err, st, "a frame of %zu bytes does not fit into pre_event_memory: raise it",
            packet->size);
    return st == TW_OK ? TW_OK : tw_fail(err, st, "%s", tw_status_text(st));
}

void tw_recorder_began(tw_recorder *r, const tw_sighting *sighting)
{
    tw_job job = {.kind = TW_JOB_BEGAN, .sighting = *sighting};
    (void)give(r, &job, false); /* such jobs are always taken */
    if (!r->lane->camera->clips)
        return;
    if (r->plan_count == PLANS_MAX) { /* a card that takes nothing for many sightings */
        r->lost++;
        return;
    }
    r->plans[r->plan_count++] = (plan){
        .sighting = *sighting, .next = tw_ring_find(r->ring, sighting->clip_start_us)};
    pump(r, false);
}

void tw_recorder_ended(tw_recorder *r, const tw_sighting *sighting, bool last_too)
{
    for (size_t i = 0; i < r->plan_count; i++) {
        plan *p = &r->plans[i];
        if (p->ended || p->sighting.number != sighting->number ||
            p->sighting.part != sighting->part)
            continue;
        p->sighting = *sighting;
        p->ended = true;
        p->stop_us = sighting->clip_end_us + last_too;
    }
    tw_job job = {.kind = TW_JOB_ENDED, .sighting = *sighting};
    (void)give(r, &job, false);
}

static void give_still(tw_recorder *r, tw_job *job, uint8_t *jpeg, size_t bytes)
{
    job->packet.data = jpeg;
    job->packet.size = bytes;
    if (!give(r, job, false)) {
        free(jpeg);
        r->lost++;
    }
}

void tw_recorder_still(tw_recorder *r, const tw_sighting *sighting, uint8_t *jpeg,
                       size_t bytes, uint32_t n, const tw_packet *times, uint16_t width,
                       uint16_t height)
{
    tw_job job = {.kind = TW_JOB_STILL,
                  .sighting = *sighting,
                  .packet = *times,
                  .n = n,
                  .width = width,
                  .height = height};
    give_still(r, &job, jpeg, bytes);
}

void tw_recorder_timed(tw_recorder *r, uint8_t *jpeg, size_t bytes,
                       const tw_packet *times, uint16_t width, uint16_t height)
{
    tw_job job = {
        .kind = TW_JOB_TIMED, .packet = *times, .width = width, .height = height};
    give_still(r, &job, jpeg, bytes);
}

tw_status tw_recorder_find(const tw_recorder *r, int64_t t_us, tw_packet *out)
{
    const tw_status st = tw_ring_get(r->ring, tw_ring_find(r->ring, t_us), out);
    return st == TW_OK && out->t_us != t_us ? TW_ENOENT : st;
}

void tw_recorder_flush(tw_recorder *r)
{
    pump(r, true);
    tw_ring_clear(r->ring);
}

uint64_t tw_recorder_lost(const tw_recorder *r)
{
    return r->lost;
}
