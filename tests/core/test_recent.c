/* Trying zones on what moved in the last minute. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

enum { S = 1000000, COLUMNS = 10, ROWS = 6, CELLS = COLUMNS * ROWS };

static const tw_grid grid = {COLUMNS, ROWS, 8, 80, 48};

typedef struct tally {
    size_t frames;
    uint32_t most_ppm, area_ppm[TW_AREAS_MAX];
    int64_t first_us, last_us;
} tally;

static void add_up(void *ctx, const tw_reading *r)
{
    tally *t = ctx;
    t->first_us = t->frames == 0 ? r->t_us : t->first_us;
    t->last_us = r->t_us;
    t->frames++;
    if (r->activity_ppm > t->most_ppm)
        t->most_ppm = r->activity_ppm;
    memcpy(t->area_ppm, r->area_ppm, sizeof t->area_ppm);
}

static twi_recent *make(void)
{
    return twi_recent_init(malloc(twi_recent_bytes(&grid)), &grid);
}

static void add(twi_recent *r, int64_t t_us, const uint8_t *cells)
{
    const tw_reading reading = {.t_us = t_us, .grid = grid, .cells = cells};
    assert_int_equal(twi_recent_add(r, &reading), TW_OK);
}

static void test_only_what_is_watched_counts(void **state)
{
    (void)state;
    uint8_t cells[CELLS], mask[CELLS];
    tally t = {0};
    twi_recent *r = make();
    memset(cells, TW_CELL_WATCHED, sizeof cells);
    cells[0] |= TW_CELL_MOVING | TW_CELL_COUNTED;
    cells[1] |= TW_CELL_MOVING | TW_CELL_COUNTED;
    cells[2] |= TW_CELL_MOVING | TW_CELL_SIZE;   /* taken: it does not count */
    cells[3] |= TW_CELL_MOVING | TW_CELL_TRAVEL; /* nor does that */
    add(r, S, cells);
    memset(mask, 1, sizeof mask);
    assert_int_equal(twi_recent_walk(r, mask, add_up, &t), 1);
    assert_int_equal(t.most_ppm, 2 * 1000000 / CELLS);
    mask[0] = 0;
    t = (tally){0};
    (void)twi_recent_walk(r, mask, add_up, &t);
    assert_int_equal(t.most_ppm, 1000000 / (CELLS - 1));
    mask[1] = 0;
    t = (tally){0};
    (void)twi_recent_walk(r, mask, add_up, &t);
    assert_int_equal(t.most_ppm, 0);
    free(r);
}

static void test_what_was_ignored_counts_once_it_is_watched(void **state)
{
    (void)state;
    uint8_t cells[CELLS] = {0}, mask[CELLS];
    tally t = {0};
    twi_recent *r = make();
    cells[7] = TW_CELL_MOVING;
    add(r, S, cells);
    memset(mask, 1, sizeof mask);
    (void)twi_recent_walk(r, mask, add_up, &t);
    assert_int_equal(t.most_ppm, 1000000 / CELLS);
    free(r);
}

static void test_zones_with_limits_are_shares_of_themselves(void **state)
{
    (void)state;
    uint8_t cells[CELLS], mask[CELLS];
    tally t = {0};
    twi_recent *r = make();
    memset(cells, TW_CELL_WATCHED, sizeof cells);
    cells[0] |= TW_CELL_MOVING | TW_CELL_COUNTED;
    add(r, S, cells);
    memset(mask, 1, sizeof mask);
    mask[0] = mask[1] = mask[2] = mask[3] = 2;
    (void)twi_recent_walk(r, mask, add_up, &t);
    assert_int_equal(t.area_ppm[0], 0);
    assert_int_equal(t.area_ppm[1], 250000);
    memset(mask, 200, sizeof mask); /* no area has that number */
    assert_int_equal(twi_recent_walk(r, mask, add_up, &t), 1);
    free(r);
}

static void test_a_minute_is_kept_at_ten_a_second(void **state)
{
    (void)state;
    uint8_t cells[CELLS] = {0}, mask[CELLS];
    tally t = {0};
    twi_recent *r = make();
    for (int i = 0; i < 4000; i++)
        add(r, 40000 * (int64_t)i, cells); /* 25 a second */
    memset(mask, 1, sizeof mask);
    const size_t frames = twi_recent_walk(r, mask, add_up, &t);
    assert_int_equal(frames, t.frames);
    assert_true(t.frames > 450 && t.frames <= TWI_RECENT_FRAMES);
    assert_true(t.last_us >= 40000 * INT64_C(3996));
    assert_true(t.last_us - t.first_us <= TWI_RECENT_SPAN_US);
    assert_int_equal(twi_recent_walk(r, mask, NULL, NULL), t.frames);
    free(r);
}

static void test_a_clock_that_jumps_back(void **state)
{
    (void)state;
    uint8_t cells[CELLS] = {0}, mask[CELLS];
    tally t = {0};
    twi_recent *r = make();
    memset(mask, 1, sizeof mask);
    assert_int_equal(twi_recent_walk(r, mask, add_up, &t), 0);
    add(r, 900 * (int64_t)S, cells);
    add(r, 10 * S, cells);
    assert_int_equal(twi_recent_walk(r, mask, add_up, &t), 1);
    assert_int_equal(t.first_us, 10 * S);
    free(r);
}

static void test_another_grid_is_refused(void **state)
{
    (void)state;
    twi_recent *r = make();
    tw_reading reading = {.t_us = 1, .grid = grid};
    reading.grid.columns--;
    assert_int_equal(twi_recent_add(r, &reading), TW_ESIZE);
    assert_int_equal(twi_recent_grid(r).columns, COLUMNS);
    free(r);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_only_what_is_watched_counts),
        cmocka_unit_test(test_what_was_ignored_counts_once_it_is_watched),
        cmocka_unit_test(test_zones_with_limits_are_shares_of_themselves),
        cmocka_unit_test(test_a_minute_is_kept_at_ten_a_second),
        cmocka_unit_test(test_a_clock_that_jumps_back),
        cmocka_unit_test(test_another_grid_is_refused)};
    return cmocka_run_group_tests(tests, NULL, NULL);
}
