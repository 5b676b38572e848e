/* Who was seen: by whose word, found again, and after the catalogue was lost. */
#include <stdlib.h>
#include <string.h>

#include "../../src/core/naming.h"
#include "../../src/station/catalogue_state.h"
#include "../../src/station/catalogue_write.h"
#include "../support/support.h"
#include "tawny/catalogue.h"

#define S INT64_C(1000000)
#define WALL (INT64_C(1804968000) * S)

static tw_catalogue *open_in(const char *folder, bool write)
{
    char *path = join(folder, TWI_CATALOGUE_FILE);
    tw_catalogue *c = NULL;
    tw_error err = {0};
    if (tw_catalogue_open(path, write, &c, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(twi_catalogue_begin_run(c, WALL, "", NULL), TW_OK);
    free(path);
    return c;
}

static void add(tw_catalogue *c, uint32_t number, uint32_t peak_ppm)
{
    const tw_sighting s = {.number = number,
                           .part = 1,
                           .start_us = (int64_t)number * 60 * S,
                           .end_us = (int64_t)number * 60 * S + 9 * S,
                           .peak_ppm = peak_ppm,
                           .frames = 90};
    const twi_sighting_entry entry = {.camera = "kerb",
                                      .sighting = &s,
                                      .wall_offset_us = WALL,
                                      .why = "",
                                      .over = true};
    int64_t id = 0;
    assert_int_equal(twi_catalogue_put(c, &entry, &id, NULL), TW_OK);
    assert_int_equal(id, number);
}

/* What is found by a filter: names joined, and the last record. */
typedef struct found {
    char names[256], name[64], note[64], by[64];
    size_t count;
    tw_sighting_record last; /* without its texts */
} found;

static bool take(void *ctx, const tw_sighting_record *r)
{
    found *f = ctx;
    f->count++;
    (void)strncat(f->names, r->name, sizeof f->names - strlen(f->names) - 1);
    (void)strncat(f->names, ";", sizeof f->names - strlen(f->names) - 1);
    (void)snprintf(f->name, sizeof f->name, "%s", r->name);
    (void)snprintf(f->note, sizeof f->note, "%s", r->note);
    (void)snprintf(f->by, sizeof f->by, "%s", r->named_by);
    f->last = *r;
    return true;
}

static found find(tw_catalogue *c, tw_sighting_filter filter)
{
    found f = {.count = 0};
    filter.size = sizeof filter;
    assert_int_equal(tw_catalogue_sightings(c, &filter, take, &f, NULL), TW_OK);
    return f;
}

static tw_status name(tw_catalogue *c, int64_t id, const char *what, uint32_t count,
                      const char *by, int64_t at_s)
{
    const tw_naming n = {.size = sizeof n,
                         .name = what,
                         .count = count,
                         .note = "by the drain",
                         .by = by,
                         .sure_ppm = by ? 930000 : 0,
                         .at_us = WALL + at_s * S};
    return tw_catalogue_name(c, id, &n, NULL);
}

static void test_a_name_is_kept_and_found(void **state)
{
    (void)state;
    char *folder = make_folder();
    tw_catalogue *c = open_in(folder, true);
    for (uint32_t i = 1; i <= 4; i++)
        add(c, i, i * 10000);
    assert_int_equal(find(c, (tw_sighting_filter){.id = 1}).last.named_us, 0);
    assert_int_equal(name(c, 1, "Bufo bufo", 2, NULL, 10), TW_OK);
    assert_int_equal(name(c, 2, "Vulpes vulpes", 0, NULL, 20), TW_OK);
    assert_int_equal(name(c, 4, "Bufo bufo", 1, NULL, 30), TW_OK);
    found f = find(c, (tw_sighting_filter){.id = 1});
    assert_string_equal(f.name, "Bufo bufo");
    assert_string_equal(f.note, "by the drain");
    assert_string_equal(f.by, "");
    assert_int_equal(f.last.count, 2);
    assert_true(f.last.named_us == WALL + 10 * S);
    assert_int_equal(find(c, (tw_sighting_filter){.name = "BUFO"}).count, 2);
    assert_string_equal(find(c, (tw_sighting_filter){.name = "vulp"}).names,
                        "Vulpes vulpes;");
    assert_int_equal(find(c, (tw_sighting_filter){.name = "%"}).count, 0);
    assert_int_equal(find(c, (tw_sighting_filter){.least_peak_ppm = 20000}).count, 3);
    assert_int_equal(find(c, (tw_sighting_filter){.most_peak_ppm = 20000}).count, 2);
    assert_int_equal(
        find(c, (tw_sighting_filter){.least_peak_ppm = 20000, .most_peak_ppm = 20000})
            .count,
        1);
    assert_int_equal(tw_catalogue_mark(c, 2, TW_MARK_NOTHING, NULL), TW_OK);
    assert_int_equal(tw_catalogue_mark(c, 3, TW_MARK_RIGHT, NULL), TW_OK);
    assert_int_equal(find(c, (tw_sighting_filter){.mark = TW_MARK_NOTHING}).last.id, 2);
    assert_int_equal(find(c, (tw_sighting_filter){.mark = TW_MARK_RIGHT}).last.id, 3);
    /* Taken back. */
    const tw_naming none = {.size = sizeof none, .at_us = WALL};
    assert_int_equal(tw_catalogue_name(c, 4, &none, NULL), TW_OK);
    assert_int_equal(find(c, (tw_sighting_filter){.id = 4}).last.named_us, 0);
    assert_int_equal(find(c, (tw_sighting_filter){.name = "bufo"}).count, 1);
    tw_catalogue_close(c);
    remove_folder(folder);
}

static void test_what_is_no_name(void **state)
{
    (void)state;
    char *folder = make_folder(), longer[1200];
    tw_catalogue *c = open_in(folder, true);
    add(c, 1, 1000);
    memset(longer, 'a', sizeof longer);
    longer[TW_NAME_MAX] = '\0';
    assert_int_equal(name(c, 1, longer, 1, NULL, 1), TW_OK);
    longer[TW_NAME_MAX] = 'a';
    longer[TW_NAME_MAX + 1] = '\0';
    assert_int_equal(name(c, 1, longer, 1, NULL, 1), TW_EINVAL);
    assert_int_equal(name(c, 1, "two\nlines", 1, NULL, 1), TW_EINVAL);
    assert_int_equal(name(c, 1, "Bufo bufo", TW_COUNT_MAX + 1, NULL, 1), TW_EINVAL);
    assert_int_equal(name(c, 9, "Bufo bufo", 1, NULL, 1), TW_ENOENT);
    assert_int_equal(tw_catalogue_name(c, 1, NULL, NULL), TW_EINVAL);
    const tw_naming with_note = {
        .size = sizeof with_note, .note = "line\tor two", .at_us = 1};
    assert_int_equal(tw_catalogue_name(c, 1, &with_note, NULL), TW_EINVAL);
    tw_catalogue_close(c);
    remove_folder(folder);
}

static void test_somebodys_word_stands_over_a_programs(void **state)
{
    (void)state;
    char *folder = make_folder();
    tw_catalogue *c = open_in(folder, true);
    add(c, 1, 1000);
    assert_int_equal(name(c, 1, "Rana temporaria", 1, "guess", 1), TW_OK);
    found f = find(c, (tw_sighting_filter){.id = 1});
    assert_string_equal(f.by, "guess");
    assert_int_equal(f.last.sure_ppm, 930000);
    assert_int_equal(name(c, 1, "Rana dalmatina", 1, "other", 2), TW_OK);
    assert_int_equal(name(c, 1, "Bufo bufo", 1, NULL, 3), TW_OK);
    assert_int_equal(name(c, 1, "Rana temporaria", 1, "guess", 4), TW_EEXIST);
    assert_string_equal(find(c, (tw_sighting_filter){.id = 1}).name, "Bufo bufo");
    tw_catalogue_close(c);
    remove_folder(folder);
}

static bool join_name(void *ctx, const char *given, uint32_t named)
{
    char *all = ctx, one[64];
    (void)snprintf(one, sizeof one, "%s %u;", given, (unsigned)named);
    (void)strncat(all, one, 255 - strlen(all));
    return strstr(all, "stop") == NULL;
}

static void test_names_of_late_come_first(void **state)
{
    (void)state;
    char *folder = make_folder(), all[256] = "";
    tw_catalogue *c = open_in(folder, true);
    for (uint32_t i = 1; i <= 4; i++)
        add(c, i, 1000);
    assert_int_equal(name(c, 1, "Bufo bufo", 1, NULL, 10), TW_OK);
    assert_int_equal(name(c, 2, "Vulpes vulpes", 1, NULL, 20), TW_OK);
    assert_int_equal(name(c, 3, "Bufo bufo", 1, NULL, 30), TW_OK);
    assert_int_equal(tw_catalogue_names(c, join_name, all, NULL), TW_OK);
    assert_string_equal(all, "Bufo bufo 2;Vulpes vulpes 1;");
    tw_catalogue_close(c);
    remove_folder(folder);
}

/* The journal has them: a catalogue that is lost is made again with all names. */
static void test_names_outlive_the_catalogue(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, TWI_CATALOGUE_FILE);
    tw_catalogue *c = open_in(folder, true);
    add(c, 1, 1000);
    add(c, 2, 1000);
    assert_int_equal(name(c, 1, "Bufo \"b.\" bufo", 3, NULL, 10), TW_OK);
    assert_int_equal(name(c, 2, "Vulpes vulpes", 1, "guess", 20), TW_OK);
    tw_catalogue_close(c);
    assert_int_equal(remove(path), 0);
    c = open_in(folder, true);
    assert_int_equal(twi_catalogue_journal_read(c, NULL), TW_OK);
    found f = find(c, (tw_sighting_filter){.id = 1});
    assert_string_equal(f.name, "Bufo \"b.\" bufo");
    assert_int_equal(f.last.count, 3);
    assert_true(f.last.named_us == WALL + 10 * S);
    f = find(c, (tw_sighting_filter){.id = 2});
    assert_string_equal(f.by, "guess");
    assert_int_equal(f.last.sure_ppm, 930000);
    tw_catalogue_close(c);
    free(path);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_name_is_kept_and_found),
        cmocka_unit_test(test_what_is_no_name),
        cmocka_unit_test(test_somebodys_word_stands_over_a_programs),
        cmocka_unit_test(test_names_of_late_come_first),
        cmocka_unit_test(test_names_outlive_the_catalogue),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
