/* One camera's recorder. The ring holds the pre-event footage, and what a slow card has
 * not taken yet; it grows as far as pre_event_memory allows, and only as it must. */
#include "recorder.h"

#include <stdlib.h>
#include <string.h>

#include "../core/interval.h"
#include "../media/raw.h"
#include "../core/naming.h"
#include "../settings/sections.h"

enum {
    PLANS_MAX = 8, /* files of one recording that are begun or waiting to begin */
    US = 1000000,
    MARGIN_US = US / 5, /* kept beside what can be wanted */
    STEP_USUAL_US = US / 10,
    FIRST_SLOTS = 64,
    MEASURED_FRAMES = 16, /* that tell how fast they come */
    EARLY_MAX = 64,       /* packets of sound that wait for the picture of their time */
    LATE_US = US          /* sound comes so much later than its pictures at most */
};

/* A file that packets go into. */
typedef struct plan {
    tw_sighting sighting; /* all zero: it belongs to none */
    int64_t from_us;      /* it is to begin then */
    int64_t first_us;     /* its first picture is decoded then, once it is begun */
    int64_t stop_us;      /* the file holds packets decoded before this; set once ended */
    bool ended;
    bool complete; /* and no packet of it is still to come */
    bool over;     /* its sighting is: that is told behind it */
    bool past;     /* the pictures are, but sound of its time may still come */
    bool begun;    /* its first job is given */
    uint64_t next; /* sequence number of the next packet to give */
} plan;

/* Files of one kind, one after the other. */
typedef struct recording {
    twi_kind kind;
    plan plans[PLANS_MAX];
    size_t count;
    uint64_t given; /* one more than the newest picture that is in a file */
} recording;

enum { SIGHTINGS, CONTINUOUS, TIMED, RECORDINGS };

struct twi_recorder {
    const twi_camera_settings *camera;
    twi_channel *channel;
    tw_stream stream;
    twi_buffer *extra; /* of the stream */
    twi_jobs sink;
    void *memory; /* of the ring */
    tw_ring *ring;
    recording recordings[RECORDINGS];
    plan resumed; /* of a sighting that goes on in another file, ... */
    bool resumes; /* ... with the next frame */
    twi_interval timed;
    int64_t newest_us;
    int64_t hold_us;        /* see twi_recorder_hold */
    int64_t wall_offset_us; /* wall time less capture time, of the newest packet */
    bool crowded; /* raw pictures have gathered: they are encoded until there is room */
    uint64_t lost;
    /* Sound, in the order of its time: behind the picture that it comes with. */
    tw_packet early[EARLY_MAX];
    twi_buffer *early_buffers[EARLY_MAX];
    size_t early_count;
};

/* ---- the ring -------------------------------------------------------------------- */

static void release(void *ctx, void *owner)
{
    (void)ctx;
    twi_buffer_unref(owner);
}

static tw_status make_ring(twi_recorder *r)
{
    const tw_ring_config config = {.max_frames = FIRST_SLOTS,
                                   .most_bytes = (size_t)r->camera->pre_bytes,
                                   .release = release};
    const size_t bytes = tw_ring_bytes(FIRST_SLOTS);
    r->memory = malloc(bytes);
    return r->memory ? tw_ring_init(&config, r->memory, bytes, &r->ring) : TW_ENOMEM;
}

/* Room for one packet more; without memory the oldest will have to go. */
static void grow(twi_recorder *r)
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
static int64_t real_step_us(const twi_recorder *r)
{
    const uint64_t first = tw_ring_first(r->ring), count = tw_ring_end(r->ring) - first;
    tw_packet oldest;
    if (r->stream.sound.codec != TW_SOUND_NONE) /* not all that is held are pictures */
        return promised_step_us(&r->stream);
    if (count < MEASURED_FRAMES || tw_ring_get(r->ring, first, &oldest, NULL) != TW_OK ||
        r->newest_us <= oldest.t_us)
        return promised_step_us(&r->stream);
    return (r->newest_us - oldest.t_us) / (int64_t)(count - 1) + 1;
}

/* How far back from now a clip may begin: a sighting is confirmed some frames after its
 * first one, from which the pre-event time counts. */
static int64_t reach_us(const twi_recorder *r)
{
    const int64_t step = promised_step_us(&r->stream);
    return r->camera->pre_us + (r->camera->confirm.n + 1) * step + MARGIN_US;
}

/* Forget what no file can need any more. */
static void trim(twi_recorder *r)
{
    const int64_t from_us = r->hold_us < r->newest_us ? r->hold_us : r->newest_us;
    int64_t keep_us = from_us - reach_us(r);
    for (int s = 0; s < RECORDINGS; s++) {
        for (size_t i = 0; i < r->recordings[s].count; i++) {
            tw_packet packet;
            if (tw_ring_get(r->ring, r->recordings[s].plans[i].next, &packet, NULL) ==
                    TW_OK &&
                packet.t_us < keep_us)
                keep_us = packet.t_us;
        }
    }
    tw_ring_trim(r->ring, keep_us);
}

bool twi_recorder_holds_raw(twi_recorder *r, size_t bytes)
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
static void skip_lost(twi_recorder *r, plan *p)
{
    const uint64_t first = tw_ring_first(r->ring);
    if (p->next >= first)
        return;
    r->lost += first - p->next;
    p->next = first;
}

/* @return false: the sink is full. The job's buffer is the caller's then. */
static bool give(const twi_recorder *r, twi_job *job, bool wait)
{
    job->channel = r->channel;
    job->turn = r->stream.turn;
    job->wall_offset_us = r->wall_offset_us;
    return r->sink.give(r->sink.ctx, job, wait);
}

/* The same with a buffer of the job's own. */
static bool give_buffer(const twi_recorder *r, twi_job *job, twi_buffer *buffer,
                        bool wait)
{
    job->buffer = twi_buffer_ref(buffer);
    if (give(r, job, wait))
        return true;
    twi_buffer_unref(buffer);
    return false;
}

/* What a file is made of: of raw pictures, what the first one is held as. */
static tw_stream stream_from(const twi_recorder *r, const twi_buffer *first)
{
    tw_stream s = r->stream;
    if (s.codec == TW_CODEC_RAW)
        twi_buffer_describe(first, &s);
    return s;
}

/* @return where the first picture is from here on: sound lies between. */
static uint64_t picture_at(const twi_recorder *r, uint64_t at)
{
    tw_packet packet;
    void *held = NULL;
    while (tw_ring_get(r->ring, at, &packet, &held) == TW_OK &&
           ((twi_buffer *)held)->sound)
        at++;
    return at;
}

static bool give_begin(twi_recorder *r, recording *s, plan *p, bool wait)
{
    tw_packet first;
    void *held = NULL;
    skip_lost(r, p);
    p->next = picture_at(r, p->next);
    /* What an earlier file holds is not stored again, where one can begin after it. */
    const uint64_t given = picture_at(r, s->given);
    if (p->next < s->given &&
        (tw_ring_get(r->ring, given, &first, NULL) != TW_OK || first.key))
        p->next = given;
    if (tw_ring_get(r->ring, p->next, &first, &held) != TW_OK)
        return false;
    twi_job job = {.kind = TWI_JOB_VIDEO_BEGIN,
                   .what = s->kind,
                   .sighting = p->sighting,
                   .stream = stream_from(r, held)};
    job.packet.t_us = first.t_us;
    job.packet.dts_us = first.dts_us;
    job.packet.wall_us = first.wall_us;
    p->first_us = first.dts_us;
    p->begun = give_buffer(r, &job, r->extra, wait);
    return p->begun;
}

/* Whether what has come is behind the end of a file: pictures are, and sound that belongs
 * to the last of them cannot come any more. */
static bool is_past(const twi_recorder *r, plan *p, bool sound, int64_t dts_us)
{
    if (r->stream.sound.codec == TW_SOUND_NONE)
        return true;
    p->past = p->past || !sound;
    return p->past && (sound || dts_us >= p->stop_us + LATE_US);
}

/* @return false: the sink is full. */
static bool give_packets(twi_recorder *r, recording *s, plan *p, bool wait,
                         bool *passed_end)
{
    const uint64_t end = tw_ring_end(r->ring);
    skip_lost(r, p);
    for (; p->next < end; p->next++) {
        twi_job job = {
            .kind = TWI_JOB_VIDEO_PACKET, .what = s->kind, .sighting = p->sighting};
        void *buffer = NULL;
        if (tw_ring_get(r->ring, p->next, &job.packet, &buffer) != TW_OK)
            return true;
        const bool sound = ((twi_buffer *)buffer)->sound;
        if (p->ended && job.packet.dts_us >= p->stop_us) {
            *passed_end = is_past(r, p, sound, job.packet.dts_us);
            if (*passed_end)
                return true;
            continue;
        }
        /* of the file before */
        if (sound && job.packet.t_us < p->first_us)
            continue;
        if (!sound && p->past)
            continue;
        if (!give_buffer(r, &job, buffer, wait))
            return false;
        if (!sound)
            s->given = p->next + 1;
    }
    return true;
}

static bool give_end(const twi_recorder *r, const recording *s, const plan *p, bool wait)
{
    twi_job job = {.kind = TWI_JOB_VIDEO_END, .what = s->kind, .sighting = p->sighting};
    return give(r, &job, wait);
}

static void give_over(const twi_recorder *r, const tw_sighting *sighting)
{
    twi_job job = {.kind = TWI_JOB_ENDED, .sighting = *sighting};
    (void)give(r, &job, false);
}

/* Whoever hears that a sighting is over finds its clip. */
static void drop_first_plan(const twi_recorder *r, recording *s)
{
    if (s->plans[0].over)
        give_over(r, &s->plans[0].sighting);
    s->count--;
    memmove(s->plans, s->plans + 1, s->count * sizeof s->plans[0]);
}

/* Give as much of a recording as the sink takes. @param all No more packets will come. */
static void pump_recording(twi_recorder *r, recording *s, bool all)
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

static void pump(twi_recorder *r, bool all)
{
    for (int s = 0; s < RECORDINGS; s++)
        pump_recording(r, &r->recordings[s], all);
}

/* @return false: a card takes nothing for many files. */
static bool plan_file(twi_recorder *r, recording *s, const plan *p)
{
    if (s->count == PLANS_MAX) {
        r->lost++;
        return false;
    }
    s->plans[s->count++] = *p;
    return true;
}

/* The newest plan, if it is still to be ended. */
static plan *running(recording *s)
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
static void end_here(const twi_recorder *r, plan *p)
{
    tw_packet newest;
    const bool any =
        tw_ring_get(r->ring, tw_ring_end(r->ring) - 1, &newest, NULL) == TW_OK;
    end_plan(p, any ? newest.dts_us + 1 : INT64_MIN);
    p->complete = true;
}

/* Continuous recording: a segment that is long enough ends before a key frame, with which
 * the next one begins. */
static void plan_segment(twi_recorder *r, const tw_packet *newest)
{
    recording *s = &r->recordings[CONTINUOUS];
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
static void plan_timed(twi_recorder *r, const tw_packet *newest)
{
    recording *s = &r->recordings[TIMED];
    const twi_timed_clip *timed = &r->camera->timed_clip;
    plan *p = running(s);
    if (p && newest->t_us - p->from_us >= timed->length_us)
        end_plan(p, newest->dts_us);
    if (twi_interval_due(&r->timed, newest->wall_us, timed->every_us) && !running(s))
        (void)plan_file(r, s,
                        &(plan){.from_us = newest->t_us,
                                .next = tw_ring_find(r->ring, newest->t_us)});
}

/* ---- for the pipeline ------------------------------------------------------------ */

tw_status twi_recorder_new(const twi_camera_settings *camera, twi_channel *channel,
                           const tw_stream *stream, twi_jobs sink, twi_recorder **out,
                           tw_error *err)
{
    static const twi_kind kinds[RECORDINGS] = {[SIGHTINGS] = TWI_KIND_CLIP,
                                               [CONTINUOUS] = TWI_KIND_SEGMENT,
                                               [TIMED] = TWI_KIND_TIMED_CLIP};
    twi_recorder *r = calloc(1, sizeof *r);
    if (!r)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    r->camera = camera;
    r->channel = channel;
    r->sink = sink;
    r->stream = *stream;
    r->stream.extra = NULL; /* it goes with the buffer */
    r->hold_us = INT64_MAX;
    for (int s = 0; s < RECORDINGS; s++)
        r->recordings[s].kind = kinds[s];
    r->extra = twi_buffer_copy(stream->extra, stream->extra_size);
    if (!r->extra || make_ring(r) != TW_OK) {
        twi_recorder_free(r);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    *out = r;
    return TW_OK;
}

void twi_recorder_free(twi_recorder *r)
{
    if (!r)
        return;
    tw_ring_clear(r->ring);
    free(r->memory);
    for (size_t i = 0; i < r->early_count; i++)
        twi_buffer_unref(r->early_buffers[i]);
    twi_buffer_unref(r->extra);
    free(r);
}

/* Whether two settings hide the same parts. */
static bool hide_alike(const twi_camera_settings *a, const twi_camera_settings *b)
{
    bool alike = a->private_count == b->private_count;
    for (size_t i = 0; alike && i < a->private_count; i++)
        alike = a->private_zones[i].count == b->private_zones[i].count &&
                memcmp(a->private_zones[i].points, b->private_zones[i].points,
                       a->private_zones[i].count * sizeof(tw_point)) == 0;
    return alike;
}

/* Files go on by what they began with: so what may be seen in them ends them, and a
 * sighting goes on in another, once the writer knows. */
static void part(twi_recorder *r)
{
    for (int i = 0; i < RECORDINGS; i++) {
        plan *p = running(&r->recordings[i]);
        if (!p)
            continue;
        if (i == SIGHTINGS) {
            r->resumed = (plan){.sighting = p->sighting};
            r->resumes = true;
        }
        end_here(r, p);
    }
}

static void resume(twi_recorder *r, const tw_packet *newest)
{
    r->resumes = false;
    r->resumed.from_us = newest->t_us;
    r->resumed.next = tw_ring_find(r->ring, newest->t_us);
    (void)plan_file(r, &r->recordings[SIGHTINGS], &r->resumed);
}

void twi_recorder_adjust(twi_recorder *r, const twi_camera_settings *camera)
{
    plan *segment = running(&r->recordings[CONTINUOUS]);
    const bool parts = !hide_alike(r->camera, camera);
    r->camera = camera;
    (void)tw_ring_limit(r->ring, (size_t)camera->pre_bytes);
    if (parts)
        part(r);
    else if (segment && !camera->continuous)
        end_here(r, segment);
    pump(r, false);
}

void twi_recorder_hold(twi_recorder *r, int64_t t_us)
{
    r->hold_us = t_us;
}

void twi_recorder_size(twi_recorder *r, uint16_t width, uint16_t height)
{
    r->stream.width = width;
    r->stream.height = height;
}

/* Into the ring, whatever becomes of it: pictures go on without. */
static void push_sound(twi_recorder *r)
{
    tw_packet own = r->early[0];
    twi_buffer *buffer = r->early_buffers[0];
    own.data = buffer->data;
    own.size = buffer->size;
    own.key = false;
    grow(r);
    if (tw_ring_push(r->ring, &own, buffer) != TW_OK)
        twi_buffer_unref(buffer);
    r->early_count--;
    memmove(r->early, r->early + 1, r->early_count * sizeof *r->early);
    memmove(r->early_buffers, r->early_buffers + 1,
            r->early_count * sizeof(twi_buffer *));
}

/* Sound of a time that a picture has come of goes behind it. */
static void push_due(twi_recorder *r)
{
    while (r->early_count > 0 && r->early[0].t_us <= r->newest_us)
        push_sound(r);
}

tw_status twi_recorder_sound(twi_recorder *r, const tw_packet *packet, twi_buffer *buffer,
                             tw_error *err)
{
    if (buffer->size == 0) {
        twi_buffer_unref(buffer);
        return tw_fail(err, TW_EINVAL, "empty sound");
    }
    if (r->early_count == EARLY_MAX)
        push_sound(r);
    r->early[r->early_count] = *packet;
    r->early_buffers[r->early_count++] = buffer;
    push_due(r);
    pump(r, false);
    return TW_OK;
}

tw_status twi_recorder_packet(twi_recorder *r, const tw_packet *packet,
                              twi_buffer *buffer, tw_error *err)
{
    r->newest_us = packet->t_us;
    r->wall_offset_us = packet->wall_us - packet->t_us;
    trim(r);
    grow(r);
    tw_packet own = *packet;
    own.data = buffer->data;
    own.size = buffer->size;
    const uint64_t end = tw_ring_end(r->ring);
    const tw_status st = tw_ring_push(r->ring, &own, buffer);
    if (st != TW_OK)
        twi_buffer_unref(buffer);
    if (tw_ring_end(r->ring) != end) {
        if (r->resumes)
            resume(r, packet);
        plan_segment(r, packet);
        plan_timed(r, packet);
    }
    push_due(r);
    pump(r, false);
    if (st == TW_ESIZE)
        return tw_fail(
            err, st, "a frame of %zu bytes does not fit into pre_event_memory: raise it",
            own.size);
    return st == TW_OK ? TW_OK : tw_fail(err, st, "%s", tw_status_text(st));
}

void twi_recorder_began(twi_recorder *r, const tw_sighting *sighting)
{
    twi_job job = {.kind = TWI_JOB_BEGAN, .sighting = *sighting};
    (void)give(r, &job, false); /* such jobs are always taken */
    if (!r->camera->clips)
        return;
    const plan p = {.sighting = *sighting,
                    .from_us = sighting->clip_start_us,
                    .next = tw_ring_find(r->ring, sighting->clip_start_us)};
    if (plan_file(r, &r->recordings[SIGHTINGS], &p))
        pump(r, false);
}

void twi_recorder_ended(twi_recorder *r, const tw_sighting *sighting, bool last_too)
{
    recording *s = &r->recordings[SIGHTINGS];
    bool reported = false;
    r->resumes = false;
    for (size_t i = 0; i < s->count; i++) {
        plan *p = &s->plans[i];
        if (p->ended || p->sighting.number != sighting->number ||
            p->sighting.part != sighting->part)
            continue;
        p->sighting = *sighting;
        p->over = reported = true;
        end_plan(p, sighting->clip_end_us + last_too);
    }
    if (!reported)
        give_over(r, sighting);
}

void twi_recorder_still(twi_recorder *r, const twi_still *still)
{
    twi_job job = {.kind = TWI_JOB_STILL,
                   .what = still->kind,
                   .buffer = still->image,
                   .packet = still->times,
                   .n = still->n,
                   .width = still->width,
                   .height = still->height};
    if (still->sighting)
        job.sighting = *still->sighting;
    job.packet.data = still->image->data;
    job.packet.size = still->image->size;
    if (!give(r, &job, false)) {
        twi_buffer_unref(still->image);
        r->lost++;
    }
}

void twi_recorder_trace(twi_recorder *r, const twi_trace_minute *minute)
{
    twi_job job = {.kind = TWI_JOB_TRACE,
                   .buffer = twi_buffer_copy((const uint8_t *)minute, sizeof *minute)};
    if (job.buffer && !give(r, &job, false))
        twi_buffer_unref(job.buffer);
}

tw_status twi_recorder_find(const twi_recorder *r, int64_t t_us, tw_packet *out,
                            twi_buffer **buffer)
{
    void *owner = NULL;
    const tw_status st = tw_ring_get(r->ring, tw_ring_find(r->ring, t_us), out, &owner);
    *buffer = owner;
    return st == TW_OK && out->t_us != t_us ? TW_ENOENT : st;
}

void twi_recorder_flush(twi_recorder *r)
{
    while (r->early_count > 0)
        push_sound(r);
    pump(r, true);
    tw_ring_clear(r->ring);
}

size_t twi_recorder_held(const twi_recorder *r)
{
    return tw_ring_held(r->ring);
}

uint64_t twi_recorder_lost(const twi_recorder *r)
{
    return r->lost;
}
