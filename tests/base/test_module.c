/* Modules: whose memory is given back. */
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../../src/media/codecs.h"
#include "../../src/base/module.h"
#include "../support/support.h"

/* The code of a library as it is mapped now. */
typedef struct code {
    const volatile uint8_t *first;
    size_t bytes;
    long resident_kb;
} code;

/* /proc/self/smaps: a line with the addresses, and what is resident some lines below. */
static code find_code(const char *library)
{
    char line[512];
    code found = {NULL, 0, 0};
    bool within = false;
    FILE *maps = fopen("/proc/self/smaps", "r");
    assert_non_null(maps);
    while (fgets(line, sizeof line, maps)) {
        unsigned long from = 0, to = 0;
        long kb = 0;
        char rights[8] = "";
        if (sscanf(line, "%lx-%lx %7s", &from, &to, rights) == 3) {
            within = strcmp(rights, "r-xp") == 0 && strstr(line, library) != NULL;
            if (within)
                found = (code){(const uint8_t *)(uintptr_t)from, to - from, 0};
        } else if (within && sscanf(line, "Rss: %ld kB", &kb) == 1) {
            found.resident_kb = kb;
        }
    }
    (void)fclose(maps);
    return found;
}

static void touch(const code *c)
{
    uint8_t sum = 0;
    for (size_t i = 0; i < c->bytes; i += 4096)
        sum = (uint8_t)(sum + c->first[i]);
    (void)sum;
}

static void test_only_what_came_with_modules_is_given_back(void **state)
{
    (void)state;
    tw_error err = {0};
    code own = find_code("/libcmocka"); /* this program's */
    assert_non_null(own.first);
    touch(&own);
    own = find_code("/libcmocka");
    assert_int_equal(own.resident_kb, own.bytes / 1024);
    if (!twi_codecs_load(&err))
        fail_msg("%s", err.text);
    code theirs = find_code("/libavcodec");
    assert_non_null(theirs.first);
    assert_true(theirs.resident_kb * 1024 < (long)theirs.bytes / 2);
    touch(&theirs);
    theirs = find_code("/libavcodec");
    assert_true(theirs.resident_kb * 1024 > (long)theirs.bytes / 2);
    twi_module_give_back();
    theirs = find_code("/libavcodec");
    assert_true(theirs.resident_kb * 1024 < (long)theirs.bytes / 8);
    own = find_code("/libcmocka");
    assert_int_equal(own.resident_kb, own.bytes / 1024);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_only_what_came_with_modules_is_given_back),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
