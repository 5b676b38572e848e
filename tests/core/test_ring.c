/* The packet ring, among others against a plain model of it. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

enum { MS = 1000 };

typedef struct held_ring {
    void *memory;
    tw_ring *ring;
} held_ring;

static held_ring make(uint32_t slots, size_t bytes)
{
    held_ring r = {malloc(tw_ring_bytes(slots, bytes)), NULL};
    assert_int_equal(tw_ring_init(r.memory, tw_ring_bytes(slots, bytes), slots, &r.ring),
                     TW_OK);
    assert_int_equal(tw_ring_capacity(r.ring), bytes);
    return r;
}

static tw_status push(tw_ring *ring, int number, size_t size, bool key)
{
    static uint8_t data[4096];
    memset(data, number & 0xFF, size);
    const tw_packet packet = {
        data, size, (int64_t)number * 40 * MS, (int64_t)number * 40 * MS, number, key};
    return tw_ring_push(ring, &packet);
}

static void check_packet(const tw_ring *ring, uint64_t sequence, int number, size_t size)
{
    tw_packet p;
    assert_int_equal(tw_ring_get(ring, sequence, &p), TW_OK);
    assert_int_equal(p.size, size);
    assert_int_equal(p.t_us, (int64_t)number * 40 * MS);
    assert_int_equal(p.wall_us, number);
    for (size_t i = 0; i < size; i++)
        assert_int_equal(p.data[i], number & 0xFF);
}

static void test_nothing_is_held_before_the_first_key(void **state)
{
    (void)state;
    held_ring r = make(8, 1000);
    assert_int_equal(push(r.ring, 0, 10, false), TW_OK);
    assert_int_equal(tw_ring_first(r.ring), tw_ring_end(r.ring));
    assert_int_equal(push(r.ring, 1, 10, true), TW_OK);
    assert_int_equal(push(r.ring, 2, 10, false), TW_OK);
    assert_int_equal(tw_ring_end(r.ring) - tw_ring_first(r.ring), 2);
    check_packet(r.ring, tw_ring_first(r.ring), 1, 10);
    free(r.memory);
}

static void test_whole_groups_make_room(void **state)
{
    (void)state;
    held_ring r = make(100, 100);
    for (int i = 0; i < 10; i++) /* groups of five: 0 to 4, 5 to 9; all bytes are taken */
        assert_int_equal(push(r.ring, i, 10, i % 5 == 0), TW_OK);
    assert_int_equal(tw_ring_held(r.ring), 100);
    assert_int_equal(push(r.ring, 10, 1, true), TW_OK);
    check_packet(r.ring, tw_ring_first(r.ring), 5, 10); /* one packet more took five */
    assert_int_equal(tw_ring_held(r.ring), 51);
    free(r.memory);
}

static void test_slots_are_a_limit_too(void **state)
{
    (void)state;
    held_ring r = make(4, 1000);
    for (int i = 0; i < 9; i++)
        assert_int_equal(push(r.ring, i, 1, true), TW_OK);
    assert_int_equal(tw_ring_end(r.ring) - tw_ring_first(r.ring), 4);
    check_packet(r.ring, tw_ring_first(r.ring), 5, 1);
    free(r.memory);
}

static void test_a_packet_that_can_never_fit_ends_its_group(void **state)
{
    (void)state;
    held_ring r = make(10, 100);
    assert_int_equal(push(r.ring, 0, 60, true), TW_OK);
    assert_int_equal(push(r.ring, 1, 101, false), TW_ESIZE);
    assert_int_equal(push(r.ring, 2, 10, false), TW_OK); /* not kept: it may need 1 */
    assert_int_equal(tw_ring_first(r.ring), tw_ring_end(r.ring));
    assert_int_equal(push(r.ring, 3, 100, true), TW_OK);
    check_packet(r.ring, tw_ring_first(r.ring), 3, 100);
    free(r.memory);
}

static void test_a_group_larger_than_the_ring_is_not_kept_without_its_key(void **state)
{
    (void)state;
    held_ring r = make(10, 100);
    assert_int_equal(push(r.ring, 0, 60, true), TW_OK);
    assert_int_equal(push(r.ring, 1, 60, false), TW_ESIZE);
    assert_int_equal(tw_ring_first(r.ring), tw_ring_end(r.ring));
    free(r.memory);
}

static void test_find_goes_back_to_a_key(void **state)
{
    (void)state;
    held_ring r = make(100, 1000);
    for (int i = 0; i < 20; i++)
        (void)push(r.ring, i, 10, i % 5 == 0);
    const uint64_t first = tw_ring_first(r.ring);
    assert_int_equal(tw_ring_find(r.ring, 12 * 40 * MS), first + 10);
    assert_int_equal(tw_ring_find(r.ring, 10 * 40 * MS), first + 10);
    assert_int_equal(tw_ring_find(r.ring, 10 * 40 * MS - 1), first + 5);
    assert_int_equal(tw_ring_find(r.ring, -1), first); /* older than all: the oldest */
    assert_int_equal(tw_ring_find(r.ring, INT64_MAX), first + 15);
    free(r.memory);
}

static void test_trim_keeps_the_group_it_falls_into(void **state)
{
    (void)state;
    held_ring r = make(100, 1000);
    for (int i = 0; i < 20; i++)
        (void)push(r.ring, i, 10, i % 5 == 0);
    tw_ring_trim(r.ring, 12 * 40 * MS);
    check_packet(r.ring, tw_ring_first(r.ring), 10, 10);
    assert_int_equal(tw_ring_held(r.ring), 100);
    tw_ring_trim(r.ring, 0); /* does not bring anything back */
    check_packet(r.ring, tw_ring_first(r.ring), 10, 10);
    tw_ring_clear(r.ring);
    assert_int_equal(tw_ring_held(r.ring), 0);
    assert_int_equal(push(r.ring, 20, 10, false), TW_OK); /* waits for a key again */
    assert_int_equal(tw_ring_first(r.ring), tw_ring_end(r.ring));
    free(r.memory);
}

static void test_get_refuses_what_is_gone(void **state)
{
    (void)state;
    held_ring r = make(2, 100);
    tw_packet p;
    for (int i = 0; i < 5; i++)
        (void)push(r.ring, i, 10, true);
    assert_int_equal(tw_ring_get(r.ring, 2, &p), TW_ENOENT);
    assert_int_equal(tw_ring_get(r.ring, 5, &p), TW_ENOENT);
    assert_int_equal(tw_ring_get(r.ring, 3, NULL), TW_EINVAL);
    assert_int_equal(tw_ring_get(NULL, 3, &p), TW_EINVAL);
    free(r.memory);
}

/* Random packets: order, content, invariants 1 and 2, and that room is used. */
static void test_random_traffic_keeps_the_invariants(void **state)
{
    (void)state;
    uint32_t chance = 7;
    for (int round = 0; round < 20; round++) {
        held_ring r = make(16, 3000);
        size_t sizes[500];
        for (int i = 0; i < 500; i++) {
            chance = chance * 1664525U + 1013904223U;
            sizes[i] = 1 + (chance >> 20) % 900;
            const bool key = (chance >> 10 & 3) == 0 || i == 0;
            const uint64_t end = tw_ring_end(r.ring);
            const tw_status st = push(r.ring, i, sizes[i], key);
            assert_true(st == TW_OK || st == TW_ESIZE);
            if (tw_ring_end(r.ring) == end)
                continue;
            size_t held = 0;
            tw_packet p;
            for (uint64_t s = tw_ring_first(r.ring); s != tw_ring_end(r.ring); s++) {
                assert_int_equal(tw_ring_get(r.ring, s, &p), TW_OK);
                if (s == tw_ring_first(r.ring))
                    assert_true(p.key);
                held += p.size;
            }
            assert_int_equal(held, tw_ring_held(r.ring));
            assert_true(held <= 3000);
            check_packet(r.ring, tw_ring_end(r.ring) - 1, i, sizes[i]);
        }
        free(r.memory);
    }
}

static void test_init_refuses(void **state)
{
    (void)state;
    uint64_t memory[512];
    tw_ring *ring = NULL;
    assert_int_equal(tw_ring_init(NULL, 4096, 8, &ring), TW_EINVAL);
    assert_int_equal(tw_ring_init(memory, 4096, 8, NULL), TW_EINVAL);
    assert_int_equal(tw_ring_init(memory, 4096, 1, &ring), TW_EINVAL);
    assert_int_equal(tw_ring_init(memory, 4096, 2000000, &ring), TW_EINVAL);
    assert_int_equal(tw_ring_init((uint8_t *)memory + 1, 4000, 8, &ring), TW_EINVAL);
    assert_int_equal(tw_ring_init(memory, tw_ring_bytes(8, 0), 8, &ring), TW_ESIZE);
    assert_int_equal(tw_ring_init(memory, tw_ring_bytes(8, 1), 8, &ring), TW_OK);
    assert_int_equal(tw_ring_push(ring, NULL), TW_EINVAL);
    assert_int_equal(tw_ring_push(NULL, NULL), TW_EINVAL);
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
        cmocka_unit_test(test_init_refuses),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
