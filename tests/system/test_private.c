/* The neighbour's window: what lies in a private zone is in no file and no picture that
 * leaves the station. It is painted in a colour that nothing else has, so that it would
 * be found wherever it were, however turned or reduced; another program decodes what
 * there is. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

static char *folder;

static char *run(const char *command)
{
    return run_shell(folder, command);
}

static void make(const char *command)
{
    free(run(command));
}

/* A lane in grey, across which something goes from the ninth second on, and a window in
 * magenta at the upper right. */
static void make_footage(const char *how, const char *name)
{
    char command[1024];
    (void)snprintf(
        command, sizeof command,
        FFMPEG " -v error -y -f lavfi -i "
               "color=c=0x606060:s=320x192:r=5:d=16,noise=alls=6:allf=t -f lavfi -i "
               "color=c=0x101010:s=30x24:r=5:d=16 -filter_complex "
               "\"[0]drawbox=x=200:y=16:w=96:h=64:color=magenta:t=fill[b];[b][1]overlay="
               "x='if(gte(t,9),(t-9)*60-30,-40)':y=120\" %s %s",
        how, name);
    make(command);
}

static int set_up(void **state)
{
    (void)state;
    folder = make_folder();
    (void)setenv("XDG_RUNTIME_DIR", folder, 1);
    make_footage("-c:v mjpeg -q:v 3 -pix_fmt yuvj422p", "jpeg.avi");
    make_footage("-c:v libx264 -g 10 -pix_fmt yuv420p", "h264.mp4");
    return 0;
}

static int drop(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

/* How many pixels of all pictures in a file are the window's. */
static size_t seen_in(const char *file)
{
    char command[1024];
    (void)snprintf(command, sizeof command,
                   FFMPEG " -v quiet -y -i '%s' -f rawvideo -pix_fmt rgb24 raw", file);
    make(command);
    char *raw = join(folder, "raw");
    size_t bytes = 0, count = 0;
    uint8_t *px = (uint8_t *)read_file(raw, &bytes);
    assert_true(bytes > 0);
    for (size_t i = 0; i + 2 < bytes; i += 3)
        count += px[i] > px[i + 1] + 40 && px[i + 2] > px[i + 1] + 40;
    free(px);
    free(raw);
    return count;
}

/* The kinds of files that were looked at, and what was found in them. */
typedef struct found {
    char kinds[512];
    size_t files, seen;
} found;

static void look_at_all(const char *below, found *f)
{
    char command[256];
    (void)snprintf(command, sizeof command,
                   "find %s -name '*.jpg' -o -name '*.mp4' -o -name '*.png' | sort",
                   below);
    char *list = run(command), *rest = list, *file = NULL;
    *f = (found){.files = 0};
    while ((file = strtok_r(rest, "\n", &rest)) != NULL) {
        const char *name = strrchr(file, '/') + 1;
        const size_t n = strcspn(name, "0123456789.");
        const size_t seen = seen_in(file);
        f->files++;
        f->seen += seen;
        char kind[64];
        (void)snprintf(kind, sizeof kind, "%.*s ", (int)n, name);
        if (!strstr(f->kinds, kind))
            (void)strncat(f->kinds, kind, sizeof f->kinds - strlen(f->kinds) - 1);
    }
    free(list);
}

static const char ZONE[] = "[zone kerb/window]\nkind = private\n"
                           "area = 62,8 93,8 93,42 62,42\n";

/* Everything that a station makes, of which some is sent. */
static void watch(const char *source, const char *more, const char *zone)
{
    char text[2048];
    char *path = join(folder, "station.ini");
    make("rm -rf captures shed && mkdir shed");
    (void)snprintf(
        text, sizeof text,
        "[station]\nstore = captures\nlisten = none\nnames = {kind}{n}-%%H%%M%%S\n"
        "[destination shed]\nurl = file:%s/shed\n"
        "what = small, clip, timed, segment\n"
        "[camera kerb]\nsource = file:%s\nstills = every 1 s\n"
        "timed_still = 2 s\ntimed_clip = 2 s every 5 s\ncontinuous = yes\n"
        "segment = 6 s\ncaption = HOLLIN\nsend_to = shed\npace = no\n"
        "post_event = 2 s\n%s\n%s",
        folder, source, more, zone);
    write_text(path, text);
    free(path);
    char *said = run("'" TOOL "' watch");
    if (!strstr(said, "sighting 1 begins"))
        fail_msg("nothing was seen: %s", said);
    free(said);
}

static const char KINDS[] =
    "captioned-clip captioned-still clip segment still timed-clip timed-still";

static void check_kinds(const found *f)
{
    char kinds[sizeof KINDS];
    memcpy(kinds, KINDS, sizeof KINDS);
    char *rest = kinds, *kind = NULL;
    while ((kind = strtok_r(rest, " ", &rest)) != NULL)
        if (!strstr(f->kinds, kind))
            fail_msg("there is no %s among %s", kind, f->kinds);
}

static const struct {
    const char *source, *more;
} CASES[] = {
    {"jpeg.avi", ""},
    {"jpeg.avi", "clip_video = copy\nrotate = 90\n"},
    {"h264.mp4", "clip_video = copy\n"},
    {"h264.mp4", "rotate = 270\nmirror = yes\ncrop = 0,0 100,90\n"},
};

/* So that the test below can fail: without the zone it is in each kind of file. */
static void test_without_it_all_is_seen(void **state)
{
    (void)state;
    found f;
    for (int i = 0; i < 2; i++) {
        watch(i == 0 ? "jpeg.avi" : "h264.mp4", "clip_video = copy\n", "");
        look_at_all("captures", &f);
        check_kinds(&f);
        assert_true(f.seen > f.files * 1000);
    }
}

static void test_nothing_of_it_is_stored(void **state)
{
    (void)state;
    for (size_t i = 0; i < sizeof CASES / sizeof *CASES; i++) {
        found f;
        char zone[256];
        const char *turned = strstr(CASES[i].more, "rotate = 90") ? "kerb/window" : NULL;
        const bool third = strstr(CASES[i].more, "rotate = 270") != NULL;
        /* Zones are laid over what is shown: turned right, the window is at the lower
         * right; turned left and mirrored before, and cropped, elsewhere again. */
        (void)snprintf(zone, sizeof zone,
                       "[zone kerb/window]\nkind = private\narea = %s\n",
                       turned  ? "57,62 93,62 93,93 57,93"
                       : third ? "7,68 43,68 43,100 7,100"
                               : "62,8 93,8 93,42 62,42");
        watch(CASES[i].source, CASES[i].more, zone);
        look_at_all("captures", &f);
        check_kinds(&f);
        if (f.seen > 0)
            fail_msg("%s, %s: %zu pixels of it are seen in %zu files", CASES[i].source,
                     CASES[i].more, f.seen, f.files);
    }
}

/* What waits is sent by a station that watches something else. */
static void test_nothing_of_it_is_sent(void **state)
{
    (void)state;
    found f;
    watch("jpeg.avi", "clip_video = mjpeg\n", ZONE);
    outcome o = run_program(folder, "/bin/sh", "-c",
                            "timeout -s INT 8 '" TOOL
                            "' watch --set kerb.source=sim:kerb --set pace=yes",
                            NULL);
    free_outcome(&o);
    look_at_all("shed", &f);
    assert_true(f.files > 5);
    assert_int_equal(f.seen, 0);
}

/* The first and the last file of a kind, by the time in their names. */
static void look_at_ends(const char *kind, size_t *first, size_t *last)
{
    char command[256];
    (void)snprintf(command, sizeof command, "find captures -name '%s*' | sort", kind);
    char *list = run(command), *rest = list, *file = NULL;
    size_t count = 0;
    while ((file = strtok_r(rest, "\n", &rest)) != NULL) {
        *last = seen_in(file);
        if (count++ == 0)
            *first = *last;
    }
    if (count < 2)
        fail_msg("one %s: %s", kind, list);
    free(list);
}

/* A zone that is set while clips are written ends them: the sighting goes on in another,
 * in which nothing of it is. */
static void test_it_holds_while_clips_are_written(void **state)
{
    (void)state;
    static const char settings[] =
        "[station]\nstore = captures\nlisten = none\nnames = {kind}-%H%M%S\n"
        "[camera kerb]\nsource = file:jpeg.avi\nloop = yes\nsettle = 1 s\npre_event = 1 "
        "s\npost_event = 1 min\nstills = none\ncontinuous = yes\nsegment = 1 h\n"
        "clip_video = mjpeg\n";
    char *path = join(folder, "station.ini"), *zone = join(folder, "zone.ini");
    make("rm -rf captures");
    write_text(path, settings);
    write_text(zone, ZONE);
    make(
        "'" TOOL "' watch >log 2>&1 & pid=$!; sleep 3; '" TOOL "' trigger kerb; sleep 3; "
        "cat zone.ini >>station.ini; kill -HUP $pid; sleep 4; kill -INT $pid; wait $pid");
    size_t first = 0, last = 1;
    look_at_ends("clip", &first, &last);
    assert_true(first > 0);
    assert_int_equal(last, 0);
    look_at_ends("segment", &first, &last);
    assert_true(first > 0);
    assert_int_equal(last, 0);
    char *said = run("'" TOOL "' sightings; cat log");
    assert_has(said, "settings read again: cameras changed 1");
    if (strstr(said, "sighting 2"))
        fail_msg("the sighting did not go on: %s", said);
    free(said);
    free(path);
    free(zone);
}

/* H.264 cannot be blackened without encoding it, and that is said with what it costs. */
static void test_the_cost_is_told(void **state)
{
    (void)state;
    static const struct {
        const char *source, *more;
        bool costs;
    } cases[] = {{"h264.mp4", "", true},
                 {"h264.mp4", "crop = 0,0 100,90\n", false}, /* encoded as it is */
                 {"jpeg.avi", "clip_video = copy\n", false}};
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char text[512];
        char *path = join(folder, "check.ini");
        (void)snprintf(text, sizeof text,
                       "[station]\nstore = tried\n[camera kerb]\nsource = file:%s\n%s%s",
                       cases[i].source, cases[i].more, ZONE);
        write_text(path, text);
        free(path);
        char *said = run("'" TOOL "' check --settings check.ini");
        assert_has(said, "; private zones that are black: 1");
        const char *cost = strstr(said, ", for which clips are encoded anew: up to ");
        assert_int_equal(cost != NULL, cases[i].costs);
        if (cost)
            assert_true(
                atoi(cost + strlen(", for which clips are encoded anew: up to ")) > 0);
        free(said);
    }
}

/* What the tool makes of footage, and of what is stored. */
static void test_nothing_of_it_is_in_what_the_tool_makes(void **state)
{
    (void)state;
    static const char *const commands[] = {
        "mkdir made && '" TOOL "' look --output made/look.jpg kerb",
        "'" TOOL "' look --output made/late.png --after 12 kerb",
        "'" TOOL "' rehearse --camera kerb --sheet made/sheet.png --keep made/kept "
        "h264.mp4",
        "'" TOOL "' reel made/reel.mp4 --clips",
        "'" TOOL "' reel made/timed.mp4 --camera kerb",
    };
    found f;
    for (int with = 0; with < 2; with++) {
        make("rm -rf made");
        watch("h264.mp4", "", with ? ZONE : "");
        for (size_t i = 0; i < sizeof commands / sizeof *commands; i++)
            make(commands[i]);
        look_at_all("made", &f);
        assert_true(f.files >= 6);
        if ((f.seen == 0) != (with == 1))
            fail_msg("%zu pixels of it are seen in %zu files", f.seen, f.files);
    }
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_without_it_all_is_seen),
        cmocka_unit_test(test_nothing_of_it_is_stored),
        cmocka_unit_test(test_nothing_of_it_is_sent),
        cmocka_unit_test(test_the_cost_is_told),
        cmocka_unit_test(test_it_holds_while_clips_are_written),
        cmocka_unit_test(test_nothing_of_it_is_in_what_the_tool_makes),
    };
    return cmocka_run_group_tests(tests, set_up, drop);
}
