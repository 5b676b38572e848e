/* tawny/ring.h - the newest packets of a camera, for pre-event footage.
 * Pure: no I/O, clock or heap. */
#ifndef TW_RING_H
#define TW_RING_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/frame.h"
#include "tawny/status.h"

typedef struct tw_ring tw_ring;

/**
 * Make a ring in the caller's memory. Nothing has to be released. One thread at a time.
 *
 * Invariants: 1. packets come out whole and in the order in which they went in;
 * 2. the oldest packet held is a key frame; 3. what does not fit pushes out the oldest.
 *
 * @param memory      Caller's, aligned as malloc does; outlives the ring.
 * @param bytes       Its size: bookkeeping for max_frames, the rest for packets.
 * @param max_frames  Packets held at most, 2..1000000.
 * @param out         Set on TW_OK. Points into memory.
 * @return TW_OK; TW_EINVAL: NULL pointer, bad count, misaligned; TW_ESIZE: too small.
 */
TW_API tw_status tw_ring_init(void *memory, size_t bytes, uint32_t max_frames,
                              tw_ring **out);

/** @return Bytes of memory for max_frames packets of packet_bytes together. */
TW_API size_t tw_ring_bytes(uint32_t max_frames, size_t packet_bytes);

/**
 * Copy a packet in, dropping whole groups from the oldest on until it fits. Until the
 * first key frame nothing is held.
 *
 * @return TW_OK; TW_EINVAL: NULL or empty packet; TW_ESIZE: it can never fit. On an error
 *         the packets after it, which may need it, are refused until the next key frame.
 */
TW_API tw_status tw_ring_push(tw_ring *ring, const tw_packet *packet);

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
 * @param out  Set to a view into the ring, good until the next push, trim or clear.
 * @return TW_OK; TW_EINVAL: NULL pointer; TW_ENOENT: not held, or not any more.
 */
TW_API tw_status tw_ring_get(const tw_ring *ring, uint64_t sequence, tw_packet *out);

/** @return Bytes of the packets held. */
TW_API size_t tw_ring_held(const tw_ring *ring);

/** @return Bytes that packets may take. */
TW_API size_t tw_ring_capacity(const tw_ring *ring);

#endif
