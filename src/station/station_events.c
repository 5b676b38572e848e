/* What happens in a station: counted, noted in the catalogue, and told. */
#include <stdio.h>
#include <string.h>

#include "catalogue_write.h"
#include "station_state.h"
#include "tell.h"

const char *tw_event_name(tw_event_kind kind)
{
    switch ((enum tw_event_kind_values)kind) {
    case TW_EVENT_OPENED: return "opened";
    case TW_EVENT_READING: return "reading";
    case TW_EVENT_BEGAN: return "began";
    case TW_EVENT_ENDED: return "ended";
    case TW_EVENT_STORED: return "stored";
    case TW_EVENT_FREED: return "freed";
    case TW_EVENT_PROBLEM: return "problem";
    case TW_EVENT_LOST: return "lost";
    case TW_EVENT_BACK: return "back";
    case TW_EVENT_RELOADED: return "reloaded";
    case TW_EVENT_ORDERED: return TWI_LOG_ORDERED;
    case TW_EVENT_STOPPED: return "stopped";
    case TW_EVENT_ALARM: return "alarm";
    case TW_EVENT_DAILY: return "daily";
    case TW_EVENT_HOLDS: return "holds";
    case TW_EVENT_CLOSED: break;
    }
    return "closed";
}

/* What belongs into the catalogue beside sightings; NULL: nothing. */
static const char *word_log_entry(const tw_event *event)
{
    switch ((enum tw_event_kind_values)event->kind) {
    case TW_EVENT_READING:
    case TW_EVENT_BEGAN:
    case TW_EVENT_ENDED:
    case TW_EVENT_STORED: return NULL;
    default: return tw_event_name(event->kind);
    }
}

const char *tw_arming_name(tw_arming arming)
{
    static const char *const names[] = {"armed",
                                        "armed by order",
                                        "disarmed by its settings",
                                        "disarmed by order",
                                        "disarmed by its hours",
                                        "disarmed by arm_delay"};
    return (unsigned)arming < sizeof names / sizeof *names ? names[arming] : names[0];
}

const char *tw_camera_state_name(const tw_camera_status *c)
{
    if (c->lost_us > 0)
        return "lost";
    if (c->ended)
        return "closed";
    if (!c->open || c->frame_us == 0)
        return "starting";
    /* A sighting that was asked for goes on while nothing may begin one. */
    if (c->state == TW_IDLE ||
        (c->arming >= TW_DISARMED_BY_SETTING && c->state != TW_SIGHTING))
        return "disarmed";
    return tw_watch_state_name(c->state);
}

/* The camera of an event, NULL: it concerns the station. Under the lock. */
static camera_thread *camera_of(const tw_station *s, const char *camera)
{
    for (size_t i = 0; camera && i < s->count; i++)
        if (strcmp(s->cameras[i]->name, camera) == 0)
            return s->cameras[i];
    return NULL;
}

static void count_reading(tw_camera_status *c, const tw_event *event)
{
    c->open = true;
    c->frames++;
    c->state = event->state;
    c->activity_ppm = event->reading->activity_ppm;
    c->lost_frames = event->lost_frames;
}

static void count_camera(tw_camera_status *c, const tw_event *event)
{
    switch ((enum tw_event_kind_values)event->kind) {
    case TW_EVENT_OPENED:
        c->open = true;
        (void)snprintf(c->format, sizeof c->format, "%s",
                       event->stream->codec_name ? event->stream->codec_name : "");
        break;
    case TW_EVENT_READING: count_reading(c, event); break;
    case TW_EVENT_BEGAN:
        c->sightings++;
        c->last_us = event->wall_us;
        break;
    case TW_EVENT_STORED:
        c->stored++;
        c->stored_bytes += event->bytes;
        break;
    case TW_EVENT_PROBLEM:
        c->problems++;
        c->not_stored += event->lost;
        break;
    case TW_EVENT_CLOSED: c->open = false; break;
    case TW_EVENT_ENDED:
    case TW_EVENT_LOST:
    case TW_EVENT_BACK:
    case TW_EVENT_RELOADED:
    case TW_EVENT_ORDERED:
    case TW_EVENT_STOPPED:
    case TW_EVENT_ALARM:
    case TW_EVENT_DAILY:
    case TW_EVENT_HOLDS:
    case TW_EVENT_FREED: break;
    }
}

/* For tw_station_camera and tw_station_store; under the lock. */
static void count(tw_station *s, const tw_event *event)
{
    camera_thread *w = camera_of(s, event->camera);
    if (w)
        count_camera(&w->status, event);
    if (w && event->kind == TW_EVENT_READING)
        w->status.frame_us = s->platform.clock.ops->wall_us(s->platform.clock.ctx);
    s->dropped += event->kind == TW_EVENT_FREED;
    s->problems += event->kind == TW_EVENT_PROBLEM && !w;
}

/* The job is given under the lock, so that it comes before its channel's last. */
static void give_job(tw_station *s, twi_job *job, const char *of_camera)
{
    bool given = false;
    if (!job->buffer)
        return;
    (void)pthread_mutex_lock(&s->lock);
    camera_thread *camera = camera_of(s, of_camera);
    twi_queue *queue = s->queue;
    job->channel = camera ? &camera->channel : NULL;
    if (queue)
        given = twi_queue_jobs(queue).give(queue, job, false);
    (void)pthread_mutex_unlock(&s->lock);
    if (!queue) /* the writer's thread is not there yet, or this is it, at its end */
        twi_writer_do(&s->writer, job);
    else if (!given)
        twi_buffer_unref(job->buffer);
}

static void add_log_entry(tw_station *s, const char *what, const tw_event *event)
{
    const char *text = event->text ? event->text : "";
    twi_job job = {.kind = TWI_JOB_HAPPENED,
                   .happened = what,
                   .buffer = twi_buffer_copy((const uint8_t *)text, strlen(text) + 1)};
    job.packet.wall_us = s->platform.clock.ops->wall_us(s->platform.clock.ctx);
    give_job(s, &job, event->camera);
}

void twi_station_give(tw_station *s, twi_job *job)
{
    give_job(s, job, NULL);
}

void twi_station_pass(tw_station *s, const tw_event *event)
{
    twi_feed_give(s->feed, event, false);
}

void twi_station_tell_of(tw_station *s, const tw_event *event, bool patient)
{
    const char *what = word_log_entry(event);
    if (what)
        add_log_entry(s, what, event);
    (void)pthread_mutex_lock(&s->lock);
    count(s, event);
    (void)pthread_mutex_unlock(&s->lock);
    twi_feed_give(s->feed, event, patient);
}

void twi_station_tell(void *ctx, const tw_event *event)
{
    twi_station_tell_of(ctx, event, false);
}

bool twi_station_stopping(const tw_station *s)
{
    return __atomic_load_n(&s->stop, __ATOMIC_RELAXED) != 0;
}
