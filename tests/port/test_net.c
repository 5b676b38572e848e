/* Cameras on the network, against real servers on loopback that stop, stall, send garbage
 * and come back. */
#include <fcntl.h>
#include <signal.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "../support/support.h"

#define PYTHON "/usr/bin/python3"

typedef struct server {
    pid_t child;
    char url[128];
    char *folder;
} server;

/* Start a script that prints its URL first. */
static server start(const char *script, const char *first, const char *second)
{
    server s = {.folder = make_folder()};
    char *path = join(SOURCE_DIR "/tests/support", script),
         *picture = join(s.folder, "p.jpg");
    int pipes[2];
    size_t bytes = 0;
    uint8_t *jpeg = plain_jpeg(320, 180, 90, &bytes);
    write_bytes(picture, jpeg, bytes);
    free(jpeg);
    assert_int_equal(pipe(pipes), 0);
    s.child = fork();
    if (s.child == 0) {
        (void)dup2(pipes[1], 1);
        (void)dup2(open("/dev/null", O_WRONLY), 2);
        (void)close(pipes[0]);
        (void)execl(PYTHON, PYTHON, path, first ? first : picture, second, (char *)NULL);
        _exit(9);
    }
    (void)close(pipes[1]);
    size_t n = 0;
    while (n + 1 < sizeof s.url && read(pipes[0], s.url + n, 1) == 1 && s.url[n] != '\n')
        n++;
    s.url[n] = '\0';
    (void)close(pipes[0]);
    assert_true(strstr(s.url, "://127.0.0.1:") != NULL);
    free(picture);
    free(path);
    return s;
}

static void stop(server *s)
{
    (void)kill(s->child, SIGKILL);
    (void)waitpid(s->child, NULL, 0);
    remove_folder(s->folder);
}

static tw_camera make(const char *url, bool udp)
{
    const tw_camera_request request = {
        .name = "pond", .source = url, .fps = 10, .udp = udp, .clock = tw_linux_clock()};
    tw_camera camera;
    tw_error err = {0};
    if (tw_camera_make(TEST_MAKERS, &request, &camera, &err) != TW_OK)
        fail_msg("%s", err.text);
    assert_int_equal(camera.ops->live, TW_LIVE);
    return camera;
}

static void open_or_fail(const tw_camera *camera, tw_stream *stream)
{
    tw_error err = {0};
    if (camera->ops->open(camera->ctx, stream, &err) != TW_OK)
        fail_msg("%s", err.text);
}

/* The next frame, or what there is instead; silence for so long is none. */
static tw_status take(const tw_camera *camera, tw_frame *frame, tw_error *err)
{
    tw_status st = TW_EAGAIN;
    for (int i = 0; i < 40 && st == TW_EAGAIN; i++)
        st = camera->ops->next(camera->ctx, frame, err);
    return st;
}

static void check_frames(const tw_camera *camera, int count, bool keys)
{
    tw_frame frame;
    int64_t last_us = INT64_MIN, last_wall = 0;
    int seen_keys = 0;
    for (int i = 0; i < count; i++) {
        tw_error err = {0};
        if (take(camera, &frame, &err) != TW_OK)
            fail_msg("frame %d: %s", i, err.text);
        assert_true(frame.packet.dts_us > last_us);
        assert_true(frame.packet.size > 0);
        if (last_wall > 0) /* near each other, and about now */
            assert_true(frame.packet.wall_us - last_wall < 2000000);
        last_us = frame.packet.dts_us;
        last_wall = frame.packet.wall_us;
        seen_keys += frame.packet.key;
    }
    const tw_clock clock = tw_linux_clock();
    const int64_t late = clock.ops->wall_us(clock.ctx) - last_wall;
    assert_true(late > -1000000 && late < 3000000);
    assert_true(keys ? seen_keys == count : seen_keys >= 1 && seen_keys < count);
}

static void test_pictures_over_http(void **state)
{
    (void)state;
    server s = start("http_camera.py", NULL, "none");
    tw_camera camera = make(s.url, false);
    tw_stream stream;
    open_or_fail(&camera, &stream);
    assert_int_equal(stream.codec, TW_CODEC_MJPEG);
    check_frames(&camera, 15, true);
    camera.ops->close(camera.ctx);
    open_or_fail(&camera, &stream); /* and again */
    check_frames(&camera, 3, true);
    camera.ops->destroy(camera.ctx);
    stop(&s);
}

/* Twenty good frames, then a fault, then, opened anew, all is well. */
static void check_fault(const char *fault)
{
    server s = start("http_camera.py", NULL, fault);
    tw_camera camera = make(s.url, false);
    tw_stream stream;
    tw_frame frame;
    tw_error err = {0};
    tw_status st = TW_OK;
    open_or_fail(&camera, &stream);
    int good = 0;
    for (int i = 0; i < 60 && (st == TW_OK || st == TW_EDAMAGED); i++) {
        st = take(&camera, &frame, &err);
        good += st == TW_OK;
    }
    if (st == TW_OK || st == TW_EDAMAGED || st == TW_EAGAIN)
        fail_msg("%s was never told: %s", fault, tw_status_name(st));
    assert_in_range(good, 15, 21);
    assert_has(err.text, "http://127.0.0.1:");
    camera.ops->close(camera.ctx);
    open_or_fail(&camera, &stream);
    check_frames(&camera, 5, true);
    camera.ops->destroy(camera.ctx);
    stop(&s);
}

static void test_http_faults(void **state)
{
    (void)state;
    check_fault("close");
    check_fault("half");
    check_fault("garbage");
    check_fault("stall");
}

static void test_user_and_password(void **state)
{
    (void)state;
    server s = start("http_camera.py", NULL, "auth");
    const char *host = strstr(s.url, "127.");
    char good[200], bad[200];
    tw_stream stream;
    tw_error err = {0};
    (void)snprintf(good, sizeof good, "http://toad:wa%%3Art%%40y@%s", host);
    (void)snprintf(bad, sizeof bad, "http://toad:frogspawn@%s", host);
    tw_camera camera = make(good, false);
    open_or_fail(&camera, &stream);
    check_frames(&camera, 3, true);
    camera.ops->destroy(camera.ctx);
    camera = make(bad, false);
    assert_int_not_equal(camera.ops->open(camera.ctx, &stream, &err), TW_OK);
    assert_has(err.text, "http://***@127.0.0.1");
    assert_null(strstr(err.text, "frogspawn")); /* never in a message */
    camera.ops->destroy(camera.ctx);
    stop(&s);
}

/* ---- one picture, again and again -------------------------------------------------- */

static tw_camera make_fetching(const char *host, const char *rest)
{
    char url[256];
    (void)snprintf(url, sizeof url, "%s%s", host, rest);
    const tw_camera_request request = {.name = "pond",
                                       .source = url,
                                       .fetch_every_us = 100000,
                                       .clock = tw_linux_clock()};
    tw_camera camera;
    assert_int_equal(tw_camera_make(TEST_MAKERS, &request, &camera, NULL), TW_OK);
    assert_int_equal(camera.ops->live, TW_LIVE_RARE);
    return camera;
}

static void test_a_picture_fetched_every_so_often(void **state)
{
    (void)state;
    server s = start("http_camera.py", NULL, "none");
    tw_camera camera = make_fetching(s.url, "one");
    tw_stream stream;
    tw_frame frame;
    const tw_clock clock = tw_linux_clock();
    const int64_t begun_us = clock.ops->now_us(clock.ctx);
    int64_t last_us = 0;
    open_or_fail(&camera, &stream);
    assert_int_equal(stream.codec, TW_CODEC_MJPEG);
    assert_int_equal(stream.fps_num, 1000);
    assert_int_equal(stream.fps_den, 100);
    for (int i = 0; i < 8; i++) {
        tw_error err = {0};
        if (take(&camera, &frame, &err) != TW_OK)
            fail_msg("%s", err.text);
        /* None is asked for earlier, however late the answers are. */
        assert_true(frame.packet.t_us >= begun_us + i * INT64_C(100000));
        assert_true(frame.packet.t_us > last_us);
        last_us = frame.packet.t_us;
        assert_int_equal(frame.packet.data[0], 0xFF);
    }
    camera.ops->destroy(camera.ctx);
    stop(&s);
}

static void check_fetching(const char *fault, tw_status expected, const char *words)
{
    server s = start("http_camera.py", NULL, fault);
    tw_camera camera = make_fetching(s.url, "one");
    tw_stream stream;
    tw_frame frame;
    tw_error err = {0};
    open_or_fail(&camera, &stream);
    assert_int_equal(take(&camera, &frame, &err), TW_OK);
    assert_int_equal(take(&camera, &frame, &err), TW_OK);
    assert_int_equal(take(&camera, &frame, &err), expected);
    assert_has(err.text, words);
    camera.ops->close(camera.ctx);
    open_or_fail(&camera, &stream);
    assert_int_equal(take(&camera, &frame, &err), TW_OK);
    camera.ops->destroy(camera.ctx);
    stop(&s);
}

static void test_fetching_fails_and_goes_on(void **state)
{
    (void)state;
    check_fetching("busy", TW_EIO, "/one: answer 503");
    check_fetching("garbage", TW_EDAMAGED, "/one: 28 bytes that are no JPEG picture");
    check_fetching("half", TW_EIO, "/one: transfer closed with");
    check_fetching("stall", TW_ETIMEOUT, "/one: no answer in time");
}

static void test_fetching_is_refused(void **state)
{
    (void)state;
    server s = start("http_camera.py", NULL, "auth");
    tw_stream stream;
    tw_error err = {0};
    char host[200];
    (void)snprintf(host, sizeof host, "http://toad:frogspawn@%s", strstr(s.url, "127."));
    tw_camera camera = make_fetching(host, "one");
    assert_int_equal(camera.ops->open(camera.ctx, &stream, &err), TW_EACCES);
    assert_has(err.text, "http://***@127.0.0.1");
    assert_has(err.text, "user or password are refused (answer 401)");
    camera.ops->destroy(camera.ctx);
    (void)snprintf(host, sizeof host, "http://toad:wa%%3Art%%40y@%s",
                   strstr(s.url, "127."));
    camera = make_fetching(host, "one");
    open_or_fail(&camera, &stream);
    camera.ops->destroy(camera.ctx);
    stop(&s);
    camera = make_fetching("http://127.0.0.1:9/", "one");
    assert_int_equal(camera.ops->open(camera.ctx, &stream, &err), TW_EIO);
    assert_has(err.text, "http://127.0.0.1:9/one: nobody answers there");
    camera.ops->destroy(camera.ctx);
}

static void test_nobody_is_there(void **state)
{
    (void)state;
    tw_stream stream;
    tw_error err = {0};
    tw_camera camera = make("rtsp://127.0.0.1:9/none", false);
    assert_int_not_equal(camera.ops->open(camera.ctx, &stream, &err), TW_OK);
    assert_has(err.text, "rtsp://127.0.0.1:9/none: Connection refused");
    camera.ops->close(camera.ctx);
    camera.ops->destroy(camera.ctx);
}

static void check_rtsp(const char *kind, bool udp, tw_codec codec)
{
    server s = start("rtsp_camera.py", kind, NULL);
    tw_camera camera = make(s.url, udp);
    tw_stream stream;
    open_or_fail(&camera, &stream);
    assert_int_equal(stream.codec, codec);
    assert_int_equal(stream.width, 320);
    check_frames(&camera, 40, codec == TW_CODEC_MJPEG);
    camera.ops->destroy(camera.ctx);
    stop(&s);
}

static void test_rtsp(void **state)
{
    (void)state;
    check_rtsp("h264", false, TW_CODEC_H264);
    check_rtsp("h264", true, TW_CODEC_H264);
    check_rtsp("mjpeg", false, TW_CODEC_MJPEG);
}

/* Sound comes between the pictures, with their clock: copied, or made into AAC. */
static void check_sound(const char *kind, tw_sound_codec codec, uint32_t rate)
{
    server s = start("rtsp_camera.py", "h264", kind);
    const tw_camera_request request = {.size = sizeof request,
                                       .name = "net",
                                       .source = s.url,
                                       .clock = tw_linux_clock(),
                                       .sound = "stream"};
    tw_camera camera;
    tw_stream stream;
    tw_frame frame;
    tw_error err = {0};
    int pictures = 0, sounds = 0;
    int64_t seen_us = 0, heard_us = 0, last_us = 0;
    assert_int_equal(tw_linux_camera_make(&request, &camera, &err), TW_OK);
    open_or_fail(&camera, &stream);
    assert_int_equal(stream.sound.codec, codec);
    assert_int_equal(stream.sound.rate, rate);
    assert_in_range(stream.sound.channels, 1, 2);
    assert_true(stream.sound.extra_size >= 2);
    for (int i = 0; i < 2000 && pictures < 60; i++) {
        const tw_status st = camera.ops->next(camera.ctx, &frame, &err);
        if (st == TW_EAGAIN)
            continue;
        assert_int_equal(st, TW_OK);
        pictures += !frame.sound;
        sounds += frame.sound;
        if (frame.sound)
            assert_true(frame.packet.t_us > last_us && frame.packet.size > 0);
        *(frame.sound ? &heard_us : &seen_us) = frame.packet.t_us;
        last_us = frame.sound ? frame.packet.t_us : last_us;
    }
    print_message("%s: %d pictures, %d packets of sound, %lld ms apart\n", kind, pictures,
                  sounds, (long long)(heard_us - seen_us) / 1000);
    assert_int_equal(pictures, 60);
    assert_true(sounds > (int)(rate * 3 / 1024)); /* of four seconds */
    assert_true(heard_us - seen_us > -1000000 && heard_us - seen_us < 1000000);
    camera.ops->destroy(camera.ctx);
    stop(&s);
}

static void test_rtsp_with_sound(void **state)
{
    (void)state;
    check_sound("opus", TW_SOUND_OPUS, 48000);
    check_sound("mulaw", TW_SOUND_AAC, 16000);
}

/* Frozen, then killed. */
static void test_rtsp_faults(void **state)
{
    (void)state;
    server s = start("rtsp_camera.py", "h264", NULL);
    tw_camera camera = make(s.url, false);
    tw_stream stream;
    tw_frame frame;
    tw_error err = {0};
    open_or_fail(&camera, &stream);
    check_frames(&camera, 20, false);
    assert_int_equal(kill(s.child, SIGSTOP), 0);
    tw_status st = TW_OK;
    for (int i = 0; i < 100 && st == TW_OK; i++)
        st = take(&camera, &frame, &err);
    assert_true(st == TW_ETIMEOUT || st == TW_EIO);
    assert_int_equal(kill(s.child, SIGCONT), 0);
    camera.ops->close(camera.ctx);
    open_or_fail(&camera, &stream); /* it is back */
    check_frames(&camera, 20, false);
    assert_int_equal(kill(s.child, SIGKILL), 0);
    for (st = TW_OK; st == TW_OK;)
        st = take(&camera, &frame, &err);
    assert_true(st == TW_EEND || st == TW_EIO);
    camera.ops->destroy(camera.ctx);
    stop(&s);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_pictures_over_http),
        cmocka_unit_test(test_http_faults),
        cmocka_unit_test(test_user_and_password),
        cmocka_unit_test(test_nobody_is_there),
        cmocka_unit_test(test_rtsp),
        cmocka_unit_test(test_rtsp_with_sound),
        cmocka_unit_test(test_rtsp_faults),
        cmocka_unit_test(test_a_picture_fetched_every_so_often),
        cmocka_unit_test(test_fetching_fails_and_goes_on),
        cmocka_unit_test(test_fetching_is_refused),
    };
    (void)signal(SIGPIPE, SIG_IGN);
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
