/* kill -9 at any moment, again and again on the same store: whatever has a name is whole,
 * and files and catalogue agree after the next start. */
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "../support/support.h"
#include "../support/whole.h"

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

/* Enough files, and a kill has met a clip. */
static bool is_enough(const char *folder)
{
    char *log = join(folder, "watch.log"), *said = read_file(log, NULL);
    const bool met = strstr(said, "were cut off were kept") != NULL ||
                     strstr(said, "was cut off was kept") != NULL;
    free(said);
    free(log);
    char *store = join(folder, "captures");
    const bool enough = met && count_named(store) > FILES;
    free(store);
    return enough;
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
    assert_has(said, "the station was not ended by anybody: the board has run on");
    free(said);
    free(log);
    char *store = join(folder, "captures");
    const size_t files = check_whole(store, 7); /* all take long under a sanitizer */
    assert_true(files > FILES);
    check_agreed(store, files);
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
