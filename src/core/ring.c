/* The packet ring: a circular table of packets whose bytes lie elsewhere. */
#include "tawny/ring.h"

#include <stdbool.h>
#include <string.h>

#include "sized.h"

typedef struct entry {
    tw_packet packet;
    void *owner;
} entry;

struct tw_ring {
    entry *table;
    uint32_t slots; /* of table */
    size_t most;    /* bytes that may be held */
    size_t held;    /* bytes of all packets held */
    uint64_t first; /* sequence number of the oldest packet */
    uint64_t end;   /* one more than the newest's */
    bool broken;    /* a packet was refused: nothing until the next key frame */
    tw_ring_release_fn release;
    void *ctx;
};

static size_t aligned(size_t bytes)
{
    const size_t step = sizeof(int64_t);
    return (bytes + step - 1) / step * step;
}

size_t tw_ring_bytes(uint32_t max_frames)
{
    return aligned(sizeof(tw_ring)) + max_frames * sizeof(entry);
}

static bool sound(const void *memory, uint32_t max_frames)
{
    return memory && max_frames >= 2 && max_frames <= 1000000 &&
           (uintptr_t)memory % sizeof(int64_t) == 0;
}

static entry *table_in(void *memory)
{
    return (entry *)(void *)((uint8_t *)memory + aligned(sizeof(tw_ring)));
}

tw_status tw_ring_init(const tw_ring_config *config, void *memory, size_t bytes,
                       tw_ring **out)
{
    tw_ring_config own;
    if (!config)
        return TW_EINVAL;
    TWI_TAKE(own, config);
    if (!own.release || own.most_bytes == 0 || !out || !sound(memory, own.max_frames))
        return TW_EINVAL;
    if (bytes < tw_ring_bytes(own.max_frames))
        return TW_ESIZE;
    tw_ring *ring = memory;
    memset(ring, 0, sizeof *ring);
    ring->table = table_in(memory);
    ring->slots = own.max_frames;
    ring->most = own.most_bytes;
    ring->release = own.release;
    ring->ctx = own.ctx;
    ring->broken = true; /* until the first key frame */
    *out = ring;
    return TW_OK;
}

static entry *at(const tw_ring *ring, uint64_t sequence)
{
    return &ring->table[sequence % ring->slots];
}

tw_status tw_ring_move(tw_ring **ring, void *memory, size_t bytes, uint32_t max_frames)
{
    if (!ring || !*ring || !sound(memory, max_frames))
        return TW_EINVAL;
    const tw_ring *old = *ring;
    if (bytes < tw_ring_bytes(max_frames) || old->end - old->first > max_frames)
        return TW_ESIZE;
    tw_ring *moved = memory;
    *moved = *old;
    moved->table = table_in(memory);
    moved->slots = max_frames;
    for (uint64_t i = old->first; i != old->end; i++)
        *at(moved, i) = *at(old, i);
    *ring = moved;
    return TW_OK;
}

static void drop_one(tw_ring *ring)
{
    const entry *e = at(ring, ring->first);
    ring->held -= e->packet.size;
    ring->first++;
    ring->release(ring->ctx, e->owner);
}

/* Invariant 2: a group without its key frame is of no use. */
static void drop_group(tw_ring *ring)
{
    drop_one(ring);
    while (ring->first != ring->end && !at(ring, ring->first)->packet.key)
        drop_one(ring);
}

tw_status tw_ring_push(tw_ring *ring, const tw_packet *packet, void *owner)
{
    if (!ring || !packet || !packet->data || packet->size == 0)
        return TW_EINVAL;
    if (packet->key)
        ring->broken = false;
    if (ring->broken) {
        ring->release(ring->ctx, owner);
        return TW_OK;
    }
    while (ring->first != ring->end && (ring->end - ring->first == ring->slots ||
                                        ring->held + packet->size > ring->most))
        drop_group(ring);
    /* It is too large, or its own group had to go. */
    if (packet->size > ring->most || (ring->first == ring->end && !packet->key)) {
        ring->broken = true;
        return TW_ESIZE;
    }
    *at(ring, ring->end) = (entry){*packet, owner};
    ring->end++;
    ring->held += packet->size;
    return TW_OK;
}

tw_status tw_ring_limit(tw_ring *ring, size_t most_bytes)
{
    if (!ring || most_bytes == 0)
        return TW_EINVAL;
    ring->most = most_bytes;
    const uint64_t newest = tw_ring_find(ring, INT64_MAX);
    while (ring->held > most_bytes && ring->first != newest)
        drop_group(ring);
    return TW_OK;
}

void tw_ring_trim(tw_ring *ring, int64_t t_us)
{
    if (!ring || ring->first == ring->end)
        return;
    const uint64_t keep = tw_ring_find(ring, t_us);
    while (ring->first != keep)
        drop_one(ring);
}

void tw_ring_clear(tw_ring *ring)
{
    if (!ring)
        return;
    while (ring->first != ring->end)
        drop_one(ring);
    ring->broken = true;
}

uint64_t tw_ring_first(const tw_ring *ring)
{
    return ring ? ring->first : 0;
}

uint64_t tw_ring_end(const tw_ring *ring)
{
    return ring ? ring->end : 0;
}

uint64_t tw_ring_find(const tw_ring *ring, int64_t t_us)
{
    if (!ring)
        return 0;
    for (uint64_t i = ring->end; i != ring->first; i--)
        if (at(ring, i - 1)->packet.key && at(ring, i - 1)->packet.t_us <= t_us)
            return i - 1;
    return ring->first;
}

tw_status tw_ring_get(const tw_ring *ring, uint64_t sequence, tw_packet *out,
                      void **owner)
{
    if (!ring || !out)
        return TW_EINVAL;
    if (sequence < ring->first || sequence >= ring->end)
        return TW_ENOENT;
    *out = at(ring, sequence)->packet;
    if (owner)
        *owner = at(ring, sequence)->owner;
    return TW_OK;
}

size_t tw_ring_held(const tw_ring *ring)
{
    return ring ? ring->held : 0;
}

uint32_t tw_ring_slots(const tw_ring *ring)
{
    return ring ? ring->slots : 0;
}
