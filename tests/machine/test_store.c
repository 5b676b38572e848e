/* A store whose station lost its power, by the rules that hold for one that was killed.
 *   TAWNY_STORE     folder of the store
 *   TAWNY_SETTINGS  of the station
 *   TAWNY_SAID      what it said, as JSON, each time it ran */
#include <jansson.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

#include "../support/support.h"
#include "../support/whole.h"

static const char *given(const char *name)
{
    const char *value = getenv(name);
    if (!value)
        fail_msg("%s is not set", name);
    return value;
}

static void test_what_has_a_name_is_whole(void **state)
{
    (void)state;
    print_message("%zu files\n", check_whole(given("TAWNY_STORE"), 1));
}

/* A file that the station called stored, by a line of what it said. */
static void check_said(const char *store, const json_t *line)
{
    const char *type = json_string_value(json_object_get(line, "type"));
    const char *file = json_string_value(json_object_get(line, "file"));
    struct stat found;
    if (!type || strcmp(type, "stored") != 0)
        return;
    char *path = join(store, file);
    if (stat(path, &found) != 0)
        fail_msg("%s was stored, and is gone", file);
    assert_int_equal(found.st_size, json_integer_value(json_object_get(line, "bytes")));
    free(path);
}

static void test_what_was_said_is_there(void **state)
{
    (void)state;
    const char *store = given("TAWNY_STORE");
    char *said = read_file(given("TAWNY_SAID"), NULL);
    size_t lines = 0;
    for (char *at = said, *end = strchr(said, '\n'); end; end = strchr(at, '\n')) {
        *end = '\0';
        json_t *line = json_loads(at, 0, NULL);
        if (line)
            check_said(store, line);
        lines += line != NULL;
        json_decref(line);
        at = end + 1;
    }
    assert_true(lines > 0);
    free(said);
}

static void test_the_next_start_mends_it(void **state)
{
    (void)state;
    const char *store = given("TAWNY_STORE");
    outcome o =
        run_program(NULL, "/usr/bin/timeout", "--preserve-status", "-s", "INT", "2", TOOL,
                    "watch", "--settings", given("TAWNY_SETTINGS"), NULL);
    if (o.code != 0 || strstr(o.err, "damaged"))
        fail_msg("code %d: %s", o.code, o.err);
    free_outcome(&o);
    check_agreed(store, check_whole(store, 8));
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_what_has_a_name_is_whole),
        cmocka_unit_test(test_what_was_said_is_there),
        cmocka_unit_test(test_the_next_start_mends_it),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
