/* The packet ring, among others against a plain model of it. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

enum { MS = 1000, NUMBERS = 1000 };

typedef struct held_ring {
    void *memory;
    tw_ring *ring;
    int owned[NUMBERS]; /* how often each packet's owner was taken less released */
} held_ring;

static void release(void *ctx, void *owner)
{
    held_ring *r = ctx;
    const uint8_t *data = owner;
    r->owned[data[0] | data[1] << 8]--;
    free(owner);
}

static held_ring *make(uint32_t slots, size_t bytes)
{
    held_ring *r = calloc(1, sizeof *r);
    const tw_ring_config config = {0, slots, bytes, release, r};
    assert_non_null(r);
    r->memory = malloc(tw_ring_bytes(slots));
    assert_int_equal(tw_ring_init(&config, r->memory, tw_ring_bytes(slots), &r->ring),
                     TW_OK);
    assert_int_equal(tw_ring_slots(r->ring), slots);
    return r;
}

/* Invariant 4: nothing is left, and nothing was released twice. */
static void drop(held_ring *r)
{
    tw_ring_clear(r->ring);
    for (int i = 0; i < NUMBERS; i++)
        assert_int_equal(r->owned[i], 0);
    free(r->memory);
    free(r);
}

/* The data of a packet tells its number, and nothing else owns it but the ring. */
static tw_status push(held_ring *r, int number, size_t size, bool key)
{
    uint8_t *data = malloc(size + 2);
    assert_non_null(data);
    memset(data, number & 0xFF, size + 2);
    data[1] = (uint8_t)(number >> 8);
    const tw_packet packet = {
        data, size, (int64_t)number * 40 * MS, (int64_t)number * 40 * MS, number, key};
    r->owned[number]++;
    const tw_status st = tw_ring_push(r->ring, &packet, data);
    if (st != TW_OK)
        release(r, data);
    return st;
}

static void check_packet(const held_ring *r, uint64_t sequence, int number, size_t size)
{
    tw_packet p;
    void *owner = NULL;
    assert_int_equal(tw_ring_get(r->ring, sequence, &p, &owner), TW_OK);
    assert_int_equal(p.size, size);
    assert_int_equal(p.t_us, (int64_t)number * 40 * MS);
    assert_int_equal(p.wall_us, number);
    assert_ptr_equal(p.data, owner);
    assert_int_equal(p.data[0], number & 0xFF);
    assert_int_equal(r->owned[number], 1);
}

static void test_nothing_is_held_before_the_first_key(void **state)
{
    (void)state;
    held_ring *r = make(8, 1000);
    assert_int_equal(push(r, 0, 10, false), TW_OK);
    assert_int_equal(tw_ring_first(r->ring), tw_ring_end(r->ring));
    assert_int_equal(push(r, 1, 10, true), TW_OK);
    assert_int_equal(push(r, 2, 10, false), TW_OK);
    assert_int_equal(tw_ring_end(r->ring) - tw_ring_first(r->ring), 2);
    check_packet(r, tw_ring_first(r->ring), 1, 10);
    drop(r);
}

static void test_whole_groups_make_room(void **state)
{
    (void)state;
    held_ring *r = make(100, 100);
    for (int i = 0; i < 10; i++) /* groups of five: 0 to 4, 5 to 9; all bytes are taken */
        assert_int_equal(push(r, i, 10, i % 5 == 0), TW_OK);
    assert_int_equal(tw_ring_held(r->ring), 100);
    assert_int_equal(push(r, 10, 1, true), TW_OK);
    check_packet(r, tw_ring_first(r->ring), 5, 10); /* one packet more took five */
    assert_int_equal(tw_ring_held(r->ring), 51);
    drop(r);
}

static void test_slots_are_a_limit_too(void **state)
{
    (void)state;
    held_ring *r = make(4, 1000);
    for (int i = 0; i < 9; i++)
        assert_int_equal(push(r, i, 1, true), TW_OK);
    assert_int_equal(tw_ring_end(r->ring) - tw_ring_first(r->ring), 4);
    check_packet(r, tw_ring_first(r->ring), 5, 1);
    drop(r);
}

static void test_a_packet_that_can_never_fit_ends_its_group(void **state)
{
    (void)state;
    held_ring *r = make(10, 100);
    assert_int_equal(push(r, 0, 60, true), TW_OK);
    assert_int_equal(push(r, 1, 101, false), TW_ESIZE);
    assert_int_equal(push(r, 2, 10, false), TW_OK); /* not kept: it may need 1 */
    assert_int_equal(tw_ring_first(r->ring), tw_ring_end(r->ring));
    assert_int_equal(push(r, 3, 100, true), TW_OK);
    check_packet(r, tw_ring_first(r->ring), 3, 100);
    drop(r);
}

static void test_a_group_larger_than_the_ring_is_not_kept_without_its_key(void **state)
{
    (void)state;
    held_ring *r = make(10, 100);
    assert_int_equal(push(r, 0, 60, true), TW_OK);
    assert_int_equal(push(r, 1, 60, false), TW_ESIZE);
    assert_int_equal(tw_ring_first(r->ring), tw_ring_end(r->ring));
    drop(r);
}

static void test_find_goes_back_to_a_key(void **state)
{
    (void)state;
    held_ring *r = make(100, 1000);
    for (int i = 0; i < 20; i++)
        (void)push(r, i, 10, i % 5 == 0);
    const uint64_t first = tw_ring_first(r->ring);
    assert_int_equal(tw_ring_find(r->ring, 12 * 40 * MS), first + 10);
    assert_int_equal(tw_ring_find(r->ring, 10 * 40 * MS), first + 10);
    assert_int_equal(tw_ring_find(r->ring, 10 * 40 * MS - 1), first + 5);
    assert_int_equal(tw_ring_find(r->ring, -1), first); /* older than all: the oldest */
    assert_int_equal(tw_ring_find(r->ring, INT64_MAX), first + 15);
    drop(r);
}

static void test_trim_keeps_the_group_it_falls_into(void **state)
{
    (void)state;
    held_ring *r = make(100, 1000);
    for (int i = 0; i < 20; i++)
        (void)push(r, i, 10, i % 5 == 0);
    tw_ring_trim(r->ring, 12 * 40 * MS);
    check_packet(r, tw_ring_first(r->ring), 10, 10);
    assert_int_equal(tw_ring_held(r->ring), 100);
    tw_ring_trim(r->ring, 0); /* does not bring anything back */
    check_packet(r, tw_ring_first(r->ring), 10, 10);
    tw_ring_clear(r->ring);
    assert_int_equal(tw_ring_held(r->ring), 0);
    assert_int_equal(push(r, 20, 10, false), TW_OK); /* waits for a key again */
    assert_int_equal(tw_ring_first(r->ring), tw_ring_end(r->ring));
    drop(r);
}

static void test_get_refuses_what_is_gone(void **state)
{
    (void)state;
    held_ring *r = make(2, 100);
    tw_packet p;
    for (int i = 0; i < 5; i++)
        (void)push(r, i, 10, true);
    assert_int_equal(tw_ring_get(r->ring, 2, &p, NULL), TW_ENOENT);
    assert_int_equal(tw_ring_get(r->ring, 5, &p, NULL), TW_ENOENT);
    assert_int_equal(tw_ring_get(r->ring, 3, NULL, NULL), TW_EINVAL);
    assert_int_equal(tw_ring_get(NULL, 3, &p, NULL), TW_EINVAL);
    drop(r);
}

/* Random packets: order, content, invariants 1 and 2, and that room is used. */
static void test_random_traffic_keeps_the_invariants(void **state)
{
    (void)state;
    uint32_t chance = 7;
    for (int round = 0; round < 20; round++) {
        held_ring *r = make(16, 3000);
        size_t sizes[500];
        for (int i = 0; i < 500; i++) {
            chance = chance * 1664525U + 1013904223U;
            sizes[i] = 1 + (chance >> 20) % 900;
            const bool key = (chance >> 10 & 3) == 0 || i == 0;
            const uint64_t end = tw_ring_end(r->ring);
            const tw_status st = push(r, i, sizes[i], key);
            assert_true(st == TW_OK || st == TW_ESIZE);
            if (tw_ring_end(r->ring) == end)
                continue;
            size_t held = 0;
            tw_packet p;
            for (uint64_t s = tw_ring_first(r->ring); s != tw_ring_end(r->ring); s++) {
                assert_int_equal(tw_ring_get(r->ring, s, &p, NULL), TW_OK);
                if (s == tw_ring_first(r->ring))
                    assert_true(p.key);
                held += p.size;
            }
            assert_int_equal(held, tw_ring_held(r->ring));
            assert_true(held <= 3000);
            check_packet(r, tw_ring_end(r->ring) - 1, i, sizes[i]);
        }
        drop(r);
    }
}

static void test_it_moves_to_more_room(void **state)
{
    (void)state;
    held_ring *r = make(4, 1000);
    for (int i = 0; i < 6; i++)
        (void)push(r, i, 10, true);
    void *larger = malloc(tw_ring_bytes(9));
    assert_int_equal(tw_ring_move(&r->ring, larger, tw_ring_bytes(9), 3), TW_ESIZE);
    assert_int_equal(tw_ring_move(&r->ring, larger, 8, 9), TW_ESIZE);
    assert_int_equal(tw_ring_move(&r->ring, NULL, tw_ring_bytes(9), 9), TW_EINVAL);
    assert_int_equal(tw_ring_move(&r->ring, larger, tw_ring_bytes(9), 9), TW_OK);
    free(r->memory);
    r->memory = larger;
    for (int i = 6; i < 20; i++) {
        (void)push(r, i, 10, true);
        check_packet(r, (uint64_t)i, i, 10); /* numbers stay */
    }
    assert_int_equal(tw_ring_end(r->ring) - tw_ring_first(r->ring), 9);
    check_packet(r, 11, 11, 10);
    drop(r);
}

static void test_its_limit_moves(void **state)
{
    (void)state;
    held_ring *r = make(100, 100);
    for (int i = 0; i < 10; i++) /* groups of five: 0 to 4, 5 to 9 */
        assert_int_equal(push(r, i, 10, i % 5 == 0), TW_OK);
    assert_int_equal(tw_ring_limit(r->ring, 99), TW_OK);
    check_packet(r, tw_ring_first(r->ring), 5, 10);
    assert_int_equal(tw_ring_held(r->ring), 50);
    assert_int_equal(tw_ring_limit(r->ring, 20), TW_OK); /* the newest group stays ... */
    assert_int_equal(tw_ring_held(r->ring), 50);
    assert_int_equal(push(r, 10, 10, true), TW_OK); /* ... until the next needs room */
    assert_int_equal(tw_ring_held(r->ring), 10);
    assert_int_equal(tw_ring_limit(r->ring, 1000), TW_OK);
    for (int i = 11; i < 41; i++)
        assert_int_equal(push(r, i, 10, true), TW_OK);
    assert_int_equal(tw_ring_held(r->ring), 310);
    assert_int_equal(tw_ring_limit(r->ring, 0), TW_EINVAL);
    assert_int_equal(tw_ring_limit(NULL, 1), TW_EINVAL);
    drop(r);
}

static void no_release(void *ctx, void *owner)
{
    (void)ctx;
    (void)owner;
}

static void test_init_refuses(void **state)
{
    (void)state;
    uint64_t memory[512];
    tw_ring *ring = NULL;
    const tw_ring_config good = {0, 8, 100, no_release, NULL};
    tw_ring_config bad = good;
    assert_int_equal(tw_ring_init(&good, NULL, 4096, &ring), TW_EINVAL);
    assert_int_equal(tw_ring_init(NULL, memory, 4096, &ring), TW_EINVAL);
    assert_int_equal(tw_ring_init(&good, memory, 4096, NULL), TW_EINVAL);
    bad.max_frames = 1;
    assert_int_equal(tw_ring_init(&bad, memory, 4096, &ring), TW_EINVAL);
    bad.max_frames = 2000000;
    assert_int_equal(tw_ring_init(&bad, memory, 4096, &ring), TW_EINVAL);
    bad = good;
    bad.release = NULL;
    assert_int_equal(tw_ring_init(&bad, memory, 4096, &ring), TW_EINVAL);
    assert_int_equal(tw_ring_init(&good, (uint8_t *)memory + 1, 4000, &ring), TW_EINVAL);
    assert_int_equal(tw_ring_init(&good, memory, tw_ring_bytes(8) - 1, &ring), TW_ESIZE);
    assert_int_equal(tw_ring_init(&good, memory, tw_ring_bytes(8), &ring), TW_OK);
    assert_int_equal(tw_ring_push(ring, NULL, NULL), TW_EINVAL);
    assert_int_equal(tw_ring_push(NULL, NULL, NULL), TW_EINVAL);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_nothing_is_held_before_the_first_key),
        cmocka_unit_test(test_whole_groups_make_room),
        cmocka_unit_test(test_slots_are_a_limit_too),
        cmocka_unit_test(test_a_packet_that_can_never_fit_ends_its_group),
        cmocka_unit_test(test_a_group_larger_than_the_ring_is_not_kept_without_its_key),
        cmocka_unit_test(test_find_goes_back_to_a_key),
        cmocka_unit_test(test_trim_keeps_the_group_it_falls_into),
        cmocka_unit_test(test_get_refuses_what_is_gone),
        cmocka_unit_test(test_random_traffic_keeps_the_invariants),
        cmocka_unit_test(test_it_moves_to_more_room),
        cmocka_unit_test(test_its_limit_moves),
        cmocka_unit_test(test_init_refuses),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
