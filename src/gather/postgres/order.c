/* See order.h. */
#include "order.h"

#include <stdlib.h>
#include <string.h>

static int by_head(const twi_heard *a, const twi_heard *b)
{
    const int station = strcmp(a->station, b->station);
    return station != 0 ? station : strcmp(a->series, b->series);
}

/* That a number is gone is no word, where there is a record. */
static int compare(const void *x, const void *y)
{
    const twi_heard *a = *(const twi_heard *const *)x, *b = *(const twi_heard *const *)y;
    const int head = by_head(a, b);
    if (head != 0)
        return head;
    if (a->number != b->number)
        return a->number < b->number ? -1 : 1;
    if (a->phase != b->phase)
        return a->phase < b->phase ? -1 : 1;
    return (a < b) - (a > b); /* places in the batch: who came later is first */
}

tw_status twi_pg_order_begin(twi_pg_order *order, const twi_heard *batch, size_t count,
                             tw_error *err)
{
    *order = (twi_pg_order){.one = calloc(count + 1, sizeof *order->one), .count = count};
    if (!order->one)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    for (size_t i = 0; i < count; i++)
        order->one[i] = &batch[i];
    qsort(order->one, count, sizeof *order->one, compare);
    return TW_OK;
}

void twi_pg_order_free(twi_pg_order *order)
{
    free(order->one);
}

bool twi_pg_is_head(const twi_pg_order *order, size_t i)
{
    return i == 0 || by_head(order->one[i - 1], order->one[i]) != 0;
}

bool twi_pg_is_seen(const twi_heard *heard)
{
    return heard->kind == TWI_HEARD_SIGHTING || heard->kind == TWI_HEARD_GONE;
}
