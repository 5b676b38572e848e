/* Retention: what is dropped and what never is. */
#include <stdlib.h>
#include <string.h>

#include "../../src/station/retention.h"
#include "../support/place.h"
#include "../../src/core/naming.h"

static void test_what_is_too_old_goes(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    p->camera[0].keep_for_us.all = 2 * DAY;
    open_writer(p);
    for (int i = 0; i < 3; i++) {
        (void)capture(p, 0);
        (void)capture(p, 1);
    }
    assert_int_equal(tw_catalogue_star(p->writer.catalogue, 3, true, NULL), TW_OK);
    p->time.now_us += 2 * DAY - 100 * S; /* some are older than that by now */
    (void)capture(p, 1);
    assert_int_equal(held(p, "kerb"), 1); /* the starred one */
    assert_int_equal(held(p, "mere"), 4); /* the other camera keeps all */
    assert_has(p->freed, "kerb: 2 captures dropped, 0.0 MB: older than keep_for");
    leave(p);
}

/* A still of no sighting, now; then a minute passes. */
static void capture_as(place *p, int camera, twi_kind kind)
{
    size_t bytes = 0;
    uint8_t *jpeg = plain_jpeg(64, 48, 90, &bytes);
    twi_job job = {.kind = TWI_JOB_STILL,
                   .what = kind,
                   .channel = &p->channel[camera],
                   .buffer = twi_buffer_adopt(jpeg, bytes),
                   .packet = {.data = jpeg,
                              .size = bytes,
                              .t_us = p->time.now_us,
                              .wall_us = WALL + p->time.now_us}};
    twi_writer_do(&p->writer, &job);
    p->time.now_us += 60 * S;
}

static void capture_timed(place *p, int camera)
{
    capture_as(p, camera, TWI_KIND_TIMED_STILL);
}

static void test_each_kind_has_its_own_limits(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    p->camera[0].keep_for_us.all = 3 * DAY;
    p->camera[0].keep_for_us.kind[TWI_KIND_TIMED_STILL] = DAY;
    p->camera[1].keep_size.kind[TWI_KIND_TIMED_STILL] = 1500;
    open_writer(p);
    for (int i = 0; i < 4; i++) {
        capture_timed(p, 0);
        capture_timed(p, 1);
        (void)capture(p, 0);
        (void)capture(p, 1);
    }
    assert_int_equal(held(p, "mere"), 4 + 1); /* one timed one has room */
    assert_int_equal(held(p, "kerb"), 4 + 4);
    p->time.now_us += 2 * DAY;
    twi_writer_tend(&p->writer);
    assert_int_equal(held(p, "kerb"), 4);
    assert_has(p->freed, "kerb: 4 captures dropped, 0.0 MB: older than keep_for for "
                         "timed-still");
    assert_has(p->freed, "mere: 1 capture dropped, 0.0 MB: more than keep_size for "
                         "timed-still");
    p->time.now_us += 2 * DAY;
    twi_writer_tend(&p->writer);
    assert_int_equal(held(p, "kerb"), 0);
    assert_int_equal(held(p, "mere"), 5);
    leave(p);
}

/* A card that goes down by a fortieth each hour is told when a day is left, once. */
static void test_a_card_that_will_be_full_is_told(void **state)
{
    (void)state;
    enum { CAPACITY = 200000, HOURS = 40 };
    const tw_sim_faults faults = {.capacity = CAPACITY};
    for (int alarms = 0; alarms < 2; alarms++) {
        place *p = make_place(&faults);
        p->station.alarm_after_us = alarms ? 600 * S : 0;
        open_writer(p);
        for (int hour = 1; hour < HOURS - 2; hour++) {
            static const uint8_t bytes[CAPACITY / HOURS];
            char name[32];
            void *file = NULL;
            (void)snprintf(name, sizeof name, "x/%d", hour);
            twi_retention_look(&p->writer);
            p->time.now_us += 3600 * S;
            assert_int_equal(p->card.ops->create(p->card.ctx, name, &file, NULL), TW_OK);
            assert_int_equal(
                p->card.ops->append(p->card.ctx, file, bytes, sizeof bytes, NULL), TW_OK);
            assert_int_equal(p->card.ops->close(p->card.ctx, file, NULL), TW_OK);
            if (hour < HOURS - 26)
                assert_string_equal(p->alarms, "");
        }
        assert_int_equal(
            count_lines(p->alarms, "the card will be full in 24 h: 0.0 GB are free"),
            alarms);
        assert_int_equal(count_lines(p->alarms, "full"), alarms);
        leave(p);
    }
}

/* A clock that has not been set says nothing of age. */
static void test_nothing_is_old_in_1970(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    p->camera[0].keep_for_us.all = DAY;
    p->time.sure_from_us = INT64_MAX;
    open_writer(p);
    (void)capture(p, 0);
    p->time.now_us += 3 * DAY;
    twi_writer_tend(&p->writer);
    assert_int_equal(held(p, "kerb"), 1);
    p->time.sure_from_us = 0; /* it is set, and that was right */
    p->time.now_us += S;
    twi_writer_tend(&p->writer);
    assert_int_equal(held(p, "kerb"), 0);
    leave(p);
}

static void test_what_is_too_much_goes(void **state)
{
    (void)state;
    place *p = make_place(NULL);
    size_t bytes = 0;
    open_writer(p);
    (void)capture(p, 1);
    (void)capture(p, 0);
    const char *name = NULL;
    const uint8_t *data = NULL;
    assert_int_equal(tw_sim_card_file(&p->card, 0, &name, &data, &bytes), TW_OK);
    p->camera[0].keep_size.all = (int64_t)bytes * 3 + 10;
    for (int i = 0; i < 6; i++)
        (void)capture(p, 0);
    assert_int_equal(held(p, "kerb"), 3);
    assert_int_equal(held(p, "mere"), 1);
    assert_has(p->freed, "more than keep_size");
    leave(p);
}

static void test_the_card_is_kept_free(void **state)
{
    (void)state;
    const tw_sim_faults faults = {.capacity = 60000};
    place *p = make_place(&faults);
    p->station.keep_free = 5000;
    open_writer(p);
    const int64_t starred = capture(p, 1);
    assert_int_equal(tw_catalogue_star(p->writer.catalogue, starred, true, NULL), TW_OK);
    for (int i = 0; i < 200; i++) {
        uint64_t free_bytes = 0, total = 0;
        (void)capture(p, i % 2);
        assert_int_equal(p->card.ops->space(p->card.ctx, &free_bytes, &total, NULL),
                         TW_OK);
        assert_true(free_bytes >= 5000);
    }
    assert_int_equal(p->problems.count, 0); /* there was room for each */
    assert_int_equal(held(p, "-001-still"), 1);
    assert_true(held(p, "still") > 10);
    assert_has(p->freed, "station: ");
    leave(p);
}

/* What was recorded whatever happened goes before what was seen, unless it is said. */
static void test_segments_go_first(void **state)
{
    (void)state;
    for (int first = 0; first < 2; first++) {
        const tw_sim_faults faults = {.capacity = 40000};
        place *p = make_place(&faults);
        p->station.keep_free = 5000;
        p->station.goes_first = first;
        open_writer(p);
        for (int i = 0; i < 8; i++)
            (void)capture(p, 0); /* the oldest */
        for (int i = 0; i < 200; i++)
            capture_as(p, 1, TWI_KIND_SEGMENT);
        assert_int_equal(held(p, "-still"), first ? 8 : 0);
        assert_true(held(p, "segment") > 2);
        leave(p);
    }
}

static const char *still_name(const place *p, const char *part)
{
    const char *name = NULL;
    const uint8_t *data = NULL;
    size_t bytes = 0;
    for (size_t i = 0; tw_sim_card_file(&p->card, i, &name, &data, &bytes) == TW_OK; i++)
        if (strstr(name, part))
            return name;
    fail_msg("there is no %s", part);
    return NULL;
}

/* What a destination waits for outlasts what is newer, until there is nothing else. */
static void test_what_is_not_sent_stays(void **state)
{
    (void)state;
    const tw_sim_faults faults = {.capacity = 8000};
    place *p = make_place(&faults);
    tw_error err = {0};
    open_writer(p);
    (void)capture(p, 0);
    (void)capture(p, 0);
    for (int i = 1; i <= 2; i++) {
        const char *name = still_name(p, i == 1 ? "-001-" : "-002-");
        assert_int_equal(twi_outbox_add(p->writer.catalogue, name, "mail", "still", NULL),
                         TW_OK);
    }
    twi_outbox_batch batch;
    assert_int_equal(
        twi_outbox_take(p->writer.catalogue, "mail", true, TWI_TAKE_ONE, &batch, NULL),
        TW_OK); /* the newest: -002- */
    assert_int_equal(twi_outbox_sent(p->writer.catalogue, &batch, WALL, NULL), TW_OK);
    twi_outbox_batch_free(&batch);
    for (int i = 0; i < 20; i++)
        (void)capture(p, 1);
    assert_int_equal(held(p, "-001-"), 1); /* it is still to be sent */
    assert_int_equal(held(p, "-002-"), 0); /* that one was */
    assert_null(strstr(p->freed, "NOT BEEN SENT"));
    for (int i = 0; i < 20; i++) { /* and nothing else may go */
        const int64_t id = capture(p, 1);
        (void)tw_catalogue_star(p->writer.catalogue, id, true, NULL);
    }
    assert_int_equal(held(p, "-001-"), 0);
    assert_has(p->freed, "the card is full, and they had NOT BEEN SENT yet");
    assert_int_equal(
        twi_outbox_add(p->writer.catalogue, "none.jpg", "mail", "still", &err),
        TW_ENOENT);
    assert_has(err.text, "there is no capture none.jpg");
    leave(p);
}

/* A card with nothing that may go: the newest is dropped, and told; then it recovers. */
static void test_a_full_card_stops_nothing(void **state)
{
    (void)state;
    const tw_sim_faults faults = {.capacity = 4000};
    place *p = make_place(&faults);
    open_writer(p);
    int64_t id = 0;
    for (int i = 0; i < 12; i++) {
        id = capture(p, 0);
        (void)tw_catalogue_star(p->writer.catalogue, id, true, NULL);
    }
    assert_true(p->problems.count > 0);
    assert_has(p->problems.text, "no space left");
    const size_t before = held(p, "still");
    assert_int_equal(held(p, TWI_PART), 0);
    assert_int_equal(tw_catalogue_star(p->writer.catalogue, 1, false, NULL), TW_OK);
    (void)capture(p, 0);
    assert_int_equal(held(p, "still"), before);
    assert_int_equal(held(p, "-001-"), 0);
    assert_int_equal(held(p, "-013-"), 1);
    leave(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_card_that_will_be_full_is_told),
        cmocka_unit_test(test_what_is_too_old_goes),
        cmocka_unit_test(test_each_kind_has_its_own_limits),
        cmocka_unit_test(test_nothing_is_old_in_1970),
        cmocka_unit_test(test_what_is_too_much_goes),
        cmocka_unit_test(test_the_card_is_kept_free),
        cmocka_unit_test(test_segments_go_first),
        cmocka_unit_test(test_what_is_not_sent_stays),
        cmocka_unit_test(test_a_full_card_stops_nothing),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
