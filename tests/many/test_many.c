/* The page of many stations, asked byte by byte: what boards told is data of the right
 * kinds, an account sees its groups alone, and no name leads out of a station's folder.
 */
#include <stdatomic.h>
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../support/servers.h"
#include "../support/site.h"
#include "../../src/gather/ledger.h"
#include "../../src/many/many.h"

#define OWN "X-Tawny-Change: local\r\n"
#define S INT64_C(1000000)
#define WALL (INT64_C(1804969800) * S)
#define SERIES "9f0c2a7be1d44c08"

/* ---- a ledger, and its page ------------------------------------------------------- */

typedef struct place {
    char *folder, *ledger, *accounts, *media;
    twi_many *many;
    site at; /* as far as asking needs it */
    char said[2048];
    bool deaf;      /* nothing can be told */
    bool keyless;   /* nothing signs settings */
    tw_clock clock; /* of none: the system's */
} place;

/* A clock that stands, but for so much at each look. */
static atomic_llong slow_us = S, step_us = 100000;
static int64_t slow_now(void *ctx)
{
    (void)ctx;
    return atomic_fetch_add(&slow_us, step_us) + step_us;
}

static bool say(void *ctx, const char *station, const char *what, const char *text)
{
    place *p = ctx;
    const size_t n = strlen(p->said);
    (void)snprintf(p->said + n, sizeof p->said - n, "%s/%s %s\n", station, what, text);
    return !p->deaf;
}

static tw_status serve(place *p, const char *more, tw_error *err)
{
    char *file = join(p->folder, "gather.ini"), text[2048];
    tw_settings *settings = tw_settings_new();
    (void)snprintf(text, sizeof text,
                   "[station]\naccounts_file = %s\n[gather]\nledger = %s\nlisten = "
                   "127.0.0.1:0\n%s",
                   p->accounts, p->ledger, more);
    write_text(file, text);
    assert_int_equal(tw_settings_read(settings, file, NULL, NULL), TW_OK);
    const twi_many_spec spec = {.settings = settings,
                                .clock = p->clock.ops ? p->clock : tw_linux_clock(),
                                .say = say,
                                .settable = !p->keyless,
                                .ctx = p};
    const tw_status st = twi_many_new(&spec, &p->many, err);
    tw_settings_free(settings);
    free(file);
    p->at.port = twi_many_port(p->many);
    (void)snprintf(p->at.host, sizeof p->at.host, "127.0.0.1:%d", p->at.port);
    return st;
}

static place *anew(const char *more)
{
    place *p = calloc(1, sizeof *p);
    char text[1024];
    tw_error err = {0};
    p->folder = make_folder();
    p->ledger = join(p->folder, "all.db");
    p->accounts = join(p->folder, "accounts");
    p->media = join(p->folder, "media");
    assert_int_equal(mkdir(p->media, 0755), 0);
    (void)snprintf(text, sizeof text,
                   "media = %s/{station}/{file}\ngroups = lane: hollin kerb*; water: "
                   "mere\n%s",
                   p->media, more);
    if (serve(p, text, &err) != TW_OK)
        fail_msg("%s", err.text);
    return p;
}

static void end(place *p)
{
    twi_many_free(p->many);
    free(p->ledger);
    free(p->accounts);
    free(p->media);
    remove_folder(p->folder);
    free(p);
}

static void put_all(const place *p, const twi_heard *all, size_t count, int64_t now_us)
{
    twi_ledger *l = NULL;
    assert_int_equal(twi_ledger_sqlite.open(p->ledger, &l, NULL), TW_OK);
    assert_int_equal(twi_ledger_sqlite.put(l, all, count, now_us, NULL), TW_OK);
    twi_ledger_sqlite.close(l);
}

static void put(const place *p, twi_heard h, int64_t now_us)
{
    put_all(p, &h, 1, now_us);
}

static void put_state(const place *p, const char *station, const char *state,
                      const char *text)
{
    twi_heard h = {.kind = TWI_HEARD_STATION, .number = -1, .time_us = WALL};
    (void)snprintf(h.station, sizeof h.station, "%s", station);
    (void)snprintf(h.state, sizeof h.state, "%s", state);
    h.text = (char *)(uintptr_t)text;
    put(p, h, WALL);
}

static void put_camera(const place *p, const char *station, const char *camera,
                       const char *state, const char *text)
{
    twi_heard h = {.kind = TWI_HEARD_CAMERA, .number = -1, .time_us = WALL};
    (void)snprintf(h.station, sizeof h.station, "%s", station);
    (void)snprintf(h.camera, sizeof h.camera, "%s", camera);
    (void)snprintf(h.state, sizeof h.state, "%s", state);
    h.text = (char *)(uintptr_t)text;
    put(p, h, WALL);
}

static void put_sighting(const place *p, const char *station, int64_t number,
                         const char *text)
{
    twi_heard h = {.kind = TWI_HEARD_SIGHTING,
                   .camera = "kerb",
                   .series = SERIES,
                   .number = number,
                   .phase = TWI_PHASE_OVER,
                   .start_us = WALL + number * 60 * S,
                   .end_us = WALL + number * 60 * S + 12 * S,
                   .peak_ppm = 13000,
                   .mark = "none"};
    (void)snprintf(h.station, sizeof h.station, "%s", station);
    h.text = (char *)(uintptr_t)text;
    put(p, h, WALL);
}

/* ---- asking ----------------------------------------------------------------------- */

/* What each of a list is, in words with blanks between; static. */
static const char *words_of(const char *answer, const char *list,
                            void (*word)(const json_t *one, char out[256]))
{
    static char words[1024];
    char its[256];
    size_t i = 0;
    json_t *one = NULL, *o = body_of(200, answer);
    words[0] = '\0';
    json_array_foreach(json_object_get(o, list), i, one)
    {
        const size_t n = strlen(words);
        word(one, its);
        (void)snprintf(words + n, sizeof words - n, "%s%s", n > 0 ? " " : "", its);
    }
    json_decref(o);
    return words;
}

static void word_number(const json_t *one, char out[256])
{
    const json_t *number =
        json_is_array(one) ? json_array_get(one, 0) : json_object_get(one, "number");
    (void)snprintf(out, 256, "%s", json_string_value(number));
}

static void word_visit(const json_t *one, char out[256])
{
    (void)snprintf(out, 256, "%s:%s", json_string_value(json_object_get(one, "station")),
                   json_string_value(json_object_get(one, "wants")));
}

/* The numbers of a list of sightings. */
static const char *numbers(const place *p, const char *query, const char *more)
{
    char path[256];
    (void)snprintf(path, sizeof path, "/api/sightings%s", query);
    return words_of(get(&p->at, path, more), "sightings", word_number);
}

/* "north:dead mere:nothing" of /api/stations. */
static const char *visits(const place *p, const char *query, const char *more)
{
    char path[256];
    (void)snprintf(path, sizeof path, "/api/stations%s", query);
    return words_of(get(&p->at, path, more), "stations", word_visit);
}

/* ---- tests ------------------------------------------------------------------------ */

static void test_who_needs_a_visit_comes_first(void **state)
{
    (void)state;
    place *p = anew("");
    put_state(p, "well", "up",
              "{\"version\":\"0.9.0\",\"store\":{\"card\":true,\"free_bytes\":90,\"total_"
              "bytes\":100}}");
    put_state(p, "full", "up",
              "{\"store\":{\"card\":true,\"free_bytes\":4,\"total_bytes\":100}}");
    put_state(p, "bare", "up", "{\"store\":{\"card\":false}}");
    put_state(p, "blocked", "up", "{\"stopped\":[{\"destination\":\"shed\"}]}");
    put_state(p, "hot", "up",
              "{\"sensors\":[{\"sensor\":\"board\",\"unit\":\"C\",\"value\":81.5,"
              "\"beyond\":true,\"at\":7}]}");
    put_state(p, "died", "dead", "{}");
    put_state(p, "ended", "down", "{}");
    put_state(p, "blind", "up", "{}");
    put_camera(p, "blind", "kerb", "lost", "{}");
    put_camera(p, "blind", "mere", "armed", "{}");
    put_camera(p, "died", "kerb", "armed", "{}");
    assert_string_equal(visits(p, "", ""),
                        "died:dead bare:card full:room blind:camera blocked:stopped "
                        "hot:sensor ended:down well:nothing");
    json_t *o = body_of(200, get(&p->at, "/api/stations?station=hot", ""));
    const json_t *hot = json_array_get(json_object_get(o, "stations"), 0),
                 *value = json_array_get(json_object_get(hot, "sensors"), 0);
    assert_true(json_number_value(json_object_get(value, "value")) == 81.5);
    assert_null(json_object_get(value, "at"));
    json_decref(o);
    o = body_of(200, get(&p->at, "/api/stations?station=blind", ""));
    const json_t *blind = json_array_get(json_object_get(o, "stations"), 0);
    assert_int_equal(json_integer_value(json_object_get(blind, "cameras")), 2);
    assert_int_equal(json_integer_value(json_object_get(blind, "watching")), 1);
    json_decref(o);
    o = body_of(200, get(&p->at, "/api/status", ""));
    assert_int_equal(
        json_integer_value(json_object_get(json_object_get(o, "stations"), "amiss")), 6);
    char *counts = json_dumps(json_object_get(json_object_get(o, "stations"), "wants"),
                              JSON_COMPACT);
    assert_string_equal(counts, "{\"dead\":1,\"card\":1,\"room\":1,\"camera\":1,"
                                "\"stopped\":1,\"sensor\":1}");
    free(counts);
    assert_int_equal(json_array_size(json_object_get(o, "amiss")), 6);
    /* what a station that died said of its camera holds no more */
    const json_t *cameras = json_object_get(o, "cameras");
    assert_int_equal(json_array_size(cameras), 3);
    assert_string_equal(
        json_string_value(json_object_get(json_array_get(cameras, 2), "camera")),
        "died/kerb");
    assert_string_equal(
        json_string_value(json_object_get(json_array_get(cameras, 2), "state")), "down");
    json_decref(o);
    end(p);
}

/* Whatever a board says, the page gets each member as it counts on it. */
static void test_what_boards_say_is_data(void **state)
{
    (void)state;
    static const char WEIRD[] =
        "{\"why\":7,\"starred\":\"yes\",\"bytes\":\"many\",\"mark\":[1],\"note\":{},"
        "\"peak\":\"all\",\"number\":{},\"camera\":[],\"captures\":[7,null,{\"kind\":"
        "\"still\"},{\"kind\":\"still\",\"file\":9,\"start\":\"x\",\"bytes\":5}]}";
    place *p = anew("");
    put_state(p, "<b>\"'&", "up", "[]");
    put_state(p, "odd", "up",
              "{\"version\":[],\"store\":\"full\",\"stopped\":7,\"sensors\":{\"a\":1}}");
    put_camera(p, "odd", "kerb", "armed",
               "{\"fps\":\"fast\",\"sightings\":1.5,\"last\":7,\"latitude\":\"north\","
               "\"longitude\":[],\"width\":true}");
    put_sighting(p, "odd", 1, WEIRD);
    json_t *o = body_of(200, get(&p->at, "/api/sightings/odd/" SERIES "/1", ""));
    assert_true(json_is_string(json_object_get(o, "why")));
    assert_true(json_is_boolean(json_object_get(o, "starred")));
    assert_int_equal(json_integer_value(json_object_get(o, "bytes")), 0);
    assert_string_equal(json_string_value(json_object_get(o, "mark")), "none");
    assert_null(json_object_get(o, "note"));
    assert_true(json_number_value(json_object_get(o, "peak")) == 1.3);
    assert_string_equal(json_string_value(json_object_get(o, "number")),
                        "odd/" SERIES "/1");
    assert_int_equal(json_array_size(json_object_get(o, "captures")), 0);
    json_decref(o);
    o = body_of(200, get(&p->at, "/api/status", ""));
    const json_t *camera = json_array_get(json_object_get(o, "cameras"), 0);
    assert_int_equal(json_object_size(camera), 2); /* its name and its state */
    json_decref(o);
    assert_string_equal(visits(p, "", ""), "<b>\"'&:nothing odd:nothing");
    assert_string_equal(visits(p, "?station=%3Cb%3E%22'%26", ""), "<b>\"'&:nothing");
    end(p);
}

static void test_sightings_of_a_group_a_station_a_camera(void **state)
{
    (void)state;
    place *p = anew("");
    put_sighting(p, "hollin", 1, "{\"starred\":true}");
    put_sighting(p, "mere", 2, "{}");
    put_sighting(p, "kerb-7", 3, "{}");
    put_sighting(p, "hollin", 4, "{}");
    assert_string_equal(numbers(p, "", ""), "hollin/" SERIES "/1 mere/" SERIES
                                            "/2 kerb-7/" SERIES "/3 hollin/" SERIES "/4");
    assert_string_equal(numbers(p, "?most=2", ""),
                        "kerb-7/" SERIES "/3 hollin/" SERIES "/4");
    assert_string_equal(numbers(p, "?group=lane&brief=1", ""),
                        "hollin/" SERIES "/1 kerb-7/" SERIES "/3 hollin/" SERIES "/4");
    assert_string_equal(numbers(p, "?group=water", ""), "mere/" SERIES "/2");
    assert_string_equal(numbers(p, "?group=nobody", ""), "");
    assert_string_equal(numbers(p, "?station=hollin&most=1", ""), "hollin/" SERIES "/4");
    assert_string_equal(numbers(p, "?camera=mere/kerb", ""), "mere/" SERIES "/2");
    assert_string_equal(numbers(p, "?camera=mere/tunnel", ""), "");
    assert_string_equal(numbers(p, "?larger=1.2&camera=mere/kerb", ""),
                        "mere/" SERIES "/2");
    assert_string_equal(numbers(p, "?larger=1.4", ""), "");
    check(400, get(&p->at, "/api/sightings?camera=kerb", ""));
    static const char *const none[] = {
        "hollin",         "hollin/" SERIES,       "hollin/" SERIES "/9",
        "hollin/other/1", "hollin/" SERIES "/1x", "hollin/" SERIES "/-1",
        "/" SERIES "/1",  "mere/" SERIES "/1",    "hollin/" SERIES "/1/x"};
    for (size_t i = 0; i < sizeof none / sizeof *none; i++) {
        char path[256];
        (void)snprintf(path, sizeof path, "/api/sightings/%s", none[i]);
        check(404, get(&p->at, path, ""));
    }
    end(p);
}

static void test_an_account_sees_its_groups_alone(void **state)
{
    (void)state;
    char bob[256], ann[256], change[256], more[600];
    place *p = anew("");
    put_state(p, "hollin", "up", "{}");
    put_state(p, "mere", "dead", "{}");
    put_camera(p, "mere", "kerb", "armed", "{\"latitude\":52.1,\"longitude\":-1.2}");
    put_sighting(p, "hollin", 1, "{}");
    put_sighting(p, "mere", 2, "{}");
    assert_int_equal(
        twi_account_set(p->accounts, "ann", TWI_MAY_RUN, "lane", "frogspawn", NULL),
        TW_OK);
    assert_int_equal(
        twi_account_set(p->accounts, "bob", TWI_MAY_LOOK, "mere", "tadpoles", NULL),
        TW_OK);
    check(401, get(&p->at, "/api/status", ""));
    check(401, get(&p->at, "/api/stations", ""));
    log_in(&p->at, "bob", "tadpoles", bob, change);
    log_in(&p->at, "ann", "frogspawn", ann, change);
    assert_string_equal(visits(p, "", ann), "hollin:nothing");
    assert_string_equal(visits(p, "", bob), "mere:dead");
    assert_string_equal(visits(p, "?group=water", ann), "");
    assert_string_equal(visits(p, "?station=mere", ann), "");
    assert_string_equal(numbers(p, "", ann), "hollin/" SERIES "/1");
    assert_string_equal(numbers(p, "?station=mere", ann), "");
    assert_string_equal(numbers(p, "?camera=mere/kerb", ann), "");
    assert_string_equal(numbers(p, "?camera=mere/kerb", bob), "mere/" SERIES "/2");
    check(404, get(&p->at, "/api/sightings/mere/" SERIES "/2", ann));
    check(404, get(&p->at, "/api/thumbs/mere/" SERIES "/2", ann));
    check(404, get(&p->at, "/captures/mere/" SERIES "/2/a.jpg", ann));
    check(403, get(&p->at, "/api/zones/kerb?station=mere", bob)); /* he may look */
    check(404, get(&p->at, "/api/zones/kerb?station=mere", ann));
    json_t *o = body_of(200, get(&p->at, "/api/status", ann));
    assert_int_equal(json_array_size(json_object_get(o, "cameras")), 0);
    assert_int_equal(json_array_size(json_object_get(o, "amiss")), 0);
    assert_int_equal(json_array_size(json_object_get(o, "groups")), 1);
    json_decref(o);
    o = body_of(200, get(&p->at, "/api/nights?from=1804982400000&until=1805068800000",
                         ann)); /* where others stand is not told by their nights */
    assert_int_equal(json_array_size(json_object_get(o, "nights")), 0);
    json_decref(o);
    (void)snprintf(more, sizeof more, "%s%s", ann, change);
    check(200, post(&p->at, "/api/order", more, "{\"do\":\"arm\"}"));
    check(404, post(&p->at, "/api/order?station=mere", more, "{\"do\":\"arm\"}"));
    check(404,
          post(&p->at, "/api/order", more, "{\"do\":\"arm\",\"camera\":\"mere/kerb\"}"));
    assert_string_equal(p->said, "hollin/order {\"do\":\"arm\"}\n");
    log_in(&p->at, "bob", "tadpoles", bob, change);
    (void)snprintf(more, sizeof more, "%s%s", bob, change);
    check(403, post(&p->at, "/api/order", more, "{\"do\":\"arm\"}"));
    end(p);
}

static void test_orders_go_where_they_are_meant(void **state)
{
    (void)state;
    place *p = anew("");
    put_state(p, "hollin", "up", "{}");
    put_state(p, "kerb-7", "up", "{}");
    put_state(p, "mere", "up", "{}");
    put_state(p, "north", "down", "{}");
    check(200, post(&p->at, "/api/order?group=lane", OWN,
                    "{\"do\":\"disarm\",\"for_s\":7200}"));
    check(200, post(&p->at, "/api/order", OWN,
                    "{\"do\":\"snap\",\"camera\":\"mere/tunnel\"}"));
    check(200, post(&p->at, "/api/order?station=mere", OWN,
                    "{\"do\":\"as-set\",\"for_s\":-1,\"camera\":\"\"}"));
    assert_string_equal(p->said, "hollin/order {\"do\":\"disarm\",\"for_s\":7200}\n"
                                 "kerb-7/order {\"do\":\"disarm\",\"for_s\":7200}\n"
                                 "mere/order {\"do\":\"snap\",\"camera\":\"tunnel\"}\n"
                                 "mere/order {\"do\":\"as-set\"}\n");
    /* what lasts waits for who is away, the rest is lost */
    json_t *o = body_of(200, post(&p->at, "/api/order", OWN, "{\"do\":\"arm\"}"));
    assert_int_equal(json_integer_value(json_object_get(o, "told")), 3);
    assert_int_equal(json_integer_value(json_object_get(o, "waits")), 1);
    json_decref(o);
    o = body_of(200, post(&p->at, "/api/order?station=north", OWN,
                          "{\"do\":\"disarm\",\"for_s\":7200}"));
    assert_int_equal(json_integer_value(json_object_get(o, "told")), 0);
    assert_int_equal(json_integer_value(json_object_get(o, "waits")), 0);
    assert_int_equal(json_integer_value(json_object_get(o, "away")), 1);
    json_decref(o);
    o = body_of(200, post(&p->at, "/api/order?station=north", OWN, "{\"do\":\"snap\"}"));
    assert_int_equal(json_integer_value(json_object_get(o, "waits")), 0);
    json_decref(o);
    check(400, post(&p->at, "/api/order", OWN, "{\"do\":\"explode\"}"));
    check(400, post(&p->at, "/api/order", OWN, "{\"do\":7}"));
    check(400, post(&p->at, "/api/order", OWN, "[]"));
    check(400, post(&p->at, "/api/order", OWN, "{\"do\":\"arm\",\"camera\":\"kerb\"}"));
    check(403, post(&p->at, "/api/order", "", "{\"do\":\"arm\"}"));
    p->deaf = true;
    check(503, post(&p->at, "/api/order", OWN, "{\"do\":\"arm\"}"));
    end(p);
}

/* ---- what takes long to read ------------------------------------------------------- */

static tw_clock slow_clock(void)
{
    static tw_clock_ops ops;
    const tw_clock system = tw_linux_clock();
    ops = *system.ops;
    ops.now_us = slow_now;
    return (tw_clock){.ops = &ops, .ctx = system.ctx};
}

/* The views have what was there until it is read; what is old is read at once. */
static void test_what_takes_long_is_read_meanwhile(void **state)
{
    (void)state;
    place *p = anew("");
    char all[64];
    (void)snprintf(all, sizeof all, "hollin:nothing mere:nothing");
    twi_many_free(p->many);
    p->clock = slow_clock();
    assert_int_equal(serve(p, "", NULL), TW_OK);
    put_state(p, "hollin", "up", "{}");
    assert_string_equal(visits(p, "", ""), "hollin:nothing");
    put_state(p, "mere", "up", "{}");
    atomic_fetch_add(&slow_us, 5 * S);
    assert_string_equal(visits(p, "", ""), "hollin:nothing"); /* as it was */
    atomic_store(&step_us, 0);
    for (int i = 0; i < 100 && strcmp(visits(p, "", ""), all) != 0; i++)
        (void)usleep(20000);
    assert_string_equal(visits(p, "", ""), all);
    put_state(p, "north", "up", "{}");
    atomic_fetch_add(&slow_us, 3600 * S); /* nobody has looked for an hour */
    assert_string_equal(visits(p, "", ""), "hollin:nothing mere:nothing north:nothing");
    put_state(p, "south", "dead", "{}");
    atomic_fetch_add(&slow_us, 2 * S); /* it does not take long any more */
    assert_string_equal(visits(p, "", ""),
                        "south:dead hollin:nothing mere:nothing north:nothing");
    end(p);
}

/* ---- settings --------------------------------------------------------------------- */

static void put_settings(const place *p, const char *station, const char *text)
{
    twi_heard h = {.kind = TWI_HEARD_STATION,
                   .number = -1,
                   .time_us = WALL,
                   .state = "up",
                   .name = "aa"};
    (void)snprintf(h.station, sizeof h.station, "%s", station);
    h.text = (char *)(uintptr_t) "{\"settings\":\"aa\",\"changeable\":true}";
    put(p, h, WALL);
    json_t *o = json_pack("{ss ss}", "settings", "aa", "text", text);
    h.kind = TWI_HEARD_SETTINGS;
    h.text = json_dumps(o, JSON_COMPACT);
    put(p, h, WALL);
    free(h.text);
    json_decref(o);
}

/* "rest 9 s (2/3)": a row of a section; static. */
static const char *row_of(const place *p, const char *query, const char *key)
{
    static char words[256];
    char path[256];
    size_t i = 0;
    json_t *one = NULL;
    (void)snprintf(path, sizeof path, "/api/settings%s", query);
    json_t *o = body_of(200, get(&p->at, path, ""));
    (void)snprintf(words, sizeof words, "none");
    json_array_foreach(json_object_get(o, "rows"), i, one)
    {
        if (strcmp(json_string_value(json_object_get(one, "key")), key) == 0)
            (void)snprintf(words, sizeof words, "%s (%d/%d) %s",
                           json_string_value(json_object_get(one, "value")),
                           (int)json_integer_value(json_object_get(one, "same")),
                           (int)json_integer_value(json_object_get(one, "of")),
                           json_string_value(json_object_get(one, "origin")));
    }
    json_decref(o);
    return words;
}

#define CHANGES(write, key, value)                                                       \
    "{\"write\":" write                                                                  \
    ",\"changes\":[{\"head\":\"cameras\",\"name\":\"\",\"key\":\"" key                   \
    "\",\"value\":\"" value "\"}]}"

static place *with_settings(void)
{
    place *p = anew("");
    put_settings(p, "hollin", "[cameras]\nrest = 9 s\n[camera a]\nsource = sim:kerb\n");
    put_settings(p, "kerb-7", "[cameras]\nrest = 9 s\n[camera b]\nsource = sim:mere\n");
    put_settings(p, "mere", "[station]\nname = mere\n[camera c]\nsource = sim:mere\n");
    put_state(p, "north", "up", "{}");
    return p;
}

static void test_settings_of_one_and_of_many(void **state)
{
    (void)state;
    place *p = with_settings();
    json_t *o = body_of(200, get(&p->at, "/api/settings?station=mere", ""));
    assert_int_equal(json_array_size(json_object_get(o, "sections")), 2);
    json_decref(o);
    o = body_of(200, get(&p->at, "/api/settings", ""));
    assert_int_equal(json_integer_value(json_object_get(o, "told")), 3);
    assert_int_equal(json_integer_value(json_object_get(o, "stations")), 4);
    json_decref(o);
    assert_string_equal(row_of(p, "?head=cameras&name=", "rest"), "9 s (2/3) stations");
    assert_string_equal(row_of(p, "?head=cameras&name=", "start_at"),
                        "0.05 % (3/3) built-in");
    assert_string_equal(row_of(p, "?group=lane&head=cameras&name=", "rest"),
                        "9 s (2/2) stations");
    assert_string_equal(row_of(p, "?station=mere&head=station&name=", "name"),
                        "mere (0/0) mere:2");
    assert_string_equal(row_of(p, "?head=station&name=", "name"), "none");
    assert_string_equal(row_of(p, "?station=mere&head=station&name=", "store"), "none");
    check(404, get(&p->at, "/api/settings?station=mere&head=camera&name=else", ""));
    check(404, get(&p->at, "/api/settings?station=north", ""));
    check(404, get(&p->at, "/api/settings?station=nowhere", ""));
    end(p);
}

/* Of very many the first are looked at, and it goes to all of them. */
static void test_settings_of_very_many(void **state)
{
    (void)state;
    enum { MANY = 1003 };
    place *p = anew("");
    twi_heard all[2] = {{.kind = TWI_HEARD_STATION, .state = "up", .name = "aa"},
                        {.kind = TWI_HEARD_SETTINGS, .name = "aa"}};
    twi_heard *batch = calloc(2 * MANY, sizeof *batch);
    for (size_t i = 0; i < 2 * MANY; i++) {
        batch[i] = all[i % 2];
        batch[i].number = -1;
        batch[i].time_us = WALL;
        batch[i].text =
            (char *)(uintptr_t)(i % 2 == 0
                                    ? "{\"settings\":\"aa\",\"changeable\":true}"
                                    : "{\"settings\":\"aa\",\"text\":\"[cameras]\\nrest "
                                      "= 9 s\\n[camera a]\\nsource = sim:kerb\\n\"}");
        (void)snprintf(batch[i].station, sizeof batch[i].station, "s%04zu", i / 2);
    }
    put_all(p, batch, 2 * MANY, WALL);
    free(batch);
    json_t *o = body_of(200, get(&p->at, "/api/settings", ""));
    assert_int_equal(json_integer_value(json_object_get(o, "told")), MANY);
    assert_int_equal(json_integer_value(json_object_get(o, "seen")), 1000);
    json_decref(o);
    assert_string_equal(row_of(p, "?head=cameras&name=", "rest"),
                        "9 s (1000/1000) stations");
    o = body_of(200, post(&p->at, "/api/settings", OWN, CHANGES("true", "rest", "4 s")));
    assert_int_equal(json_integer_value(json_object_get(o, "told")), MANY);
    json_decref(o);
    o = body_of(200, get(&p->at, "/api/words?station=s1002", ""));
    assert_int_equal(json_array_size(json_object_get(o, "words")), 1);
    json_decref(o);
    twi_many_free(p->many); /* nothing is known any more */
    assert_int_equal(serve(p, "", NULL), TW_OK);
    o = body_of(200, get(&p->at, "/api/stations?station=s0777", ""));
    const json_t *one = json_array_get(json_object_get(o, "stations"), 0);
    assert_int_equal(json_integer_value(json_object_get(one, "waiting")), 1);
    json_decref(o);
    end(p);
}

/* Of one station that is chosen, by the camera's own name; a zone goes as any change. */
static void test_zones_of_one(void **state)
{
    (void)state;
    place *p = with_settings();
    put_settings(p, "mere",
                 "[camera c]\nsource = sim:mere\n[zone c/road]\n"
                 "area = 0,0 50,0 50,40.5\n");
    json_t *o = body_of(200, get(&p->at, "/api/zones/c?station=mere", ""));
    const json_t *zone = json_array_get(json_object_get(o, "zones"), 0);
    assert_int_equal(json_array_size(json_object_get(o, "zones")), 1);
    assert_string_equal(json_string_value(json_object_get(zone, "name")), "road");
    assert_string_equal(json_string_value(json_object_get(zone, "kind")), "ignored");
    const json_t *corner = json_array_get(json_object_get(zone, "points"), 2);
    assert_true(json_number_value(json_array_get(corner, 1)) == 40.5);
    json_decref(o);
    check(404, get(&p->at, "/api/zones/a?station=mere", ""));
    check(404, get(&p->at, "/api/zones/mere/c?station=mere", ""));
    check(404, get(&p->at, "/api/zones/c?station=nowhere", ""));
    check(400, get(&p->at, "/api/zones/a", "")); /* of the first of them */
    o = body_of(200, post(&p->at, "/api/settings?station=mere", OWN,
                          "{\"write\":false,\"changes\":[{\"head\":\"zone\",\"name\":"
                          "\"c/pond\",\"key\":\"area\",\"value\":\"1,1 9,1 9,9\"}]}"));
    assert_true(json_array_size(json_object_get(o, "lines")) > 0);
    json_decref(o);
    end(p);
}

static void test_a_change_is_tried_and_then_waits(void **state)
{
    (void)state;
    place *p = with_settings();
    json_t *o = body_of(200, post(&p->at, "/api/settings?group=lane", OWN,
                                  CHANGES("false", "rest", "4 s")));
    assert_int_equal(json_array_size(json_object_get(o, "lines")), 2);
    assert_int_equal(json_integer_value(json_object_get(o, "told")), 0);
    json_decref(o);
    assert_string_equal(p->said, "");
    o = body_of(200, post(&p->at, "/api/settings?group=lane", OWN,
                          CHANGES("true", "rest", "4 s")));
    assert_int_equal(json_integer_value(json_object_get(o, "told")), 2);
    json_decref(o);
    assert_string_equal(p->said, "/due \n"); /* the gatherer looks */
    o = body_of(200, get(&p->at, "/api/words?station=hollin", ""));
    const json_t *word = json_array_get(json_object_get(o, "words"), 0);
    assert_string_equal(json_string_value(json_object_get(word, "state")), "waits");
    assert_string_equal(json_string_value(json_object_get(word, "station")), "hollin");
    assert_int_equal(json_array_size(json_object_get(word, "changes")), 1);
    assert_int_equal(json_array_size(json_object_get(o, "words")), 1);
    json_decref(o);
    check(400, post(&p->at, "/api/settings", OWN, CHANGES("true", "rest", "soon")));
    check(400, post(&p->at, "/api/settings", OWN, CHANGES("true", "names", "***")));
    check(400, post(&p->at, "/api/settings", OWN, "{\"write\":true}"));
    check(400, post(&p->at, "/api/settings?group=lane", OWN,
                    "{\"write\":true,\"changes\":[{\"head\":\"station\",\"name\":\"\","
                    "\"key\":\"name\",\"value\":\"x\"}]}"));
    check(400, post(&p->at, "/api/settings?station=mere", OWN,
                    "{\"write\":true,\"changes\":[{\"head\":\"station\",\"name\":\"\","
                    "\"key\":\"store\",\"value\":\"/tmp\"}]}"));
    check(403, post(&p->at, "/api/settings", "", CHANGES("true", "rest", "4 s")));
    o = body_of(200, get(&p->at, "/api/words", ""));
    assert_int_equal(json_array_size(json_object_get(o, "words")), 2);
    json_decref(o);
    end(p);
}

/* What a board told is read as settings, and nothing of this machine with it. */
static void test_hostile_settings_are_data(void **state)
{
    (void)state;
    static const char *const texts[] = {
        "include = /etc/*\n[station]\ninclude = /etc/passwd\n",
        "[camera kerb]\nsource = file:/etc/passwd\nmask = /etc/passwd\n",
        "[hook x]\non = began\nrun = touch /tmp/tawny-was-here\n",
        "[[[[\n]\n= = =\n\x01\x02",
        "",
        "[camera <b>]\nsource = \"\n"};
    place *p = with_settings();
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++) {
        put_settings(p, "bad", texts[i]);
        json_t *o = body_of(200, get(&p->at, "/api/settings?station=bad", ""));
        assert_true(json_array_size(json_object_get(o, "sections")) >= 1);
        char *said = json_dumps(o, 0);
        assert_null(strstr(said, "root:"));
        free(said);
        json_decref(o);
        (void)post(&p->at, "/api/settings?station=bad", OWN,
                   CHANGES("false", "rest", "4 s"));
    }
    assert_int_not_equal(access("/tmp/tawny-was-here", F_OK), 0);
    assert_string_equal(row_of(p, "?station=mere&head=station&name=", "name"),
                        "mere (0/0) mere:2");
    end(p);
}

static void test_without_a_key_settings_are_seen_alone(void **state)
{
    (void)state;
    place *p = with_settings();
    tw_error err = {0};
    twi_many_free(p->many);
    p->keyless = true;
    assert_int_equal(serve(p, "", &err), TW_OK);
    json_t *o = body_of(200, get(&p->at, "/api/settings?station=mere", ""));
    assert_true(json_is_false(json_object_get(o, "changeable")));
    json_decref(o);
    check(409, post(&p->at, "/api/settings?station=mere", OWN,
                    CHANGES("true", "rest", "4 s")));
    end(p);
}

/* ---- captures --------------------------------------------------------------------- */

#define CAPTURE(file)                                                                    \
    "{\"kind\":\"still\",\"start\":\"2027-03-13T21:04:08.000Z\",\"bytes\":5,\"file\":"   \
    "\"" file "\"}"

static void lay(const place *p, const char *name, const char *text)
{
    char *path = join(p->media, name);
    write_text(path, text);
    free(path);
}

static void test_no_name_leads_out_of_its_stations_folder(void **state)
{
    (void)state;
    place *p = anew("");
    char *hollin = join(p->media, "hollin"), *mere = join(p->media, "mere"),
         *link = join(p->media, "hollin/link"), *away = join(p->media, "hollin/out.jpg");
    assert_int_equal(mkdir(hollin, 0755), 0);
    assert_int_equal(mkdir(mere, 0755), 0);
    lay(p, "hollin/a b.jpg", "toads");
    lay(p, "hollin/unknown.jpg", "never told of");
    lay(p, "mere/hers.jpg", "hers");
    lay(p, "secret.jpg", "secret");
    assert_int_equal(symlink("../mere", link), 0);
    assert_int_equal(symlink("../secret.jpg", away), 0);
    put_sighting(
        p, "hollin", 1,
        "{\"captures\":[" CAPTURE("../mere/hers.jpg") "," CAPTURE("a b.jpg") "," CAPTURE("link/hers.jpg") "," CAPTURE("out.jpg") "," CAPTURE(
            "/etc/passwd") "," CAPTURE("./a b.jpg") "," CAPTURE("") "," CAPTURE("gone."
                                                                                "jpg") "," CAPTURE("a\\u0001b.jpg") "]}");
    put_sighting(p, "..", 1, "{\"captures\":[" CAPTURE("secret.jpg") "]}");
    const char *answer = get(&p->at, "/captures/hollin/" SERIES "/1/a%20b.jpg", "");
    check(200, answer);
    assert_has(answer, "\r\n\r\ntoads");
    assert_has(answer, "image/jpeg");
    static const char *const none[] = {"hollin/" SERIES "/1/..%2Fmere%2Fhers.jpg",
                                       "hollin/" SERIES "/1/link%2Fhers.jpg",
                                       "hollin/" SERIES "/1/link/hers.jpg",
                                       "hollin/" SERIES "/1/out.jpg",
                                       "hollin/" SERIES "/1//etc/passwd",
                                       "hollin/" SERIES "/1/%2Fetc%2Fpasswd",
                                       "hollin/" SERIES "/1/.%2Fa%20b.jpg",
                                       "hollin/" SERIES "/1/unknown.jpg",
                                       "hollin/" SERIES "/1/gone.jpg",
                                       "hollin/" SERIES "/1/a%01b.jpg",
                                       "hollin/" SERIES "/2/a%20b.jpg",
                                       "mere/" SERIES "/1/hers.jpg",
                                       "..%2F" SERIES "/1/secret.jpg",
                                       "%2E%2E/" SERIES "/1/secret.jpg"};
    for (size_t i = 0; i < sizeof none / sizeof *none; i++) {
        char path[256];
        (void)snprintf(path, sizeof path, "/captures/%s", none[i]);
        check(404, get(&p->at, path, ""));
    }
    check(404, get(&p->at, "/api/thumbs/hollin/" SERIES "/1", "")); /* not a JPEG */
    free(hollin);
    free(mere);
    free(link);
    free(away);
    end(p);
}

static void test_captures_come_from_a_store(void **state)
{
    (void)state;
    char text[1024];
    tw_error err = {0};
    place *p = anew("");
    char *www = join(p->folder, "www"), *north = join(www, "north");
    (void)chmod(p->folder, 0755);
    make_credentials(p->folder);
    server web = start_webdav(p->folder, false);
    assert_int_equal(mkdir(north, 0755), 0);
    char *file = join(north, "a b.jpg"), *secret = join(www, "secret.jpg");
    write_text(file, "toads");
    write_text(secret, "secret");
    (void)chmod(file, 0644);
    (void)chmod(secret, 0644);
    put_sighting(p, "north", 1,
                 "{\"captures\":[" CAPTURE("a b.jpg") "," CAPTURE(
                     "../secret.jpg") "," CAPTURE("gone.jpg") "]}");
    put_sighting(p, "..", 1, "{\"captures\":[" CAPTURE("secret.jpg") "]}");
    twi_many_free(p->many);
    (void)snprintf(text, sizeof text,
                   "media = {station}/{file}\nmedia_from = there\n[station]\nstore = "
                   "%s/own\n[destination there]\nurl = http://localhost:%d\n",
                   p->folder, web.port);
    if (serve(p, text, &err) != TW_OK)
        fail_msg("%s", err.text);
    for (int i = 0; i < 2; i++) {
        const char *answer = get(&p->at, "/captures/north/" SERIES "/1/a%20b.jpg", "");
        check(200, answer);
        assert_has(answer, "\r\n\r\ntoads");
        end_server(&web); /* the second time it is kept here */
    }
    check(404, get(&p->at, "/captures/north/" SERIES "/1/..%2Fsecret.jpg", ""));
    check(404, get(&p->at, "/captures/north/" SERIES "/1/gone.jpg", ""));
    check(404, get(&p->at, "/captures/%2E%2E/" SERIES "/1/secret.jpg", ""));
    free(file);
    free(secret);
    free(north);
    free(www);
    end(p);
}

/* ---- faults ----------------------------------------------------------------------- */

static void test_a_ledger_that_is_away_is_told_and_found_again(void **state)
{
    (void)state;
    place *p = anew("");
    char *aside = join(p->folder, "aside");
    put_state(p, "hollin", "up", "{}");
    twi_many_free(p->many); /* nothing has it open */
    p->many = NULL;
    assert_int_equal(rename(p->ledger, aside), 0);
    assert_int_equal(mkdir(p->ledger, 0755), 0);
    assert_int_equal(serve(p, "", NULL), TW_OK);
    check(503, get(&p->at, "/api/status", ""));
    check(503, get(&p->at, "/api/sightings", ""));
    check(503, post(&p->at, "/api/visit", OWN, "{}"));
    assert_int_equal(rmdir(p->ledger), 0);
    assert_int_equal(rename(aside, p->ledger), 0);
    assert_string_equal(visits(p, "", ""), "hollin:nothing");
    check(200, post(&p->at, "/api/visit", OWN, "{}"));
    free(aside);
    end(p);
}

static void test_a_visit_tells_of_the_one_before(void **state)
{
    (void)state;
    const int64_t before_s = 1700000000;
    int64_t since_us = 0;
    twi_ledger *l = NULL;
    place *p = anew("");
    assert_int_equal(twi_ledger_sqlite.open(p->ledger, &l, NULL), TW_OK);
    assert_int_equal(twi_ledger_sqlite.visit(l, "", before_s * S, &since_us, NULL),
                     TW_OK);
    twi_ledger_sqlite.close(l);
    json_t *o = body_of(200, post(&p->at, "/api/visit", OWN, "{}"));
    assert_true(json_integer_value(json_object_get(o, "since")) == before_s * 1000);
    json_decref(o);
    end(p);
}

static void test_what_is_not_of_many_is_not_there(void **state)
{
    (void)state;
    place *p = anew("");
    static const char *const none[] = {"/api/settings", "/api/log",        "/api/plan",
                                       "/live/kerb",    "/api/stations/x", "/captures/"};
    for (size_t i = 0; i < sizeof none / sizeof *none; i++)
        check(404, get(&p->at, none[i], ""));
    check(404, post(&p->at, "/api/settings", OWN, "{}"));
    check(200, get(&p->at, "/stations.js", ""));
    json_t *o = body_of(200, get(&p->at, "/api/me", ""));
    assert_true(json_is_true(json_object_get(o, "many")));
    json_decref(o);
    end(p);
}

static void test_settings_that_cannot_be_are_told(void **state)
{
    (void)state;
    static const char *const wrong[][2] = {
        {"media = /srv/{file}\n", "{station} in it"},
        {"media = /srv/{file}/{station}\n", "{file} behind"},
        {"media = /srv/captures\n", "{station} in it"},
        {"groups = lane hollin\n", "its name, a colon"},
        {"groups = : hollin\n", "its name, a colon"}};
    place *p = anew("");
    twi_many_free(p->many);
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++) {
        tw_error err = {0};
        p->many = NULL;
        assert_int_equal(serve(p, wrong[i][0], &err), TW_EINVAL);
        assert_null(p->many);
        assert_has(err.text, wrong[i][1]);
    }
    end(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_who_needs_a_visit_comes_first),
        cmocka_unit_test(test_what_boards_say_is_data),
        cmocka_unit_test(test_sightings_of_a_group_a_station_a_camera),
        cmocka_unit_test(test_an_account_sees_its_groups_alone),
        cmocka_unit_test(test_orders_go_where_they_are_meant),
        cmocka_unit_test(test_settings_of_one_and_of_many),
        cmocka_unit_test(test_what_takes_long_is_read_meanwhile),
        cmocka_unit_test(test_settings_of_very_many),
        cmocka_unit_test(test_zones_of_one),
        cmocka_unit_test(test_a_change_is_tried_and_then_waits),
        cmocka_unit_test(test_hostile_settings_are_data),
        cmocka_unit_test(test_without_a_key_settings_are_seen_alone),
        cmocka_unit_test(test_no_name_leads_out_of_its_stations_folder),
        cmocka_unit_test(test_captures_come_from_a_store),
        cmocka_unit_test(test_a_ledger_that_is_away_is_told_and_found_again),
        cmocka_unit_test(test_a_visit_tells_of_the_one_before),
        cmocka_unit_test(test_what_is_not_of_many_is_not_there),
        cmocka_unit_test(test_settings_that_cannot_be_are_told),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
