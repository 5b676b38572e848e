/* What it costs to take in what many stations tell: messages read and put into a ledger,
 * on one thread, against COPY of the same rows into a table with the same indexes; then a
 * station's day, and the newest hundred of all, out of all of it. TAWNY_RECORDS says how
 * many records there are. Exit 1 if a limit is missed. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>

#include "seconds.h"
#include "../src/core/civil.h"
#include "../src/gather/ledger.h"
#include "../tests/support/postgres.h"

enum {
    STATIONS = 1000,
    BATCH = TWI_LEDGER_BATCH,
    ROUNDS = 200,
    RATE_MIN = 5000, /* records a second on the server */
    TIMES_MAX = 3,   /* of COPY */
    SERVER_ROUNDS = 3,
    DAY_MS_MAX = 50,
    VIEW_MS_MAX = 100
};

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S)

static void die(const tw_error *err)
{
    (void)fprintf(stderr, "bench: %s\n", err->text);
    exit(2);
}

static size_t records(void)
{
    const char *text = getenv("TAWNY_RECORDS");
    return text ? (size_t)atoll(text) : 100000;
}

/* The i-th of all: a season's, as long as real ones. */
static void message(size_t i, char topic[64], char text[1024])
{
    char start[TWI_UTC_MAX], end[TWI_UTC_MAX];
    const int64_t t_us = WALL + (int64_t)i * (90 * 86400 * S / (int64_t)records());
    (void)snprintf(topic, 64, "lane/s%04zu/kerb/sighting", i % STATIONS);
    (void)snprintf(
        text, 1024,
        "{\"type\":\"sighting\",\"number\":%zu,\"camera\":\"kerb\",\"part\":1,\"start\":\"%s\",\"end\":\"%s\",\"seconds\":12.0,\"peak\":1.3,\"frames\":104,\"why\":\"1.20 "
        "%% of the watched area moved (start_at 0.05 %%), one blob of 1.20 %% at the "
        "left, 2 of 3 "
        "frames\",\"starred\":false,\"unsure\":false,\"stills\":1,\"clips\":1,\"bytes\":948210,\"sent\":0,\"unsent\":2,\"mark\":\"none\",\"station\":\"s%04zu\",\"captures\":[{\"type\":\"capture\",\"camera\":\"kerb\",\"kind\":\"still\",\"file\":\"2027-03-13/kerb/kerb-20270313T210408.100+0000-%zu-still.jpg\",\"start\":\"%s\",\"bytes\":48210}],\"phase\":\"end\",\"series\":\"9f0c2a7be1d44c08\"}",
        i / STATIONS + 1, twi_utc(t_us, start), twi_utc(t_us + 12 * S, end), i % STATIONS,
        i, start);
}

typedef struct told {
    char topic[64], text[1024];
} told;

/* Read and put what one was told: what of it is measured. @return s, of these reading */
static double take_in(const twi_ledger_kind *kind, twi_ledger *l, const told *what,
                      twi_heard *batch, size_t count, int64_t now_us)
{
    tw_error err = {0};
    const double before = seconds();
    for (size_t i = 0; i < count; i++)
        if (twi_heard_read("lane", what[i].topic, what[i].text, strlen(what[i].text),
                           &batch[i]) != TW_OK)
            die(&(tw_error){.text = "a message was not read"});
    const double read_s = seconds() - before;
    if (kind->put(l, batch, count, now_us, &err) != TW_OK)
        die(&err);
    for (size_t i = 0; i < count; i++)
        twi_heard_clear(&batch[i]);
    return read_s;
}

/* @return s, of which read_s (added up) went into reading */
static double put_all(const twi_ledger_kind *kind, twi_ledger *l, double *read_s)
{
    twi_heard *batch = calloc(BATCH, sizeof *batch);
    told *what = calloc(BATCH, sizeof *what);
    double taken = 0;
    for (size_t i = 0; i < records(); i += BATCH) {
        const size_t left = records() - i, n = left < BATCH ? left : BATCH;
        for (size_t k = 0; k < n; k++)
            message(i + k, what[k].topic, what[k].text);
        const double before = seconds();
        *read_s += take_in(kind, l, what, batch, n, WALL + (int64_t)i);
        taken += seconds() - before;
    }
    free(batch);
    free(what);
    return taken;
}

/* COPY of what is there now, into tables with the same indexes. */
static double copy_all(const char *folder)
{
    char command[1536];
    (void)snprintf(command, sizeof command,
                   "P='psql -q -v ON_ERROR_STOP=1 -h %s/pg -U postgres postgres'; "
                   "for t in sighting told; do $P -c "
                   "\"CREATE TABLE floor_$t (LIKE $t INCLUDING INDEXES)\" -c "
                   "\"\\copy (SELECT * FROM $t) TO %s/$t\" || exit 1; done; "
                   "date +%%s.%%N; for t in sighting told; do "
                   "$P -c \"\\copy floor_$t FROM %s/$t\" || exit 1; done; date +%%s.%%N; "
                   "rm -f %s/sighting %s/told",
                   folder, folder, folder, folder, folder);
    outcome o = run_program(NULL, "/bin/sh", "-c", command, NULL);
    double from = 0, to = 0;
    if (sscanf(o.out, "%lf %lf", &from, &to) != 2)
        die(&(tw_error){.text = "COPY did not work"});
    free_outcome(&o);
    return to - from;
}

static void take(void *ctx, const twi_ledger_sighting *s)
{
    (void)s;
    ++*(size_t *)ctx;
}

static int by_value(const void *a, const void *b)
{
    const double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

/* The 95th percentile of a question, ms. */
static double ask(const twi_ledger_kind *kind, twi_ledger *l, bool day)
{
    double ms[ROUNDS];
    size_t found = 0;
    for (int i = 0; i < ROUNDS; i++) {
        char station[16];
        tw_error err = {0};
        (void)snprintf(station, sizeof station, "s%04d", i * 7 % STATIONS);
        const int64_t from_us = WALL + i % 89 * 86400 * S;
        const char *const one[] = {station};
        char *stations = day ? twi_ledger_names(one, 1) : NULL;
        const twi_ledger_filter f = {.stations = stations,
                                     .from_us = from_us,
                                     .until_us = from_us + 86400 * S,
                                     .most = day ? 0 : 100};
        const double before = seconds();
        if (kind->sightings(l, &f, take, &found, &err) != TW_OK)
            die(&err);
        ms[i] = (seconds() - before) * 1e3;
        free(stations);
    }
    if (found == 0)
        die(&(tw_error){.text = "nothing was found"});
    qsort(ms, ROUNDS, sizeof *ms, by_value);
    return ms[ROUNDS * 95 / 100];
}

static long kept_kb(void)
{
    struct rusage r;
    (void)getrusage(RUSAGE_SELF, &r);
    return r.ru_maxrss;
}

/* What one round measured. */
typedef struct round {
    double rate, times; /* records a second; of COPY */
    bool quick;         /* questions are answered in time */
} round;

static round measure(const char *what, const char *place, const char *folder)
{
    tw_error err = {0};
    twi_ledger *l = NULL;
    const twi_ledger_kind *kind = twi_ledger_find(place, &err);
    if (!kind || kind->open(place, &l, &err) != TW_OK)
        die(&err);
    double read_s = 0, read_again_s = 0;
    const double put_s = put_all(kind, l, &read_s),
                 again_s = put_all(kind, l, &read_again_s);
    const double day_ms = ask(kind, l, true), view_ms = ask(kind, l, false);
    kind->close(l);
    round r = {.rate = (double)records() / put_s,
               .quick = day_ms <= DAY_MS_MAX && view_ms <= VIEW_MS_MAX};
    (void)printf(
        "%s: %.0f records a second, %.0f the second time; a station's day %.1f ms, "
        "a hundred of a day of all %.1f ms (95th percentile); %ld MB kept\n",
        what, r.rate, (double)records() / again_s, day_ms, view_ms, kept_kb() / 1024);
    if (folder) {
        const double copy_s = copy_all(folder);
        r.times = put_s / copy_s;
        (void)printf(
            "%s: %.1f times COPY of the same rows (%.0f a second), of these %.1f "
            "reading JSON\n",
            what, r.times, (double)records() / copy_s, read_s / copy_s);
    }
    return r;
}

static void empty_server(const char *folder)
{
    char *at = join(folder, "pg");
    outcome o = run_program(NULL, "psql", "-q", "-h", at, "-U", "postgres", "-c",
                            "DROP SCHEMA public CASCADE", "-c", "CREATE SCHEMA public",
                            "postgres", NULL);
    if (o.code != 0)
        die(&(tw_error){.text = "the server was not emptied"});
    free_outcome(&o);
    free(at);
}

/* Three rounds, since others use the machine as well: the one in the middle counts. */
static bool measure_server(const char *server, const char *folder)
{
    double rate[SERVER_ROUNDS], times[SERVER_ROUNDS];
    bool quick = true;
    for (int i = 0; i < SERVER_ROUNDS; i++) {
        if (i > 0)
            empty_server(folder);
        const round r = measure("server", server, folder);
        rate[i] = r.rate;
        times[i] = r.times;
        quick = quick && r.quick;
    }
    qsort(rate, SERVER_ROUNDS, sizeof *rate, by_value);
    qsort(times, SERVER_ROUNDS, sizeof *times, by_value);
    (void)printf("server: %.0f records a second (asked %d), %.1f times COPY (asked %d)\n",
                 rate[SERVER_ROUNDS / 2], RATE_MIN, times[SERVER_ROUNDS / 2], TIMES_MAX);
    return quick && rate[SERVER_ROUNDS / 2] >= RATE_MIN &&
           times[SERVER_ROUNDS / 2] <= TIMES_MAX;
}

int main(void)
{
    char *folder = make_folder(), *file = join(folder, "all.db");
    char *server = start_postgres(folder);
    (void)printf("%zu records of %d stations\n", records(), STATIONS);
    bool good = measure("file", file, NULL).quick;
    good = measure_server(server, folder) && good;
    stop_postgres(folder);
    remove_folder(folder);
    free(file);
    free(server);
    return good ? 0 : 1;
}
