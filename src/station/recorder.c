/* One camera's recorder. The ring holds the pre-event footage, and what a slow card has
 * not taken yet; it grows as far as pre_event_memory allows, and only as it must. */
#include "recorder.h"

#include <stdlib.h>
#include <string.h>

#include "../core/interval.h"
#include "../media/raw.h"

enum {
    PLANS_MAX = 8, /* files of one strand that are begun or waiting to begin */
    US = 1000000,
    MARGIN_US = US / 5, /* kept beside what can be wanted */
    STEP_USUAL_US = US / 10,
    FIRST_SLOTS = 64,
    MEASURED_FRAMES = 16 /* that tell how fast they come */
};

/* A file that packets go into. */
typedef struct plan {
    tw_sighting sighting; /* all zero: it belongs to none */
    int64_t from_us;      /* its first packet's */
    int64_t stop_us;      /* the file holds packets decoded before this; set once ended */
    bool ended;
    bool complete; /* and no packet of it is still to come */
    bool over;     /* its sighting is: that is told behind it */
    bool begun;    /* its first job is given */
    uint64_t next; /* sequence number of the next packet to give */
} plan;

/* Files of one kind, one after the other. */
typedef struct strand {
    tw_kind kind;
    plan plans[PLANS_MAX];
    size_t count;
    uint64_t given; /* one more than the newest packet that is in a file */
} strand;

enum { SIGHTINGS, CONTINUOUS, TIMED, STRANDS };

struct tw_recorder {
    const tw_camera_settings *camera;
    tw_lane *lane;
    tw_stream stream;
    tw_parcel *extra; /* of the stream */
    tw_job_sink sink;
    void *memory; /* of the ring */
    tw_ring *ring;
    strand strands[STRANDS];
    tw_interval timed;
    int64_t newest_us;
    int64_t hold_us;        /* see tw_recorder_hold */
    int64_t wall_offset_us; /* wall time less capture time, of the newest packet */
    bool crowded; /* raw pictures have gathered: they are encoded until there is room */
    uint64_t lost;
};

/* ---- the ring -------------------------------------------------------------------- */

static void release(void *ctx, void *owner)
{
    (void)ctx;
    tw_parcel_release(owner);
}

static tw_status make_ring(tw_recorder *r)
{
    const tw_ring_config config = {.max_frames = FIRST_SLOTS,
                                   .most_bytes = (size_t)r->camera->pre_bytes,
                                   .release = release};
    const size_t bytes = tw_ring_bytes(FIRST_SLOTS);
    r->memory = malloc(bytes);
    return r->memory ? tw_ring_init(&config, r->memory, bytes, &r->ring) : TW_ENOMEM;
}

/* Room for one packet more; without memory the oldest will have to go. */
static void grow(tw_recorder *r)
{
    const uint32_t slots = tw_ring_slots(r->ring);
    if (tw_ring_end(r->ring) - tw_ring_first(r->ring) < slots)
        return;
    const size_t bytes = tw_ring_bytes(2 * slots);
    void *memory = malloc(bytes);
    if (memory && tw_ring_move(&r->ring, memory, bytes, 2 * slots) == TW_OK) {
        free(r->memory);
        r->memory = memory;
    } else {
        free(memory);
    }
}

/* From frame to frame, as the stream says. */
static int64_t promised_step_us(const tw_stream *s)
{
    return s->fps_num > 0 ? INT64_C(1000000) * s->fps_den / s->fps_num : STEP_USUAL_US;
}

/* The same as measured, once there is enough to measure. */
static int64_t real_step_us(const tw_recorder *r)
{
    const uint64_t first = tw_ring_first(r->ring), count = tw_ring_end(r->ring) - first;
    tw_packet oldest;
    if (count < MEASURED_FRAMES || tw_ring_get(r->ring, first, &oldest, NULL) != TW_OK ||
        r->newest_us <= oldest.t_us)
        return promised_step_us(&r->stream);
    return (r->newest_us - oldest.t_us) / (int64_t)(count - 1) + 1;
}

/* How far back from now a clip may begin: a sighting is confirmed some frames after its
 * first one, from which the pre-event time counts. */
static int64_t reach_us(const tw_recorder *r)
{
    const int64_t step = promised_step_us(&r->stream);
    return r->camera->pre_us + (r->camera->confirm.n + 1) * step + MARGIN_US;
}

/* Forget what no file can need any more. */
static void trim(tw_recorder *r)
{
    const int64_t from_us = r->hold_us < r->newest_us ? r->hold_us : r->newest_us;
    int64_t keep_us = from_us - reach_us(r);
    for (int s = 0; s < STRANDS; s++) {
        for (size_t i = 0; i < r->strands[s].count; i++) {
            tw_packet packet;
            if (tw_ring_get(r->ring, r->strands[s].plans[i].next, &packet, NULL) ==
                    TW_OK &&
                packet.t_us < keep_us)
                keep_us = packet.t_us;
        }
    }
    tw_ring_trim(r->ring, keep_us);
}

bool tw_recorder_holds_raw(tw_recorder *r, size_t bytes)
{
    const uint64_t most = (uint64_t)r->camera->pre_bytes, held = tw_ring_held(r->ring);
    const int64_t real = real_step_us(r), step = real > 0 ? real : 1;
    const uint64_t wanted = (uint64_t)(reach_us(r) / step + 2) * bytes;
    if (held + bytes > most - most / 8)
        r->crowded = true;
    else if (held < most / 2)
        r->crowded = false;
    return !r->crowded && wanted <= most - most / 4;
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

/* @return false: the sink is full. The job's parcel is the caller's then. */
static bool give(const tw_recorder *r, tw_job *job, bool wait)
{
    job->lane = r->lane;
    job->turn = r->stream.turn;
    job->wall_offset_us = r->wall_offset_us;
    return r->sink.give(r->sink.ctx, job, wait);
}

/* The same with a parcel of the job's own. */
static bool give_parcel(const tw_recorder *r, tw_job *job, tw_parcel *parcel, bool wait)
{
    job->parcel = tw_parcel_keep(parcel);
    if (give(r, job, wait))
        return true;
    tw_parcel_release(parcel);
    return false;
}

/* What a file is made of: of raw pictures, what the first one is held as. */
static tw_stream stream_from(const tw_recorder *r, const tw_parcel *first)
{
    tw_stream s = r->stream;
    if (s.codec == TW_CODEC_RAW)
        tw_parcel_describe(first, &s);
    return s;
}

static bool give_begin(tw_recorder *r, strand *s, plan *p, bool wait)
{
    tw_packet first;
    void *held = NULL;
    skip_lost(r, p);
    /* What an earlier file holds is not stored again, where one can begin after it. */
    if (p->next < s->given &&
        (tw_ring_get(r->ring, s->given, &first, NULL) != TW_OK || first.key))
        p->next = s->given;
    if (tw_ring_get(r->ring, p->next, &first, &held) != TW_OK)
        return false;
    tw_job job = {.kind = TW_JOB_VIDEO_BEGIN,
                  .what = s->kind,
                  .sighting = p->sighting,
                  .stream = stream_from(r, held)};
    job.packet.t_us = first.t_us;
    job.packet.dts_us = first.dts_us;
    job.packet.wall_us = first.wall_us;
    p->begun = give_parcel(r, &job, r->extra, wait);
    return p->begun;
}

/* @return false: the sink is full. */
static bool give_packets(tw_recorder *r, strand *s, plan *p, bool wait, bool *passed_end)
{
    const uint64_t end = tw_ring_end(r->ring);
    skip_lost(r, p);
    for (; p->next < end; p->next++) {
        tw_job job = {
            .kind = TW_JOB_VIDEO_PACKET, .what = s->kind, .sighting = p->sighting};
        void *parcel = NULL;
        if (tw_ring_get(r->ring, p->next, &job.packet, &parcel) != TW_OK)
            return true;
        if (p->ended && job.packet.dts_us >= p->stop_us) {
            *passed_end = true;
            return true;
        }
        if (!give_parcel(r, &job, parcel, wait))
            return false;
        s->given = p->next + 1;
    }
    return true;
}

static bool give_end(const tw_recorder *r, const strand *s, const plan *p, bool wait)
{
    tw_job job = {.kind = TW_JOB_VIDEO_END, .what = s->kind, .sighting = p->sighting};
    return give(r, &job, wait);
}

static void give_over(const tw_recorder *r, const tw_sighting *sighting)
{
    tw_job job = {.kind = TW_JOB_ENDED, .sighting = *sighting};
    (void)give(r, &job, false);
}

/* Whoever hears that a sighting is over finds its clip. */
static void drop_first_plan(const tw_recorder *r, strand *s)
{
    if (s->plans[0].over)
        give_over(r, &s->plans[0].sighting);
    s->count--;
    memmove(s->plans, s->plans + 1, s->count * sizeof s->plans[0]);
}

/* Give as much of a strand as the sink takes. @param all No more packets will come. */
static void pump_strand(tw_recorder *r, strand *s, bool all)
{
    while (s->count > 0) {
        plan *p = &s->plans[0];
        bool passed_end = false;
        if (!p->begun && !give_begin(r, s, p, all)) {
            if (!all)
                return;
            drop_first_plan(r, s); /* no packet of it was ever held */
            continue;
        }
        if (!give_packets(r, s, p, all, &passed_end) && !all)
            return;
        if (!all && !(p->ended && (passed_end || p->complete)))
            return;
        if (!give_end(r, s, p, all))
            return;
        drop_first_plan(r, s);
    }
}

static void pump(tw_recorder *r, bool all)
{
    for (int s = 0; s < STRANDS; s++)
        pump_strand(r, &r->strands[s], all);
}

/* @return false: a card takes nothing for many files. */
static bool plan_file(tw_recorder *r, strand *s, const plan *p)
{
    if (s->count == PLANS_MAX) {
        r->lost++;
        return false;
    }
    s->plans[s->count++] = *p;
    return true;
}

/* The newest plan, if it is still to be ended. */
static plan *running(strand *s)
{
    plan *p = s->count > 0 ? &s->plans[s->count - 1] : NULL;
    return p && !p->ended ? p : NULL;
}

static void end_plan(plan *p, int64_t stop_us)
{
    p->ended = true;
    p->stop_us = stop_us;
}

/* A file ends with what is held by now. */
static void end_here(const tw_recorder *r, plan *p)
{
    tw_packet newest;
    const bool any =
        tw_ring_get(r->ring, tw_ring_end(r->ring) - 1, &newest, NULL) == TW_OK;
    end_plan(p, any ? newest.dts_us + 1 : INT64_MIN);
    p->complete = true;
}

/* Continuous recording: a segment that is long enough ends before a key frame, with which
 * the next one begins. */
static void plan_segment(tw_recorder *r, const tw_packet *newest)
{
    strand *s = &r->strands[CONTINUOUS];
    plan *p = running(s);
    if (!r->camera->continuous || !newest->key)
        return;
    if (p && newest->t_us - p->from_us < r->camera->segment_us)
        return;
    if (p)
        end_plan(p, newest->dts_us);
    (void)plan_file(r, s,
                    &(plan){.from_us = newest->t_us, .next = tw_ring_end(r->ring) - 1});
}

/* Clips by the clock: one begins with the key frame before its interval does. */
static void plan_timed(tw_recorder *r, const tw_packet *newest)
{
    strand *s = &r->strands[TIMED];
    const tw_timed_clip *timed = &r->camera->timed_clip;
    plan *p = running(s);
    if (p && newest->t_us - p->from_us >= timed->length_us)
        end_plan(p, newest->dts_us);
    if (tw_interval_due(&r->timed, newest->wall_us, timed->every_us) && !running(s))
        (void)plan_file(r, s,
                        &(plan){.from_us = newest->t_us,
                                .next = tw_ring_find(r->ring, newest->t_us)});
}

/* ---- for the pipeline ------------------------------------------------------------ */

tw_status tw_recorder_new(const tw_camera_settings *camera, tw_lane *lane,
                          const tw_stream *stream, tw_job_sink sink, tw_recorder **out,
                          tw_error *err)
{
    static const tw_kind kinds[STRANDS] = {[SIGHTINGS] = TW_KIND_CLIP,
                                           [CONTINUOUS] = TW_KIND_SEGMENT,
                                           [TIMED] = TW_KIND_TIMED_CLIP};
    tw_recorder *r = calloc(1, sizeof *r);
    if (!r)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    r->camera = camera;
    r->lane = lane;
    r->sink = sink;
    r->stream = *stream;
    r->stream.extra = NULL; /* it goes with the parcel */
    r->hold_us = INT64_MAX;
    for (int s = 0; s < STRANDS; s++)
        r->strands[s].kind = kinds[s];
    r->extra = tw_parcel_copy(stream->extra, stream->extra_size);
    if (!r->extra || make_ring(r) != TW_OK) {
        tw_recorder_free(r);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    *out = r;
    return TW_OK;
}

void tw_recorder_free(tw_recorder *r)
{
    if (!r)
        return;
    tw_ring_clear(r->ring);
    free(r->memory);
    tw_parcel_release(r->extra);
    free(r);
}

void tw_recorder_adjust(tw_recorder *r, const tw_camera_settings *camera)
{
    plan *segment = running(&r->strands[CONTINUOUS]);
    r->camera = camera;
    (void)tw_ring_limit(r->ring, (size_t)camera->pre_bytes);
    if (segment && !camera->continuous)
        end_here(r, segment);
    pump(r, false);
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

tw_status tw_recorder_packet(tw_recorder *r, const tw_packet *packet, tw_parcel *parcel,
                             tw_error *err)
{
    r->newest_us = packet->t_us;
    r->wall_offset_us = packet->wall_us - packet->t_us;
    trim(r);
    grow(r);
    tw_packet own = *packet;
    own.data = parcel->data;
    own.size = parcel->size;
    const uint64_t end = tw_ring_end(r->ring);
    const tw_status st = tw_ring_push(r->ring, &own, parcel);
    if (st != TW_OK)
        tw_parcel_release(parcel);
    if (tw_ring_end(r->ring) != end) {
        plan_segment(r, packet);
        plan_timed(r, packet);
    }
    pump(r, false);
    if (st == TW_ESIZE)
        return tw_fail(
            err, st, "a frame of %zu bytes does not fit into pre_event_memory: raise it",
            own.size);
    return st == TW_OK ? TW_OK : tw_fail(err, st, "%s", tw_status_text(st));
}

void tw_recorder_began(tw_recorder *r, const tw_sighting *sighting)
{
    tw_job job = {.kind = TW_JOB_BEGAN, .sighting = *sighting};
    (void)give(r, &job, false); /* such jobs are always taken */
    if (!r->camera->clips)
        return;
    const plan p = {.sighting = *sighting,
                    .from_us = sighting->clip_start_us,
                    .next = tw_ring_find(r->ring, sighting->clip_start_us)};
    if (plan_file(r, &r->strands[SIGHTINGS], &p))
        pump(r, false);
}

void tw_recorder_ended(tw_recorder *r, const tw_sighting *sighting, bool last_too)
{
    strand *s = &r->strands[SIGHTINGS];
    bool told = false;
    for (size_t i = 0; i < s->count; i++) {
        plan *p = &s->plans[i];
        if (p->ended || p->sighting.number != sighting->number ||
            p->sighting.part != sighting->part)
            continue;
        p->sighting = *sighting;
        p->over = told = true;
        end_plan(p, sighting->clip_end_us + last_too);
    }
    if (!told)
        give_over(r, sighting);
}

void tw_recorder_still(tw_recorder *r, const tw_still *still)
{
    tw_job job = {.kind = TW_JOB_STILL,
                  .what = still->kind,
                  .parcel = still->image,
                  .packet = still->times,
                  .n = still->n,
                  .width = still->width,
                  .height = still->height};
    if (still->sighting)
        job.sighting = *still->sighting;
    job.packet.data = still->image->data;
    job.packet.size = still->image->size;
    if (!give(r, &job, false)) {
        tw_parcel_release(still->image);
        r->lost++;
    }
}

void tw_recorder_trace(tw_recorder *r, const tw_trace_minute *minute)
{
    tw_job job = {.kind = TW_JOB_TRACE,
                  .parcel = tw_parcel_copy((const uint8_t *)minute, sizeof *minute)};
    if (job.parcel && !give(r, &job, false))
        tw_parcel_release(job.parcel);
}

tw_status tw_recorder_find(const tw_recorder *r, int64_t t_us, tw_packet *out,
                           tw_parcel **parcel)
{
    void *owner = NULL;
    const tw_status st = tw_ring_get(r->ring, tw_ring_find(r->ring, t_us), out, &owner);
    *parcel = owner;
    return st == TW_OK && out->t_us != t_us ? TW_ENOENT : st;
}

void tw_recorder_flush(tw_recorder *r)
{
    pump(r, true);
    tw_ring_clear(r->ring);
}

size_t tw_recorder_held(const tw_recorder *r)
{
    return tw_ring_held(r->ring);
}

uint64_t tw_recorder_lost(const tw_recorder *r)
{
    return r->lost;
}
