/* Sound on its way from footage and streams into clips and segments, judged by another
 * program: what is copied is the same, what is made is where it belongs. */
#include <stdlib.h>
#include <string.h>

#include "../support/support.h"

enum {
    FRAMES_MOST = 4000,
    SAMPLES_MOST = 4000000,
    PICTURE_RATE = 50,
    SOUND_RATE = 16000
};

static char *folder;

static int set_up(void **state)
{
    (void)state;
    folder = make_folder();
    (void)setenv("XDG_RUNTIME_DIR", folder, 1);
    return 0;
}

static int drop(void **state)
{
    (void)state;
    remove_folder(folder);
    return 0;
}

/* @return what it said; to be freed. */
static char *run(const char *command)
{
    return run_shell(folder, command);
}

static void make(const char *command)
{
    free(run(command));
}

/* Once a second, for a tenth of it, the picture is white and there is a tone. */
static void make_flashes(const char *name, const char *seconds, const char *how)
{
    char command[1024];
    (void)snprintf(command, sizeof command,
                   FFMPEG
                   " -v error -y -f lavfi -i "
                   "\"color=black:size=320x180:rate=20:duration=%s,drawbox=color="
                   "white:t=fill:enable='lt(mod(t,1),0.1)'\" -f lavfi -i "
                   "\"aevalsrc=0.5*sin(2*PI*1000*t)*lt(mod(t\\\\,1)\\\\,0.1):s=48000:d="
                   "%s\" %s %s",
                   seconds, seconds, how, name);
    make(command);
}

/* Watch settings to the end. @param camera  Lines of the camera. */
static void watch(const char *camera)
{
    char text[1024], *file = join(folder, "station.ini");
    (void)snprintf(text, sizeof text,
                   "[station]\nstore = captures\nkeep_free = 0\n[camera kerb]\n%s\n",
                   camera);
    write_text(file, text);
    free(file);
    make("rm -rf captures; " TOOL " watch");
}

/* ---- what is in a file ----------------------------------------------------------------
 */

/* Digests of all packets of sound, in order, of all files whose names end so. */
static char *digests(const char *files)
{
    char command[512];
    (void)snprintf(command, sizeof command,
                   "for f in $(ls %s | sort); do " FFPROBE
                   " -v error -select_streams a -show_data_hash md5 -show_entries "
                   "packet=data_hash -of default=nk=1:nw=1 $f; done | grep MD5",
                   files);
    return run(command);
}

/* Times at which something begins, of a list of levels. */
typedef struct onsets {
    double at[64];
    size_t count;
} onsets;

static void find_onsets(const double *level, size_t count, double rate, double limit,
                        onsets *out)
{
    double quiet_since = -1;
    out->count = 0;
    for (size_t i = 0; i < count; i++) {
        const double t = (double)i / rate;
        if (level[i] < limit)
            continue;
        if ((quiet_since < 0 || t - quiet_since > 0.3) && out->count < 64)
            out->at[out->count++] = t;
        quiet_since = t;
    }
}

static void see_flashes(const char *file, onsets *out)
{
    char command[512];
    static double level[FRAMES_MOST];
    (void)snprintf(command, sizeof command,
                   FFMPEG
                   " -v error -y -i %s -map 0:v -vf "
                   "\"fps=50:start_time=0,scale=1:1,format=gray\" -f rawvideo seen",
                   file);
    make(command);
    char *path = join(folder, "seen");
    size_t bytes = 0;
    uint8_t *px = (uint8_t *)read_file(path, &bytes);
    for (size_t i = 0; i < bytes && i < FRAMES_MOST; i++)
        level[i] = px[i];
    find_onsets(level, bytes < FRAMES_MOST ? bytes : FRAMES_MOST, PICTURE_RATE, 100, out);
    free(px);
    free(path);
}

static void hear_tones(const char *file, onsets *out)
{
    char command[512];
    static double level[SAMPLES_MOST];
    (void)snprintf(command, sizeof command,
                   FFMPEG " -v error -y -i %s -map 0:a -af "
                          "aresample=async=1:min_hard_comp=0.01:first_pts=0 "
                          "-ar 16000 -ac 1 -f s16le heard",
                   file);
    make(command);
    char *path = join(folder, "heard");
    size_t bytes = 0;
    int16_t *s = (int16_t *)(void *)read_file(path, &bytes);
    const size_t count = bytes / 2 < SAMPLES_MOST ? bytes / 2 : SAMPLES_MOST;
    for (size_t i = 0; i < count; i++)
        level[i] = s[i] < 0 ? -s[i] : s[i];
    find_onsets(level, count, SOUND_RATE, 4000, out);
    free(s);
    free(path);
}

/* Each flash has its tone within 40 ms, but for those at an end of the file. */
static void check_together(const char *file, size_t least)
{
    onsets seen, heard;
    see_flashes(file, &seen);
    hear_tones(file, &heard);
    size_t together = 0;
    for (size_t i = 0; i < seen.count; i++)
        for (size_t k = 0; k < heard.count; k++) {
            const double off = heard.at[k] - seen.at[i];
            if (seen.at[i] > 0.3 && off > -0.45 &&
                off < 0.45) { /* it is filled up before */
                print_message("%s: tone %+.0f ms of its flash\n", file, off * 1e3);
                /* a picture stands for a twentieth of a second */
                assert_true(off > -0.04 && off < 0.04);
                together++;
            }
        }
    assert_true(together >= least);
}

/* ---- tests ----------------------------------------------------------------------------
 */

/* Segments have all of it, each packet once, in order. */
static void test_segments_join_without_a_gap(void **state)
{
    (void)state;
    static const char *const forms[][2] = {{"a.mp4", "-c:v libx264 -g 20 -c:a aac"},
                                           {"o.mkv", "-c:v mjpeg -c:a libopus"}};
    for (size_t i = 0; i < sizeof forms / sizeof *forms; i++) {
        char camera[256];
        make_flashes(forms[i][0], "24", forms[i][1]);
        (void)snprintf(
            camera, sizeof camera,
            "source = file:%s\nsound = stream\npace = no\narmed = no\ncontinuous = "
            "yes\nsegment = 10 s\nclip_video = copy\n",
            forms[i][0]);
        watch(camera);
        char *want = digests(forms[i][0]), *got = digests("captures/*/kerb/*segment.mp4");
        const size_t all = count_lines(want, "MD5"), kept = count_lines(got, "MD5");
        print_message("%s: %zu of %zu packets of sound\n", forms[i][0], kept, all);
        assert_true(kept + 1 >= all &&
                    all > 800); /* one may be before the first picture */
        assert_non_null(strstr(want, got));
        free(want);
        free(got);
    }
}

static void test_sound_stays_with_its_pictures(void **state)
{
    (void)state;
    /* copied and encoded; sound that is copied, and sound that clips cannot carry */
    static const char *const forms[][3] = {
        {"a.mp4", "-c:v libx264 -g 20 -c:a aac", "clip_video = copy"},
        {"a.mp4", "-c:v libx264 -g 20 -bf 0 -c:a aac",
         "caption = {camera}\ncaption_size = 8 %"},
        {"m.mkv", "-c:v mjpeg -c:a pcm_mulaw -ar 8000", "clip_video = h264"},
        {"p.mkv", "-c:v mjpeg -c:a pcm_s16le -ac 2", "clip_video = mjpeg"},
        {"t.ts", "-c:v libx264 -g 20 -c:a mp2", "clip_video = copy"}};
    for (size_t i = 0; i < sizeof forms / sizeof *forms; i++) {
        char camera[384];
        make_flashes(forms[i][0], "21", forms[i][1]);
        (void)snprintf(
            camera, sizeof camera,
            "source = file:%s\nsound = stream\npace = no\narmed = no\ncontinuous = "
            "yes\nsegment = 10 s\n%s\n",
            forms[i][0], forms[i][2]);
        watch(camera);
        char *list = run("ls captures/*/kerb/*segment.mp4"), *at = list;
        for (char *line = strtok_r(list, "\n", &at); line;
             line = strtok_r(NULL, "\n", &at))
            if (strstr(line, "segment"))
                check_together(line, line[0] && at && *at ? 8 : 0);
        free(list);
    }
}

/* A clip has its sound from before the sighting began until after it ended; what is not
 * asked for is not there. */
static void test_a_clip_has_its_sound(void **state)
{
    (void)state;
    static const char WANTED[] = "source = file:c.mkv\nsound = %s\npace = no\nsettle = 1 "
                                 "s\npre_event = 2 s\npost_event "
                                 "= 2 s\nstart_at = 0.2 %%\n";
    char camera[512], *said = NULL;
    make(
        FFMPEG
        " -v error -y -f lavfi -i "
        "\"color=gray:s=320x180:r=10:d=20[b];color=white:s=60x60:r=10:d=20[w];[b][w]overlay=x='if(between(t,10,14),(t-10)*60,-100)':y=60\" "
        "-f lavfi -i sine=frequency=500:duration=20 -c:v mjpeg -c:a pcm_s16le c.mkv");
    (void)snprintf(camera, sizeof camera, WANTED, "stream");
    watch(camera);
    said =
        run(FFPROBE " -v error -show_entries stream=codec_type,codec_name,duration -of "
                    "csv=p=0 $(ls captures/*/kerb/*clip.mp4)");
    print_message("%s", said);
    const char *sound = strstr(said, "aac,audio,"),
               *pictures = strstr(said, "h264,video,");
    assert_non_null(sound);
    assert_non_null(pictures);
    const double heard_s = strtod(sound + 10, NULL), seen_s = strtod(pictures + 11, NULL);
    assert_true(seen_s > 5 && heard_s > seen_s - 0.15 && heard_s < seen_s + 0.15);
    free(said);
    (void)snprintf(camera, sizeof camera, WANTED, "none");
    watch(camera);
    said = run(FFPROBE " -v error -show_entries stream=codec_type -of csv=p=0 $(ls "
                       "captures/*/kerb/*clip.mp4)");
    assert_string_equal(said, "video\n");
    free(said);
    (void)snprintf(camera, sizeof camera, WANTED, "stream");
    make("" FFMPEG " -v error -y -i c.mkv -an -c copy d.mkv && mv d.mkv c.mkv");
    watch(camera); /* it has none: the clip goes without */
    said = run(FFPROBE " -v error -show_entries stream=codec_type -of csv=p=0 $(ls "
                       "captures/*/kerb/*clip.mp4)");
    assert_string_equal(said, "video\n");
    free(said);
}

/* What is louder than usual begins a sighting where that is wanted, or lets motion begin
 * one. A call at 30 s, and motion at 20 s and at 32 s. */
static void test_sound_begins_a_sighting(void **state)
{
    (void)state;
    static const struct {
        const char *lines;
        size_t sightings, loud;
    } cases[] = {{"start_at = 0.2 %\n", 2, 0},
                 {"start_at = 90 %\nsound_starts = either\n", 1, 1},
                 {"start_at = 90 %\nsound_starts = either\nsound_margin = 60\n", 0, 0},
                 {"start_at = 0.2 %\nsound_starts = both\nsensor_holds = 5 s\n", 1, 0},
                 {"start_at = 90 %\n", 0, 0}};
    make(FFMPEG
         " -v error -y -f lavfi -i \"color=gray:s=320x180:r=10:d=45[b];color=white:s="
         "60x60:r=10:d=45[w];[b][w]overlay=x='if(between(t,20,23),(t-20)*60,if("
         "between(t,32,35),(t-32)*60,-100))':y=60\" -f lavfi -i "
         "\"anoisesrc=a=0.002:d=45:seed=7,asplit[n][u];[u]anullsink;sine=frequency="
         "900:duration=45,volume='if(between(t,30,32),1,0)':eval=frame[s];[n][s]amix="
         "inputs=2:normalize=0\" -c:v mjpeg -c:a aac call.mkv");
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char camera[512];
        (void)snprintf(
            camera, sizeof camera,
            "source = file:call.mkv\nsound = stream\npace = no\nsettle = 1 s\nrest = "
            "0 s\npost_event = 2 s\n%s",
            cases[i].lines);
        watch(camera);
        char *said = run(TOOL " sightings --json");
        print_message("%s: %s\n", cases[i].lines, said);
        assert_int_equal(count_lines(said, "\"type\":\"sighting\""), cases[i].sightings);
        assert_int_equal(count_lines(said, "\"why\":\"it was louder than usual\""),
                         cases[i].loud);
        free(said);
    }
}

/* The loudest above 5 kHz in what is a tone of 500 Hz, in decibels: a click has all
 * pitches. */
static double loudest_above(const char *file)
{
    char command[512];
    (void)snprintf(command, sizeof command,
                   FFMPEG
                   " -i %s -map 0:a -af \"highpass=f=5000,highpass=f=5000,atrim=start=2:"
                   "end=28,volumedetect\" -f null - 2>&1 | sed -n 's/.*max_volume: "
                   "\\(-*[0-9.]*\\) dB/\\1/p'",
                   file);
    char *said = run(command);
    const double level = strtod(said, NULL);
    print_message("%s: %.1f dB\n", file, level);
    free(said);
    return level;
}

/* Sound whose clock is a thousandth slow is stretched, and nothing of that is heard. */
static void test_stretching_makes_no_clicks(void **state)
{
    (void)state;
    make(
        FFMPEG
        " -v error -y -f lavfi -i color=gray:s=160x90:r=5:d=30 -f lavfi -i "
        "\"sine=frequency=500:sample_rate=48000:duration=30,volume=4,asetpts=PTS*1.001\" "
        "-c:v mjpeg -c:a pcm_s16le slow.mkv");
    watch("source = file:slow.mkv\nsound = stream\npace = no\narmed = no\ncontinuous = "
          "yes\n"
          "clip_video = mjpeg\n");
    assert_true(loudest_above("captures/*/kerb/*segment.mp4") < -65);
    make(FFMPEG
         " -v error -y -f lavfi -i \"sine=frequency=500:sample_rate=48000:duration=30,"
         "volume=4,aselect='not(eq(n,600))',asetpts=N/SR/TB\" -c:a aac click.m4a");
    assert_true(loudest_above("click.m4a") > -40); /* a click would be found */
}

/* What is wanted and does not come is found before anybody walks away. */
static void test_check_listens(void **state)
{
    (void)state;
    make(FFMPEG " -v error -y -f lavfi -i color=gray:s=160x90:r=10:d=8 -f lavfi -i "
                "sine=duration=8 -c:v mjpeg -c:a aac both.mkv");
    make(FFMPEG " -v error -y -i both.mkv -an -c copy mute.mkv");
    char *file = join(folder, "station.ini");
    write_text(
        file,
        "[station]\nstore = captures\n[cameras]\nloop = yes\n[camera kerb]\nsource = "
        "file:both.mkv\nsound = stream\n[camera mute]\nsource = file:mute.mkv\n"
        "sound = stream\n[camera mere]\nsource = file:both.mkv\n");
    free(file);
    char *said = run(TOOL " check || true");
    print_message("%s", said);
    assert_has(said, "ok      camera kerb: mjpeg 160 x 90");
    assert_has(said, "; sound: AAC, 44100 samples a second\n");
    assert_has(said, "FAILED  camera mute: mjpeg 160 x 90");
    assert_has(said,
               "; it has NO sound: write sound = none, or alsa: and a microphone\n");
    assert_has(said, "ok      camera mere");
    assert_int_equal(count_lines(said, "; sound: "), 1);
    free(said);
}

/* How loud it is can be seen while it watches, also where it decides nothing: a sine of
 * an eighth is at -21 dB. */
static void test_the_level_is_told(void **state)
{
    (void)state;
    make(FFMPEG " -v error -y -f lavfi -i color=gray:s=320x180:r=10:d=20 -f lavfi -i "
                "sine=frequency=500:duration=20 -c:v mjpeg -c:a pcm_s16le even.mkv");
    char *file = join(folder, "station.ini");
    write_text(file,
               "[station]\nstore = captures\nkeep_free = 0\n[camera kerb]\nsource = "
               "file:even.mkv\nsound = stream\n[camera mere]\nsource = "
               "file:even.mkv\n");
    free(file);
    char *said = run("rm -rf captures; " TOOL " watch >/dev/null & pid=$!; sleep 5; " TOOL
                     " status; " TOOL " status --json; kill -INT $pid; wait $pid");
    const char *at = strstr(said, "\"sound\":");
    print_message("%s\n", said);
    assert_non_null(at);
    const double level = strtod(at + strlen("\"sound\":"), NULL);
    assert_true(level > -22.5 && level < -19.5);
    assert_null(strstr(at + 1, "\"sound\":")); /* of the one that hears alone */
    assert_has(said, " levels, sound -2");
    free(said);
}

/* Sound that begins late, has a hole, and stops early leaves the pictures as they are. */
static void test_sound_with_holes(void **state)
{
    (void)state;
    make_flashes("h.mkv", "12", "-c:v mjpeg -c:a pcm_s16le");
    make(FFMPEG
         " -v error -y -i h.mkv -c:v copy -c:a copy -bsf:a "
         "\"noise=drop=lt(pts*tb\\\\,3)+between(pts*tb\\\\,5\\\\,7)+gt(pts*tb\\\\,10)\" "
         "holes.mkv");
    watch("source = file:holes.mkv\nsound = stream\npace = no\narmed = no\ncontinuous = "
          "yes\nclip_video = mjpeg\n");
    char *said = run("ls captures/*/kerb/*segment.mp4");
    said[strcspn(said, "\n")] = '\0';
    onsets seen, heard;
    see_flashes(said, &seen);
    hear_tones(said, &heard);
    assert_int_equal(seen.count, 12);
    print_message("%zu tones\n", heard.count);
    assert_in_range(heard.count, 4, 6); /* 3, 4, 8, 9, and what stands at an edge */
    check_together(said, 4);
    free(said);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_segments_join_without_a_gap),
        cmocka_unit_test(test_sound_stays_with_its_pictures),
        cmocka_unit_test(test_a_clip_has_its_sound),
        cmocka_unit_test(test_sound_begins_a_sighting),
        cmocka_unit_test(test_stretching_makes_no_clicks),
        cmocka_unit_test(test_check_listens),
        cmocka_unit_test(test_the_level_is_told),
        cmocka_unit_test(test_sound_with_holes),
    };
    return cmocka_run_group_tests(tests, set_up, drop);
}
