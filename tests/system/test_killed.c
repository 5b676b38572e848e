/* kill -9 at any moment, again and again on the same store: whatever has a name is whole,
 * and files and catalogue agree after the next start. */
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "../support/support.h"
#include "../../src/core/naming.h"

enum { KILLS = 25, KILLS_MAX = 250, FILES = 30 };

static const char SETTINGS[] =
    "[station]\nname = killed-test\n"
    "[cameras]\nfps = 5\npace = no\nloop = yes\nstills = every 3 s\ncontinuous = yes\n"
    "segment = 20 s\nclip_video = mjpeg\n"
    "[camera kerb]\nsource = sim:kerb,size=160x90\n"
    "[camera mere]\nsource = sim:kerb,size=160x90,seed=2\nclip_video = h264\n";

static void kill_a_station(const char *folder, useconds_t after)
{
    const pid_t child = fork();
    if (child == 0) {
        if (chdir(folder) == 0 && freopen("watch.log", "a", stdout) &&
            freopen("watch.log", "a", stderr))
            (void)execl(TOOL, TOOL, "watch", (char *)NULL);
        _exit(9);
    }
    assert_true(child > 0);
    (void)usleep(after);
    int status = 0;
    assert_int_equal(waitpid(child, &status, WNOHANG), 0); /* it is still running */
    assert_int_equal(kill(child, SIGKILL), 0);
    assert_int_equal(waitpid(child, &status, 0), child);
    assert_true(WIFSIGNALED(status));
}

/* Every file that has a name, by other programs. @return how many there are. */
static size_t check_files(const char *folder)
{
    char *store = join(folder, "captures"), **files = list_files(store);
    size_t count = 0;
    for (; files[count]; count++) {
        char *path = join(store, files[count]);
        const bool video = strstr(files[count], ".mp4") != NULL;
        if (strstr(files[count], ".part"))
            fail_msg("%s is left", files[count]);
        if (count % 7 == 0) { /* all take long under a sanitizer */
            outcome o = run_program(NULL, FFMPEG, "-v", "error", "-xerror", "-i", path,
                                    "-f", "null", "-", NULL);
            if (o.code != 0)
                fail_msg("%s (%s): %s", files[count], video ? "video" : "still", o.err);
            free_outcome(&o);
        }
        free(path);
    }
    free_list(files);
    free(store);
    return count;
}

static bool count_one(void *ctx, const tw_capture_record *r)
{
    (void)r;
    ++*(size_t *)ctx;
    return true;
}

/* Files that have a name. */
static size_t count_files(const char *folder)
{
    char *store = join(folder, "captures"), **files = list_files(store);
    size_t count = 0;
    for (size_t i = 0; files[i]; i++)
        count += strstr(files[i], ".part") == NULL;
    free_list(files);
    free(store);
    return count;
}

/* Enough files, and a kill has met a clip. */
static bool is_enough(const char *folder)
{
    char *log = join(folder, "watch.log"), *said = read_file(log, NULL);
    const bool met = strstr(said, "were cut off were kept") != NULL ||
                     strstr(said, "was cut off was kept") != NULL;
    free(said);
    free(log);
    return met && count_files(folder) > FILES;
}

static void test_killed_again_and_again(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "station.ini");
    uint32_t chance = 11;
    (void)setenv("XDG_RUNTIME_DIR", folder, 1);
    write_text(path, SETTINGS);
    /* Until there is enough to look at; on a slow machine later as well, as a station
     * gets less far in the same time. */
    for (int i = 0; i < KILLS || (i < KILLS_MAX && !is_enough(folder)); i++) {
        chance = chance * 1664525U + 1013904223U;
        const uint32_t slower = i < KILLS ? 1 : 1 + (uint32_t)(i - KILLS) / 20;
        kill_a_station(folder, 30000 + (chance >> 8) % (400000 * slower));
    }
    /* One more start, which mends, and is told to end. */
    outcome o =
        run_program(folder, "/usr/bin/timeout", "-s", "TERM", "1", TOOL, "watch", NULL);
    free_outcome(&o);
    char *log = join(folder, "watch.log"), *said = read_file(log, NULL);
    assert_has(said, "clips that were cut off were kept");
    free(said);
    free(log);
    const size_t files = check_files(folder);
    assert_true(files > FILES);
    size_t known = 0;
    tw_catalogue *c = NULL;
    char *store = join(folder, "captures"), *catalogue = join(store, TWI_CATALOGUE_FILE);
    assert_int_equal(tw_catalogue_open(catalogue, false, &c, NULL), TW_OK);
    assert_int_equal(tw_catalogue_captures(c, 0, count_one, &known, NULL), TW_OK);
    tw_catalogue_close(c);
    assert_int_equal(known, files);
    free(catalogue);
    free(store);
    free(path);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_killed_again_and_again),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
