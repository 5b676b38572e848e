/* The film of a day. */
#include "daily_reel.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#include "../base/thread.h"
#include "../core/naming.h"
#include "../media/drawing.h"
#include "catalogue_write.h"
#include "reel.h"
#include "station_state.h"

#define SECOND_US INT64_C(1000000)

enum {
    CAMERAS_MOST = 64,
    PARTS_MOST = 20000,
    FPS = 12,
    FPS_MOST = 30,
    SPEED_MOST = 10000, /* percent */
    QUALITY = 60,
    GIVES_WAY = 10, /* niceness */
    CHUNK = 128 * 1024,
    PATH_BYTES = 4096
};

struct twi_daily_reel {
    tw_station *station;
    pthread_t thread;
    atomic_bool stop, done;
    int64_t from_us, until_us;
    char folder[PATH_BYTES];             /* of the store */
    twi_snapshot *cameras[CAMERAS_MOST]; /* held */
    size_t count;
};

/* One film. */
typedef struct film {
    twi_daily_reel *of;
    const twi_camera_settings *camera;
    twi_reel_part *parts; /* owned, with their paths */
    uint32_t count;
    int64_t long_us; /* what clips last in all, about */
    bool there;      /* it has been made before */
} film;

/* ---- what goes in ------------------------------------------------------------------ */

static bool is_wanted(const film *f, twi_kind kind)
{
    switch (f->camera->reel_of) {
    case TWI_REEL_CLIPS: return kind == TWI_KIND_CLIP;
    case TWI_REEL_STILLS: return kind == TWI_KIND_STILL;
    case TWI_REEL_TIMED: return kind == TWI_KIND_TIMED_STILL;
    default: return false;
    }
}

static bool take_capture(void *ctx, const tw_capture_record *r)
{
    film *f = ctx;
    char path[PATH_BYTES];
    if (strcmp(r->camera, f->camera->name) != 0 ||
        r->start_us < f->of->from_us - SECOND_US || r->start_us >= f->of->until_us)
        return true;
    const twi_kind kind = twi_kind_find(r->kind);
    f->there =
        f->there || (kind == TWI_KIND_REEL && r->start_us <= f->of->from_us + SECOND_US);
    if (!is_wanted(f, kind) || f->count == PARTS_MOST ||
        snprintf(path, sizeof path, "%s/%s", f->of->folder, r->file) >= PATH_BYTES)
        return true;
    char *own = strdup(path);
    if (own)
        f->parts[f->count++] =
            (twi_reel_part){own, r->start_us, f->camera->name, (uint32_t)r->sighting};
    return own != NULL;
}

static bool add_length(void *ctx, const tw_sighting_record *r)
{
    film *f = ctx;
    const int64_t end_us = r->end_us > 0 ? r->end_us : twi_station_wall(f->of->station);
    const int64_t us = end_us > r->start_us ? end_us - r->start_us : 0;
    f->long_us += us + f->camera->pre_us + f->camera->post_us;
    return true;
}

static tw_status gather(film *f, tw_error *err)
{
    char path[PATH_BYTES];
    tw_catalogue *catalogue = NULL;
    /* clips begin before their sightings */
    const tw_sighting_filter day = {.camera = f->camera->name,
                                    .from_us = f->of->from_us,
                                    .until_us = f->of->until_us + f->camera->pre_us};
    if (snprintf(path, sizeof path, "%s/" TWI_CATALOGUE_FILE, f->of->folder) >=
        PATH_BYTES)
        return tw_fail(err, TW_ESIZE, "the name of the store is too long");
    tw_status st = tw_catalogue_open(path, false, &catalogue, err);
    if (st == TW_OK)
        st = tw_catalogue_captures(catalogue, 0, take_capture, f, err);
    if (st == TW_OK)
        st = tw_catalogue_sightings(catalogue, &day, add_length, f, err);
    tw_catalogue_close(catalogue);
    return st;
}

/* ---- how long it gets -------------------------------------------------------------- */

/* Stills so many a second, clips so many times as fast, that it is no longer than is
 * wanted. Of very many stills every second is left out, or more. */
static void fit(film *f, twi_reel_spec *spec)
{
    const int64_t most_us = f->camera->reel_length_us;
    const uint32_t most = (uint32_t)(most_us / SECOND_US * FPS_MOST);
    if (f->camera->reel_of == TWI_REEL_CLIPS) {
        const int64_t speed = f->long_us * 100 / most_us + 1;
        spec->speed_pct = speed < 100          ? 100
                          : speed > SPEED_MOST ? SPEED_MOST
                                               : (uint32_t)speed;
        return;
    }
    const uint32_t step = f->count > most ? (f->count + most - 1) / most : 1;
    uint32_t kept = 0;
    for (uint32_t i = 0; i < f->count; i++)
        if (i % step == 0)
            f->parts[kept++] = f->parts[i];
        else
            free((char *)(uintptr_t)f->parts[i].path);
    f->count = kept;
    const int64_t fps = kept * SECOND_US / most_us + 1;
    spec->fps = fps < FPS ? FPS : fps > FPS_MOST ? FPS_MOST : (uint32_t)fps;
}

/* ---- making it --------------------------------------------------------------------- */

static int32_t offset_s(void *ctx, int64_t wall_us)
{
    const tw_clock *clock = ctx;
    return clock->ops->offset_s(clock->ctx, wall_us);
}

static int on_part(void *ctx, uint32_t done, uint32_t of)
{
    const twi_daily_reel *r = ctx;
    (void)done;
    (void)of;
    return !atomic_load(&r->stop);
}

static tw_status make(film *f, const char *path, tw_error *err)
{
    const bool draws = twi_drawing_load(NULL) != NULL; /* else it goes without */
    twi_reel_spec spec = {.fps = FPS,
                          .speed_pct = 100,
                          .quality = QUALITY,
                          .caption = draws ? "%Y-%m-%d %H:%M:%S {camera}" : NULL,
                          .offset_s = offset_s,
                          .offset_ctx = &f->of->station->platform.clock};
    (void)unlink(path); /* of a run that was cut off */
    fit(f, &spec);
    return twi_reel_write(&spec, f->parts, f->count, path, on_part, f->of, NULL, err);
}

/* ---- giving it to the writer ------------------------------------------------------- */

static bool give(const film *f, twi_job *job)
{
    const twi_jobs jobs = twi_queue_jobs(f->of->station->queue);
    return jobs.give(jobs.ctx, job, true);
}

/* In parts, so that what cameras capture meanwhile has its turn between them. */
static tw_status give_parts(const film *f, twi_channel *channel, FILE *from,
                            tw_error *err)
{
    tw_status st = TW_OK;
    size_t n = CHUNK;
    while (st == TW_OK && n == CHUNK) {
        uint8_t *data = malloc(CHUNK);
        n = data ? fread(data, 1, CHUNK, from) : 0;
        twi_buffer *buffer = data && n > 0 ? twi_buffer_adopt(data, n) : NULL;
        if (!buffer)
            free(data);
        if (!data || (n > 0 && !buffer))
            st = tw_fail(err, TW_ENOMEM, "out of memory");
        else if (ferror(from))
            st = tw_fail(err, TW_EIO, "the film of the day cannot be read again");
        if (st == TW_OK && buffer)
            (void)give(f, &(twi_job){.kind = TWI_JOB_FILE_PART,
                                     .what = TWI_KIND_REEL,
                                     .channel = channel,
                                     .buffer = buffer,
                                     .packet = {.data = data, .size = n}});
    }
    return st;
}

/* The writer lets go of the channel with the last job of it. */
static void wait_for_writer(const film *f, twi_channel *channel)
{
    const tw_clock *clock = &f->of->station->platform.clock;
    (void)give(f, &(twi_job){.kind = TWI_JOB_CHANNEL_GONE, .channel = channel});
    while (!atomic_load(&channel->gone))
        clock->ops->sleep_until(clock->ctx, clock->ops->now_us(clock->ctx) + 20000);
}

static tw_status hand_over(const film *f, twi_snapshot *snapshot, const char *path,
                           tw_error *err)
{
    FILE *from = fopen(path, "rbe");
    twi_channel *channel = from ? calloc(1, sizeof *channel) : NULL;
    if (!channel) {
        if (from)
            (void)fclose(from);
        return tw_fail(err, TW_EIO, "the film of the day cannot be read again");
    }
    channel->camera = f->camera;
    channel->snapshot = twi_snapshot_keep(snapshot);
    const twi_job ends = {
        .what = TWI_KIND_REEL, .channel = channel, .packet = {.wall_us = f->of->from_us}};
    twi_job begin = ends, end = ends;
    begin.kind = TWI_JOB_FILE_BEGIN;
    end.kind = TWI_JOB_FILE_END;
    (void)give(f, &begin);
    const tw_status st = give_parts(f, channel, from, err);
    if (st == TW_OK)
        (void)give(f, &end);
    wait_for_writer(f, channel);
    free(channel);
    (void)fclose(from);
    return st;
}

/* ---- the thread -------------------------------------------------------------------- */

static void film_one(twi_daily_reel *r, twi_snapshot *snapshot)
{
    char path[PATH_BYTES];
    tw_error err = {0};
    film f = {.of = r,
              .camera = &snapshot->camera,
              .parts = calloc(PARTS_MOST, sizeof *f.parts)};
    tw_status st = f.parts ? gather(&f, &err) : tw_fail(&err, TW_ENOMEM, "out of memory");
    const int n =
        snprintf(path, sizeof path, "%s/.reel-%s.mp4", r->folder, f.camera->name);
    const bool wanted = st == TW_OK && f.count > 0 && !f.there && n < PATH_BYTES;
    if (wanted)
        st = make(&f, path, &err);
    if (wanted && st == TW_OK)
        st = hand_over(&f, snapshot, path, &err);
    if (wanted)
        (void)unlink(path);
    if (st != TW_OK && st != TW_ESTOPPED)
        twi_station_tell(r->station, &(tw_event){.kind = TW_EVENT_PROBLEM,
                                                 .camera = f.camera->name,
                                                 .wall_us = twi_station_wall(r->station),
                                                 .status = st,
                                                 .text = err.text});
    for (uint32_t i = 0; i < f.count; i++)
        free((char *)(uintptr_t)f.parts[i].path);
    free(f.parts);
}

static void *work(void *ctx)
{
    twi_daily_reel *r = ctx;
    (void)setpriority(PRIO_PROCESS, (id_t)syscall(SYS_gettid), GIVES_WAY);
    for (size_t i = 0; i < r->count && !atomic_load(&r->stop); i++)
        film_one(r, r->cameras[i]);
    atomic_store(&r->done, true);
    return NULL;
}

static void free_reel(twi_daily_reel *r)
{
    for (size_t i = 0; i < r->count; i++)
        twi_snapshot_release(r->cameras[i]);
    free(r);
}

static void take_cameras(twi_daily_reel *r)
{
    tw_station *s = r->station;
    (void)pthread_mutex_lock(&s->lock);
    for (size_t i = 0; i < s->count && r->count < CAMERAS_MOST; i++)
        if (s->cameras[i]->snapshot->camera.reel_of != TWI_REEL_NONE)
            r->cameras[r->count++] = twi_snapshot_keep(s->cameras[i]->snapshot);
    (void)pthread_mutex_unlock(&s->lock);
}

twi_daily_reel *twi_daily_reel_begin(tw_station *s, int64_t from_us, int64_t until_us)
{
    const tw_card *card = s->platform.card;
    const char *folder = card->ops->folder(card->ctx);
    twi_daily_reel *r = folder ? calloc(1, sizeof *r) : NULL;
    if (!r)
        return NULL;
    r->station = s;
    r->from_us = from_us;
    r->until_us = until_us;
    (void)snprintf(r->folder, sizeof r->folder, "%s", folder);
    take_cameras(r);
    if (r->count > 0 && twi_thread_start(&r->thread, work, r))
        return r;
    free_reel(r);
    return NULL;
}

bool twi_daily_reel_is_done(const twi_daily_reel *r)
{
    return atomic_load(&r->done);
}

void twi_daily_reel_end(twi_daily_reel *r)
{
    if (!r)
        return;
    atomic_store(&r->stop, true);
    (void)pthread_join(r->thread, NULL);
    free_reel(r);
}
