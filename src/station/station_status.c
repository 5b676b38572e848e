/* How a station fares, for who asks. */
#include "../core/sized.h"
#include "station_state.h"

tw_status tw_station_camera_sized(tw_station *s, size_t index, tw_camera_status *out,
                                  size_t size)
{
    tw_camera_status own;
    if (!s || !out)
        return TW_EINVAL;
    (void)pthread_mutex_lock(&s->lock);
    const bool there = index < s->count;
    if (there) {
        own = s->cameras[index]->status;
        own.ended = s->cameras[index]->ended;
    }
    (void)pthread_mutex_unlock(&s->lock);
    if (there)
        twi_sized_give(out, size, &own, sizeof own);
    return there ? TW_OK : TW_ENOENT;
}

tw_status tw_station_store_sized(tw_station *s, tw_store_status *out, size_t size)
{
    tw_store_status own = {0};
    if (!s || !out)
        return TW_EINVAL;
    const tw_card *card = s->platform.card;
    own.card =
        card->ops->space(card->ctx, &own.free_bytes, &own.total_bytes, NULL) == TW_OK;
    (void)pthread_mutex_lock(&s->lock);
    own.waiting_bytes = s->queue ? twi_queue_waiting(s->queue) : 0;
    own.dropped = s->dropped;
    own.problems = s->problems;
    (void)pthread_mutex_unlock(&s->lock);
    own.catalogue = !__atomic_load_n(&s->writer.catalogue_failed, __ATOMIC_RELAXED);
    twi_sized_give(out, size, &own, sizeof own);
    return TW_OK;
}

tw_status tw_station_sensor_sized(tw_station *s, size_t index, tw_sensor_status *out,
                                  size_t size)
{
    tw_sensor_status own = {0};
    if (!s || !out)
        return TW_EINVAL;
    (void)pthread_mutex_lock(&s->lock);
    const tw_status st = twi_sensors_status(s->sensors, index, &own);
    (void)pthread_mutex_unlock(&s->lock);
    if (st == TW_OK)
        twi_sized_give(out, size, &own, sizeof own);
    return st;
}
