/* Pictures in a stream, whole and in pieces, and what is no picture. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

typedef struct stream {
    uint8_t *data;
    size_t bytes, length[3];
} stream;

/* Three pictures, the second with a preview that has an end of its own. */
static stream make(void)
{
    stream s = {NULL, 0, {0, 0, 0}};
    static const uint8_t preview[] = {0xFF, 0xE1, 0,    10,   0xFF, 0xD8,
                                      1,    2,    0xFF, 0xD9, 3,    4};
    for (int i = 0; i < 3; i++) {
        size_t bytes = 0;
        uint8_t *jpeg = plain_jpeg((uint16_t)(40 + 8 * i), 32, 90, &bytes);
        const size_t extra = i == 1 ? sizeof preview : 0;
        s.data = realloc(s.data, s.bytes + bytes + extra);
        assert_non_null(s.data);
        memcpy(s.data + s.bytes, jpeg, 2);
        memcpy(s.data + s.bytes + 2, preview, extra);
        memcpy(s.data + s.bytes + 2 + extra, jpeg + 2, bytes - 2);
        s.length[i] = bytes + extra;
        s.bytes += bytes + extra;
        free(jpeg);
    }
    return s;
}

static void test_pictures_one_behind_the_other(void **state)
{
    (void)state;
    stream s = make();
    twi_split split = {0, false};
    size_t at = 0;
    for (int i = 0; i < 3; i++) {
        size_t length = 0;
        assert_int_equal(twi_split_jpeg(&split, s.data + at, s.bytes - at, &length),
                         TW_OK);
        assert_int_equal(length, s.length[i]);
        at += length;
    }
    assert_int_equal(at, s.bytes);
    free(s.data);
}

static void test_byte_by_byte(void **state)
{
    (void)state;
    stream s = make();
    twi_split split = {0, false};
    size_t first = 0, found = 0;
    for (size_t bytes = 1; bytes <= s.bytes; bytes++) {
        size_t length = 0;
        const tw_status st =
            twi_split_jpeg(&split, s.data + first, bytes - first, &length);
        if (st == TW_EAGAIN)
            continue;
        assert_int_equal(st, TW_OK);
        assert_int_equal(length, s.length[found++]);
        assert_int_equal(first + length, bytes); /* not a byte late */
        first = bytes;
    }
    assert_int_equal(found, 3);
    free(s.data);
}

static void test_what_is_no_picture(void **state)
{
    (void)state;
    twi_split split = {0, false};
    size_t length = 0;
    static const uint8_t text[] = "no picture", odd[] = {0xFF, 0xD8, 0x12, 0x34},
                         none[] = {0xFF, 0xD8, 0xFF, 0xE0, 0, 1},
                         twice[] = {0xFF, 0xD8, 0xFF, 0xD8};
    assert_int_equal(twi_split_jpeg(&split, text, sizeof text, &length), TW_EDAMAGED);
    assert_int_equal(twi_split_jpeg(&split, odd, sizeof odd, &length), TW_EDAMAGED);
    split = (twi_split){0, false};
    assert_int_equal(twi_split_jpeg(&split, none, sizeof none, &length), TW_EDAMAGED);
    split = (twi_split){0, false};
    assert_int_equal(twi_split_jpeg(&split, twice, sizeof twice, &length), TW_EDAMAGED);
    assert_int_equal(twi_split_jpeg(NULL, text, 4, &length), TW_EINVAL);
    assert_int_equal(twi_split_find(text, sizeof text, 0), sizeof text);
    assert_int_equal(twi_split_find(twice, sizeof twice, 1), 2);
    assert_int_equal(twi_split_find(twice, 3, 1), 2); /* it may go on like that */
    assert_int_equal(twi_split_find(NULL, 3, 1), 3);
}

/* Whatever comes: it ends, and never says more than there is. */
static void test_any_bytes(void **state)
{
    (void)state;
    uint32_t chance = 9;
    uint8_t data[600];
    for (int round = 0; round < 20000; round++) {
        twi_split split = {0, false};
        for (size_t i = 0; i < sizeof data; i++) {
            chance = chance * 1664525U + 1013904223U;
            data[i] = chance >> 31 ? 0xFF : (uint8_t)(chance >> 20);
        }
        data[0] = 0xFF;
        data[1] = 0xD8;
        size_t length = 0;
        const tw_status st = twi_split_jpeg(&split, data, sizeof data, &length);
        assert_true(st == TW_OK || st == TW_EAGAIN || st == TW_EDAMAGED);
        assert_true(length <= sizeof data);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_pictures_one_behind_the_other),
        cmocka_unit_test(test_byte_by_byte),
        cmocka_unit_test(test_what_is_no_picture),
        cmocka_unit_test(test_any_bytes),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
