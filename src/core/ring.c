/* The packet ring: a table of packets and the bytes they point into, both circular.
 * A packet is never wrapped: where it does not fit before the end of the bytes it goes to
 * their beginning, and the rest at the end stays unused until the next round. */
#include "tawny/ring.h"

#include <stdbool.h>
#include <string.h>

typedef struct entry {
    int64_t t_us, dts_us, wall_us;
    size_t offset, size;
    bool key;
} entry;

struct tw_ring {
    entry *table;
    uint8_t *bytes;
    size_t capacity; /* of bytes */
    uint32_t slots;  /* of table */
    uint64_t first;  /* sequence number of the oldest packet */
    uint64_t end;    /* one more than the newest's */
    size_t held;     /* bytes of all packets held */
    bool broken;     /* a packet was refused: nothing until the next key frame */
};

static size_t aligned(size_t bytes)
{
    const size_t step = sizeof(int64_t);
    return (bytes + step - 1) / step * step;
}

static size_t overhead(uint32_t max_frames)
{
    return aligned(sizeof(tw_ring)) + max_frames * sizeof(entry);
}

size_t tw_ring_bytes(uint32_t max_frames, size_t packet_bytes)
{
    return overhead(max_frames) + packet_bytes;
}

tw_status tw_ring_init(void *memory, size_t bytes, uint32_t max_frames, tw_ring **out)
{
    if (!memory || !out || max_frames < 2 || max_frames > 1000000 ||
        (uintptr_t)memory % sizeof(int64_t) != 0)
        return TW_EINVAL;
    if (bytes <= overhead(max_frames))
        return TW_ESIZE;
    tw_ring *ring = memory;
    memset(ring, 0, sizeof *ring);
    ring->table = (entry *)(void *)((uint8_t *)memory + aligned(sizeof *ring));
    ring->bytes = (uint8_t *)memory + overhead(max_frames);
    ring->capacity = bytes - overhead(max_frames);
    ring->slots = max_frames;
    ring->broken = true; /* until the first key frame */
    *out = ring;
    return TW_OK;
}

static entry *at(const tw_ring *ring, uint64_t sequence)
{
    return &ring->table[sequence % ring->slots];
}

static void drop_one(tw_ring *ring)
{
    ring->held -= at(ring, ring->first)->size;
    ring->first++;
}

/* Invariant 2: a group without its key frame is of no use. */
static void drop_group(tw_ring *ring)
{
    drop_one(ring);
    while (ring->first != ring->end && !at(ring, ring->first)->key)
        drop_one(ring);
}

/* Where size bytes could go now; false if packets are in the way. */
static bool find_room(const tw_ring *ring, size_t size, size_t *offset)
{
    if (ring->first == ring->end) {
        *offset = 0;
        return size <= ring->capacity;
    }
    const entry *oldest = at(ring, ring->first), *newest = at(ring, ring->end - 1);
    const size_t head = newest->offset + newest->size, tail = oldest->offset;
    if (newest->offset >= tail) { /* the free bytes are after head and before tail */
        if (ring->capacity - head >= size) {
            *offset = head;
            return true;
        }
        *offset = 0;
        return tail >= size;
    }
    *offset = head;
    return tail - head >= size;
}

tw_status tw_ring_push(tw_ring *ring, const tw_packet *packet)
{
    if (!ring || !packet || !packet->data || packet->size == 0)
        return TW_EINVAL;
    if (packet->key)
        ring->broken = false;
    if (ring->broken)
        return TW_OK;
    size_t offset = 0;
    while (ring->end - ring->first == ring->slots ||
           !find_room(ring, packet->size, &offset)) {
        if (ring->first == ring->end) {
            ring->broken = true;
            return TW_ESIZE;
        }
        drop_group(ring);
    }
    if (ring->first == ring->end && !packet->key) { /* its own group had to go */
        ring->broken = true;
        return TW_ESIZE;
    }
    memcpy(ring->bytes + offset, packet->data, packet->size);
    *at(ring, ring->end) = (entry){packet->t_us, packet->dts_us, packet->wall_us,
                                   offset,       packet->size,   packet->key};
    ring->end++;
    ring->held += packet->size;
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
    ring->first = ring->end;
    ring->held = 0;
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
        if (at(ring, i - 1)->key && at(ring, i - 1)->t_us <= t_us)
            return i - 1;
    return ring->first;
}

tw_status tw_ring_get(const tw_ring *ring, uint64_t sequence, tw_packet *out)
{
    if (!ring || !out)
        return TW_EINVAL;
    if (sequence < ring->first || sequence >= ring->end)
        return TW_ENOENT;
    const entry *e = at(ring, sequence);
    *out = (tw_packet){
        ring->bytes + e->offset, e->size, e->t_us, e->dts_us, e->wall_us, e->key};
    return TW_OK;
}

size_t tw_ring_held(const tw_ring *ring)
{
    return ring ? ring->held : 0;
}

size_t tw_ring_capacity(const tw_ring *ring)
{
    return ring ? ring->capacity : 0;
}
