/* The Linux port: its card against the contract of cards, its clock, its cameras. */
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <sys/resource.h>
#include <sys/prctl.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../support/support.h"
#include "../../src/core/naming.h"
#include "../../src/port/linux/linux.h"

typedef struct listed {
    size_t count;
    uint64_t bytes;
    size_t most;
} listed;

static bool list_one(void *ctx, const char *name, uint64_t bytes)
{
    listed *l = ctx;
    assert_true(strncmp(name, "a/b/", 4) == 0);
    l->bytes += bytes;
    return ++l->count < l->most;
}

/* Listing, reading and shortening: with "12345678" in a/b/one, and nothing else. */
static void check_reading(const tw_card *card)
{
    const tw_card_ops *ops = card->ops;
    void *ctx = card->ctx, *file = NULL;
    char text[16] = "";
    size_t got = 0;
    assert_int_equal(ops->read(ctx, "a/b/one", 2, text, 4, &got, NULL), TW_OK);
    assert_int_equal(got, 4);
    assert_memory_equal(text, "3456", 4);
    assert_int_equal(ops->read(ctx, "a/b/one", 6, text, 16, &got, NULL), TW_OK);
    assert_int_equal(got, 2); /* to its end */
    assert_int_equal(ops->read(ctx, "a/b/one", 60, text, 16, &got, NULL), TW_OK);
    assert_int_equal(got, 0);
    assert_int_equal(ops->read(ctx, "a/none", 0, text, 16, &got, NULL), TW_ENOENT);
    assert_int_equal(ops->create(ctx, "a/b/c/two", &file, NULL), TW_OK);
    assert_int_equal(ops->append(ctx, file, "1234567890", 10, NULL), TW_OK);
    assert_int_equal(ops->close(ctx, file, NULL), TW_OK);
    assert_int_equal(ops->shorten(ctx, "a/b/c/two", 3, NULL), TW_OK);
    assert_int_equal(ops->shorten(ctx, "a/none", 3, NULL), TW_ENOENT);
    listed all = {.most = 9}, one = {.most = 1};
    assert_int_equal(ops->list(ctx, list_one, &all, NULL), TW_OK);
    assert_int_equal(all.count, 2);
    assert_int_equal(all.bytes, 11);
    assert_int_equal(ops->list(ctx, list_one, &one, NULL), TW_OK);
    assert_int_equal(one.count, 1); /* visited until it had enough */
    assert_int_equal(ops->remove(ctx, "a/b/c/two", NULL), TW_OK);
}

/* What every card must do, run on the folder and on the simulated one. */
static void check_card_contract(const tw_card *card)
{
    const tw_card_ops *ops = card->ops;
    void *ctx = card->ctx, *file = NULL, *other = NULL;
    tw_error err = {0};
    uint64_t free_bytes = 0, total = 0;
    assert_int_equal(ops->claim(ctx, &err), TW_OK);
    assert_int_equal(ops->claim(ctx, &err), TW_OK);
    assert_int_equal(ops->create(ctx, "a/b/one.part", &file, &err), TW_OK);
    assert_int_equal(ops->create(ctx, "a/b/one.part", &other, &err), TW_EEXIST);
    assert_int_equal(ops->append(ctx, file, "12345", 5, &err), TW_OK);
    assert_int_equal(ops->append(ctx, file, "", 0, &err), TW_OK);
    assert_int_equal(ops->append(ctx, file, "678", 3, &err), TW_OK);
    assert_int_equal(ops->sync(ctx, file, &err), TW_OK);
    assert_int_equal(ops->close(ctx, file, &err), TW_OK);
    assert_int_equal(ops->rename(ctx, "a/b/one.part", "a/b/one", &err), TW_OK);
    assert_int_equal(ops->create(ctx, "a/b/two.part", &file, &err), TW_OK);
    assert_int_equal(ops->close(ctx, file, &err), TW_OK);
    assert_int_equal(ops->rename(ctx, "a/b/two.part", "a/b/one", &err), TW_EEXIST);
    assert_has(err.text, "a/b/one"); /* and one still holds what it held */
    assert_int_equal(ops->remove(ctx, "a/b/two.part", &err), TW_OK);
    assert_int_equal(ops->remove(ctx, "a/b/two.part", &err), TW_ENOENT);
    assert_int_equal(ops->rename(ctx, "a/b/none", "a/b/three", &err), TW_ENOENT);
    assert_int_equal(ops->rename(ctx, "a/b/one", "new/folder/one", &err), TW_OK);
    assert_int_equal(ops->rename(ctx, "new/folder/one", "a/b/one", &err), TW_OK);
    assert_int_equal(ops->space(ctx, &free_bytes, &total, &err), TW_OK);
    assert_true(total > 0 && free_bytes <= total);
    assert_true(strlen(ops->place(ctx)) > 0);
    check_reading(card);
}

static void test_folder_card_keeps_the_contract(void **state)
{
    (void)state;
    char *folder = make_folder(), *deep = join(folder, "x/y/z");
    tw_card card;
    assert_int_equal(tw_linux_card(deep, &card, NULL), TW_OK); /* makes the folders */
    check_card_contract(&card);
    char *path = join(deep, "a/b/one");
    char *text = read_file(path, NULL);
    assert_string_equal(text, "12345678");
    assert_int_equal(card.ops->remove(card.ctx, "a/b/one", NULL), TW_OK);
    char *left = join(deep, "a");
    assert_int_equal(access(left, F_OK), -1); /* folders that are left empty go too */
    free(left);
    left = join(deep, "new");
    assert_int_equal(access(left, F_OK), -1);
    tw_card other;
    tw_error err = {0};
    assert_int_equal(tw_linux_card(deep, &other, NULL), TW_OK);
    assert_int_equal(other.ops->claim(other.ctx, &err), TW_EACCES);
    assert_has(err.text, "another station writes to the folder");
    other.ops->destroy(other.ctx);
    free(text);
    free(path);
    free(left);
    card.ops->destroy(card.ctx);
    free(deep);
    remove_folder(folder);
}

static tw_status claim_folder(const char *folder, tw_error *err)
{
    tw_card card;
    assert_int_equal(tw_linux_card(folder, &card, err), TW_OK);
    const tw_status st = card.ops->claim(card.ctx, err);
    card.ops->destroy(card.ctx);
    return st;
}

/* Captures are dropped to make room: so no folder is taken that may hold what is others'.
 */
static void test_a_folder_that_is_no_store(void **state)
{
    (void)state;
    char *folder = make_folder(), *photo = join(folder, "IMG_20200101_101112.jpg"),
         *mark = join(folder, TWI_STORE_MARK), *lost = join(folder, "lost+found"),
         *catalogue = join(folder, TWI_CATALOGUE_FILE);
    tw_error err = {0};
    assert_int_equal(mkdir(lost, 0700), 0); /* as a card of its own has */
    assert_int_equal(claim_folder(folder, &err), TW_OK);
    assert_int_equal(access(mark, F_OK), 0);
    write_text(photo, "theirs");
    assert_int_equal(claim_folder(folder, &err), TW_OK); /* it is marked now */
    assert_int_equal(unlink(mark), 0);
    assert_int_equal(claim_folder(folder, &err), TW_EEXIST);
    assert_has(err.text, "holds other things (IMG_20200101_101112.jpg): choose an empty");
    assert_has(err.text, "put an empty file .tawny-store beside it");
    write_text(catalogue, "a catalogue of another program");
    assert_int_equal(claim_folder(folder, &err), TW_EEXIST);
    assert_int_equal(access(mark, F_OK), -1);
    /* One of ours is from before there were marks. */
    assert_int_equal(unlink(catalogue), 0);
    tw_catalogue *c = NULL;
    assert_int_equal(tw_catalogue_open(catalogue, true, &c, &err), TW_OK);
    tw_catalogue_close(c);
    assert_int_equal(claim_folder(folder, &err), TW_OK);
    assert_int_equal(access(mark, F_OK), 0);
    free(catalogue);
    free(lost);
    free(mark);
    free(photo);
    remove_folder(folder);
}

static void test_simulated_card_keeps_the_contract(void **state)
{
    (void)state;
    tw_card card;
    const char *name = NULL;
    const uint8_t *data = NULL;
    size_t bytes = 0;
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    check_card_contract(&card);
    assert_int_equal(tw_sim_card_count(&card), 1);
    assert_int_equal(tw_sim_card_open(&card), 0);
    assert_int_equal(tw_sim_card_file(&card, 0, &name, &data, &bytes), TW_OK);
    assert_string_equal(name, "a/b/one");
    assert_int_equal(bytes, 8);
    assert_memory_equal(data, "12345678", 8);
    assert_int_equal(tw_sim_card_file(&card, 1, &name, &data, &bytes), TW_ENOENT);
    card.ops->destroy(card.ctx);
}

static void test_folders_that_cannot_be(void **state)
{
    (void)state;
    char *folder = make_folder(), *file = join(folder, "file"),
         *below = join(file, "below");
    tw_card card;
    tw_error err = {0};
    write_text(file, "x");
    assert_int_not_equal(tw_linux_card(file, &card, &err), TW_OK);
    assert_has(err.text, file);
    assert_int_equal(tw_linux_card(below, &card, &err), TW_ENOENT);
    assert_has(err.text, "cannot make the folder");
    assert_int_equal(tw_linux_card("", &card, &err), TW_EINVAL);
    assert_int_equal(tw_linux_card("/proc/tawny", &card, &err), TW_ENOENT);
    free(below);
    free(file);
    remove_folder(folder);
}

static void put_picture(const char *folder, const char *name, uint8_t level)
{
    size_t bytes = 0;
    uint8_t *jpeg = plain_jpeg(64, 48, level, &bytes);
    char *path = join(folder, name);
    write_bytes(path, jpeg, bytes);
    free(path);
    free(jpeg);
}

/* Pictures that wait in an inbox. */
static size_t take_all(const tw_camera *camera)
{
    tw_frame frame;
    size_t count = 0;
    int64_t last_us = INT64_MIN;
    for (int quiet = 0; quiet < 2;) {
        tw_error err = {0};
        const tw_status st = camera->ops->next(camera->ctx, &frame, &err);
        if (st == TW_EAGAIN) {
            quiet++;
            continue;
        }
        if (st != TW_OK)
            fail_msg("%s", err.text);
        assert_true(frame.packet.t_us > last_us);
        last_us = frame.packet.t_us;
        assert_int_equal(frame.packet.data[0], 0xFF);
        count++;
    }
    return count;
}

static void test_a_folder_that_pictures_are_put_into(void **state)
{
    (void)state;
    char *folder = make_folder(), *inbox = join(folder, "inbox"), source[300];
    assert_int_equal(mkdir(inbox, 0777), 0);
    put_picture(inbox, "old.jpg", 90); /* it was there before */
    (void)snprintf(source, sizeof source, "inbox:%s", inbox);
    tw_stream stream;
    tw_camera camera = open_camera(source, 10, &stream);
    assert_int_equal(camera.ops->live, TW_LIVE_RARE);
    assert_int_equal(take_all(&camera), 0);
    for (int i = 0; i < 5; i++) {
        char name[32];
        (void)snprintf(name, sizeof name, "p%d.JPG", i);
        put_picture(inbox, name, (uint8_t)(50 + i));
    }
    put_picture(inbox, "half.tmp", 10); /* no picture until it is named so */
    assert_int_equal(take_all(&camera), 5);
    char *from = join(inbox, "half.tmp"), *to = join(inbox, "whole.jpeg");
    assert_int_equal(rename(from, to), 0);
    assert_int_equal(take_all(&camera), 1); /* each once */
    assert_int_equal(take_all(&camera), 0);
    char *empty = join(inbox, "empty.jpg");
    write_bytes(empty, "", 0);
    tw_frame frame;
    tw_error err = {0};
    assert_int_equal(camera.ops->next(camera.ctx, &frame, &err), TW_EDAMAGED);
    assert_has(err.text, "the file is empty");
    remove_folder(inbox);
    tw_status st = TW_EAGAIN;
    for (int i = 0; i < 20 && (st == TW_EAGAIN || st == TW_EDAMAGED); i++)
        st = camera.ops->next(camera.ctx, &frame, &err);
    assert_int_equal(st, TW_EIO);
    assert_has(err.text, "the folder is gone");
    camera.ops->close(camera.ctx);
    assert_int_not_equal(camera.ops->open(camera.ctx, &stream, &err), TW_OK);
    camera.ops->destroy(camera.ctx);
    free(empty);
    free(to);
    free(from);
    remove_folder(folder);
}

static void test_clock(void **state)
{
    (void)state;
    const tw_clock clock = tw_linux_clock();
    const int64_t before = clock.ops->now_us(clock.ctx);
    clock.ops->sleep_until(clock.ctx, before + 20000);
    assert_true(clock.ops->now_us(clock.ctx) >= before + 20000);
    clock.ops->sleep_until(clock.ctx, before); /* long past: returns at once */
    assert_true(clock.ops->wall_us(clock.ctx) > INT64_C(1700000000000000));
    assert_true(clock.ops->trusted(clock.ctx, clock.ops->wall_us(clock.ctx)));
    /* where clocks without a battery begin */
    assert_false(clock.ops->trusted(clock.ctx, 0));
    assert_false(clock.ops->trusted(clock.ctx, INT64_C(946684800000000)));
    (void)setenv("TZ", "<+01>-1", 1);
    assert_int_equal(clock.ops->offset_s(clock.ctx, clock.ops->wall_us(clock.ctx)), 3600);
}

static tw_status make(const char *source, tw_camera *camera, tw_error *err)
{
    const tw_camera_request request = {
        .name = "kerb", .source = source, .fps = 10, .clock = tw_linux_clock()};
    return tw_camera_make(TEST_MAKERS, &request, camera, err);
}

static void test_sources_that_cannot_be(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "empty.mp4"), source[512];
    tw_camera camera;
    tw_stream stream;
    tw_error err = {0};
    assert_int_equal(make("tape:1", &camera, &err), TW_ENOTSUP);
    assert_has(err.text, "camera kerb: source = tape:1: write file:PATH or sim:SCENE");
    assert_int_equal(make("file:/none/at/all.mp4", &camera, &err), TW_ENOENT);
    assert_has(err.text, "/none/at/all.mp4: No such file");
    write_text(path, "");
    (void)snprintf(source, sizeof source, "file:%s", path);
    assert_int_equal(make(source, &camera, &err), TW_EDAMAGED);
    assert_has(err.text, "empty.mp4: the file is empty");
    write_text(path, "this is no video at all, whatever its name says");
    assert_int_equal(make(source, &camera, &err), TW_OK);
    assert_int_not_equal(camera.ops->open(camera.ctx, &stream, &err), TW_OK);
    assert_has(err.text, "empty.mp4");
    camera.ops->destroy(camera.ctx);
    /* A text is no picture, though the codec library draws them; nor is a list of others.
     */
    static const char *const texts[][2] = {
        {"notes.txt", "The gate's code is 4711.\nThe gate's code is 4711.\n"},
        {"list.m3u8", "#EXTM3U\n#EXTINF:1,\n/etc/passwd\n#EXT-X-ENDLIST\n"},
        {"list.ffconcat", "ffconcat version 1.0\nfile 'notes.txt'\n"}};
    for (size_t i = 0; i < sizeof texts / sizeof *texts; i++) {
        char *text = join(folder, texts[i][0]);
        write_text(text, texts[i][1]);
        (void)snprintf(source, sizeof source, "file:%s", text);
        assert_int_equal(make(source, &camera, &err), TW_OK);
        assert_int_equal(camera.ops->open(camera.ctx, &stream, &err), TW_EDAMAGED);
        assert_has(err.text, "this is no footage");
        camera.ops->destroy(camera.ctx);
        (void)unlink(text);
        free(text);
    }
    (void)snprintf(source, sizeof source, "file:%s", folder);
    assert_int_equal(make(source, &camera, &err), TW_OK);
    assert_int_equal(camera.ops->open(camera.ctx, &stream, &err), TW_ENOENT);
    assert_has(err.text, "no JPEG pictures in this folder");
    camera.ops->destroy(camera.ctx);
    free(path);
    remove_folder(folder);
}

static void write_numbered(const char *folder, const char *name, uint8_t level)
{
    size_t bytes = 0;
    uint8_t *jpeg = plain_jpeg(64, 64, level, &bytes);
    char *path = join(folder, name);
    write_bytes(path, jpeg, bytes);
    free(path);
    free(jpeg);
}

static void test_folder_of_pictures(void **state)
{
    (void)state;
    char *folder = make_folder(), source[512];
    write_numbered(folder, "p10.jpg", 100); /* after p9: numbers count as numbers */
    write_numbered(folder, "p9.JPG", 90);
    write_numbered(folder, "p8.jpeg", 80);
    char *other = join(folder, "readme.txt"), *empty = join(folder, "p11.jpg");
    write_text(other, "not a picture");
    write_text(empty, "");
    (void)snprintf(source, sizeof source, "file:%s", folder);
    tw_stream stream;
    tw_frame frame;
    tw_error err = {0};
    tw_camera camera = open_camera(source, 5, &stream);
    assert_int_equal(stream.codec, TW_CODEC_MJPEG);
    assert_int_equal(stream.length_us, 800000);
    size_t last = 0;
    for (int i = 0; i < 3; i++) {
        assert_int_equal(camera.ops->next(camera.ctx, &frame, &err), TW_OK);
        assert_int_equal(frame.packet.t_us, i * 200000);
        assert_true(frame.packet.key);
        last = frame.packet.size;
    }
    assert_true(last > 100);
    assert_int_equal(camera.ops->next(camera.ctx, &frame, &err), TW_EDAMAGED);
    assert_has(err.text, "p11.jpg: the file is empty");
    assert_int_equal(camera.ops->next(camera.ctx, &frame, &err), TW_EEND);
    camera.ops->destroy(camera.ctx);
    free(other);
    free(empty);
    remove_folder(folder);
}

static void test_a_loop_goes_on_in_time(void **state)
{
    (void)state;
    char *folder = make_folder(), source[512];
    write_numbered(folder, "1.jpg", 10);
    write_numbered(folder, "2.jpg", 20);
    (void)snprintf(source, sizeof source, "file:%s", folder);
    const tw_camera_request request = {.name = "loop",
                                       .source = source,
                                       .fps = 10,
                                       .loop = true,
                                       .clock = tw_linux_clock()};
    tw_camera camera;
    tw_stream stream;
    tw_frame frame;
    assert_int_equal(tw_camera_make(TEST_MAKERS, &request, &camera, NULL), TW_OK);
    assert_int_equal(camera.ops->open(camera.ctx, &stream, NULL), TW_OK);
    for (int i = 0; i < 7; i++) {
        assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
        assert_int_equal(frame.packet.t_us, i * 100000);
    }
    camera.ops->destroy(camera.ctx);
    remove_folder(folder);
}

static void write_below(const char *root, const char *folder, const char *name,
                        const char *text)
{
    char path[512];
    (void)snprintf(path, sizeof path, "%s/%s", root, folder);
    outcome made = run_program(NULL, "/bin/mkdir", "-p", path, NULL);
    assert_int_equal(made.code, 0);
    free_outcome(&made);
    (void)snprintf(path, sizeof path, "%s/%s/%s", root, folder, name);
    write_text(path, text);
}

/* A folder as sysfs is: of hardware clocks that show these; NULL: none. */
static char *make_sys(const char *first, const char *second, bool board)
{
    char *sys = make_folder();
    const char *shows[] = {first, second};
    for (int i = 0; i < 2; i++) {
        char name[64];
        (void)snprintf(name, sizeof name, "class/rtc/rtc%d", i);
        if (shows[i])
            write_below(sys, name, "since_epoch", shows[i]);
    }
    if (board)
        write_below(sys, "firmware/devicetree/base", "model", "a board");
    return sys;
}

static void test_which_clocks_can_be_right(void **state)
{
    (void)state;
    static const struct {
        const char *first, *second;
        bool board, alone, synchronised; /* is it believed? */
    } cases[] = {
        {NULL, NULL, false, true, true},  /* nothing to ask */
        {NULL, NULL, true, false, true},  /* a board with none: a date from its card */
        {"37", NULL, false, false, true}, /* its battery is flat */
        {"37", NULL, true, false, true},  /* */
        {"1804969800", NULL, true, true, true},
        {"37", "1804969800", true, true, true}, /* the second has a battery */
        {"", NULL, false, false, true},         /* it cannot be read */
    };
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        char *sys = make_sys(cases[i].first, cases[i].second, cases[i].board);
        const int64_t now_us = INT64_C(1804969800000000);
        print_message("clock %zu\n", i);
        assert_int_equal(twi_linux_clock_can_be_right(now_us, false, sys),
                         cases[i].alone);
        assert_int_equal(twi_linux_clock_can_be_right(now_us, true, sys),
                         cases[i].synchronised);
        assert_false(twi_linux_clock_can_be_right(37000000, true, sys)); /* 1970 */
        remove_folder(sys);
    }
}

/* In a process of its own: it is for good. */
static void test_memory_is_kept_private(void **state)
{
    (void)state;
    const pid_t child = fork();
    assert_true(child >= 0);
    if (child == 0) {
        struct rlimit core = {1, 1};
        char line[256];
        long locked = -1;
        tw_error err = {0};
        const tw_status st = tw_linux_keep_private(&err);
        uint8_t *later = calloc(1, 4U << 20);
        memset(later, 1, 4U << 20);
        FILE *file = fopen("/proc/self/status", "r");
        while (file && fgets(line, sizeof line, file))
            if (strncmp(line, "VmLck:", 6) == 0)
                locked = atol(line + 6);
        const bool off = getrlimit(RLIMIT_CORE, &core) == 0 && core.rlim_cur == 0 &&
                         prctl(PR_GET_DUMPABLE, 0, 0, 0, 0) == 0;
        /* Where it may be: what is allocated afterwards is locked as well. */
        FILE *swaps = fopen("/proc/swaps", "r");
        const bool swap =
            swaps && fgets(line, sizeof line, swaps) && fgets(line, sizeof line, swaps);
        const bool kept = st == TW_OK ? !swap || locked >= 4 << 10
                                      : st == TW_EACCES && err.text[0] != '\0';
        free(later);
        _exit(off && kept ? 0 : 1);
    }
    int status = 1;
    assert_int_equal(waitpid(child, &status, 0), child);
    assert_int_equal(status, 0);
}

static void test_sensors(void **state)
{
    (void)state;
    char *folder = make_folder(), *file = join(folder, "temp"),
         *pipe = join(folder, "pipe");
    const tw_sensors s = tw_linux_sensors();
    char text[16] = "", run[64];
    tw_error err = {0};
    tw_sensor_request r = {.size = sizeof r, .name = "board", .file = file, .run = ""};
    write_text(file, "48312\n");
    assert_int_equal(s.ops->read(s.ctx, &r, text, sizeof text, &err), TW_OK);
    assert_string_equal(text, "48312\n");
    write_text(file, "123456789012345678901234567890");
    assert_int_equal(s.ops->read(s.ctx, &r, text, sizeof text, &err), TW_OK);
    assert_string_equal(text, "123456789012345"); /* cut */
    r.file = "/nowhere/temp";
    assert_int_equal(s.ops->read(s.ctx, &r, text, sizeof text, &err), TW_ENOENT);
    assert_has(err.text, "/nowhere/temp: No such file");
    assert_int_equal(mkfifo(pipe, 0600), 0); /* it would wait for good */
    r.file = pipe;
    assert_int_equal(s.ops->read(s.ctx, &r, text, sizeof text, &err), TW_OK);
    assert_string_equal(text, "");
    r.file = "";
    r.run = run;
    (void)snprintf(run, sizeof run, "sh -c \"echo a; echo 11.93 V\"");
    assert_int_equal(s.ops->read(s.ctx, &r, text, sizeof text, &err), TW_OK);
    assert_string_equal(text, "11.93 V");
    (void)snprintf(run, sizeof run, "sh -c \"echo no bus; exit 4\"");
    assert_int_equal(s.ops->read(s.ctx, &r, text, sizeof text, &err), TW_EIO);
    assert_has(err.text, "sh: exit code 4: no bus");
    (void)snprintf(run, sizeof run, "sleep 60");
    assert_int_equal(s.ops->read(s.ctx, &r, text, sizeof text, &err), TW_ETIMEOUT);
    assert_has(err.text, "sleep: ended after 5 s");
    (void)snprintf(run, sizeof run, "sh \"open");
    assert_int_equal(s.ops->read(s.ctx, &r, text, sizeof text, &err), TW_ESYNTAX);
    free(pipe);
    free(file);
    remove_folder(folder);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_sensors),
        cmocka_unit_test(test_memory_is_kept_private),
        cmocka_unit_test(test_folder_card_keeps_the_contract),
        cmocka_unit_test(test_a_folder_that_is_no_store),
        cmocka_unit_test(test_simulated_card_keeps_the_contract),
        cmocka_unit_test(test_folders_that_cannot_be),
        cmocka_unit_test(test_a_folder_that_pictures_are_put_into),
        cmocka_unit_test(test_clock),
        cmocka_unit_test(test_which_clocks_can_be_right),
        cmocka_unit_test(test_sources_that_cannot_be),
        cmocka_unit_test(test_folder_of_pictures),
        cmocka_unit_test(test_a_loop_goes_on_in_time),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
