/* Rules of the source tree that a compiler does not keep: who may include what, what the
 * library exports, and that the files people read name each other rightly. */
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"
#include "../../src/settings/sections.h"

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
    /* Of the compiler; which others of ours is a matter of layers, below. */
    static const char *const allowed[] = {"<emmintrin.h>",
                                          "<stdbool.h>",
                                          "<stddef.h>",
                                          "<stdint.h>",
                                          "<string.h>",
                                          "\"",
                                          "<sys/auxv.h>", /* of 32-bit ARM */
                                          NULL};
    check_includes("src/core", allowed);
}

/* The tool has more of the library in it than others see: these, and nothing that is only
 * shared among the parts of a layer. */
static void test_the_tool_uses_what_is_meant_for_it(void **state)
{
    (void)state;
    static const char *const tool[] = {"<",
                                       "\"tawny/",
                                       "\"common.h",
                                       "\"control.h",
                                       "\"notify.h",
                                       "\"camtrap.h",
                                       "\"camtrap_all.h",
                                       "\"gather_key.h",
                                       "\"../gather/groups.h",
                                       "\"../gather/stands.h",
                                       "\"../net/broker.h",
                                       "\"camtrap_package.h",
                                       "\"camtrap_tables.h",
                                       "\"packing.h",
                                       "\"pattern.h",
                                       "\"store.h",
                                       "\"footage.h",
                                       "\"output.h",
                                       "\"truth.h",
                                       "\"prime.h",
                                       "\"propose.h",
                                       "\"tune.h",
                                       "\"reload.h",
                                       "\"../core/best.h",
                                       "\"../core/caption.h",
                                       "\"../core/civil.h",
                                       "\"../deliver/secret.h",
                                       "\"../gather/alarms.h",
                                       "\"../gather/gather.h",
                                       "\"../gather/ledger.h",
                                       "\"../many/many.h",
                                       "\"../core/hours.h",
                                       "\"../core/interval.h",
                                       "\"../core/recent.h",
                                       "\"../core/reply.h",
                                       "\"../core/score.h",
                                       "\"../core/suggest.h",
                                       "\"../core/tryout.h",
                                       "\"../core/tune.h",
                                       "\"../settings/draft.h",
                                       "\"../settings/sections.h",
                                       "\"../core/dispatch.h",
                                       "\"../core/hours.h",
                                       "\"../core/naming.h",
                                       "\"../core/view.h",
                                       "\"../base/system_error.h",
                                       "\"../port/linux/devices.h",
                                       "\"../station/footage.h",
                                       "\"../station/rehearse.h",
                                       "\"../station/sheet.h",
                                       "\"../station/why.h",
                                       "\"../station/outbox.h",
                                       "\"../station/pack.h",
                                       "\"../station/backup.h",
                                       "\"../media/zip.h",
                                       "\"../base/sync.h",
                                       "\"backup.h",
                                       "\"../station/plan.h",
                                       "\"../station/sense.h",
                                       "\"../station/reel.h",
                                       "\"../json/json.h",
                                       "\"../net/finding.h",
                                       "\"../net/topic.h",
                                       "\"network.h",
                                       "\"../deliver/deliver.h",
                                       "\"../deliver/hooks.h",
                                       "\"../page/page.h",
                                       NULL};
    check_includes("src/cli", tool);
}

static void test_the_examples_use_public_headers_alone(void **state)
{
    (void)state;
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

/* ---- layers -------------------------------------------------------------------------
 */

/* Who may include whom, by folders of src; the port's interface is settings' neighbour.
 */
static const struct {
    const char *layer, *may;
} LAYERS[] = {
    {"core", "core"},
    {"base", "base core"},
    {"settings", "settings base core"},
    {"media", "media interface settings base core"},
    {"net", "net settings base core"},
    {"port", "port net media interface settings base core"},
    {"station", "station media interface settings base core"},
    {"json", "json station net media interface settings base core"},
    {"gather", "gather deliver json station net media interface settings base core"},
    {"deliver", "deliver json station net media interface settings base core"},
    {"page", "page deliver json station net media interface settings base core"},
    {"many",
     "many gather page deliver json station net media interface settings base core"},
    {"outward",
     "outward page deliver json station net media interface settings base core"},
};

/* Which layer a public header is of, where it is not the core. */
static const char *const HEADERS[][2] = {
    {"settings", "settings"}, {"port", "interface"},   {"draw", "interface"},
    {"port_linux", "port"},   {"port_sim", "port"},    {"station", "station"},
    {"events", "station"},    {"rehearse", "station"}, {"catalogue", "station"},
    {"outward", "outward"},   {"tawny", "everything"},
};

/* The layer of what a line includes, seen from a folder below src; "": no layer's. */
static void layer_of(const char *folder, const char *line, char out[64])
{
    char path[512], name[64];
    const char *from = strchr(line, '"');
    out[0] = '\0';
    if (!from)
        return;
    (void)snprintf(path, sizeof path, "%s", from + 1);
    path[strcspn(path, "\"")] = '\0';
    if (strncmp(path, "tawny/", 6) == 0) {
        (void)snprintf(name, sizeof name, "%s", path + 6);
        name[strcspn(name, ".")] = '\0';
        (void)snprintf(out, 64, "core");
        for (size_t i = 0; i < sizeof HEADERS / sizeof *HEADERS; i++)
            if (strcmp(HEADERS[i][0], name) == 0)
                (void)snprintf(out, 64, "%s", HEADERS[i][1]);
        return;
    }
    char at[256];
    (void)snprintf(at, sizeof at, "%s", folder);
    const char *rest = path;
    while (strncmp(rest, "../", 3) == 0) {
        char *slash = strrchr(at, '/');
        *(slash ? slash : at) = '\0';
        rest += 3;
    }
    /* What is left of the folder, else the first folder of the rest. */
    (void)snprintf(out, 64, "%.63s", at[0] ? at : rest);
    out[strcspn(out, "/")] = '\0';
}

/* @return whether a file in a folder below src may include a line. */
static bool may_include(const char *folder, const char *line)
{
    char own[64], other[64];
    (void)snprintf(own, sizeof own, "%.63s", folder);
    own[strcspn(own, "/")] = '\0';
    layer_of(folder, line, other);
    for (size_t i = 0; i < sizeof LAYERS / sizeof *LAYERS; i++)
        if (strcmp(LAYERS[i].layer, own) == 0)
            return other[0] == '\0' || twi_settings_names(LAYERS[i].may, other);
    return strcmp(own, "cli") == 0; /* which has a rule of its own */
}

static void test_a_breach_would_be_seen(void **state)
{
    (void)state;
    assert_true(may_include("station", "#include \"pipeline.h\""));
    assert_true(may_include("station", "#include \"../media/jpeg.h\""));
    assert_true(may_include("page", "#include \"tawny/station.h\""));
    assert_true(may_include("port/linux", "#include \"../../media/jpeg.h\""));
    assert_true(may_include("core", "#include <string.h>"));
    assert_false(may_include("station", "#include \"../page/page.h\""));
    assert_false(may_include("station", "#include \"../json/json.h\""));
    assert_false(may_include("settings", "#include \"../station/plan.h\""));
    assert_false(may_include("core", "#include \"tawny/settings.h\""));
    assert_false(may_include("core", "#include \"../base/system_error.h\""));
    assert_false(may_include("station", "#include \"../port/linux/v4l2.h\""));
    assert_false(may_include("media", "#include \"tawny/station.h\""));
    assert_false(may_include("media", "#include \"../net/transfer.h\""));
    assert_false(may_include("net/web", "#include \"../../media/codecs.h\""));
    assert_false(may_include("station", "#include \"../net/web.h\""));
    assert_false(may_include("core", "#include \"../base/thread.h\""));
    assert_false(may_include("media/av", "#include \"../../station/writer.h\""));
    assert_false(may_include("page", "#include \"tawny/tawny.h\""));
}

static void test_arrows_point_one_way(void **state)
{
    (void)state;
    char *top = join(SOURCE_DIR, "src"), **files = list_files(top);
    size_t seen = 0;
    problems breaches = {0};
    for (size_t i = 0; files[i]; i++) {
        const size_t n = strlen(files[i]);
        if (n < 3 || (strcmp(files[i] + n - 2, ".c") && strcmp(files[i] + n - 2, ".h")))
            continue;
        char *path = join(top, files[i]), *lines = includes_of(path);
        char *folder = strdup(files[i]);
        *strrchr(folder, '/') = '\0';
        for (char *line = strtok(lines, "\n"); line; line = strtok(NULL, "\n"), seen++)
            if (!may_include(folder, line)) {
                collect_problem(&breaches, files[i]);
                collect_problem(&breaches, line);
            }
        free(folder);
        free(lines);
        free(path);
    }
    assert_string_equal(breaches.text, "");
    assert_true(seen > 500);
    free_list(files);
    free(top);
}

/* ---- circles ------------------------------------------------------------------------
 */

enum { UNITS_MAX = 400, NAMES_MAX = 4000 };

/* Which source files use names that others define, as objects have them. */
typedef struct uses {
    size_t units, names;
    char *unit[UNITS_MAX];
    struct {
        char *name;
        size_t unit;
    } defined[NAMES_MAX];
    bool of[UNITS_MAX][UNITS_MAX]; /* [a][b]: a uses something of b */
    bool out[UNITS_MAX];
} uses;

static size_t unit_of(uses *u, const char *path)
{
    for (size_t i = 0; i < u->units; i++)
        if (strcmp(u->unit[i], path) == 0)
            return i;
    assert_true(u->units < UNITS_MAX);
    u->unit[u->units] = strdup(path);
    return u->units++;
}

/* One line of nm -A: "…/src/core/ring.c.o:0000 T tw_ring_init", or "…: U memcpy".
 * @return false: it is none of a file below src. */
static bool read_symbol(char *line, char **path, char *kind, char **name)
{
    char *colon = strchr(line, ':'), *from = strstr(line, "/src/");
    if (!colon || !from || from > colon)
        return false;
    *colon = '\0';
    *path = from + 5;
    *name = strrchr(colon + 1, ' ');
    if (!*name || *name < colon + 2)
        return false;
    *kind = (*name)[-1];
    ++*name;
    return strchr("TDBRVU", *kind) != NULL;
}

/* Objects of files that are gone lie about in a build folder. */
static bool is_there(const char *path)
{
    char file[512];
    (void)snprintf(file, sizeof file, "%s/src/%.*s", SOURCE_DIR, (int)strlen(path) - 2,
                   path);
    return access(file, R_OK) == 0 || strchr(path, '/') == NULL;
}

/* @param defines  Names that are defined are taken; else uses of them. */
static void take_symbols(uses *u, const char *nm, bool defines)
{
    char *text = strdup(nm), *state = NULL, *path, *name, kind;
    for (char *line = strtok_r(text, "\n", &state); line;
         line = strtok_r(NULL, "\n", &state)) {
        if (!read_symbol(line, &path, &kind, &name) || (kind != 'U') != defines ||
            !is_there(path))
            continue;
        const size_t at = unit_of(u, path);
        if (defines) {
            assert_true(u->names < NAMES_MAX);
            u->defined[u->names].name = strdup(name);
            u->defined[u->names++].unit = at;
            continue;
        }
        for (size_t i = 0; i < u->names; i++)
            if (strcmp(u->defined[i].name, name) == 0 && u->defined[i].unit != at)
                u->of[at][u->defined[i].unit] = true;
    }
    free(text);
}

/* Whether a file uses one that is still there, or is used by one. */
static bool is_tied(const uses *u, size_t a, bool uses_others)
{
    for (size_t b = 0; b < u->units; b++)
        if (b != a && !u->out[b] && (uses_others ? u->of[a][b] : u->of[b][a]))
            return true;
    return false;
}

/* Take out what uses nothing that is left, or is used by nothing, until nothing changes:
 * what stays goes in circles, or lies between two of them. @return their names. */
static char *circles_of(const char *nm)
{
    static uses u;
    memset(&u, 0, sizeof u);
    take_symbols(&u, nm, true);
    take_symbols(&u, nm, false);
    for (bool changed = true; changed;) {
        changed = false;
        for (size_t a = 0; a < u.units; a++)
            if (!u.out[a] && (!is_tied(&u, a, true) || !is_tied(&u, a, false)))
                u.out[a] = changed = true;
    }
    char *left = calloc(1, 65536);
    for (size_t a = 0; a < u.units; a++) {
        if (!u.out[a])
            (void)snprintf(left + strlen(left), 65536 - strlen(left), "%s ", u.unit[a]);
        free(u.unit[a]);
    }
    for (size_t i = 0; i < u.names; i++)
        free(u.defined[i].name);
    return left;
}

static void test_no_files_use_each_other_in_a_circle(void **state)
{
    (void)state;
    outcome o =
        run_program(NULL, "sh", "-c",
                    "nm -A -g $(find '" OBJECTS "' -path '*/src/*' -name '*.o') | "
                    "grep -vE '__|@'",
                    NULL);
    assert_true(strlen(o.out) > 50000);
    char *left = circles_of(o.out);
    assert_string_equal(left, "");
    free(left);
    free_outcome(&o);
    /* It would be seen. */
    left = circles_of("x/src/a.c.o:00 T fa\nx/src/b.c.o:00 T fb\nx/src/c.c.o:00 T fc\n"
                      "x/src/a.c.o: U fb\nx/src/b.c.o: U fc\nx/src/c.c.o: U fb\n");
    assert_string_equal(left, "b.c.o c.c.o ");
    free(left);
}

/* ---- what others see --------------------------------------------------------------- */

/* How many symbols a library defines that begin so; all do, with tw_ or with what is for
 * ourselves, where there may be any of that. */
static size_t check_exports(const char *which, const char *library, const char *prefix,
                            bool internal)
{
    outcome o = run_program(NULL, "nm", which, "--defined-only", library, NULL);
    assert_int_equal(o.code, 0);
    size_t ours = 0;
    for (char *line = strtok(o.out, "\n"); line; line = strtok(NULL, "\n")) {
        const char *name = strrchr(line, ' ');
        if (!name) /* the name of an archive's member */
            continue;
        const bool one = strncmp(name + 1, prefix, strlen(prefix)) == 0;
        if (!one && strncmp(name + 1, "__", 2) != 0 &&
            !(internal && strncmp(name + 1, "twi_", 4) == 0))
            fail_msg("%s exports %s", library, name + 1);
        ours += one;
    }
    free_outcome(&o);
    return ours;
}

static void test_only_our_names_are_exported(void **state)
{
    (void)state;
    const size_t exported = check_exports("-D", LIBRARY, "tw_", false);
    assert_in_range(exported, 100, 200);
    /* What is not exported is called so. */
    assert_int_equal(check_exports("-g", ARCHIVE, "tw_", true), exported);
    assert_true(check_exports("-D", CODECS, "tw_", true) > 0);
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

/* ---- recipes ------------------------------------------------------------------------
 */

/* Files below src and include, and the build's, in which one of the words stands, in
 * the order of their names. */
static char *files_with(const char *words)
{
    char line[512], first[128], second[128];
    assert_int_equal(sscanf(words, "%127s %127s", first, second) >= 1, 1);
    if (!strchr(words, ' '))
        (void)snprintf(second, sizeof second, "%s", first);
    (void)snprintf(line, sizeof line,
                   "cd '%s' && grep -rlE '%s|%s' src include CMakeLists.txt | LC_ALL=C "
                   "sort",
                   SOURCE_DIR, first, second);
    outcome o = run_program(NULL, "sh", "-c", line, NULL);
    char *found = strdup(o.out);
    free_outcome(&o);
    return found;
}

/* What stands in a recipe, a file a line. */
static void read_recipe(const char *at, char *out, size_t capacity)
{
    size_t used = 0;
    out[0] = '\0';
    at = strchr(at, '\n') + 1;
    for (; strncmp(at, "- `", 3) == 0; at = strchr(at, '\n') + 1)
        used += (size_t)snprintf(out + used, capacity - used, "%.*s\n",
                                 (int)strcspn(at + 3, "`"), at + 3);
}

/* Whoever follows one finds all the places, and no more. */
static void test_recipes_name_all_places(void **state)
{
    (void)state;
    static const char mark[] = "<!-- recipe: ";
    char *text = read_file(SOURCE_DIR "/CONTRIBUTING.md", NULL), told[2048], words[256];
    size_t recipes = 0;
    for (const char *at = strstr(text, mark); at; at = strstr(at + 1, mark), recipes++) {
        const char *from = at + strlen(mark), *end = strstr(from, " -->");
        assert_non_null(end);
        (void)snprintf(words, sizeof words, "%.*s", (int)(end - from), from);
        read_recipe(at, told, sizeof told);
        char *found = files_with(words);
        assert_string_equal(told, found);
        free(found);
    }
    assert_int_equal(recipes, 4);
    free(text);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_the_core_needs_nothing_but_itself),
        cmocka_unit_test(test_the_tool_uses_what_is_meant_for_it),
        cmocka_unit_test(test_the_examples_use_public_headers_alone),
        cmocka_unit_test(test_a_breach_would_be_seen),
        cmocka_unit_test(test_arrows_point_one_way),
        cmocka_unit_test(test_no_files_use_each_other_in_a_circle),
        cmocka_unit_test(test_only_our_names_are_exported),
        cmocka_unit_test(test_public_headers_compile_alone),
        cmocka_unit_test(test_the_core_builds_as_a_plain_cc_line),
        cmocka_unit_test(test_every_picture_and_page_is_linked),
        cmocka_unit_test(test_recipes_name_all_places),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
