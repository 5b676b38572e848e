/* Rules of the source tree that a compiler does not keep: who may include what, what the
 * library exports, and that the files people read name each other rightly. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

/* Every #include line of a file, ended by newlines. */
static char *includes_of(const char *path)
{
    char *text = read_file(path, NULL), *out = calloc(1, strlen(text) + 1);
    for (char *line = strtok(text, "\n"); line; line = strtok(NULL, "\n")) {
        if (strncmp(line, "#include", 8) != 0)
            continue;
        (void)strcat(out, line);
        (void)strcat(out, "\n");
    }
    free(text);
    return out;
}

/* Fails if an include below folder is none of what is allowed (prefixes of what follows
 * "#include "). */
static void check_includes(const char *folder, const char *const *allowed)
{
    char *top = join(SOURCE_DIR, folder), **files = list_files(top);
    assert_true(list_length(files) > 0);
    for (size_t i = 0; files[i]; i++) {
        char *path = join(top, files[i]), *lines = includes_of(path);
        for (char *line = strtok(lines, "\n"); line; line = strtok(NULL, "\n")) {
            bool good = false;
            for (size_t k = 0; allowed[k] && !good; k++)
                good = strncmp(line + 9, allowed[k], strlen(allowed[k])) == 0;
            if (!good)
                fail_msg("%s/%s: %s", folder, files[i], line);
        }
        free(lines);
        free(path);
    }
    free_list(files);
    free(top);
}

static void test_the_core_needs_nothing_but_itself(void **state)
{
    (void)state;
    static const char *const allowed[] = {
        "<emmintrin.h>", /* of the compiler, as the next three are */
        "<stdbool.h>",
        "<stddef.h>",
        "<stdint.h>",
        "<string.h>",
        "\"detector_state.h",
        "\"kernels",
        "\"tawny/detector.",
        "\"tawny/dispatch.",
        "\"brightness_state",
        "\"tawny/brightness",
        "\"tawny/api.h",
        "\"tawny/score.",
        "\"tawny/tune.",
        "\"tawny/best.",
        "\"tawny/frame.",
        "\"tawny/naming.",
        "\"tawny/interval.",
        "\"tawny/caption.",
        "\"pattern.h",
        "\"tawny/timing.",
        "\"tawny/split.",
        "\"tawny/backoff.",
        "\"tawny/hours.",
        "\"tawny/trace.",
        "\"tawny/rate.",
        "\"tawny/recent.",
        "\"root.h",
        "\"tawny/tryout.",
        "\"tawny/reply.",
        "\"tawny/ring.",
        "\"tawny/sighting.",
        "\"tawny/status.",
        "\"tawny/version.",
        "\"tawny/view.",
        "\"tawny/zones.",
        "\"thin.h",
        NULL};
    check_includes("src/core", allowed);
}

static void test_settings_stand_on_the_core(void **state)
{
    (void)state;
    static const char *const allowed[] = {"<",
                                          "\"edit.h",
                                          "\"reader.h",
                                          "\"state.h",
                                          "\"table.h",
                                          "\"texts.h",
                                          "\"values.h",
                                          "\"tawny/caption.",
                                          "\"tawny/draft.",
                                          "\"tawny/error.",
                                          "\"tawny/hours.",
                                          "\"tawny/naming.",
                                          "\"tawny/settings.",
                                          "\"tawny/sighting.",
                                          "\"tawny/status.",
                                          "\"tawny/zones.",
                                          NULL};
    check_includes("src/settings", allowed);
}

static void test_the_tool_and_the_examples_use_public_headers_alone(void **state)
{
    (void)state;
    static const char *const tool[] = {
        "<",           "\"tawny/",  "\"common.h",  "\"control.h", "\"notify.h",
        "\"camtrap.h", "\"store.h", "\"footage.h", "\"output.h",  "\"outward.h",
        "\"truth.h",   "\"tune.h",  "\"reload.h",  NULL};
    check_includes("src/cli", tool);
    char *top = join(SOURCE_DIR, "examples"), **files = list_files(top);
    for (size_t i = 0; files[i]; i++) {
        char *path = join(top, files[i]), *lines = includes_of(path);
        assert_null(strstr(lines, "../"));
        free(lines);
        free(path);
    }
    assert_true(count_ending(files, ".c") >= 2);
    free_list(files);
    free(top);
}

static void test_media_and_station_know_no_port(void **state)
{
    (void)state;
    static const char *const folders[] = {"src/media", "src/station"};
    for (size_t f = 0; f < 2; f++) {
        char *top = join(SOURCE_DIR, folders[f]), **files = list_files(top);
        for (size_t i = 0; files[i]; i++) {
            char *path = join(top, files[i]), *lines = includes_of(path);
            if (strstr(lines, "port_linux") || strstr(lines, "port_sim") ||
                strstr(lines, "../port/") || strstr(lines, "../cli/") ||
                strstr(lines, "../deliver/"))
                fail_msg("%s/%s includes upwards:\n%s", folders[f], files[i], lines);
            free(lines);
            free(path);
        }
        free_list(files);
        free(top);
    }
}

/* Defined symbols of a library that do not begin with tw_. */
static void check_exports(const char *which, const char *library)
{
    outcome o = run_program(NULL, "nm", which, "--defined-only", library, NULL);
    assert_int_equal(o.code, 0);
    size_t ours = 0;
    for (char *line = strtok(o.out, "\n"); line; line = strtok(NULL, "\n")) {
        const char *name = strrchr(line, ' ');
        if (!name) /* the name of an archive's member */
            continue;
        if (strncmp(name + 1, "tw_", 3) != 0 && strncmp(name + 1, "__", 2) != 0)
            fail_msg("%s exports %s", library, name + 1);
        ours += strncmp(name + 1, "tw_", 3) == 0;
    }
    assert_true(ours >= 1);
    free_outcome(&o);
}

static void test_only_our_names_are_exported(void **state)
{
    (void)state;
    check_exports("-D", LIBRARY);
    check_exports("-D", CODECS);
    check_exports("-g", ARCHIVE);
}

static void test_public_headers_compile_alone(void **state)
{
    (void)state;
    char *top = join(SOURCE_DIR, "include"), **files = list_files(top);
    char include[512];
    (void)snprintf(include, sizeof include, "-I%s", top);
    for (size_t i = 0; files[i]; i++) {
        char *path = join(top, files[i]);
        outcome o =
            run_program(NULL, "cc", "-std=c11", "-Wall", "-Wextra", "-Wpedantic",
                        "-Werror", "-fsyntax-only", include, "-x", "c", path, NULL);
        if (o.code != 0)
            fail_msg("%s: %s", files[i], o.err);
        free_outcome(&o);
        free(path);
    }
    assert_true(list_length(files) > 12);
    free_list(files);
    free(top);
}

static void test_the_core_builds_as_a_plain_cc_line(void **state)
{
    (void)state;
    char *folder = make_folder(), line[1024];
    (void)snprintf(
        line, sizeof line,
        "cd '%s' && cc -std=c11 -ffreestanding -Wall -Wextra -Werror -O1 -I'%s/include' "
        "-c '%s'/src/core/*.c",
        folder, SOURCE_DIR, SOURCE_DIR);
    outcome o = run_program(NULL, "sh", "-c", line, NULL);
    if (o.code != 0)
        fail_msg("%s", o.err);
    free_outcome(&o);
    remove_folder(folder);
}

static void test_every_picture_and_page_is_linked(void **state)
{
    (void)state;
    char *readme = read_file(SOURCE_DIR "/README.md", NULL);
    char **shots = list_files(SOURCE_DIR "/docs/screenshots");
    assert_in_range(list_length(shots), 1, 19);
    for (size_t i = 0; shots[i]; i++)
        assert_has(readme, shots[i]);
    assert_has(readme, "docs/settings.md");
    assert_has(readme, "docs/architecture.md");
    char *changes = read_file(SOURCE_DIR "/CHANGELOG.md", NULL);
    assert_has(changes, TW_VERSION_TEXT);
    free_list(shots);
    free(changes);
    free(readme);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_core_needs_nothing_but_itself),
        cmocka_unit_test(test_settings_stand_on_the_core),
        cmocka_unit_test(test_the_tool_and_the_examples_use_public_headers_alone),
        cmocka_unit_test(test_media_and_station_know_no_port),
        cmocka_unit_test(test_only_our_names_are_exported),
        cmocka_unit_test(test_public_headers_compile_alone),
        cmocka_unit_test(test_the_core_builds_as_a_plain_cc_line),
        cmocka_unit_test(test_every_picture_and_page_is_linked),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
