/* What is safe on the disk when a call returns: the calls that make it so are counted,
 * with what they are made for, in place of the C library's. */
#include <fcntl.h>
#include <limits.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"

int __real_fsync(int fd);
int __real_fdatasync(int fd);
int __real_rename(const char *from, const char *to);
int __real_renameat2(int from_fd, const char *from, int to_fd, const char *to,
                     unsigned flags);
int __wrap_fsync(int fd);
int __wrap_fdatasync(int fd);
int __wrap_rename(const char *from, const char *to);
int __wrap_renameat2(int from_fd, const char *from, int to_fd, const char *to,
                     unsigned flags);

/* "sync a/b.part, name a/b, sync a, " */
static char seen[4096];
static size_t within; /* of each path: the folder of the test */

static void note(const char *what, const char *path)
{
    const size_t used = strlen(seen);
    (void)snprintf(seen + used, sizeof seen - used, "%s %s, ", what, path);
}

static void note_sync(int fd)
{
    char link[64], path[PATH_MAX] = "";
    (void)snprintf(link, sizeof link, "/proc/self/fd/%d", fd);
    if (readlink(link, path, sizeof path - 1) > (ssize_t)within)
        note("sync", path + within);
    else
        note("sync", ".");
}

int __wrap_fsync(int fd)
{
    note_sync(fd);
    return __real_fsync(fd);
}

int __wrap_fdatasync(int fd)
{
    note_sync(fd);
    return __real_fdatasync(fd);
}

int __wrap_rename(const char *from, const char *to)
{
    note("name", strlen(to) > within ? to + within : to);
    return __real_rename(from, to);
}

int __wrap_renameat2(int from_fd, const char *from, int to_fd, const char *to,
                     unsigned flags)
{
    note("name", to);
    return __real_renameat2(from_fd, from, to_fd, to, flags);
}

static char *begin(void)
{
    char *folder = make_folder(), *real = realpath(folder, NULL);
    assert_non_null(real);
    within = strlen(real) + 1;
    free(real);
    seen[0] = '\0';
    return folder;
}

static void test_a_capture(void **state)
{
    (void)state;
    char *folder = begin();
    tw_card card;
    void *file = NULL;
    assert_int_equal(tw_linux_card(folder, &card, NULL), TW_OK);
    assert_int_equal(card.ops->claim(card.ctx, NULL), TW_OK);
    seen[0] = '\0';
    assert_int_equal(card.ops->create(card.ctx, "day/one.part", &file, NULL), TW_OK);
    assert_int_equal(card.ops->append(card.ctx, file, "12345", 5, NULL), TW_OK);
    assert_string_equal(seen, "sync ., "); /* a folder that is new, too */
    seen[0] = '\0';
    assert_int_equal(card.ops->sync(card.ctx, file, NULL), TW_OK);
    assert_int_equal(card.ops->close(card.ctx, file, NULL), TW_OK);
    assert_int_equal(card.ops->rename(card.ctx, "day/one.part", "day/one", NULL), TW_OK);
    assert_string_equal(seen,
                        "sync day/one.part, name day/one, sync day/one, sync day, ");
    seen[0] = '\0';
    assert_int_equal(card.ops->rename(card.ctx, "day/one", "night/kerb/one", NULL),
                     TW_OK);
    assert_string_equal(seen,
                        "sync ., sync night, name night/kerb/one, sync night/kerb/one, "
                        "sync night/kerb, ");
    card.ops->destroy(card.ctx);
    remove_folder(folder);
}

/* Names of what is written beside it end in six letters that are not known. */
static void mask_letters(char *text)
{
    for (char *at = strstr(text, ".ini."); at; at = strstr(at + 1, ".ini.")) {
        char *end = strchr(at + 5, ',');
        if (end && end - at - 5 == 6)
            memset(at + 5, 'X', 6);
    }
}

static void test_settings_that_are_written(void **state)
{
    (void)state;
    char *folder = begin(), *path = join(folder, "a.ini");
    twi_draft *draft = NULL;
    tw_error err = {0};
    write_text(path, "[camera kerb]\nsource = sim:kerb\n");
    assert_int_equal(twi_draft_open(path, &draft, &err), TW_OK);
    const twi_draft_change change = {
        .head = "camera", .name = "kerb", .key = "fps", .value = "5"};
    assert_int_equal(twi_draft_change_one(draft, &change, &err), TW_OK);
    assert_int_equal(twi_draft_check(draft, NULL, NULL, NULL), TW_OK);
    assert_int_equal(twi_draft_write(draft, &err), TW_OK);
    mask_letters(seen);
    assert_has(seen, "sync a.ini.XXXXXX, name a.ini, sync a.ini, sync ., ");
    assert_has(seen, "name a.ini.old, sync a.ini.old, sync ., ");
    twi_draft_free(draft);
    free(path);
    remove_folder(folder);
}

static void test_an_account(void **state)
{
    (void)state;
    char *folder = begin(), *path = join(folder, "accounts");
    tw_error err = {0};
    const tw_status st = twi_account_set(path, "ann", TWI_MAY_RUN, "", "frogspawn", &err);
    if (st == TW_ENOTSUP)
        skip(); /* without the web module */
    assert_int_equal(st, TW_OK);
    assert_string_equal(seen,
                        "sync accounts.part, name accounts, sync accounts, sync ., ");
    free(path);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_capture),
        cmocka_unit_test(test_settings_that_are_written),
        cmocka_unit_test(test_an_account),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
