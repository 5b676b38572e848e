/* What the page of many stations costs over a season of sightings on a server: a group's
 * day, and the start view, as a browser asks for them. TAWNY_RECORDS says how many
 * sightings there are, a hundred a day of each station. Exit 1 if a limit is missed. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>

#include "seconds.h"
#include "../src/core/civil.h"
#include "../src/gather/ledger.h"
#include "../src/many/many.h"
#include "../tests/support/postgres.h"
#include "../tests/support/site.h"
#include "tawny/settings.h"

enum {
    DAYS = 100,
    A_DAY = 100,
    GROUP = 20, /* stations of a group */
    GROUPS_MAX = 20,
    ROUNDS = 100,
    DAY_MS_MAX = 50,
    START_MS_MAX = 100
};

#define S INT64_C(1000000)
#define DAY (86400 * S)
#define WALL (INT64_C(1804982400) * S) /* a midnight; the season ends there */

static void die(const char *why)
{
    (void)fprintf(stderr, "bench: %s\n", why);
    exit(2);
}

static long records(void)
{
    const char *text = getenv("TAWNY_RECORDS");
    return text ? atol(text) : 200000;
}

static int stations(void)
{
    const long n = records() / (DAYS * A_DAY);
    return n < GROUP ? GROUP : (int)n;
}

/* By the first digits of their stations' names. */
static int groups(void)
{
    const int n = stations() / GROUP;
    return n < GROUPS_MAX ? n : GROUPS_MAX;
}

/* The months get their places by records that are put; the rest comes as rows, and the
 * evenings have ten times what nights' ends have. */
static void fill(const char *server, const char *folder)
{
    static const char SQL[] =
        "INSERT INTO station(name, state, heard_us, usual_us, text) SELECT 's' || "
        "lpad(i::text, 5, '0'), 'up', %lld, 60000000, "
        "'{\"version\":\"0.1.0\",\"store\":{\"card\":true,\"free_bytes\":9000000000,\"total_bytes\":32000000000}}' "
        "FROM generate_series(0, %d) i ON CONFLICT DO NOTHING; INSERT INTO "
        "series(station, word, last_number) SELECT id, '9f0c2a7be1d44c08', %ld FROM "
        "station ON CONFLICT DO NOTHING; INSERT INTO camera SELECT id, 'kerb', "
        "'armed', %lld, '{\"fps\":10,\"latitude\":52.1,\"longitude\":-1.25}' FROM "
        "station ON CONFLICT DO NOTHING; INSERT INTO sighting SELECT r.id, n, 'kerb', "
        "1, t, t + 12000000, 13000, CASE n %% 3 WHEN 0 THEN 'Bufo bufo' ELSE '' END, "
        "1, 'none', '{\"type\":\"sighting\",\"why\":\"1.20 %% of the watched area "
        "moved (start_at 0.05 %%), one blob of 1.20 %% at the left, 2 of 3 "
        "frames\",\"starred\":false,\"bytes\":948210,\"mark\":\"none\",\"captures\":[{\"kind\":\"still\",\"file\":\"2027-03-13/kerb/kerb-20270313T210408.100+0000-004-still.jpg\",\"start\":\"2027-03-13T21:04:08.000Z\",\"bytes\":48210}]}' "
        "FROM series r CROSS JOIN LATERAL (SELECT n, %lld + ((n - 1) / %d) * "
        "86400000000::bigint + (75600 + 9000 * (random() + random() - 1) * (1 + 3 * (n "
        "%% 3)))::bigint * 1000000 - 86400000000::bigint AS t FROM generate_series(2, "
        "%ld) n) x ORDER BY t ON CONFLICT DO NOTHING; ANALYZE";
    char sql[4096];
    twi_ledger *l = NULL;
    tw_error err = {0};
    const twi_ledger_kind *kind = twi_ledger_find(server, &err);
    if (!kind || kind->open(server, &l, &err) != TW_OK)
        die(err.text);
    for (int day = -DAYS - 3; day <= 3; day += 20) {
        twi_heard h = {.kind = TWI_HEARD_SIGHTING,
                       .station = "s00000",
                       .camera = "kerb",
                       .series = "9f0c2a7be1d44c08",
                       .number = 1,
                       .phase = TWI_PHASE_OVER,
                       .start_us = WALL + day * DAY,
                       .text = (char *)(uintptr_t) "{}"};
        if (kind->put(l, &h, 1, WALL, &err) != TW_OK)
            die(err.text);
    }
    kind->close(l);
    const long each = records() / stations();
    (void)snprintf(sql, sizeof sql, SQL, (long long)WALL, stations() - 1, each,
                   (long long)WALL, (long long)(WALL - DAYS * DAY), A_DAY, each);
    char *file = join(folder, "fill.sql"), command[512];
    write_text(file, sql);
    (void)snprintf(command, sizeof command,
                   "psql -q -v ON_ERROR_STOP=1 -h %s/pg -U postgres postgres -f %s",
                   folder, file);
    outcome o = run_program(NULL, "/bin/sh", "-c", command, NULL);
    if (o.code != 0)
        die(o.err);
    free_outcome(&o);
    free(file);
}

static twi_many *serve(const char *server, const char *folder, site *at)
{
    char text[4096] = "", *file = join(folder, "gather.ini");
    tw_settings *settings = tw_settings_new();
    twi_many *many = NULL;
    tw_error err = {0};
    int used = snprintf(text, sizeof text,
                        "[gather]\nlisten = 127.0.0.1:0\nledger = %s\ngroups = ", server);
    for (int g = 0; g < groups(); g++)
        used += snprintf(text + used, sizeof text - (size_t)used, "%sg%d: s%04d* s%04d*",
                         g > 0 ? "; " : "", g, 2 * g, 2 * g + 1);
    (void)snprintf(text + used, sizeof text - (size_t)used, "\n");
    write_text(file, text);
    if (tw_settings_read(settings, file, NULL, NULL) != TW_OK)
        die("settings");
    const twi_many_spec spec = {.settings = settings, .clock = tw_linux_clock()};
    if (twi_many_new(&spec, &many, &err) != TW_OK)
        die(err.text);
    at->port = twi_many_port(many);
    (void)snprintf(at->host, sizeof at->host, "127.0.0.1:%d", at->port);
    tw_settings_free(settings);
    free(file);
    return many;
}

static int by_value(const void *a, const void *b)
{
    const double x = *(const double *)a, y = *(const double *)b;
    return (x > y) - (x < y);
}

static double ask(const site *at, const char *path)
{
    const double before = seconds();
    const char *answer = get(at, path, "");
    if (code_of(answer) != 200)
        die(answer);
    return (seconds() - before) * 1e3;
}

/* The day of a group, or, with -1, what the first view asks for; ms. */
static double one_round(const site *at, int round)
{
    char path[256];
    const int day = round * 7 % (DAYS - 2);
    const long long from_ms = (WALL - (day + 1) * DAY) / 1000;
    if (round >= 0) {
        (void)snprintf(path, sizeof path,
                       "/api/sightings?group=g%d&most=200&from=%lld&until=%lld",
                       round % groups(), from_ms, from_ms + 86400000);
        return ask(at, path);
    }
    const long long night_ms = WALL / 1000 - 7 * 3600000;
    double ms = ask(at, "/api/status");
    (void)snprintf(path, sizeof path, "/api/nights?from=%lld&until=%lld",
                   night_ms - 86400000, night_ms + 86400000);
    ms += ask(at, path);
    (void)snprintf(path, sizeof path, "/api/sightings?most=200&from=%lld&until=%lld",
                   night_ms, night_ms + 13LL * 3600000);
    return ms + ask(at, path);
}

static bool measure(const site *at, const char *what, bool day, int most_ms)
{
    double ms[ROUNDS];
    for (int i = 0; i < ROUNDS; i++)
        ms[i] = one_round(at, day ? i : -1);
    qsort(ms, ROUNDS, sizeof *ms, by_value);
    (void)printf("%s: %.1f ms, %.1f at the 95th percentile, %.1f at most\n", what,
                 ms[ROUNDS / 2], ms[ROUNDS * 95 / 100], ms[ROUNDS - 1]);
    return ms[ROUNDS * 95 / 100] <= most_ms;
}

int main(void)
{
    struct rusage r;
    site at = {.port = 0};
    char *folder = make_folder(), *server = start_postgres(folder);
    const double before = seconds();
    fill(server, folder);
    (void)printf("%ld sightings of %d stations, made in %.0f s\n", records(), stations(),
                 seconds() - before);
    twi_many *many = serve(server, folder, &at);
    bool good = measure(&at, "a group's day", true, DAY_MS_MAX);
    good = measure(&at, "the start view", false, START_MS_MAX) && good;
    (void)getrusage(RUSAGE_SELF, &r);
    (void)printf("%ld MB kept\n", r.ru_maxrss / 1024);
    twi_many_free(many);
    stop_postgres(folder);
    remove_folder(folder);
    free(server);
    return good ? 0 : 1;
}
