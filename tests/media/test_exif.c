/* EXIF: read back by another program; pixels untouched. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/exif.h"
#include "../support/support.h"
#include "../../src/core/naming.h"

static const twi_civil EVENING = {2027, 3, 13, 21, 30, 15, 204567, 6, 72, 3600};

/* A head with the rest of the picture behind it. */
static uint8_t *joined(uint8_t *head, size_t *bytes, const uint8_t *rest, size_t size)
{
    uint8_t *whole = realloc(head, *bytes + size);
    assert_non_null(whole);
    memcpy(whole + *bytes, rest, size);
    *bytes += size;
    return whole;
}

static uint8_t *tagged(size_t *bytes, const twi_exif_fields *fields)
{
    size_t plain = 0;
    uint8_t *jpeg = plain_jpeg(64, 48, 100, &plain), *out = NULL;
    assert_int_equal(twi_exif_head(jpeg, plain, fields, &out, bytes, NULL), TW_OK);
    out = joined(out, bytes, jpeg + TWI_EXIF_REPLACES, plain - TWI_EXIF_REPLACES);
    free(jpeg);
    return out;
}

static void test_another_program_reads_it_back(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "still.jpg");
    const twi_exif_fields fields = {EVENING, "kerb", 7, "2 of 3 frames", 64, 48};
    size_t bytes = 0;
    uint8_t *jpeg = tagged(&bytes, &fields);
    write_bytes(path, jpeg, bytes);
    outcome o = run_program(NULL, EXIFTOOL, "-s", path, NULL);
    assert_int_equal(o.code, 0);
    static const char *const lines[] = {": 2027:03:13 21:30:15.204+01:00",
                                        ": kerb",
                                        ": Tawny Watch",
                                        ": +01:00",
                                        ": camera kerb, sighting 7",
                                        ": libtawny 0.1.0",
                                        ": 2 of 3 frames"};
    for (size_t i = 0; i < sizeof lines / sizeof *lines; i++)
        assert_has(o.out, lines[i]);
    free_outcome(&o);
    o = run_program(NULL, EXIFTOOL, "-validate", "-warning", "-a", path, NULL);
    assert_has(o.out, ": OK");
    free_outcome(&o);
    free(jpeg);
    free(path);
    remove_folder(folder);
}

static void test_times_west_of_greenwich(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "still.jpg");
    twi_exif_fields fields = {EVENING, "kerb", 7, NULL, 0, 0};
    fields.time.offset_s = -12600;
    size_t bytes = 0;
    uint8_t *jpeg = tagged(&bytes, &fields);
    write_bytes(path, jpeg, bytes);
    outcome o = run_program(NULL, EXIFTOOL, "-s", "-OffsetTimeOriginal", path, NULL);
    assert_has(o.out, ": -03:30");
    free_outcome(&o);
    free(jpeg);
    free(path);
    remove_folder(folder);
}

static void test_a_time_is_put_right(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "still.jpg");
    const twi_exif_fields fields = {
        {1970, 1, 1, 0, 3, 20, 0, 4, 1, 0}, "kerb", 7, "2 of 3 frames", 64, 48};
    size_t bytes = 0, again = 0, replaces = 0, twice = 0;
    uint8_t *jpeg = tagged(&bytes, &fields), *head = NULL;
    assert_int_equal(
        twi_exif_retime(jpeg, bytes, &EVENING, &head, &again, &replaces, NULL), TW_OK);
    head = joined(head, &again, jpeg + replaces, bytes - replaces);
    write_bytes(path, head, again);
    outcome o = run_program(NULL, EXIFTOOL, "-s", path, NULL);
    assert_has(o.out, ": 2027:03:13 21:30:15.204+01:00");
    assert_has(o.out, ": camera kerb, sighting 7"); /* the rest is as it was */
    assert_has(o.out, ": 2 of 3 frames");
    assert_null(strstr(o.out, "1970"));
    free_outcome(&o);
    tw_error err = {0};
    size_t plain = 0;
    uint8_t *none = NULL, *bare = plain_jpeg(64, 48, 100, &plain);
    assert_int_equal(
        twi_exif_retime(bare, plain, &EVENING, &none, &twice, &replaces, &err),
        TW_EDAMAGED);
    assert_has(err.text, "does not begin with EXIF");
    free(bare);
    free(jpeg);
    free(head);
    remove_folder(folder);
    free(path);
}

static void test_what_is_no_jpeg_is_refused(void **state)
{
    (void)state;
    const twi_exif_fields fields = {EVENING, "kerb", 7, "2 of 3 frames", 64, 48};
    uint8_t *out = NULL;
    size_t bytes = 0;
    tw_error err = {0};
    assert_int_equal(
        twi_exif_head((const uint8_t *)"text", 4, &fields, &out, &bytes, &err),
        TW_EDAMAGED);
    assert_has(err.text, "not a JPEG");
    assert_null(out);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_another_program_reads_it_back),
        cmocka_unit_test(test_times_west_of_greenwich),
        cmocka_unit_test(test_a_time_is_put_right),
        cmocka_unit_test(test_what_is_no_jpeg_is_refused),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
