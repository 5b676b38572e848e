/* tawny/ring.h - the newest packets of a camera, for pre-event footage.
 * Pure: no I/O, clock or heap.
 *
 * A ring is one thread's at a time. It lies in the caller's memory; the bytes of packets
 * stay their owner's, until the ring has released them. */
#ifndef TW_RING_H
#define TW_RING_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/frame.h"
#include "tawny/error.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct tw_ring tw_ring;

/** Told when the ring needs a packet no more: its bytes may go.
 * @param owner  What came with the packet. */
typedef void (*tw_ring_release_fn)(void *ctx, void *owner);

typedef struct tw_ring_config {
    size_t size;                /* of this struct; 0: see version.h */
    uint32_t max_frames;        /* packets held at most, 2..1000000 */
    size_t most_bytes;          /* of all packets held, >= 1 */
    tw_ring_release_fn release; /* required; must not call the ring */
    void *ctx;
} tw_ring_config;

/**
 * Make a ring in the caller's memory. The bytes of packets stay where they are, so that a
 * frame is not copied on its way to a file. Clear it before its memory goes. One thread
 * at a time.
 *
 * Invariants: 1. packets come out in the order in which they went in; 2. the oldest
 * packet held is a key frame; 3. what does not fit pushes out the oldest; 4. each owner
 * that was taken is released once.
 *
 * @param memory  Caller's, aligned as malloc does; outlives the ring.
 * @param bytes   Its size, at least tw_ring_bytes(config->max_frames).
 * @param out     Set on TW_OK. Points into memory.
 * @return TW_OK; TW_EINVAL: NULL pointer, bad count, misaligned; TW_ESIZE: too small.
 */
TW_API tw_status tw_ring_init(const tw_ring_config *config, void *memory, size_t bytes,
                              tw_ring **out);

/** @return Bytes of memory that a ring of max_frames packets takes. */
TW_API size_t tw_ring_bytes(uint32_t max_frames);

/**
 * Move a ring to other memory, where it has room for another number of packets. Sequence
 * numbers stay; the old memory is the caller's again.
 *
 * @param ring  Set to the moved ring on TW_OK.
 * @return TW_OK; TW_EINVAL, TW_ESIZE as tw_ring_init, or more packets are held than that.
 */
TW_API tw_status tw_ring_move(tw_ring **ring, void *memory, size_t bytes,
                              uint32_t max_frames);

/**
 * Take a packet in, dropping whole groups from the oldest on until it fits. Until the
 * first key frame nothing is held.
 *
 * @param packet  Its data must stay good until owner is released.
 * @param owner   Passed to release; not looked at.
 * @return TW_OK: owner is taken, or released already; TW_EINVAL: NULL or empty packet;
 *         TW_ESIZE: it can never fit. On an error owner stays the caller's, and the
 *         packets after it, which may need it, are refused until the next key frame.
 */
TW_API tw_status tw_ring_push(tw_ring *ring, const tw_packet *packet, void *owner);

/** Hold at most so many bytes from now on, dropping whole groups from the oldest on until
 * it does. The newest group is never dropped for this; the next push may drop it.
 * @return TW_OK; TW_EINVAL: NULL pointer, or 0 bytes. */
TW_API tw_status tw_ring_limit(tw_ring *ring, size_t most_bytes);

/** Drop what is older than the key frame at or before t_us. */
TW_API void tw_ring_trim(tw_ring *ring, int64_t t_us);

/** Drop everything. Sequence numbers go on. */
TW_API void tw_ring_clear(tw_ring *ring);

/** @return Sequence number of the oldest packet held; equal to tw_ring_end if none is. */
TW_API uint64_t tw_ring_first(const tw_ring *ring);

/** @return One more than the sequence number of the newest packet. */
TW_API uint64_t tw_ring_end(const tw_ring *ring);

/** @return The newest key frame captured at or before t_us, else the oldest packet held.
 */
TW_API uint64_t tw_ring_find(const tw_ring *ring, int64_t t_us);

/**
 * @param out    Set to the packet, good until the next push, trim or clear.
 * @param owner  Set to what came with it; may be NULL.
 * @return TW_OK; TW_EINVAL: NULL pointer; TW_ENOENT: not held, or not any more.
 */
TW_API tw_status tw_ring_get(const tw_ring *ring, uint64_t sequence, tw_packet *out,
                             void **owner);

/** @return Bytes of the packets held. */
TW_API size_t tw_ring_held(const tw_ring *ring);

/** @return Packets that there is room for. */
TW_API uint32_t tw_ring_slots(const tw_ring *ring);

#ifdef __cplusplus
}
#endif

#endif
