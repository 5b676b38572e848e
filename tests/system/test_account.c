/* tawny account, and the page of a station that runs. */
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "../support/servers.h"

static char *folder;

static int set_up(void **state)
{
    (void)state;
    folder = make_folder();
    (void)setenv("XDG_RUNTIME_DIR", folder, 1); /* it meets no other station */
    return 0;
}

static int drop(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

static void check(int code, const char *words, const char *input, const char *command)
{
    check_command(folder, TOOL, code, words, input, command);
}

static void test_accounts_are_made_listed_and_removed(void **state)
{
    (void)state;
    check(2, "say what it may: --may look, or --may run", "", "account add ann");
    check(2, "say add NAME, remove NAME, or list", "", "account make ann");
    check(2, "no password was given", "", "account add ann --may run");
    check(2, "a password has 8 to 255 letters", "short", "account add ann --may run");
    check(0, "ann (can change)", "frogspawn", "account add ann --may run");
    check(0, "bob (can look)", "tadpoles", "account add bob --may look");
    check(0, "{\"type\":\"account\",\"name\":\"bob\",\"may\":\"look\"}", "",
          "account list --json");
    check(0, "", "", "account remove bob");
    check(1, "there is no account bob", "", "account remove bob");
    check(2, "--cameras: the settings have no camera mere", "tadpoles",
          "account add cleo --may look --cameras mere");
    check(0, "ann ", "", "account");
    check(0, "That was the last account: the page lets nobody in", "",
          "account remove ann");
    check(0, "ann (can change)", "frogspawn", "account add ann --may run");
}

static void test_a_station_says_where_its_page_is(void **state)
{
    (void)state;
    char *path = join(folder, "station.ini"), *log = join(folder, "watch.log");
    write_text(path, "[station]\nname = page-test\nlisten = 127.0.0.1:0\n"
                     "accounts_file = none-yet\n[camera kerb]\n"
                     "source = sim:kerb,size=240x136\nloop = yes\n");
    const pid_t child = fork();
    if (child == 0) {
        (void)prctl(PR_SET_PDEATHSIG, SIGKILL);
        if (chdir(folder) == 0 && freopen("watch.log", "w", stdout))
            (void)execl(TOOL, TOOL, "watch", (char *)NULL);
        _exit(9);
    }
    char *text = NULL;
    WAIT_FOR((free(text), text = access(log, R_OK) == 0 ? read_file(log, NULL) : NULL,
              text && strstr(text, "kerb  watching")));
    assert_has(text, "the page is at http://127.0.0.1:");
    assert_has(text, "for this machine alone: an account is made by tawny account add");
    free(text);
    (void)kill(child, SIGTERM);
    int status = 0;
    (void)waitpid(child, &status, 0);
    assert_int_equal(WEXITSTATUS(status), 0);
    write_text(path, "[station]\nname = page-test\nlisten = 0.0.0.0:0\n"
                     "accounts_file = none-yet\n[camera kerb]\n"
                     "source = sim:kerb,size=240x136\npace = no\n");
    check(
        1,
        "page not started: create an account first, by tawny account add NAME --may run",
        "", "watch");
    free(path);
    free(log);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_accounts_are_made_listed_and_removed),
        cmocka_unit_test(test_a_station_says_where_its_page_is),
    };
    return cmocka_run_group_tests(tests, set_up, drop);
}
