/* Programs that were built with older or newer headers: their structs are shorter or
 * longer than the library's. What lies behind a short one belongs to somebody else, which
 * the address sanitizer watches. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/sized.h"
#include "../support/support.h"
#include "tawny/detector.h"
#include "tawny/ring.h"
#include "tawny/sighting.h"

enum { SIDE = 64 };

/* What an older program has of a struct: as much as ends before a member. */
#define OLDER(type, member) offsetof(type, member)

typedef struct newer_config {
    tw_detector_config known;
    uint64_t more[4];
} newer_config;

typedef struct newer_reading {
    tw_reading known;
    uint8_t more[32];
} newer_reading;

static void *copy_of(const void *from, size_t bytes)
{
    return memcpy(make_block(bytes), from, bytes);
}

static void test_a_short_struct_is_read_no_further_than_it_goes(void **state)
{
    (void)state;
    const size_t size = OLDER(tw_detector_config, light_guard);
    tw_detector_config usual;
    size_t bytes = 0, of_older = 0;
    tw_detector_defaults(&usual, SIDE, SIDE);
    usual.colour = usual.nearby =
        false;        /* they take memory, and the older one knows neither ... */
    usual.lights = 0; /* ... nor these */
    assert_int_equal(usual.size, sizeof usual);
    tw_detector_config *older = copy_of(&usual, size);
    older->size = size;
    assert_int_equal(tw_detector_bytes(&usual, &bytes), TW_OK);
    assert_int_equal(tw_detector_bytes(older, &of_older), TW_OK);
    assert_int_equal(bytes, of_older);
    free(older);
}

static void test_none_said_stands_for_the_first_version(void **state)
{
    (void)state;
    tw_sighting_config config;
    tw_sighting_watch watch;
    tw_sighting_defaults(&config);
    config.size = 0;
    config.longest_us = 77000000; /* the last of them counts */
    assert_int_equal(tw_sighting_init(&watch, &config), TW_OK);
    assert_int_equal(watch.config.longest_us, 77000000);
    assert_int_equal(watch.config.size, sizeof config);
}

static void test_what_a_newer_program_says_is_not_looked_at(void **state)
{
    (void)state;
    newer_config newer;
    size_t bytes = 0, plain = 0;
    memset(&newer, 0xA5, sizeof newer);
    tw_detector_defaults(&newer.known, SIDE, SIDE);
    assert_int_equal(tw_detector_bytes(&newer.known, &plain), TW_OK);
    newer.known.size = sizeof newer;
    assert_int_equal(tw_detector_bytes(&newer.known, &bytes), TW_OK);
    assert_int_equal(bytes, plain);
}

static void test_a_short_reading_is_written_no_further_than_it_goes(void **state)
{
    (void)state;
    const size_t size = OLDER(tw_reading, whole_picture);
    static uint8_t px[SIDE * SIDE];
    const tw_luma luma = {px, SIDE, SIDE, SIDE};
    tw_detector_config config;
    tw_detector *detector = NULL;
    size_t bytes = 0;
    tw_detector_defaults(&config, SIDE, SIDE);
    config.cells = TW_CELLS_MIN;
    assert_int_equal(tw_detector_bytes(&config, &bytes), TW_OK);
    void *memory = malloc(bytes);
    assert_int_equal(tw_detector_init(&config, memory, bytes, &detector), TW_OK);
    tw_reading *older = make_block(size);
    assert_int_equal(tw_detector_read_sized(detector, &luma, NULL, 5000000, older, size),
                     TW_OK);
    assert_int_equal(older->size, size);
    assert_int_equal(older->t_us, 5000000);
    assert_int_equal(older->earliest_us, 5000000);
    newer_reading newer;
    memset(&newer, 0xA5, sizeof newer);
    assert_int_equal(tw_detector_read_sized(detector, &luma, NULL, 5100000, &newer.known,
                                            sizeof newer),
                     TW_OK);
    assert_int_equal(newer.known.size, sizeof newer);
    assert_int_equal(newer.known.t_us, 5100000);
    for (size_t i = 0; i < sizeof newer.more; i++)
        assert_int_equal(newer.more[i], 0);
    free(older);
    free(memory);
}

static void test_a_watch_that_is_too_small_is_refused(void **state)
{
    (void)state;
    const size_t size = OLDER(tw_sighting_watch, own);
    tw_sighting_config config;
    tw_sighting_defaults(&config);
    tw_sighting_watch *older = make_block(size);
    assert_int_equal(tw_sighting_init_sized(older, &config, size), TW_ESIZE);
    assert_int_equal(older->config.start_ppm, 0); /* nothing is written */
    free(older);
}

static void test_a_short_default_is_no_longer_than_it_was(void **state)
{
    (void)state;
    const size_t size = OLDER(tw_sighting_config, rest_us);
    tw_sighting_config *older = make_block(size);
    tw_sighting_defaults_sized(older, size);
    assert_int_equal(older->size, size);
    assert_int_equal(older->post_us, 8000000);
    free(older);
}

/* A table of functions of an older program's has no more than it had then. */
static void test_a_member_counts_where_it_is_there(void **state)
{
    (void)state;
    tw_ring_config table = {.size = sizeof table};
    assert_true(TWI_HAS(&table, ctx));
    table.size = OLDER(tw_ring_config, ctx);
    assert_false(TWI_HAS(&table, ctx));
    assert_true(TWI_HAS(&table, release));
    table.size = 0; /* as of the first version, which has it */
    assert_true(TWI_HAS(&table, ctx));
}

static void test_ours_begins_with_our_size(void **state)
{
    (void)state;
    const tw_ring_config given = {.size = OLDER(tw_ring_config, ctx), .max_frames = 9};
    tw_ring_config own;
    memset(&own, 0xA5, sizeof own);
    TWI_TAKE(own, &given);
    assert_int_equal(own.size, sizeof own);
    assert_int_equal(own.max_frames, 9);
    assert_null(own.ctx);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_short_struct_is_read_no_further_than_it_goes),
        cmocka_unit_test(test_none_said_stands_for_the_first_version),
        cmocka_unit_test(test_what_a_newer_program_says_is_not_looked_at),
        cmocka_unit_test(test_a_short_reading_is_written_no_further_than_it_goes),
        cmocka_unit_test(test_a_watch_that_is_too_small_is_refused),
        cmocka_unit_test(test_a_short_default_is_no_longer_than_it_was),
        cmocka_unit_test(test_a_member_counts_where_it_is_there),
        cmocka_unit_test(test_ours_begins_with_our_size),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
