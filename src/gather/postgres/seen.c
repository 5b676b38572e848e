/* Sightings, which are most of what comes: what of them is there is asked for, and what
 * is not goes to its place by COPY, its text once. That nothing comes in between is sure:
 * who puts something holds its stations. */
#include <stdlib.h>

#include "bulk.h"

/* Of each head its series. */
static const char HEADS[] = "SELECT h.at, r.id FROM head h"
                            " JOIN station s ON s.name = h.station"
                            " JOIN series r ON r.station = s.id AND r.word = h.series";

/* What is there of numbers, looked up one by one however few the server believes there
 * are (LIMIT). */
static const char TOLD[] =
    "SELECT v.at, t.phase, t.start_us"
    " FROM unnest($1::bigint[], $2::bigint[], $3::bigint[]) AS v(at, series, number)"
    " CROSS JOIN LATERAL (SELECT phase, start_us FROM told"
    " WHERE series = v.series AND number = v.number LIMIT 1) t";

static const char MOVED[] =
    "UPDATE told t SET phase = 1, start_us = v.start_us"
    " FROM unnest($1::bigint[], $2::bigint[], $3::bigint[]) AS v(series, number, start_us)"
    " WHERE t.series = v.series AND t.number = v.number";

static const char BEFORE[] =
    "DELETE FROM sighting g USING"
    " unnest($1::bigint[], $2::bigint[], $3::bigint[]) AS v(series, number, start_us)"
    " WHERE g.series = v.series AND g.number = v.number AND g.start_us = v.start_us";

/* Of one number the last word, and what is there of it. */
typedef struct number {
    const twi_heard *h;
    size_t head;
    int64_t series;
    int64_t phase; /* twi_phase; 0: nothing is there */
    int64_t start_us;
} number;

typedef struct numbers {
    number *one;
    size_t count, heads;
} numbers;

/* ---- what came ------------------------------------------------------------------- */

/* Each once: of one number the first in order is the last word. */
static tw_status list_numbers(const twi_pg_order *order, numbers *n, tw_error *err)
{
    n->one = calloc(order->count + 1, sizeof *n->one);
    if (!n->one)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    for (size_t i = 0; i < order->count; i++) {
        const twi_heard *h = order->one[i];
        const number *last = n->count > 0 ? &n->one[n->count - 1] : NULL;
        n->heads += twi_pg_is_head(order, i) ? 1 : 0;
        if (!twi_pg_is_seen(h) ||
            (last && last->head == n->heads - 1 && last->h->number == h->number))
            continue;
        n->one[n->count++] = (number){.h = h, .head = n->heads - 1};
    }
    return TW_OK;
}

static tw_status find_series(twi_ledger *l, numbers *n, tw_error *err)
{
    PGresult *r = NULL;
    int64_t *series = calloc(n->heads + 1, sizeof *series);
    if (!series)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = twi_pg_ask_again(l, HEADS, 0, NULL, &r, err);
    for (int i = 0; st == TW_OK && i < PQntuples(r); i++)
        series[twi_pg_number(r, i, 0)] = twi_pg_number(r, i, 1);
    for (size_t i = 0; st == TW_OK && i < n->count; i++)
        n->one[i].series = series[n->one[i].head];
    free(series);
    PQclear(r);
    return st;
}

static tw_status find_told(twi_ledger *l, numbers *n, tw_error *err)
{
    PGresult *r = NULL;
    twi_pg_lists lists;
    tw_status st = twi_pg_lists_begin(&lists, 3, err);
    for (size_t i = 0; st == TW_OK && i < n->count; i++) {
        const int64_t row[] = {(int64_t)i, n->one[i].series, n->one[i].h->number};
        twi_pg_list(&lists, row);
    }
    if (st == TW_OK)
        st = twi_pg_ask_lists(l, TOLD, &lists, &r, err);
    for (int i = 0; st == TW_OK && r && i < PQntuples(r); i++) {
        number *one = &n->one[twi_pg_number(r, i, 0)];
        one->phase = twi_pg_number(r, i, 1);
        one->start_us = twi_pg_number(r, i, 2);
    }
    twi_pg_lists_free(&lists);
    PQclear(r);
    return st;
}

/* ---- to its place ---------------------------------------------------------------- */

/* What is to be done with what came. */
typedef struct plan {
    twi_pg_rows told, sightings; /* new */
    twi_pg_lists moved;          /* told already: they lie elsewhere from now on */
    twi_pg_lists before;         /* the record from before goes */
} plan;

static tw_status plan_begin(plan *p, tw_error *err)
{
    tw_status st = twi_pg_rows_begin(&p->told, err);
    if (st == TW_OK)
        st = twi_pg_rows_begin(&p->sightings, err);
    if (st == TW_OK)
        st = twi_pg_lists_begin(&p->moved, 3, err);
    if (st == TW_OK)
        st = twi_pg_lists_begin(&p->before, 3, err);
    return st;
}

static void plan_free(plan *p)
{
    twi_pg_rows_free(&p->told);
    twi_pg_rows_free(&p->sightings);
    twi_pg_lists_free(&p->moved);
    twi_pg_lists_free(&p->before);
}

static void plan_told(plan *p, const number *n)
{
    (void)fprintf(p->told.out, "%lld\t%lld\t%d\t%lld\n", (long long)n->series,
                  (long long)n->h->number, (int)n->h->phase, (long long)n->h->start_us);
}

static void plan_sighting(plan *p, const number *n)
{
    const twi_heard *h = n->h;
    FILE *out = p->sightings.out;
    (void)fprintf(out, "%lld\t%lld", (long long)n->series, (long long)h->number);
    twi_pg_field(out, h->camera);
    (void)fprintf(out, "\t%d\t%lld\t%lld\t%u", (int)h->phase, (long long)h->start_us,
                  (long long)h->end_us, (unsigned)h->peak_ppm);
    twi_pg_field(out, h->name);
    (void)fprintf(out, "\t%lld", (long long)h->count);
    twi_pg_field(out, h->mark);
    twi_pg_field(out, h->text);
    (void)fputc('\n', out);
}

/* Whose clock was set meanwhile lies in another place. */
static void plan_again(plan *p, const number *n)
{
    const int64_t now[] = {n->series, n->h->number, n->h->start_us},
                  was[] = {n->series, n->h->number, n->start_us};
    const bool over = n->phase == TWI_PHASE_OVER;
    if (over)
        twi_pg_list(&p->before, was);
    if (!over || n->start_us != n->h->start_us)
        twi_pg_list(&p->moved, now);
}

static void plan_one(plan *p, const number *n)
{
    const bool over = n->h->phase == TWI_PHASE_OVER;
    if (n->phase == 0)
        plan_told(p, n);
    else if (over)
        plan_again(p, n);
    if (over)
        plan_sighting(p, n);
}

static tw_status plan_do(plan *p, twi_ledger *l, tw_error *err)
{
    tw_status st = twi_pg_ask_lists(l, BEFORE, &p->before, NULL, err);
    if (st == TW_OK)
        st = twi_pg_ask_lists(l, MOVED, &p->moved, NULL, err);
    if (st == TW_OK)
        st = twi_pg_copy(l, "COPY told FROM STDIN", &p->told, err);
    if (st == TW_OK)
        st = twi_pg_copy(l, "COPY sighting FROM STDIN", &p->sightings, err);
    return st;
}

tw_status twi_pg_put_seen(twi_ledger *l, const twi_pg_order *order, tw_error *err)
{
    plan p = {0};
    numbers n = {0};
    tw_status st = list_numbers(order, &n, err);
    if (st == TW_OK && n.count > 0)
        st = find_series(l, &n, err);
    if (st == TW_OK)
        st = find_told(l, &n, err);
    if (st == TW_OK)
        st = plan_begin(&p, err);
    for (size_t i = 0; st == TW_OK && i < n.count; i++)
        plan_one(&p, &n.one[i]);
    if (st == TW_OK)
        st = plan_do(&p, l, err);
    plan_free(&p);
    free(n.one);
    return st;
}
