/* Pictures that are turned, mirrored and cropped: stills, copied and encoded clips, and
 * what the detector sees all lie the same way. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/jpeg.h"
#include "../support/support.h"
#include "../../src/core/naming.h"
#include "../../src/core/view.h"

enum { W = 320, H = 192, FPS = 5 };

/* One sighting of the kerb's scene, as captures in a folder. */
static char *rehearse(const char *more, char ***files, outcome *told)
{
    char *folder = make_folder(), *path = join(folder, "station.ini");
    char text[512];
    (void)snprintf(text, sizeof text,
                   "[station]\nstore = .\nnames = {kind}{n}\n[camera kerb]\n"
                   "source = sim:kerb,size=%dx%d\nfps = %d\nstills = first\n%s",
                   W, H, FPS, more);
    write_text(path, text);
    char *mark = join(folder, TWI_STORE_MARK); /* all that lies here is the store's */
    write_text(mark, "");
    free(mark);
    *told = run_program(folder, TOOL, "watch", "--json", "--set", "pace=no", NULL);
    assert_int_equal(told->code, 0);
    free(path);
    *files = list_files(folder);
    return folder;
}

/* The brightness of a video's or still's first picture, as a player shows it. */
static uint8_t *first_picture(const char *folder, const char *name, size_t expected)
{
    char *raw = join(folder, "raw");
    outcome o = run_program(folder, FFMPEG, "-v", "error", "-y", "-i", name, "-frames:v",
                            "1", "-f", "rawvideo", "-pix_fmt", "gray", raw, NULL);
    assert_string_equal(o.err, "");
    free_outcome(&o);
    size_t bytes = 0;
    uint8_t *px = (uint8_t *)read_file(raw, &bytes);
    assert_int_equal(bytes, expected);
    free(raw);
    return px;
}

/* Mean difference of two pictures, in hundredths of a level. */
static unsigned difference(const uint8_t *a, const uint8_t *b, size_t bytes)
{
    uint64_t sum = 0;
    for (size_t i = 0; i < bytes; i++)
        sum += (uint64_t)(a[i] > b[i] ? a[i] - b[i] : b[i] - a[i]);
    return (unsigned)(sum * 100 / bytes);
}

static void check_picture(const char *folder, const char *name, const uint8_t *upright,
                          const twi_view *view)
{
    const tw_luma src = {upright, W, W, H};
    const twi_rect r = twi_view_rect(view, W, H, 16);
    const size_t bytes = (size_t)r.width * r.height;
    uint8_t *expected = malloc(bytes);
    assert_non_null(expected);
    twi_view_plane(view->turn, &src, &r, expected, r.width);
    uint8_t *px = first_picture(folder, name, bytes);
    const unsigned off = difference(px, expected, bytes);
    if (off > 250)
        fail_msg("%s differs by %u.%02u levels", name, off / 100, off % 100);
    free(px);
    free(expected);
}

static const struct {
    const char *settings;
    twi_view view;
    const char *place; /* where the first sighting's blob is */
} CASES[] = {
    {"rotate = 90\n", {.turn = {1, false}, .crop = {0, 0, 0, 0}}, "at the top"},
    {"rotate = 180\n", {.turn = {2, false}, .crop = {0, 0, 0, 0}}, "at the right"},
    {"rotate = 270\nmirror = yes\n",
     {.turn = {3, true}, .crop = {0, 0, 0, 0}},
     "at the top"},
    {"mirror = yes\n", {.turn = {0, true}, .crop = {0, 0, 0, 0}}, "at the right"},
    {"rotate = 90\ncrop = 0,0 50,80\n",
     {.turn = {1, false}, .crop = {0, 0, 500000, 800000}},
     "at the upper right"},
};

/* What the detector said of the first sighting. */
static void check_place(const outcome *o, const char *place)
{
    const char *why = strstr(o->out, "one blob of ");
    if (!why || strncmp(strstr(why, "at the"), place, strlen(place)) != 0)
        fail_msg("not %s: %.400s", place, why ? why : o->out);
}

static void test_all_lies_the_same_way(void **state)
{
    (void)state;
    char **files = NULL;
    outcome o;
    char *plain = rehearse("clip_video = mjpeg\n", &files, &o);
    check_place(&o, "at the left");
    free_outcome(&o);
    uint8_t *still = first_picture(plain, "still.jpg", (size_t)W * H);
    uint8_t *clip = first_picture(plain, "clip.mp4", (size_t)W * H);
    free_list(files);
    for (size_t i = 0; i < sizeof CASES / sizeof *CASES; i++) {
        char text[128];
        const bool copied = i % 2 != 0; /* encoding is slow, and so are sanitizers */
        (void)snprintf(text, sizeof text, "%sclip_video = %s\n", CASES[i].settings,
                       copied ? "mjpeg" : "auto");
        char *folder = rehearse(text, &files, &o);
        check_picture(folder, "still.jpg", still, &CASES[i].view);
        check_picture(folder, "clip.mp4", clip, &CASES[i].view);
        check_place(&o, CASES[i].place);
        free_outcome(&o);
        free_list(files);
        remove_folder(folder);
    }
    free(still);
    free(clip);
    remove_folder(plain);
}

/* A file that says how it lies is shown so; what is said in the settings comes on top. */
static void test_footage_that_says_how_it_lies(void **state)
{
    (void)state;
    char **files = NULL;
    outcome o;
    char *folder = rehearse("rotate = 90\nclip_video = mjpeg\n", &files, &o);
    free_outcome(&o);
    free_list(files);
    uint8_t *clip = first_picture(folder, "clip.mp4", (size_t)W * H);
    o = run_program(folder, TOOL, "look", "file:clip.mp4", "--output", "look.jpg", NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    uint8_t *look = first_picture(folder, "look.jpg", (size_t)W * H);
    assert_true(difference(look, clip, (size_t)W * H) < 250);
    free(look);
    o = run_program(folder, TOOL, "look", "file:clip.mp4", "--set", "rotate=270",
                    "--output", "back.jpg", NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    uint8_t *back = first_picture(folder, "back.jpg", (size_t)W * H);
    const tw_luma src = {clip, H, H, W}; /* it stands upright */
    const twi_view view = {.turn = {3, false}};
    const twi_rect r = twi_view_rect(&view, H, W, 1);
    uint8_t *expected = malloc((size_t)W * H);
    assert_non_null(expected);
    twi_view_plane(view.turn, &src, &r, expected, r.width);
    assert_true(difference(back, expected, (size_t)W * H) < 250);
    free(expected);
    free(back);
    o = run_program(folder, TOOL, "reel", "reel.mp4", "--clips", "--store", ".", NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    uint8_t *reel = first_picture(folder, "reel.mp4", (size_t)W * H);
    assert_true(difference(reel, clip, (size_t)W * H) < 250);
    free(reel);
    free(clip);
    remove_folder(folder);
}

/* Something crosses the right half of a place in its colour alone. */
static void test_colour_is_turned_and_cropped_with_the_picture(void **state)
{
    (void)state;
    static const struct {
        const char *set, *sightings;
    } cases[] = {{"crop=50,0 100,100", "1 sighting in"},
                 {"crop=0,0 50,100", "0 sightings in"}};
    static const char draw[] =
        "color=gray:s=320x180:r=10:d=24,format=yuv420p,geq="
        "lum='100+mod(X*7+Y*13,23)'"
        ":cb='if(between(X,85+6*(T-14),97+6*(T-14))*between(Y,40,52)*gt(T,14),150,104)'"
        ":cr='if(between(X,85+6*(T-14),97+6*(T-14))*between(Y,40,52)*gt(T,14),100,112)'";
    char *folder = make_folder();
    outcome o = run_program(folder, FFMPEG, "-v", "error", "-f", "lavfi", "-i", draw,
                            "-c:v", "ffv1", "place.mkv", NULL);
    assert_int_equal(o.code, 0);
    free_outcome(&o);
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        o = run_program(folder, TOOL, "rehearse", "--set", cases[i].set, "place.mkv",
                        NULL);
        assert_has(o.out, cases[i].sightings);
        free_outcome(&o);
    }
    o = run_program(folder, TOOL, "rehearse", "--set", "colour=no", "place.mkv", NULL);
    assert_has(o.out, "0 sightings in");
    free_outcome(&o);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_all_lies_the_same_way),
        cmocka_unit_test(test_footage_that_says_how_it_lies),
        cmocka_unit_test(test_colour_is_turned_and_cropped_with_the_picture),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
