/* What is to be told: in order, by several threads, and not without end. */
#include <pthread.h>
#include <stdlib.h>

#include "../support/support.h"

#include "../../src/gather/totell.h"

static void test_it_comes_in_the_order_that_it_was_put_in(void **state)
{
    (void)state;
    char text[16];
    twi_to_tell *q = twi_to_tell_new();
    assert_null(twi_to_tell_take(q));
    for (int round = 0; round < 3; round++) {
        for (int i = 0; i < 5; i++) {
            (void)snprintf(text, sizeof text, "%d", i);
            assert_true(twi_to_tell_put(q, "north", "order", text));
        }
        for (int i = 0; i < 5; i++) {
            twi_word *w = twi_to_tell_take(q);
            assert_non_null(w);
            assert_string_equal(w->station, "north");
            assert_string_equal(w->what, "order");
            assert_int_equal(atoi(w->text), i);
            free(w);
        }
        assert_null(twi_to_tell_take(q));
    }
    twi_to_tell_free(q);
}

static void test_so_many_wait_and_no_more(void **state)
{
    (void)state;
    twi_to_tell *q = twi_to_tell_new();
    for (int i = 0; i < TWI_TO_TELL_MAX; i++)
        assert_true(twi_to_tell_put(q, "north", "order", "{}"));
    assert_false(twi_to_tell_put(q, "north", "order", "{}"));
    free(twi_to_tell_take(q));
    assert_true(twi_to_tell_put(q, "north", "order", "{}"));
    twi_to_tell_free(q); /* with all that is in it */
    twi_to_tell_free(NULL);
}

enum { THREADS = 4, EACH = 2000 };

static void *put_many(void *ctx)
{
    for (int i = 0; i < EACH; i++)
        (void)twi_to_tell_put(ctx, "mere", "order", "{}");
    return NULL;
}

static void test_threads_share_it(void **state)
{
    (void)state;
    pthread_t threads[THREADS];
    int taken = 0;
    twi_to_tell *q = twi_to_tell_new();
    for (size_t i = 0; i < THREADS; i++)
        assert_int_equal(pthread_create(&threads[i], NULL, put_many, q), 0);
    while (taken < THREADS * EACH) {
        twi_word *w = twi_to_tell_take(q);
        taken += w != NULL;
        free(w);
    }
    for (size_t i = 0; i < THREADS; i++)
        (void)pthread_join(threads[i], NULL);
    assert_null(twi_to_tell_take(q));
    twi_to_tell_free(q);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_it_comes_in_the_order_that_it_was_put_in),
        cmocka_unit_test(test_so_many_wait_and_no_more),
        cmocka_unit_test(test_threads_share_it),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
