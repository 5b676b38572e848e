/* The ledger, the same on each engine: a file, and a server of the test's own. */
#include "../support/engine.h"
#include "../support/postgres.h"
#include "../support/support.h"
#include "../../src/gather/ledger.h"

#include <pthread.h>
#include <stdlib.h>
#include <string.h>

#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S) /* 2027-03-13 20:30 UTC */

/* ---- what is told ------------------------------------------------------------------ */

static twi_heard record(const char *station, int64_t number)
{
    twi_heard h = {.kind = TWI_HEARD_SIGHTING,
                   .camera = "kerb",
                   .series = "9f0c2a7be1d44c08",
                   .number = number,
                   .phase = TWI_PHASE_OVER,
                   .start_us = WALL + number * 60 * S,
                   .end_us = WALL + number * 60 * S + 12 * S,
                   .peak_ppm = 13000,
                   .name = "Bufo bufo",
                   .count = 2,
                   .mark = "right"};
    (void)snprintf(h.station, sizeof h.station, "%s", station);
    h.text = strdup("{\"type\":\"sighting\"}");
    return h;
}

static twi_heard gone(const char *station, int64_t number)
{
    twi_heard h = {.kind = TWI_HEARD_GONE,
                   .series = "9f0c2a7be1d44c08",
                   .number = number,
                   .phase = TWI_PHASE_GONE};
    (void)snprintf(h.station, sizeof h.station, "%s", station);
    h.text = strdup("{\"type\":\"gone\"}");
    return h;
}

static twi_heard up(const char *station, int64_t last, int64_t time_us)
{
    twi_heard h = {.kind = TWI_HEARD_STATION,
                   .series = "9f0c2a7be1d44c08",
                   .number = last,
                   .state = "up",
                   .time_us = time_us};
    (void)snprintf(h.station, sizeof h.station, "%s", station);
    h.text = strdup("{\"state\":\"up\"}");
    return h;
}

static void put_all(twi_ledger *l, twi_heard *all, size_t count, int64_t now_us)
{
    tw_error err = {0};
    if (engine_kind()->put(l, all, count, now_us, &err) != TW_OK)
        fail_msg("%s", err.text);
}

static void put(twi_ledger *l, twi_heard h, int64_t now_us)
{
    put_all(l, &h, 1, now_us);
    twi_heard_clear(&h);
}

/* ---- what is there ----------------------------------------------------------------- */

typedef struct seen {
    size_t count;
    twi_ledger_sighting last;
    char words[2048], text[256];
} seen;

static void see(void *ctx, const twi_ledger_sighting *s)
{
    seen *all = ctx;
    const size_t n = strlen(all->words);
    all->count++;
    all->last = *s;
    (void)snprintf(all->text, sizeof all->text, "%s", s->text);
    (void)snprintf(all->words + n, sizeof all->words - n, "%s/%s/%lld ", s->station,
                   s->camera, (long long)s->number);
}

static seen all_of(twi_ledger *l, const twi_ledger_filter *filter)
{
    seen all = {0};
    tw_error err = {0};
    const twi_ledger_filter any = {0};
    if (engine_kind()->sightings(l, filter ? filter : &any, see, &all, &err) != TW_OK)
        fail_msg("%s", err.text);
    return all;
}

static void see_station(void *ctx, const twi_ledger_station *s)
{
    twi_ledger_station *out = ctx;
    if (out->name[0] == '\0' || strcmp(out->name, s->name) == 0) {
        *out = *s;
        out->text = NULL;
    }
}

static twi_ledger_station station_of(twi_ledger *l, const char *name)
{
    twi_ledger_station s = {0};
    (void)snprintf(s.name, sizeof s.name, "%s", name);
    assert_int_equal(engine_kind()->stations(l, true, see_station, &s, NULL), TW_OK);
    return s;
}

static const char *gaps_of(twi_ledger *l, int64_t now_us, char out[512])
{
    twi_ledger_gap gaps[TWI_LEDGER_GAPS];
    size_t found = 0;
    tw_error err = {0};
    if (engine_kind()->gaps(l, now_us, 20 * S, gaps, &found, &err) != TW_OK)
        fail_msg("%s", err.text);
    out[0] = '\0';
    for (size_t i = 0; i < found; i++)
        (void)snprintf(out + strlen(out), 512 - strlen(out), "%s:%lld-%lld ",
                       gaps[i].station, (long long)gaps[i].first,
                       (long long)gaps[i].last);
    return out;
}

/* ---- tests ------------------------------------------------------------------------- */

static void test_what_is_put_twice_is_there_once(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    twi_heard all[] = {record("hollin", 1), record("hollin", 1), record("mere", 1)};
    put_all(l, all, 3, WALL);
    put_all(l, all, 3, WALL + S);
    engine_kind()->close(l);
    l = engine_again(); /* it is safe */
    put_all(l, all, 3, WALL + 2 * S);
    seen s = all_of(l, NULL);
    assert_string_equal(s.words, "hollin/kerb/1 mere/kerb/1 ");
    assert_string_equal(s.last.name, "Bufo bufo");
    assert_int_equal(s.last.count, 2);
    assert_int_equal(s.last.peak_ppm, 13000);
    assert_true(s.last.end_us - s.last.start_us == 12 * S);
    assert_string_equal(s.text, "{\"type\":\"sighting\"}");
    assert_int_equal(station_of(l, "mere").sightings, 1);
    for (size_t i = 0; i < 3; i++)
        twi_heard_clear(&all[i]);
    engine_kind()->close(l);
}

/* A name that was given later counts; that it is gone takes nothing away; what was gone
 * and comes after all is there; a clock that was set moves it. */
static void test_the_last_word_counts(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    twi_heard h = record("hollin", 5);
    put(l, gone("hollin", 5), WALL);
    assert_int_equal(all_of(l, NULL).count, 0);
    (void)snprintf(h.name, sizeof h.name, "Rana temporaria");
    put_all(l, &h, 1, WALL + S);
    put(l, gone("hollin", 5), WALL + 2 * S);
    seen s = all_of(l, NULL);
    assert_int_equal(s.count, 1);
    assert_string_equal(s.last.name, "Rana temporaria");
    twi_heard two[] = {record("hollin", 6), record("hollin", 6)}; /* in one batch */
    (void)snprintf(two[1].name, sizeof two[1].name, "Lissotriton");
    put_all(l, two, 2, WALL + 2 * S);
    assert_string_equal(all_of(l, NULL).last.name, "Lissotriton");
    twi_heard_clear(&two[0]);
    twi_heard_clear(&two[1]);
    put(l, gone("hollin", 7), WALL + 2 * S);
    h.start_us += 40 * 86400 * S; /* another month */
    h.end_us += 40 * 86400 * S;
    put_all(l, &h, 1, WALL + 3 * S);
    s = all_of(l, NULL);
    assert_int_equal(s.count, 2);
    assert_true(s.last.start_us == h.start_us);
    h.start_us = 60 * S; /* long before there were stations */
    put_all(l, &h, 1, WALL + 4 * S);
    s = all_of(l, &(twi_ledger_filter){.until_us = 120 * S});
    assert_int_equal(s.count, 1);
    assert_true(s.last.start_us == 60 * S);
    assert_int_equal(all_of(l, NULL).count, 2); /* it is nowhere else */
    twi_heard_clear(&h);
    engine_kind()->close(l);
}

/* Whichever of the two comes first in one batch. */
static void test_that_it_is_gone_is_no_word(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    twi_heard all[] = {record("hollin", 5), gone("hollin", 5), gone("hollin", 6),
                       record("hollin", 6), gone("hollin", 7)};
    put_all(l, all, 5, WALL);
    assert_string_equal(all_of(l, NULL).words, "hollin/kerb/5 hollin/kerb/6 ");
    for (size_t i = 0; i < 5; i++)
        twi_heard_clear(&all[i]);
    engine_kind()->close(l);
}

/* A catalogue that began anew counts from one again. */
static void test_another_series_is_another_sighting(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    twi_heard h = record("hollin", 1);
    put_all(l, &h, 1, WALL);
    (void)snprintf(h.series, sizeof h.series, "0123456789abcdef");
    put_all(l, &h, 1, WALL);
    assert_int_equal(all_of(l, NULL).count, 2);
    twi_heard_clear(&h);
    twi_heard two[] = {record("mere", 1), record("mere", 1)}; /* in one batch */
    (void)snprintf(two[1].series, sizeof two[1].series, "0123456789abcdef");
    engine_put(l, two, 2, WALL + S);
    assert_int_equal(all_of(l, NULL).count, 4);
    engine_kind()->close(l);
}

static void test_what_is_missing_is_found(void **state)
{
    (void)state;
    char gaps[512];
    int64_t now_us = WALL;
    twi_ledger *l = engine_anew();
    put(l, record("hollin", 3), now_us);
    put(l, record("hollin", 4), now_us);
    assert_string_equal(gaps_of(l, now_us += 60 * S, gaps),
                        ""); /* its state is not known */
    put(l, up("hollin", 9, now_us), now_us);
    put(l, record("hollin", 7), now_us);
    put(l, up("mere", 0, now_us), now_us);
    assert_string_equal(gaps_of(l, now_us += 60 * S, gaps),
                        "hollin:1-2 hollin:5-6 hollin:8-9 ");
    assert_string_equal(gaps_of(l, now_us + 5 * S, gaps), ""); /* it was asked just now */
    put(l, gone("hollin", 1), now_us);
    put(l, record("hollin", 2), now_us);
    put(l, record("hollin", 9), now_us);
    assert_string_equal(gaps_of(l, now_us += 60 * S, gaps), "hollin:5-6 hollin:8-8 ");
    for (int64_t n = 5; n <= 8; n++)
        put(l, record("hollin", n), now_us);
    assert_string_equal(gaps_of(l, now_us += 60 * S, gaps), "");
    put(l, up("hollin", 10, now_us), now_us);
    assert_string_equal(gaps_of(l, now_us += 60 * S, gaps), "hollin:10-10 ");
    engine_kind()->close(l);
}

/* Who is asked in vain is asked less and less, as an answer may be large and the uplink
 * dear; once something comes of it, soon again. */
static void test_who_is_asked_in_vain_is_asked_less(void **state)
{
    (void)state;
    char gaps[512];
    int64_t now_us = WALL;
    twi_ledger *l = engine_anew();
    put(l, up("hollin", 3, now_us), now_us);
    int asked = 0;
    for (int i = 0; i < 86400 / 20; i++, now_us += 20 * S)
        asked += gaps_of(l, now_us, gaps)[0] != '\0';
    assert_in_range(asked, 10, 15);
    put(l, record("hollin", 1), now_us);
    (void)gaps_of(l, now_us += 6 * 3600 * S, gaps);
    (void)gaps_of(l, now_us += 41 * S, gaps);
    assert_string_equal(gaps_of(l, now_us += 81 * S, gaps), "hollin:2-3 ");
    engine_kind()->close(l);
}

static void test_states_do_not_go_back(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    twi_heard late = up("hollin", 4, WALL), dead = up("hollin", -1, 0);
    put(l, up("hollin", 9, WALL + 60 * S), WALL);
    (void)snprintf(late.state, sizeof late.state, "starting");
    put_all(l, &late, 1, WALL + S);
    twi_ledger_station s = station_of(l, "hollin");
    assert_string_equal(s.state, "up");
    assert_int_equal(s.last_number, 9);
    (void)snprintf(dead.state, sizeof dead.state, "dead"); /* by its broker: no time */
    dead.series[0] = '\0';
    put_all(l, &dead, 1, WALL + 2 * S);
    s = station_of(l, "hollin");
    assert_string_equal(s.state, "dead");
    assert_string_equal(s.series, "9f0c2a7be1d44c08");
    assert_int_equal(s.last_number, 9);
    put(l, up("hollin", 9, WALL + 120 * S), WALL + 3 * S);
    assert_string_equal(station_of(l, "hollin").state, "up");
    twi_heard_clear(&late);
    twi_heard_clear(&dead);
    engine_kind()->close(l);
}

static void test_silence_is_noticed_by_one(void **state)
{
    (void)state;
    bool first = false;
    twi_ledger *l = engine_anew();
    for (int i = 0; i < 10; i++)
        put(l, up("hollin", 0, WALL + i * 60 * S), WALL + i * 60 * S);
    twi_ledger_station s = station_of(l, "hollin");
    assert_true(s.heard_us == WALL + 540 * S);
    assert_true(s.usual_us == 60 * S);
    assert_false(s.silent);
    assert_int_equal(engine_kind()->silence(l, "hollin", &first, NULL), TW_OK);
    assert_true(first);
    assert_int_equal(engine_kind()->silence(l, "hollin", &first, NULL), TW_OK);
    assert_false(first);
    assert_true(station_of(l, "hollin").silent);
    put(l, record("hollin", 1), WALL + 3600 * S);
    s = station_of(l, "hollin");
    assert_false(s.silent);
    assert_true(s.usual_us == 120 * S);
    for (int i = 0; i < 2;
         i++) { /* at the same time, and earlier by a gatherer's clock */
        put(l, record("hollin", 2), WALL + (3600 - i) * S);
        s = station_of(l, "hollin");
        assert_true(s.heard_us == WALL + 3600 * S);
        assert_true(s.usual_us == 120 * S);
    }
    engine_kind()->close(l);
}

/* What a board says is data, whatever it looks like. */
static void test_hostile_words_stay_words(void **state)
{
    (void)state;
    static const char *const words[] = {
        "\\", "\\.", "a\tb\nc\rd", "'; DROP TABLE sighting; --", "\\N",     "\"",
        "$1", "{}",  "<script>",   "\xC3\xA9\xF0\x9F\x90\xB8",   "\x01\x7F"};
    twi_ledger *l = engine_anew();
    for (size_t i = 0; i < sizeof words / sizeof *words; i++) {
        twi_heard h = record(words[i], 1);
        (void)snprintf(h.camera, sizeof h.camera, "%s", words[i]);
        (void)snprintf(h.name, sizeof h.name, "%s", words[i]);
        (void)snprintf(h.series, sizeof h.series, "%s", words[i]);
        put_all(l, &h, 1, WALL);
        char *stations = twi_ledger_names(&words[i], 1);
        const twi_ledger_filter its = {.stations = stations,
                                       .camera = words[i],
                                       .name = words[i],
                                       .series = words[i],
                                       .number = 1};
        const seen s = all_of(l, &its);
        free(stations);
        assert_int_equal(s.count, 1);
        assert_string_equal(s.last.station, words[i]);
        assert_string_equal(s.last.camera, words[i]);
        assert_string_equal(s.last.name, words[i]);
        assert_string_equal(s.last.series, words[i]);
        twi_heard_clear(&h);
    }
    engine_kind()->close(l);
}

static void test_what_cannot_be_kept_keeps_nothing_else_out(void **state)
{
    (void)state;
    tw_error err = {0};
    twi_ledger *l = engine_anew();
    twi_heard all[] = {record("hollin", 1), record("hollin", 2)};
    if (engine.on_server) { /* a file takes any bytes */
        (void)snprintf(all[1].name, sizeof all[1].name, "\xFF\xFE");
        assert_int_equal(engine_kind()->put(l, all, 2, WALL, &err), TW_EINVAL);
        assert_int_equal(all_of(l, NULL).count, 0); /* all of it, or none */
    }
    put_all(l, all, 1, WALL);
    assert_int_equal(all_of(l, NULL).count, 1);
    for (size_t i = 0; i < 2; i++)
        twi_heard_clear(&all[i]);
    engine_kind()->close(l);
}

static void test_by_time_and_station(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    for (int64_t n = 1; n <= 6; n++)
        put(l, record(n % 2 ? "hollin" : "mere", n), WALL);
    const twi_ledger_filter some = {.from_us = WALL + 120 * S,
                                    .until_us = WALL + 300 * S};
    assert_string_equal(all_of(l, &some).words, "mere/kerb/2 hollin/kerb/3 mere/kerb/4 ");
    const twi_ledger_filter its = {.stations = "[\"mere\",\"north\"]", .most = 2};
    assert_string_equal(all_of(l, &its).words, "mere/kerb/2 mere/kerb/4 ");
    const twi_ledger_filter last = {.stations = "[\"mere\"]", .most = 2, .newest = true};
    assert_string_equal(all_of(l, &last).words, "mere/kerb/6 mere/kerb/4 ");
    const twi_ledger_filter nobody = {.stations = "[]"};
    assert_string_equal(all_of(l, &nobody).words, "");
    twi_heard named = record("hollin", 7);
    (void)snprintf(named.name, sizeof named.name, "Rana 'temporaria'");
    put(l, named, WALL);
    const twi_ledger_filter of = {.name = "Rana 'temporaria'"}, none = {.name = "Rana"};
    assert_string_equal(all_of(l, &of).words, "hollin/kerb/7 ");
    const twi_ledger_filter one = {.series = "9f0c2a7be1d44c08", .number = 3};
    assert_string_equal(all_of(l, &one).words, "hollin/kerb/3 ");
    const twi_ledger_filter other = {.series = "another", .number = 3};
    assert_string_equal(all_of(l, &other).words, "");
    const twi_ledger_filter at = {.camera = "kerb", .most = 1},
                            nowhere = {.camera = "tunnel"};
    assert_string_equal(all_of(l, &at).words, "hollin/kerb/1 ");
    assert_string_equal(all_of(l, &nowhere).words, "");
    twi_heard large = record("hollin", 8);
    large.peak_ppm = 500000;
    (void)snprintf(large.mark, sizeof large.mark, "nothing");
    put(l, large, WALL);
    const twi_ledger_filter larger = {.least_peak_ppm = 500000},
                            marked = {.mark = "nothing"};
    assert_string_equal(all_of(l, &larger).words, "hollin/kerb/8 ");
    assert_string_equal(all_of(l, &marked).words, "hollin/kerb/8 ");
    assert_string_equal(all_of(l, &none).words, "");
    const twi_ledger_filter has = {.has_name = "RANA 't"}, any = {.has_name = "R%a"};
    assert_string_equal(all_of(l, &has).words, "hollin/kerb/7 ");
    assert_string_equal(all_of(l, &any).words, "");
    engine_kind()->close(l);
}

/* A visit goes on for half an hour; the next one says when the one before it was. */
static void test_it_is_known_who_looked_last(void **state)
{
    (void)state;
    twi_ledger *l = engine_anew();
    static const struct {
        const char *who;
        int64_t at_s, since_s; /* of WALL; -1: never */
    } looks[] = {{"ann", 0, -1},      {"ann", 60, -1},     {"ann", 1800, -1},
                 {"ann", 4000, 1800}, {"bob", 4000, -1},   {"ann", 5000, 1800},
                 {"", 5000, -1},      {"ann", 3000, 3000}, {"ann", 9000, 3000}};
    for (size_t i = 0; i < sizeof looks / sizeof *looks; i++) {
        int64_t since_us = -1;
        assert_int_equal(engine_kind()->visit(l, looks[i].who, WALL + looks[i].at_s * S,
                                              &since_us, NULL),
                         TW_OK);
        assert_true(since_us == (looks[i].since_s < 0 ? 0 : WALL + looks[i].since_s * S));
    }
    engine_kind()->close(l);
}

static void take_count(void *ctx, const char *const *row)
{
    *(int64_t *)ctx = strtoll(row[0], NULL, 10);
}

/* One that an earlier version made, with what is in it. */
static void test_an_older_one_is_brought_up(void **state)
{
#define COLUMNS                                                                          \
    "ALTER TABLE station DROP COLUMN settings_now; ALTER TABLE station DROP COLUMN "     \
    "settings_of; ALTER TABLE station DROP COLUMN settings; ALTER TABLE station DROP "   \
    "COLUMN settings_asked_us; DROP TABLE word; DROP TABLE visit; DROP TABLE stand; "
    (void)state;
    int64_t since_us = -1, waiting = -1, version = 0;
    twi_ledger *l = engine_anew();
    put(l, record("hollin", 1), WALL);
    engine_kind()->close(l);
    engine_run(COLUMNS "DROP INDEX sighting_by_series; PRAGMA user_version = 1",
               COLUMNS "UPDATE schema_version SET version = 1");
    l = engine_again();
    assert_int_equal(engine_kind()->visit(l, "ann", WALL, &since_us, NULL), TW_OK);
    assert_int_equal(engine_kind()->ask(l, "SELECT count(*) FROM word", NULL, 0,
                                        take_count, &waiting, NULL),
                     TW_OK);
    assert_int_equal(waiting, 0);
    assert_int_equal(all_of(l, NULL).count, 1);
    assert_int_equal(engine_kind()->ask(l,
                                        engine.on_server
                                            ? "SELECT version FROM schema_version"
                                            : "PRAGMA user_version",
                                        NULL, 0, take_count, &version, NULL),
                     TW_OK);
    assert_int_equal(version, engine.on_server ? 5 : 4);
    engine_kind()->close(l);
}

static void list_camera(void *ctx, const twi_ledger_camera *c)
{
    char *at = (char *)ctx + strlen(ctx);
    (void)snprintf(at, 400 - strlen(ctx), "%s/%s=%s:%s ", c->station, c->name, c->state,
                   c->text);
}

static void test_cameras_are_listed_by_station(void **state)
{
    (void)state;
    char words[400] = "";
    tw_error err = {0};
    twi_ledger *l = engine_anew();
    static const char *const NAMES[][3] = {{"mere", "kerb", "armed"},
                                           {"hollin", "tunnel", "lost"},
                                           {"hollin", "kerb", "armed"}};
    for (size_t i = 0; i < 3; i++) {
        twi_heard h = up(NAMES[i][0], 1, WALL);
        h.kind = TWI_HEARD_CAMERA;
        (void)snprintf(h.camera, sizeof h.camera, "%s", NAMES[i][1]);
        (void)snprintf(h.state, sizeof h.state, "%s", NAMES[i][2]);
        free(h.text);
        h.text = strdup("{\"latitude\":52.1}");
        put(l, h, WALL);
    }
    assert_int_equal(engine_kind()->cameras(l, list_camera, words, &err), TW_OK);
    assert_string_equal(words, "hollin/kerb=armed:{\"latitude\":52.1} "
                               "hollin/tunnel=lost:{\"latitude\":52.1} "
                               "mere/kerb=armed:{\"latitude\":52.1} ");
    engine_kind()->close(l);
}

/* ---- several at once --------------------------------------------------------------- */

enum { GATHERERS = 4, ROUNDS = 25, STATIONS = 5 };

/* The same stations in another order each, as shares of a broker's messages are, and some
 * of it twice. */
static void *gather_some(void *ctx)
{
    const int64_t which = *(const int *)ctx;
    twi_ledger *l = engine_again();
    tw_error err = {0};
    for (int64_t i = 0; i < ROUNDS; i++) {
        twi_heard all[STATIONS * 2];
        size_t count = 0;
        for (int64_t s = 0; s < STATIONS; s++) {
            char name[16];
            (void)snprintf(name, sizeof name, "s%lld",
                           (long long)((s + which) % STATIONS));
            all[count++] = record(name, i * 2 + which % 2 + 1);
            all[count++] = up(name, ROUNDS * 2, WALL + i * S);
        }
        tw_status st = TW_EAGAIN;
        for (int tries = 0; tries < 200 && st == TW_EAGAIN; tries++)
            st = engine_kind()->put(l, all, count, WALL + i * S, &err);
        for (size_t k = 0; k < count; k++)
            twi_heard_clear(&all[k]);
        if (st != TW_OK) {
            (void)fprintf(stderr, "%s\n", err.text);
            break;
        }
    }
    engine_kind()->close(l);
    return NULL;
}

static void test_several_gatherers_share(void **state)
{
    (void)state;
    pthread_t threads[GATHERERS];
    int which[GATHERERS];
    char gaps[512];
    twi_ledger *l = engine_anew();
    for (int i = 0; i < GATHERERS; i++) {
        which[i] = i;
        assert_int_equal(pthread_create(&threads[i], NULL, gather_some, &which[i]), 0);
    }
    for (int i = 0; i < GATHERERS; i++)
        (void)pthread_join(threads[i], NULL);
    assert_int_equal(all_of(l, NULL).count, STATIONS * ROUNDS * 2);
    assert_string_equal(gaps_of(l, WALL + 3600 * S, gaps), "");
    engine_kind()->close(l);
}

static void test_a_newer_one_is_left_alone(void **state)
{
    (void)state;
    tw_error err = {0};
    twi_ledger *l = engine_anew();
    char *path = join(engine.folder, "ledger.db");
    engine_kind()->close(l);
    engine_run("PRAGMA user_version = 99", "UPDATE schema_version SET version = 99");
    assert_int_equal(
        engine_kind()->open(engine.on_server ? engine.server : path, &l, &err),
        TW_ENOTSUP);
    assert_has(err.text, "was written by a newer tawny");
    free(path);
}

/* The server dies in the middle: what was put before is there, what is put after it is
 * back, too. */
static void test_a_server_that_dies_is_found_again(void **state)
{
    (void)state;
    tw_error err = {0};
    if (!engine.on_server) /* a file has none */
        return;
    twi_ledger *l = engine_anew();
    twi_heard h = record("hollin", 2);
    put(l, record("hollin", 1), WALL);
    kill_postgres(engine.folder);
    assert_int_equal(engine_kind()->put(l, &h, 1, WALL, &err), TW_EAGAIN);
    assert_null(strstr(err.text, "postgres@")); /* nobody's login is shown */
    restart_postgres(engine.folder);
    tw_status st = TW_EAGAIN;
    for (int i = 0; i < 100 && st == TW_EAGAIN; i++)
        st = engine_kind()->put(l, &h, 1, WALL, &err);
    assert_int_equal(st, TW_OK);
    assert_int_equal(all_of(l, NULL).count, 2);
    twi_heard_clear(&h);
    engine_kind()->close(l);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_is_put_twice_is_there_once),
        cmocka_unit_test(test_the_last_word_counts),
        cmocka_unit_test(test_that_it_is_gone_is_no_word),
        cmocka_unit_test(test_another_series_is_another_sighting),
        cmocka_unit_test(test_what_is_missing_is_found),
        cmocka_unit_test(test_who_is_asked_in_vain_is_asked_less),
        cmocka_unit_test(test_states_do_not_go_back),
        cmocka_unit_test(test_silence_is_noticed_by_one),
        cmocka_unit_test(test_hostile_words_stay_words),
        cmocka_unit_test(test_what_cannot_be_kept_keeps_nothing_else_out),
        cmocka_unit_test(test_by_time_and_station),
        cmocka_unit_test(test_it_is_known_who_looked_last),
        cmocka_unit_test(test_an_older_one_is_brought_up),
        cmocka_unit_test(test_cameras_are_listed_by_station),
        cmocka_unit_test(test_several_gatherers_share),
        cmocka_unit_test(test_a_newer_one_is_left_alone),
        cmocka_unit_test(test_a_server_that_dies_is_found_again),
    };
    return on_each_engine(tests, sizeof tests / sizeof *tests);
}
