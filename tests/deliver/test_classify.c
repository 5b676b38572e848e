/* What programs say of sightings: taken where it may be, and told where it cannot. */
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../../src/core/naming.h"
#include "../../src/deliver/classify.h"
#include "../../src/station/catalogue_write.h"
#include "../support/support.h"
#include "tawny/catalogue.h"

#define S INT64_C(1000000)

typedef struct place {
    char *folder;
    tw_card card;
    tw_catalogue *catalogue;
} place;

static place set_up_store(void)
{
    place p = {.folder = make_folder()};
    char *path = join(p.folder, TWI_CATALOGUE_FILE);
    assert_int_equal(tw_linux_card(p.folder, &p.card, NULL), TW_OK);
    assert_int_equal(tw_catalogue_open(path, true, &p.catalogue, NULL), TW_OK);
    assert_int_equal(twi_catalogue_begin_run(p.catalogue, S, "", NULL), TW_OK);
    for (uint32_t i = 1; i <= 4; i++) {
        char file[32], *still = NULL;
        int64_t id = 0;
        const tw_sighting s = {
            .number = i, .part = 1, .start_us = i * S, .end_us = 9 * S};
        const twi_sighting_entry entry = {
            .camera = "kerb", .sighting = &s, .why = "", .over = i != 4};
        assert_int_equal(twi_catalogue_put(p.catalogue, &entry, &id, NULL), TW_OK);
        assert_int_equal(id, i);
        (void)snprintf(file, sizeof file, "%u-still.jpg", (unsigned)i);
        still = join(p.folder, file);
        write_text(still, "jpeg");
        free(still);
        const tw_capture_record r = {.sighting = id,
                                     .camera = "kerb",
                                     .kind = "still",
                                     .file = file,
                                     .bytes = 4,
                                     .start_us = i * S};
        assert_int_equal(twi_catalogue_add(p.catalogue, &r, NULL), TW_OK);
    }
    free(path);
    return p;
}

static void take_down(place *p)
{
    tw_catalogue_close(p->catalogue);
    p->card.ops->destroy(p->card.ctx);
    remove_folder(p->folder);
}

static tw_status say(const place *p, int64_t sighting, const char *answer, char said[256],
                     tw_error *err)
{
    const twi_classified who = {.store = p->folder,
                                .card = &p->card,
                                .program = "guess",
                                .sighting = sighting,
                                .at_us = 50 * S};
    *err = (tw_error){0};
    return twi_classify(&who, answer, said, 256, err);
}

typedef struct seen {
    char name[64], by[32];
    uint32_t count, sure_ppm;
    bool starred, found;
} seen;

static bool take(void *ctx, const tw_sighting_record *r)
{
    seen *s = ctx;
    *s = (seen){
        .count = r->count, .sure_ppm = r->sure_ppm, .starred = r->starred, .found = true};
    (void)snprintf(s->name, sizeof s->name, "%s", r->name);
    (void)snprintf(s->by, sizeof s->by, "%s", r->named_by);
    return true;
}

static seen look(const place *p, int64_t id)
{
    const tw_sighting_filter filter = {.id = id};
    seen s = {.found = false};
    assert_int_equal(tw_catalogue_sightings(p->catalogue, &filter, take, &s, NULL),
                     TW_OK);
    return s;
}

static bool has_still(const place *p, int number)
{
    char file[32];
    (void)snprintf(file, sizeof file, "%d-still.jpg", number);
    char *path = join(p->folder, file);
    const bool there = access(path, F_OK) == 0;
    free(path);
    return there;
}

static void test_an_answer_names_and_stars(void **state)
{
    (void)state;
    place p = set_up_store();
    char said[256];
    tw_error err;
    assert_int_equal(say(&p, 1,
                         "{\"name\": \"Bufo bufo\", \"score\": 0.93, \"count\": 2, "
                         "\"star\": true, \"more\": [1]}",
                         said, &err),
                     TW_OK);
    assert_string_equal(said, "sighting 1 is Bufo bufo");
    const seen s = look(&p, 1);
    assert_string_equal(s.name, "Bufo bufo");
    assert_string_equal(s.by, "guess");
    assert_true(s.starred && s.count == 2 && s.sure_ppm == 930000);
    assert_int_equal(say(&p, 2, "{}", said, &err), TW_OK);
    assert_string_equal(said, "it says nothing of sighting 2");
    assert_string_equal(look(&p, 2).name, "");
    take_down(&p);
}

static void test_an_answer_drops_what_nobody_wants(void **state)
{
    (void)state;
    place p = set_up_store();
    char said[256];
    tw_error err;
    assert_int_equal(say(&p, 1, "{\"drop\": true}", said, &err), TW_OK);
    assert_string_equal(said, "sighting 1 dropped");
    assert_false(look(&p, 1).found);
    assert_false(has_still(&p, 1));
    assert_true(has_still(&p, 2));
    /* Somebody wants these. */
    const tw_naming n = {.size = sizeof n, .name = "Bufo bufo", .at_us = S};
    assert_int_equal(tw_catalogue_name(p.catalogue, 2, &n, NULL), TW_OK);
    assert_int_equal(tw_catalogue_star(p.catalogue, 3, true, NULL), TW_OK);
    for (int i = 2; i <= 3; i++) {
        assert_int_equal(say(&p, i, "{\"drop\": true}", said, &err), TW_OK);
        assert_has(said, "stays: somebody wants it");
        assert_true(look(&p, i).found && has_still(&p, i));
    }
    assert_int_equal(tw_catalogue_star(p.catalogue, 3, false, NULL), TW_OK);
    assert_int_equal(tw_catalogue_mark(p.catalogue, 3, TW_MARK_RIGHT, NULL), TW_OK);
    assert_int_equal(say(&p, 3, "{\"drop\": true}", said, &err), TW_OK);
    assert_true(look(&p, 3).found);
    /* One that still runs. */
    assert_int_equal(say(&p, 4, "{\"drop\": true}", said, &err), TW_EAGAIN);
    assert_has(err.text, "sighting 4 is not over");
    assert_true(has_still(&p, 4));
    assert_int_equal(say(&p, 9, "{\"drop\": true}", said, &err), TW_ENOENT);
    take_down(&p);
}

static void test_somebodys_name_stands(void **state)
{
    (void)state;
    place p = set_up_store();
    char said[256];
    tw_error err;
    const tw_naming n = {.size = sizeof n, .name = "Bufo bufo", .at_us = S};
    assert_int_equal(tw_catalogue_name(p.catalogue, 1, &n, NULL), TW_OK);
    assert_int_equal(say(&p, 1, "{\"name\": \"Rana\"}", said, &err), TW_EEXIST);
    assert_string_equal(look(&p, 1).name, "Bufo bufo");
    take_down(&p);
}

static void test_what_is_no_answer_is_told(void **state)
{
    (void)state;
    static const char *const wrong[] = {"",
                                        "Bufo bufo",
                                        "[]",
                                        "{\"name\": \"Bufo",
                                        "{\"name\": 3}",
                                        "{\"score\": \"much\"}",
                                        "{\"score\": 1.5}",
                                        "{\"score\": -1}",
                                        "{\"count\": 2.5}",
                                        "{\"count\": -1}",
                                        "{\"count\": 9999999}",
                                        "{\"name\": \"a\", \"name\": \"b\"}"};
    place p = set_up_store();
    char said[256];
    tw_error err;
    for (size_t i = 0; i < sizeof wrong / sizeof *wrong; i++) {
        assert_int_equal(say(&p, 1, wrong[i], said, &err), TW_ESYNTAX);
        assert_true(err.text[0] != '\0');
    }
    assert_int_equal(say(&p, 1, "{\"name\": \"two\\nlines\"}", said, &err), TW_EINVAL);
    assert_string_equal(look(&p, 1).name, "");
    take_down(&p);
}

/* The example's answers are answers. */
static void test_the_example(void **state)
{
    (void)state;
    static const struct {
        const char *peak, *said;
    } cases[] = {
        {"0.05", "dropped"}, {"1.3", "is Bufo bufo"}, {"12", "is Vulpes vulpes"}};
    place p = set_up_store();
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char line[512], said[256];
        tw_error err;
        (void)snprintf(line, sizeof line,
                       "echo '{\"type\":\"sighting\",\"peak\":%s,\"frames\":90}' | "
                       "'%s/examples/guess_by_size.sh'",
                       cases[i].peak, SOURCE_DIR);
        outcome o = run_program(p.folder, "/bin/sh", "-c", line, NULL);
        assert_int_equal(o.code, 0);
        if (say(&p, (int64_t)i + 1, o.out, said, &err) != TW_OK)
            fail_msg("%s: %s", o.out, err.text);
        assert_has(said, cases[i].said);
        free_outcome(&o);
    }
    assert_true(look(&p, 3).starred);
    take_down(&p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_an_answer_names_and_stars),
        cmocka_unit_test(test_an_answer_drops_what_nobody_wants),
        cmocka_unit_test(test_somebodys_name_stands),
        cmocka_unit_test(test_what_is_no_answer_is_told),
        cmocka_unit_test(test_the_example),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
