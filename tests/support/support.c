/* What the tests share. */
#include "support.h"

#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <spawn.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <sys/wait.h>
#include <unistd.h>

#include "../../src/media/jpeg.h"
#include "../../src/core/naming.h"
#include "tawny/events.h"
#include "tawny/settings.h"

extern char **environ;

const tw_camera_make_fn TEST_MAKERS[] = {tw_linux_camera_make, tw_sim_camera_make, NULL};

/* ---- files ------------------------------------------------------------------------- */

/* Names of captures hold local time: that of the machine must not decide over a test. */
__attribute__((constructor)) static void use_utc(void)
{
    (void)setenv("TZ", "UTC", 1);
}

char *make_folder(void)
{
    char *path = strdup("/tmp/tawny-test-XXXXXX");
    assert_non_null(path);
    assert_non_null(mkdtemp(path));
    return path;
}

char *join(const char *folder, const char *name)
{
    const size_t n = strlen(folder) + strlen(name) + 2;
    char *path = malloc(n);
    assert_non_null(path);
    (void)snprintf(path, n, "%s/%s", folder, name);
    return path;
}

void *make_block(size_t bytes)
{
    volatile size_t unseen = bytes;
    void *block = calloc(1, unseen);
    assert_non_null(block);
    return block;
}

static void remove_below(const char *path)
{
    DIR *dir = opendir(path);
    if (!dir)
        return;
    for (struct dirent *e = readdir(dir); e; e = readdir(dir)) {
        if (strcmp(e->d_name, ".") == 0 || strcmp(e->d_name, "..") == 0)
            continue;
        char *below = join(path, e->d_name);
        if (unlink(below) != 0) {
            remove_below(below);
            (void)rmdir(below);
        }
        free(below);
    }
    (void)closedir(dir);
}

void remove_folder(char *path)
{
    (void)chmod(path, 0700);
    remove_below(path);
    (void)rmdir(path);
    free(path);
}

void write_bytes(const char *path, const void *data, size_t bytes)
{
    FILE *file = fopen(path, "wb");
    assert_non_null(file);
    assert_int_equal(fwrite(data, 1, bytes, file), bytes);
    assert_int_equal(fclose(file), 0);
}

void write_text(const char *path, const char *text)
{
    write_bytes(path, text, strlen(text));
}

static char *read_all(FILE *file, size_t *bytes)
{
    size_t used = 0, capacity = 4096;
    char *text = malloc(capacity + 1);
    assert_non_null(text);
    for (size_t n = 1; n > 0; used += n) {
        if (used == capacity) {
            capacity *= 2;
            text = realloc(text, capacity + 1);
            assert_non_null(text);
        }
        n = fread(text + used, 1, capacity - used, file);
    }
    text[used] = '\0';
    if (bytes)
        *bytes = used;
    return text;
}

char *read_file(const char *path, size_t *bytes)
{
    FILE *file = fopen(path, "rb");
    if (!file)
        fail_msg("%s: %s", path, strerror(errno));
    char *text = read_all(file, bytes);
    (void)fclose(file);
    return text;
}

static int by_name(const void *a, const void *b)
{
    return strcmp(*(char *const *)a, *(char *const *)b);
}

static void list_below(const char *top, const char *below, char ***list, size_t *count)
{
    char *here = join(top, below);
    DIR *dir = opendir(here);
    for (struct dirent *e = dir ? readdir(dir) : NULL; e; e = readdir(dir)) {
        if (strcmp(e->d_name, ".") == 0 || strcmp(e->d_name, "..") == 0 ||
            strcmp(e->d_name, TWI_STORE_MARK) == 0 ||
            strcmp(e->d_name, TWI_JOURNAL_FILE) == 0 ||
            strncmp(e->d_name, TWI_CATALOGUE_FILE, strlen(TWI_CATALOGUE_FILE)) == 0)
            continue;
        char *name = *below ? join(below, e->d_name) : strdup(e->d_name);
        char *path = join(top, name);
        struct stat s;
        assert_int_equal(lstat(path, &s), 0);
        if (S_ISDIR(s.st_mode)) {
            list_below(top, name, list, count);
            free(name);
        } else {
            *list = realloc(*list, (*count + 2) * sizeof **list);
            assert_non_null(*list);
            (*list)[(*count)++] = name;
        }
        free(path);
    }
    if (dir)
        (void)closedir(dir);
    free(here);
}

char **list_files(const char *folder)
{
    size_t count = 0;
    char **list = calloc(1, sizeof *list);
    assert_non_null(list);
    list_below(folder, "", &list, &count);
    qsort(list, count, sizeof *list, by_name);
    list[count] = NULL;
    return list;
}

void free_list(char **list)
{
    for (size_t i = 0; list[i]; i++)
        free(list[i]);
    free(list);
}

size_t list_length(char **list)
{
    size_t n = 0;
    while (list[n])
        n++;
    return n;
}

size_t count_ending(char **list, const char *ending)
{
    size_t count = 0;
    for (size_t i = 0; list[i]; i++) {
        const size_t n = strlen(list[i]), m = strlen(ending);
        count += n >= m && strcmp(list[i] + n - m, ending) == 0;
    }
    return count;
}

/* ---- programs ---------------------------------------------------------------------- */

outcome run_arguments(const char *folder, char *const argv[])
{
    char out[] = "/tmp/tawny-out-XXXXXX", err[] = "/tmp/tawny-err-XXXXXX";
    const int out_fd = mkstemp(out), err_fd = mkstemp(err);
    assert_true(out_fd >= 0 && err_fd >= 0);
    posix_spawn_file_actions_t actions;
    (void)posix_spawn_file_actions_init(&actions);
    (void)posix_spawn_file_actions_addopen(&actions, 0, "/dev/null", O_RDONLY, 0);
    (void)posix_spawn_file_actions_adddup2(&actions, out_fd, 1);
    (void)posix_spawn_file_actions_adddup2(&actions, err_fd, 2);
    if (folder)
        (void)posix_spawn_file_actions_addchdir_np(&actions, folder);
    pid_t pid = 0;
    int status = 0;
    if (posix_spawnp(&pid, argv[0], &actions, NULL, argv, environ) != 0)
        fail_msg("cannot run %s", argv[0]);
    (void)posix_spawn_file_actions_destroy(&actions);
    assert_int_equal(waitpid(pid, &status, 0), pid);
    (void)close(out_fd);
    (void)close(err_fd);
    outcome o = {WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status),
                 read_file(out, NULL), read_file(err, NULL)};
    (void)unlink(out);
    (void)unlink(err);
    return o;
}

outcome run_program(const char *folder, const char *program, ...)
{
    enum { MOST = 64 };
    char *argv[MOST + 1] = {(char *)program};
    va_list args;
    va_start(args, program);
    for (int i = 1; i < MOST; i++) {
        argv[i] = va_arg(args, char *);
        if (!argv[i])
            break;
    }
    va_end(args);
    return run_arguments(folder, argv);
}

void free_outcome(outcome *o)
{
    free(o->out);
    free(o->err);
    o->out = o->err = NULL;
}

void check_command(const char *folder, const char *program, int code, const char *says,
                   const char *input, const char *words)
{
    char line[1024], said[8192];
    (void)snprintf(line, sizeof line, "printf '%s' | %s %s", input, program, words);
    outcome o = run_program(folder, "/bin/sh", "-c", line, NULL);
    (void)snprintf(said, sizeof said, "%s%s", o.out, o.err);
    if (o.code != code)
        fail_msg("%s: exit %d: %s", words, o.code, said);
    assert_has(said, says);
    free_outcome(&o);
}

char *run_shell(const char *folder, const char *line)
{
    outcome o = run_program(folder, "/bin/sh", "-c", line, NULL);
    if (o.code != 0)
        fail_msg("%s: exit %d: %s%s", line, o.code, o.out, o.err);
    char *said = strdup(o.out);
    assert_non_null(said);
    free_outcome(&o);
    return said;
}

size_t count_lines(const char *text, const char *with)
{
    size_t count = 0;
    for (const char *line = text; *line;) {
        const char *end = strchr(line, '\n');
        const size_t n = end ? (size_t)(end - line) : strlen(line);
        const char *found = strstr(line, with);
        count += found != NULL && found < line + n;
        line += n + (end != NULL);
    }
    return count;
}

/* ---- footage ----------------------------------------------------------------------- */

tw_camera open_camera(const char *source, uint32_t fps, tw_stream *stream)
{
    const tw_camera_request request = {
        .name = "test", .source = source, .fps = fps, .clock = tw_linux_clock()};
    tw_camera camera = {0};
    tw_error err = {0};
    if (tw_camera_make(TEST_MAKERS, &request, &camera, &err) != TW_OK ||
        camera.ops->open(camera.ctx, stream, &err) != TW_OK)
        fail_msg("%s: %s", source, err.text);
    return camera;
}

size_t write_pictures(const char *folder, const char *source, uint32_t fps, size_t most)
{
    tw_stream stream;
    tw_camera camera = open_camera(source, fps, &stream);
    size_t count = 0;
    for (tw_frame frame; count < most; count++) {
        char name[32];
        if (camera.ops->next(camera.ctx, &frame, NULL) != TW_OK)
            break;
        (void)snprintf(name, sizeof name, "%05zu.jpg", count);
        char *path = join(folder, name);
        write_bytes(path, frame.packet.data, frame.packet.size);
        free(path);
    }
    camera.ops->destroy(camera.ctx);
    return count;
}

uint8_t *plain_jpeg(uint16_t width, uint16_t height, uint8_t level, size_t *bytes)
{
    uint8_t *px = malloc((size_t)width * height), *out = NULL;
    assert_non_null(px);
    memset(px, level, (size_t)width * height);
    const tw_picture picture = {{px}, {width}, width, height, TW_PIXELS_GREY};
    assert_int_equal(twi_jpeg_encode(&picture, 90, &out, bytes, NULL), TW_OK);
    free(px);
    return out;
}

/* ---- problems ---------------------------------------------------------------------- */

void collect_problem(void *ctx, const char *line)
{
    problems *p = ctx;
    const size_t used = strlen(p->text);
    (void)snprintf(p->text + used, sizeof p->text - used, "%s\n", line);
    p->count++;
}

tw_settings *settings_of(const char *text)
{
    problems p = {0};
    tw_settings *s = tw_settings_new();
    assert_non_null(s);
    (void)tw_settings_read_text(s, "test", text, strlen(text), collect_problem, &p);
    (void)tw_settings_check(s, collect_problem, &p);
    if (p.count > 0)
        fail_msg("%s in:\n%s", p.text, text);
    return s;
}

bool is_fault(const tw_event *e)
{
    return e->kind == TW_EVENT_PROBLEM && e->status != TW_OK && e->status != TW_EAGAIN;
}

void assert_has(const char *text, const char *words)
{
    if (!strstr(text, words))
        fail_msg("\"%s\" is not in:\n%s", words, text);
}

/* TAWNY_TEST_ONLY='test_a*' runs only the tests of that pattern. */
__attribute__((constructor)) static void choose_tests(void)
{
    const char *pattern = getenv("TAWNY_TEST_ONLY");
    if (pattern)
        cmocka_set_test_filter(pattern);
}

void note_event(void *ctx, const tw_event *e)
{
    noted *s = ctx;
    s->readings += e->kind == TW_EVENT_READING;
    s->sightings += e->kind == TW_EVENT_ENDED;
    if (e->kind == TW_EVENT_STORED) {
        s->clips += strcmp(e->file_kind, "clip") == 0;
        s->stills += strcmp(e->file_kind, "still") == 0;
    }
    if (is_fault(e))
        collect_problem(&s->problems, e->text);
}

void describe_video(const char *folder, const char *name, char out[64])
{
    outcome o = run_program(
        folder, FFPROBE, "-v", "error", "-count_frames", "-show_entries",
        "stream=codec_name,width,height,nb_read_frames", "-of", "csv=p=0", name, NULL);
    assert_string_equal(o.err, "");
    (void)snprintf(out, 64, "%s", o.out);
    free_outcome(&o);
}

/* ---- a clock that runs faster -------------------------------------------------------
 */

/* When the process began: both times of the quick clock run on from there. */
static int64_t begun_us, begun_wall_us;

static void begin_quick(void)
{
    const tw_clock real = tw_linux_clock();
    begun_us = real.ops->now_us(real.ctx);
    begun_wall_us = real.ops->wall_us(real.ctx);
}

static int64_t quick_now(void *ctx)
{
    const tw_clock real = tw_linux_clock();
    (void)ctx;
    return begun_us + (real.ops->now_us(real.ctx) - begun_us) * QUICK;
}

static int64_t quick_wall(void *ctx)
{
    return begun_wall_us + quick_now(ctx) - begun_us;
}

static int32_t quick_offset(void *ctx, int64_t wall_us)
{
    const tw_clock real = tw_linux_clock();
    (void)ctx;
    return real.ops->offset_s(real.ctx, wall_us);
}

static bool quick_trusted(void *ctx, int64_t wall_us)
{
    (void)ctx;
    (void)wall_us;
    return true;
}

static int64_t quick_lasts(void *ctx, int64_t span_us)
{
    (void)ctx;
    return span_us / QUICK;
}

static void quick_sleep(void *ctx, int64_t t_us)
{
    const int64_t left_us = t_us - quick_now(ctx);
    if (left_us > 0)
        (void)usleep((useconds_t)(left_us / QUICK));
}

tw_clock quick_clock(void)
{
    static const tw_clock_ops ops = {sizeof ops,   quick_now,     quick_wall,
                                     quick_offset, quick_trusted, quick_sleep,
                                     quick_lasts,  NULL};
    static pthread_once_t once = PTHREAD_ONCE_INIT;
    (void)pthread_once(&once, begin_quick);
    return (tw_clock){&ops, NULL};
}

void let_pass(int64_t quick_us)
{
    (void)usleep((useconds_t)(quick_us / QUICK));
}

uint8_t *encode_h264(size_t *bytes)
{
    char *folder = make_folder(), *path = join(folder, "s.h264");
    outcome o = run_program(folder, FFMPEG, "-v", "error", "-f", "lavfi", "-i",
                            "testsrc=size=160x120:rate=10:duration=3", "-c:v", "libx264",
                            "-pix_fmt", "yuv420p", "-tune", "zerolatency", "-g", "10",
                            "-keyint_min", "10", "-sc_threshold", "0", "-bsf:v",
                            "h264_metadata=aud=insert", path, NULL);
    if (o.code != 0)
        fail_msg("%s", o.err);
    free_outcome(&o);
    uint8_t *data = (uint8_t *)read_file(path, bytes);
    free(path);
    remove_folder(folder);
    return data;
}

tw_stream h264_stream(void)
{
    return (tw_stream){.codec = TW_CODEC_H264,
                       .codec_name = "h264",
                       .width = 160,
                       .height = 120,
                       .fps_num = 10,
                       .fps_den = 1};
}

bool next_h264(const uint8_t *data, size_t bytes, tw_packet *packet)
{
    enum { STEP_US = 100000, KEY_EVERY = 10 };
    const uint8_t *end = data + bytes;
    const bool first = !packet->data;
    const uint8_t *at = first ? data : packet->data + packet->size;
    if (at >= end)
        return false;
    const int64_t t = first ? 0 : packet->t_us + STEP_US;
    const uint8_t *next = at + 1; /* they begin with a delimiter, kind 9 */
    while (next + 4 < end && memcmp(next, "\0\0\0\1\x09", 5) != 0)
        next++;
    *packet = (tw_packet){.data = at,
                          .size = (size_t)((next + 4 < end ? next : end) - at),
                          .t_us = t,
                          .dts_us = t,
                          .key = t % (KEY_EVERY * STEP_US) == 0};
    return true;
}
