/* What the parts of the station share: its state, and what they call of each other. */
#ifndef TWI_STATION_STATE_H
#define TWI_STATION_STATE_H

#include <pthread.h>

#include "../core/backoff.h"
#include "../core/rate.h"
#include "feed.h"
#include "pipeline.h"
#include "daily.h"
#include "queue.h"
#include "sensors.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* A camera that is watched. */
typedef struct camera_thread {
    tw_station *station;
    char name[64];
    twi_channel channel;
    /* The running thread's own: */
    struct camera_thread *next; /* in the list of those that are gone */
    pthread_t thread;
    bool started;     /* and not yet joined */
    bool has_channel; /* the writer knows of it */
    /* Its thread's own, until the join: */
    bool opened; /* it has delivered */
    bool live;
    bool recorded;   /* and read as fast as it can be */
    uint32_t number; /* of its last sighting */
    twi_backoff again;
    twi_rate rate;
    unsigned holds;        /* of its conditions, by which its snapshot is */
    int64_t polled_us;     /* when its state was worked out last */
    int64_t lost_since_us; /* by the clock, while it is lost */
    bool alarmed;          /* that it has been lost for long was told */
    /* Of any thread: */
    atomic_llong leave_by_us; /* it ends by then, or is opened again, sighting or not */
    atomic_int offered_how;   /* a tw_applied: what the settings that are offered take */
    atomic_bool leave;        /* its thread is to end, once no sighting runs */
    atomic_bool failed;       /* it has ended with an error */
    twi_orders orders;
    /* Under the station's lock: */
    bool ended;             /* its thread has nothing more to do */
    twi_snapshot *snapshot; /* what it runs on; changed by its thread alone */
    twi_snapshot *offered;  /* what it is to run on next; NULL: the same */
    tw_camera_status status;
    int64_t orders_until_us; /* by the clock; 0: for good */
    char ordered_by[64];     /* who armed or disarmed it; "": nobody, or not known */
} camera_thread;

struct tw_station {
    tw_platform platform;
    twi_station_settings settings;
    twi_writer writer;
    twi_source *source; /* newest settings; the running thread's own, as ... */
    bool any_opened;    /* ... this, ... */
    twi_daily daily;    /* ... this, and ... */
    camera_thread
        *retired; /* ... these, linked by next: the writer may still have their jobs */
    volatile int stop; /* only ever set to 1: also from signal handlers */
    twi_feed *feed;
    pthread_mutex_t lock;   /* of all from here on; nobody is called under it */
    pthread_cond_t changed; /* a camera has ended, or there is something pending */
    tw_settings *pending;   /* to be taken over; NULL: none */
    twi_queue *queue;
    twi_sensors *sensors; /* NULL: there are none; changed by the running thread alone */
    camera_thread **cameras; /* changed by the running thread alone */
    size_t count;
    uint32_t dropped, problems;
};

static inline int64_t twi_station_now(const tw_station *s)
{
    return s->platform.clock.ops->now_us(s->platform.clock.ctx);
}

static inline int64_t twi_station_wall(const tw_station *s)
{
    return s->platform.clock.ops->wall_us(s->platform.clock.ctx);
}

/** Count something that happened, have it noted in the catalogue, and tell of it. Under
 * no lock. */
void twi_station_tell(void *station, const tw_event *event);

/** The same of a camera. @param patient  See twi_feed_give. */
void twi_station_tell_of(tw_station *s, const tw_event *event, bool patient);

/** Give the writer a job of the station's, whose buffer it takes over; NULL: out of
 * memory, and there is none. Not before tw_station_run. */
void twi_station_give(tw_station *s, twi_job *job);

/** Read the sensors of these settings from now on. NULL: none. The running thread's. */
void twi_station_sense(tw_station *s, twi_source *from);

bool twi_station_stopping(const tw_station *s);

/** Make a camera by its settings; not yet watched. @return NULL: out of memory. */
camera_thread *twi_camera_thread_new(tw_station *s, twi_source *from, const char *name);

/** Free a camera whose thread has ended and whose jobs are done. NULL is fine. */
void twi_camera_thread_free(camera_thread *w);

/** Start its thread; what fails is told. */
void twi_camera_thread_start(camera_thread *w);

/** Have its thread take other settings over, as soon as what they take allows.
 * @param next  Taken over. */
void twi_camera_thread_offer(camera_thread *w, twi_snapshot *next, tw_applied how);

/** A camera whose thread has ended takes over what it is offered, and is started again
 * where that is a reason to. @return whether it was. */
bool twi_camera_thread_again(camera_thread *w);

/** Take new settings over: compare each camera with what it runs on. */
void twi_station_adopt(tw_station *s, tw_settings *settings);

/** See to cameras whose threads have ended: what takes their place is started.
 * @return whether any camera is still watched. */
bool twi_station_settle(tw_station *s);

#endif
