/* Accounts of the page: a file that its owner alone may read. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../../src/deliver/phones.h"
#include "../support/support.h"

static void list_one(void *ctx, const char *name, twi_may may, const char *cameras)
{
    char *out = ctx;
    const size_t n = strlen(out);
    (void)snprintf(out + n, 256 - n, "%s:%s%s%s%s ", name,
                   may == TWI_MAY_RUN ? "run" : "look", cameras[0] ? "(" : "", cameras,
                   cameras[0] ? ")" : "");
}

static const char *list(const char *file, char out[256])
{
    tw_error err = {0};
    out[0] = '\0';
    if (twi_account_walk(file, list_one, out, &err) != TW_OK)
        fail_msg("%s", err.text);
    return out;
}

static void test_they_are_made_changed_and_removed(void **state)
{
    (void)state;
    char *folder = make_folder(), *file = join(folder, "accounts"), text[256];
    struct stat s;
    assert_string_equal(list(file, text), ""); /* no file: none */
    assert_int_equal(twi_account_set(file, "ann", TWI_MAY_RUN, "", "frogspawn", NULL),
                     TW_OK);
    assert_int_equal(twi_account_set(file, "bob.2", TWI_MAY_LOOK, "", "tadpoles", NULL),
                     TW_OK);
    assert_string_equal(list(file, text), "ann:run bob.2:look ");
    assert_int_equal(stat(file, &s), 0);
    assert_int_equal(s.st_mode & 0777, 0600);
    char *before = read_file(file, NULL);
    assert_null(strstr(before, "frogspawn"));
    assert_has(before, "ann run $argon2id$");
    assert_int_equal(twi_account_set(file, "ann", TWI_MAY_LOOK, "", "frogspawn", NULL),
                     TW_OK);
    char *after = read_file(file, NULL);
    assert_string_not_equal(before, after); /* the same password hashes otherwise */
    assert_string_equal(list(file, text), "ann:look bob.2:look ");
    twi_phone phone = {.account = "ann",
                       .name = "hers",
                       .endpoint = "https://push.example/1",
                       .key = "BCVx",
                       .secret = "BTBZ"};
    twi_phones *phones = calloc(1, sizeof *phones);
    assert_int_equal(twi_phone_add(file, &phone, NULL), TW_OK);
    assert_int_equal(twi_account_remove(file, "ann", NULL), TW_OK);
    assert_int_equal(twi_phones_read(file, phones, NULL), TW_OK);
    assert_int_equal(phones->count, 0); /* nobody is told in her name any more */
    free(phones);
    assert_int_equal(twi_account_remove(file, "ann", NULL), TW_ENOENT);
    assert_string_equal(list(file, text), "bob.2:look ");
    free(before);
    free(after);
    free(file);
    remove_folder(folder);
}

static void test_what_is_refused(void **state)
{
    (void)state;
    char *folder = make_folder(), *file = join(folder, "accounts"), text[256];
    static const char *const names[] = {"",
                                        "a b",
                                        "a:b",
                                        "../x",
                                        "a\nb",
                                        "\xC3\xA4",
                                        "123456789012345678901234567890123"};
    tw_error err = {0};
    for (size_t i = 0; i < sizeof names / sizeof *names; i++)
        assert_int_equal(
            twi_account_set(file, names[i], TWI_MAY_RUN, "", "frogspawn", &err),
            TW_EINVAL);
    assert_int_equal(twi_account_set(file, "ann", TWI_MAY_RUN, "", "short", &err),
                     TW_EINVAL);
    assert_has(err.text, "a password has 8 to 255 letters");
    assert_int_equal(twi_account_set(file, "ann", TWI_MAY_NOTHING, "", "frogspawn", &err),
                     TW_EINVAL);
    assert_int_not_equal(access(file, F_OK), 0);
    assert_int_equal(twi_account_set(file, "ann", TWI_MAY_RUN, "", "frogspawn", &err),
                     TW_OK);
    assert_int_equal(chmod(file, 0644), 0);
    assert_int_equal(twi_account_walk(file, list_one, text, &err), TW_EDAMAGED);
    assert_has(err.text, "may be read by others than its owner: chmod 600");
    assert_int_equal(chmod(file, 0600), 0);
    write_text(file, "ann run x\nthis is no account\n");
    assert_int_equal(twi_account_walk(file, list_one, text, &err), TW_EDAMAGED);
    assert_has(err.text, "accounts:2: this is no account");
    assert_int_equal(twi_account_set(file, "bob", TWI_MAY_RUN, "", "frogspawn", &err),
                     TW_EDAMAGED); /* and nothing is written over it */
    char *kept = read_file(file, NULL);
    assert_has(kept, "this is no account");
    free(kept);
    free(file);
    remove_folder(folder);
}

static void test_they_may_be_for_some_cameras(void **state)
{
    (void)state;
    char *folder = make_folder(), *file = join(folder, "accounts"), text[256],
         longer[300];
    tw_error err = {0};
    assert_int_equal(
        twi_account_set(file, "ann", TWI_MAY_RUN, " kerb  mere ", "frogspawn", &err),
        TW_OK);
    assert_int_equal(twi_account_set(file, "bob", TWI_MAY_LOOK, "", "tadpoles", &err),
                     TW_OK);
    assert_string_equal(list(file, text), "ann:run(kerb mere) bob:look ");
    assert_int_equal(twi_account_set(file, "ann", TWI_MAY_RUN, "", "frogspawn", &err),
                     TW_OK);
    assert_string_equal(list(file, text), "ann:run bob:look ");
    assert_int_equal(twi_account_set(file, "ann", TWI_MAY_RUN, "a/b", "frogspawn", &err),
                     TW_EINVAL);
    assert_has(err.text, "cameras are names with blanks between");
    memset(longer, 'a', sizeof longer);
    longer[sizeof longer - 1] = '\0';
    assert_int_equal(twi_account_set(file, "ann", TWI_MAY_RUN, longer, "frogspawn", &err),
                     TW_EINVAL);
    assert_string_equal(list(file, text), "ann:run bob:look "); /* as it was */
    free(file);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_they_may_be_for_some_cameras),
        cmocka_unit_test(test_they_are_made_changed_and_removed),
        cmocka_unit_test(test_what_is_refused),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
