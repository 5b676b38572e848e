/* Shared frames. */
#include "parcel.h"

#include <stdlib.h>
#include <string.h>

tw_parcel *tw_parcel_copy(const uint8_t *data, size_t bytes)
{
    tw_parcel *p = malloc(sizeof *p + bytes + TW_PARCEL_PADDING);
    if (!p)
        return NULL;
    atomic_init(&p->holders, 1);
    p->data = (uint8_t *)(p + 1);
    p->size = bytes;
    p->activity_ppm = 0;
    p->taken = NULL;
    if (bytes > 0)
        memcpy(p->data, data, bytes);
    memset(p->data + bytes, 0, TW_PARCEL_PADDING);
    return p;
}

tw_parcel *tw_parcel_take(uint8_t *data, size_t bytes)
{
    tw_parcel *p = malloc(sizeof *p);
    if (!p) {
        free(data);
        return NULL;
    }
    atomic_init(&p->holders, 1);
    p->data = p->taken = data;
    p->size = bytes;
    p->activity_ppm = 0;
    return p;
}

tw_parcel *tw_parcel_keep(tw_parcel *p)
{
    (void)atomic_fetch_add_explicit(&p->holders, 1, memory_order_relaxed);
    return p;
}

void tw_parcel_release(tw_parcel *p)
{
    if (!p || atomic_fetch_sub_explicit(&p->holders, 1, memory_order_acq_rel) != 1)
        return;
    free(p->taken);
    free(p);
}
