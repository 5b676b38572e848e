/* Leaving frames out: how many stay, and that what stays can be decoded. */
#include <string.h>

#include "../../src/core/thin.h"
#include "../support/support.h"

enum { S = 1000000 };

/* A source that goes on for a while. */
typedef struct source {
    uint32_t rate;   /* frames a second */
    uint32_t group;  /* frames of a group of pictures; 1: each stands alone */
    uint32_t uneven; /* microseconds that times are off by, one way or the other */
    uint32_t seconds;
} source;

static uint32_t chance(uint32_t *seed)
{
    *seed = *seed * 1664525u + 1013904223u;
    return *seed >> 8;
}

/* @return how many of its frames stay; gap_us: the longest time without one. */
static uint32_t keep(twi_thin *thin, const source *s, int64_t *gap_us)
{
    uint32_t kept = 0, seed = 7;
    int64_t newest_us = 5 * S;
    *gap_us = 0;
    for (uint32_t i = 0; i < s->rate * s->seconds; i++) {
        tw_packet p = {.t_us = 5 * S + (int64_t)i * S / s->rate,
                       .key = i % s->group == 0};
        if (s->uneven > 0)
            p.t_us += (int64_t)(chance(&seed) % (2 * s->uneven)) - s->uneven;
        if (!twi_thin_keeps(thin, &p))
            continue;
        kept++;
        if (p.t_us - newest_us > *gap_us)
            *gap_us = p.t_us - newest_us;
        newest_us = p.t_us;
    }
    return kept;
}

static void check(uint32_t fps, source s, uint32_t least, uint32_t most, int64_t gap_us)
{
    twi_thin thin = {.fps = fps};
    int64_t gap = 0;
    const uint32_t kept = keep(&thin, &s, &gap);
    if (kept < least || kept > most || gap > gap_us)
        fail_msg("%u of %u fps in groups of %u: %u kept (%u..%u), gap %lld (%lld)",
                 (unsigned)fps, (unsigned)s.rate, (unsigned)s.group, (unsigned)kept,
                 (unsigned)least, (unsigned)most, (long long)gap, (long long)gap_us);
}

static void test_no_more_than_asked(void **state)
{
    (void)state;
    check(10, (source){30, 1, 0, 100}, 990, 1017, 100000);
    check(5, (source){25, 1, 0, 100}, 490, 509, 240000);
    check(7, (source){30, 1, 9000, 100}, 690, 713, 190000);
    check(1, (source){240, 1, 0, 100}, 98, 103, 1010000);
    check(10, (source){25, 50, 0, 100}, 950, 1020, 2 * S);
    check(1, (source){25, 10, 0, 100}, 90, 103, 1300000);
    check(1, (source){25, 250, 0, 100}, 85, 103, 10 * S);
}

static void test_what_is_slower_stays_whole(void **state)
{
    (void)state;
    check(0, (source){30, 1, 0, 100}, 3000, 3000, S);
    check(10, (source){10, 1, 0, 2000}, 20000, 20000, S);
    check(3, (source){3, 1, 0, 2000}, 6000, 6000, S);
    check(10, (source){10, 1, 30000, 2000}, 19900, 20000, S); /* uneven, but no faster */
    check(10, (source){5, 25, 0, 100}, 500, 500, S);
    check(30, (source){30, 60, 5000, 100}, 2990, 3000, S);
}

/* After a pause of a minute no rush follows. */
static void test_a_pause_brings_no_rush(void **state)
{
    (void)state;
    twi_thin thin = {.fps = 5};
    uint32_t kept = 0;
    tw_packet p = {.t_us = 0, .key = true};
    assert_true(twi_thin_keeps(&thin, &p));
    for (int i = 0; i < 30; i++) {
        p.t_us = 60 * S + i * S / 30;
        kept += twi_thin_keeps(&thin, &p);
    }
    assert_in_range(kept, 5, 7);
}

/* Whether a packet may be decoded: its group has been kept from its key on. Pictures that
 * are shown before their key need the group before that one, too. */
static void test_what_stays_can_be_decoded(void **state)
{
    (void)state;
    static const struct {
        uint32_t fps, group;
    } cases[] = {{1, 5}, {2, 12}, {5, 12}, {5, 50}, {24, 12}, {10, 3}};
    for (size_t c = 0; c < sizeof cases / sizeof cases[0]; c++) {
        twi_thin thin = {.fps = cases[c].fps};
        bool whole = false, before = false;
        uint32_t kept = 0, leading = 0;
        for (uint32_t i = 0; i < 3000; i++) {
            const uint32_t at = i % cases[c].group;
            tw_packet p = {.t_us = (int64_t)i * 40000, .key = at == 0};
            const bool leads =
                at == 1 || at == 2; /* shown before the key, decoded after */
            if (at == 0)
                p.t_us += 80000;
            else if (leads)
                p.t_us -= 40000;
            const bool keeps = twi_thin_keeps(&thin, &p);
            if (at == 0) {
                before = whole;
                whole = keeps;
            } else if (!leads) {
                if (keeps && !whole)
                    fail_msg("case %zu: packet %u is kept, one before it was not", c, i);
                whole = whole && keeps;
            }
            if (leads && keeps && (!before || !whole))
                fail_msg("case %zu: picture %u needs what was left out", c, i);
            kept += keeps;
            leading += leads && keeps;
        }
        assert_in_range(kept, cases[c].fps * 120 * 8 / 10,
                        cases[c].fps * 120 * 105 / 100);
        if (cases[c].fps < 24)
            assert_true(leading < kept);
    }
}

/* Footage that begins again, or a clock that goes back. */
static void test_times_that_go_back(void **state)
{
    (void)state;
    twi_thin thin = {.fps = 10};
    uint32_t kept = 0;
    for (int round = 0; round < 3; round++)
        for (int i = 0; i < 300; i++) {
            const tw_packet p = {.t_us = (int64_t)i * S / 30, .key = true};
            kept += twi_thin_keeps(&thin, &p);
        }
    assert_in_range(kept, 300, 315);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_no_more_than_asked),
        cmocka_unit_test(test_what_is_slower_stays_whole),
        cmocka_unit_test(test_a_pause_brings_no_rush),
        cmocka_unit_test(test_what_stays_can_be_decoded),
        cmocka_unit_test(test_times_that_go_back),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
