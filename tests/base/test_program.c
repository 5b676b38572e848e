/* Programs of the user's: their command lines, and how they end. */
#include <string.h>
#include <unistd.h>

#include "../support/support.h"
#include "../../src/base/program.h"

static void test_command_lines(void **state)
{
    (void)state;
    static const struct {
        const char *text, *words; /* joined by "|"; NULL: refused */
    } cases[] = {{"a", "a"},
                 {"  a\tb  c ", "a|b|c"},
                 {"a \"b c\" d", "a|b c|d"},
                 {"a \"b \\\"c\\\\\" d", "a|b \"c\\|d"},
                 {"a \"\" b", "a||b"},
                 {"a x\"y z\"w", "a|xy zw"},
                 {"", NULL},
                 {"   ", NULL},
                 {"a \"b", NULL},
                 {"a \"b\\", NULL}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char text[128], joined[128] = "", *words[TWI_PROGRAM_ARGS_MAX + 1];
        (void)snprintf(text, sizeof text, "%s", cases[i].text);
        const tw_status st = twi_program_split(text, words);
        assert_int_equal(st, cases[i].words ? TW_OK : TW_ESYNTAX);
        for (size_t k = 0; st == TW_OK && words[k]; k++)
            (void)snprintf(joined + strlen(joined), sizeof joined - strlen(joined),
                           "%s%s", k > 0 ? "|" : "", words[k]);
        if (st == TW_OK)
            assert_string_equal(joined, cases[i].words);
    }
    char many[256] = "", *words[TWI_PROGRAM_ARGS_MAX + 1];
    for (int i = 0; i <= TWI_PROGRAM_ARGS_MAX; i++)
        memcpy(many + strlen(many), "a ", 3);
    assert_int_equal(twi_program_split(many, words), TW_ESYNTAX);
}

static twi_program_outcome run(const char *script, const char *input, int64_t timeout_us)
{
    char text[512];
    (void)snprintf(text, sizeof text, "%s", script);
    char *argv[] = {(char[]){"/bin/sh"}, (char[]){"-c"}, text, NULL};
    char *own[] = {(char[]){"PATH=/usr/bin:/bin"}, (char[]){"OWN=yes"}, NULL};
    twi_program_outcome o;
    assert_int_equal(twi_program_run(argv, own, input, timeout_us, NULL, &o, NULL),
                     TW_OK);
    return o;
}

static void test_what_became_of_it(void **state)
{
    (void)state;
    twi_program_outcome o =
        run("read a; echo first; echo $a $OWN; exit 3", "given\n", 5000000);
    assert_int_equal(o.code, 3);
    assert_false(o.late);
    assert_string_equal(o.last, "given yes");
    o = run("kill -TERM $$", "", 5000000);
    assert_int_equal(o.code, 128 + 15);
    o = run("sleep 60", "", 200000);
    assert_true(o.late);
    assert_int_equal(o.code, 128 + 15);
}

static void test_what_is_not_there(void **state)
{
    (void)state;
    tw_error err = {0};
    twi_program_outcome o;
    char *argv[] = {(char[]){"/nowhere/such"}, NULL};
    assert_int_equal(twi_program_run(argv, NULL, "", 1000000, NULL, &o, &err), TW_ENOENT);
    assert_has(err.text, "/nowhere/such: No such file");
    assert_true(twi_program_is_there("sh"));
    assert_true(twi_program_is_there("/bin/sh"));
    assert_false(twi_program_is_there("no-such-program-anywhere"));
    assert_false(twi_program_is_there("/etc/passwd"));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_command_lines),
        cmocka_unit_test(test_what_became_of_it),
        cmocka_unit_test(test_what_is_not_there),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
