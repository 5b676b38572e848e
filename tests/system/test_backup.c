/* A station is taken to another board, while both run. */
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../support/support.h"

static char *folder;

/* What the shell says there. @return it, to be freed. */
static char *shell(const char *line)
{
    char whole[4096];
    (void)snprintf(whole, sizeof whole, "T='%s'\n%s", TOOL, line);
    return run_shell(folder, whole);
}

static void check_shell(const char *line, const char *wanted)
{
    char *said = shell(line);
    if (strcmp(said, wanted) != 0)
        fail_msg("%s\nsays: %s\nnot: %s", line, said, wanted);
    free(said);
}

/* Board a has sightings with captures, marks, stars and names, and settings in two files;
 * board b has a camera of another name, and nothing else. Both run, and see nothing. */
static int set_up(void **state)
{
    (void)state;
    folder = make_folder();
    free(shell(
        "mkdir -p a b run-a run-b\n"
        "(cd a && $T demo --keep captures >/dev/null && $T sightings --store captures "
        "--star 1\n"
        " $T sightings --store captures --name 'Bufo bufo' --count 2 --note 'a pair' 1 "
        "2\n"
        " $T sightings --store captures --mark nothing 3\n"
        " $T sightings --store captures --missed '2027-03-13 20:33' --camera kerb)\n"
        "printf '%s\\n' '[station] # a' 'name = hollin' 'species = species.csv' "
        "'[cameras]' 'armed = no' 'loop = yes' '[camera kerb]' 'source = "
        "sim:kerb,size=160x90' 'include = more.ini' > a/station.ini\n"
        "printf '%s\\n' '[camera mere]' 'source = sim:mere,size=160x90' '[destination "
        "shed]' 'url = ftp://box.lan/x' 'user = ann' 'secret_file = /nowhere/secret' > "
        "a/more.ini\n"
        "echo 'Bufo bufo,common toad,t' > a/species.csv\n"
        "(cd a && echo frogspawn | $T account add ann --may run >/dev/null\n"
        " echo tadpoles | $T account add bob --may look --cameras mere >/dev/null)\n"
        "printf '%s\\n' '[station]' 'name = hollin' '[camera old]' 'armed = no' "
        "'source = sim:kerb,size=160x90' 'loop = yes' > b/station.ini\n"
        "for x in a b; do (cd $x && XDG_RUNTIME_DIR=$PWD/../run-$x exec timeout -k 5 "
        "-s INT 280 $T watch > ../$x.log 2>&1) & echo $! >> pids; done\n"
        "for i in $(seq 300); do grep -q 'kerb  watching' a.log && grep -q 'old  "
        "watching' b.log && exit; sleep 0.1; done; cat a.log b.log; false"));
    return 0;
}

static int drop(void **state)
{
    (void)state;
    free(shell(
        "kill $(cat pids); for p in $(cat pids); do for i in $(seq 200); do kill -0 $p "
        "2>/dev/null || break; sleep 0.1; done; done; true"));
    remove_folder(folder);
    return 0;
}

static void test_a_station_goes_to_another_board(void **state)
{
    (void)state;
    char *said =
        shell("cd a && XDG_RUNTIME_DIR=$PWD/../run-a $T backup ../all.zip --captures && "
              "unzip -tq ../all.zip >/dev/null && stat -c %a ../all.zip && ls");
    assert_has(said, "6 captures");
    assert_has(said, "bring it by hand: secret: /nowhere/secret");
    assert_has(said, "\n600\n");
    assert_null(strstr(said, ".part")); /* nothing is left of the making */
    free(said);
    said = shell("cd b && XDG_RUNTIME_DIR=$PWD/../run-b $T restore ../all.zip");
    assert_has(said, "3 sightings and 6 captures are in captures.");
    assert_has(said, "The station that runs here reads it now");
    free(said);
    /* what both know, and have */
    check_shell(
        "for x in a b; do (cd $x && $T sightings --csv > ../$x.csv; $T sightings "
        "--json 1 > ../$x.json; $T sightings --store captures | tail -2 > ../$x.list); "
        "done; cmp a.csv b.csv && cmp a.json b.json && cmp a.list b.list && echo same",
        "same\n");
    check_shell("grep -c 'Bufo bufo' b.csv; grep -c 'nothing' b.csv", "2\n1\n");
    check_shell("diff -r -x 'catalogue.db*' -x '*.jsonl' -x .tawny-store a/captures "
                "b/captures && echo same",
                "same\n");
    check_shell(
        "cmp a/accounts b/accounts && cmp a/species.csv b/species.csv && echo same",
        "same\n");
    check_shell("cd b && $T account list", "ann (can change)\nbob (can look): mere\n");
    check_shell("for x in a b; do (cd $x && $T settings --whole | grep -v '^#\\|^$' > "
                "../$x.ini); done; cmp a.ini b.ini && echo same",
                "same\n");
    check_shell("cd b && cat station.ini.old | head -3 | tail -1", "[camera old]\n");
    /* the station that runs there has gone over, and a lost catalogue loses nothing */
    check_shell(
        "for i in $(seq 300); do n=$(grep -c 'kerb  watching\\|mere  watching\\|old  "
        "closed' b.log); [ $n = 3 ] && break; sleep 0.1; done; echo $n",
        "3\n");
    check_shell("grep -c '\"name\":\"Bufo bufo\"' b/captures/sightings.jsonl", "2\n");
}

static void test_twice_is_once(void **state)
{
    (void)state;
    char *said = shell("cd b && $T restore ../all.zip 2>&1; echo $?; ls captures");
    assert_has(said,
               "3 sightings of it are in the store already: nothing was taken in\n1\n");
    assert_null(strstr(said, "restored"));
    free(said);
}

/* Where there are others already, nothing is lost, and numbers stay one of each. */
static void test_what_is_there_stays(void **state)
{
    (void)state;
    free(shell(
        "mkdir c && cd c && $T rehearse --keep captures --set pre_event=0s "
        "sim:kerb,size=160x90,seed=9 >/dev/null; cp ../b/station.ini ../b/species.csv ."
        "; rm -f sightings; $T sightings --csv | tail -n +2 > ../before.csv"));
    char *said =
        shell("cd c && $T restore ../all.zip --keep-settings && $T sightings --csv | "
              "tail -n +2 > ../after.csv; grep -c . ../before.csv ../after.csv; grep -F "
              "-x -f ../before.csv ../after.csv | cmp - ../before.csv && echo there");
    assert_has(said, "the numbers of these are higher by ");
    assert_has(said, "there\n");
    free(said);
    check_shell(
        "cut -d, -f1 after.csv | sort | uniq -d; cd c && test ! -e accounts && echo none",
        "none\n");
}

/* Whatever stands in a file, nothing changes by it outside the store. */
static void test_what_is_no_backup_changes_nothing(void **state)
{
    (void)state;
    free(
        shell("mkdir d && cp b/station.ini.old d/station.ini && cp d/station.ini d.ini"));
    char *said = shell(
        "cd d\n"
        "for f in /etc/hostname nothing.zip; do $T restore $f 2>&1; done\n"
        "size=$(stat -c %s ../all.zip)\n"
        "for at in 10 50 90 99; do head -c $((size * at / 100)) ../all.zip > cut.zip; "
        "$T restore cut.zip 2>&1 && echo taken; done\n"
        "/usr/bin/python3 - <<'END'\n"
        "import json, zipfile\n"
        "about = json.dumps({'backup': 1})\n"
        "good = zipfile.ZipFile('../all.zip')\n"
        "def make(name, *more, about=about):\n"
        "    with zipfile.ZipFile(name, 'w') as z:\n"
        "        z.writestr('backup.json', about)\n"
        "        for n, t in more: z.writestr(n, t)\n"
        "ini = ('settings.ini', good.read('settings.ini'))\n"
        "make('e1.zip', ini, ('captures/../../evil', 'x'))\n"
        "make('e2.zip', ini, ('captures//etc/evil', 'x'))\n"
        "make('e3.zip', ('settings.ini', 'nonsense'))\n"
        "make('e4.zip', ini, ('catalogue.db', 'no data base'))\n"
        "make('e5.zip', ini)\n"
        "make('e6.zip', about='{}')\n"
        "make('e7.zip', about=json.dumps({'backup': 2}))\n"
        "make('e8.zip', ('settings.ini', b'a' * 2000000))\n"
        "make('e9.zip', ini, ('captures/catalogue.db', 'x'))\n"
        "END\n"
        "for i in 1 2 3 4 5 6 7 8 9; do $T restore e$i.zip 2>&1 && echo taken; done\n"
        "cmp station.ini ../d.ini && ls; echo copies: $(ls captures | grep -c restored); "
        "ls .. | grep evil; true");
    assert_null(strstr(said, "taken"));
    assert_null(strstr(said, "evil\n"));
    assert_null(strstr(said, "accounts"));
    assert_has(said, "copies: 0\n");
    assert_has(said, "is no backup of a station");
    assert_has(said, "is of a newer version");
    assert_has(said, "has a name that is none");
    assert_has(said, "has no catalogue in it");
    free(said);
}

/* What root would write there the station could not read. */
static void test_the_store_of_another_user_is_his(void **state)
{
    (void)state;
    if (geteuid() != 0) {
        skip(); /* only root can give files away */
        return;
    }
    char *said =
        shell("mkdir -p e/captures && chown 1 e e/captures && cp b/station.ini.old "
              "e/station.ini && cd e && $T restore ../all.zip 2>&1; echo $?; ls -A "
              "captures");
    assert_has(said,
               "captures belongs to daemon: do this as that user (sudo -u daemon tawny "
               "restore ...)\n1\n");
    assert_null(strstr(said, "restored"));
    free(said);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_station_goes_to_another_board),
        cmocka_unit_test(test_twice_is_once),
        cmocka_unit_test(test_what_is_there_stays),
        cmocka_unit_test(test_what_is_no_backup_changes_nothing),
        cmocka_unit_test(test_the_store_of_another_user_is_his),
    };
    return cmocka_run_group_tests(tests, set_up, drop);
}
