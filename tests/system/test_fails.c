/* Whatever fails, fails once at the Nth call, or from then on for good, for one N after
 * the other: memory, opening, writing, syncing, naming, threads. Nothing crashes, nothing
 * leaks, nothing that was stored is lost, and the next run is as good as ever.
 *
 * The calls are those of the library's own code; what it is built on has its own tests.
 * TAWNY_FAILS=all tries each N (make soak); else so many of them that it takes a minute.
 */
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../support/servers.h"
#include "../support/stored.h"
#include "../support/support.h"
#include "../../src/core/naming.h"
#include "../../src/settings/sections.h"
#include "../../src/station/rehearse.h"
#include "tawny/rehearse.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

/* ---- calls that fail --------------------------------------------------------------- */

typedef enum failing {
    NOTHING,
    MEMORY,
    OPENING,
    WRITING,
    FILLING, /* writing, on a card that says that it is full */
    SYNCING,
    NAMING,
    THREADS,
    FAILINGS
} failing;

static const char *const WORDS[FAILINGS] = {"nothing", "memory",  "opening", "writing",
                                            "filling", "syncing", "naming",  "threads"};

static atomic_int what;    /* a failing */
static atomic_long at;     /* the call that fails, from 1; 0: none does */
static atomic_bool always; /* and each after it */
static atomic_long calls;

static bool fails(failing which, int why)
{
    if (atomic_load(&what) != (int)which)
        return false;
    const long n = atomic_fetch_add(&calls, 1) + 1, first = atomic_load(&at);
    if (first == 0 || n < first || (n > first && !atomic_load(&always)))
        return false;
    errno = why;
    return true;
}

void *__real_malloc(size_t bytes);
void *__real_calloc(size_t count, size_t bytes);
void *__real_realloc(void *had, size_t bytes);
char *__real_strdup(const char *text);
int __real_open(const char *path, int flags, ...);
int __real_openat(int folder, const char *path, int flags, ...);
ssize_t __real_write(int fd, const void *data, size_t bytes);
ssize_t __real_pwrite(int fd, const void *data, size_t bytes, off_t offset);
int __real_fsync(int fd);
int __real_fdatasync(int fd);
int __real_rename(const char *from, const char *to);
int __real_renameat2(int from_fd, const char *from, int to_fd, const char *to,
                     unsigned flags);
int __real_pthread_create(pthread_t *thread, const pthread_attr_t *attr,
                          void *(*run)(void *), void *ctx);
void *__wrap_malloc(size_t bytes);
void *__wrap_calloc(size_t count, size_t bytes);
void *__wrap_realloc(void *had, size_t bytes);
char *__wrap_strdup(const char *text);
int __wrap_open(const char *path, int flags, unsigned mode);
int __wrap_openat(int folder, const char *path, int flags, unsigned mode);
ssize_t __wrap_write(int fd, const void *data, size_t bytes);
ssize_t __wrap_pwrite(int fd, const void *data, size_t bytes, off_t offset);
int __wrap_fsync(int fd);
int __wrap_fdatasync(int fd);
int __wrap_rename(const char *from, const char *to);
int __wrap_renameat2(int from_fd, const char *from, int to_fd, const char *to,
                     unsigned flags);
int __wrap_pthread_create(pthread_t *thread, const pthread_attr_t *attr,
                          void *(*run)(void *), void *ctx);

void *__wrap_malloc(size_t bytes)
{
    return fails(MEMORY, ENOMEM) ? NULL : __real_malloc(bytes);
}

void *__wrap_calloc(size_t count, size_t bytes)
{
    return fails(MEMORY, ENOMEM) ? NULL : __real_calloc(count, bytes);
}

void *__wrap_realloc(void *had, size_t bytes)
{
    return fails(MEMORY, ENOMEM) ? NULL : __real_realloc(had, bytes);
}

char *__wrap_strdup(const char *text)
{
    return fails(MEMORY, ENOMEM) ? NULL : __real_strdup(text);
}

int __wrap_open(const char *path, int flags, unsigned mode)
{
    return fails(OPENING, EMFILE) ? -1 : __real_open(path, flags, mode);
}

int __wrap_openat(int folder, const char *path, int flags, unsigned mode)
{
    return fails(OPENING, EMFILE) ? -1 : __real_openat(folder, path, flags, mode);
}

ssize_t __wrap_write(int fd, const void *data, size_t bytes)
{
    return fails(WRITING, EIO) || fails(FILLING, ENOSPC) ? -1
                                                         : __real_write(fd, data, bytes);
}

ssize_t __wrap_pwrite(int fd, const void *data, size_t bytes, off_t offset)
{
    return fails(WRITING, EIO) || fails(FILLING, ENOSPC)
               ? -1
               : __real_pwrite(fd, data, bytes, offset);
}

int __wrap_fsync(int fd)
{
    return fails(SYNCING, EIO) ? -1 : __real_fsync(fd);
}

int __wrap_fdatasync(int fd)
{
    return fails(SYNCING, EIO) ? -1 : __real_fdatasync(fd);
}

int __wrap_rename(const char *from, const char *to)
{
    return fails(NAMING, EIO) ? -1 : __real_rename(from, to);
}

int __wrap_renameat2(int from_fd, const char *from, int to_fd, const char *to,
                     unsigned flags)
{
    return fails(NAMING, EIO) ? -1 : __real_renameat2(from_fd, from, to_fd, to, flags);
}

int __wrap_pthread_create(pthread_t *thread, const pthread_attr_t *attr,
                          void *(*run)(void *), void *ctx)
{
    return fails(THREADS, EAGAIN) ? EAGAIN
                                  : __real_pthread_create(thread, attr, run, ctx);
}

/* ---- one N after the other ----------------------------------------------------------
 */

/* Something that is done; told whether any call failed, or is to have failed. */
typedef struct scene {
    void (*run)(void *ctx);
    void *ctx;
    long runs; /* of each failing, in the short form */
} scene;

/* @return the calls that it made. */
static long run_with(const scene *s, failing which, long first, bool for_good)
{
    atomic_store(&at, first);
    atomic_store(&always, for_good);
    atomic_store(&calls, 0);
    atomic_store(&what, (int)which);
    s->run(s->ctx);
    atomic_store(&what, (int)NOTHING);
    return atomic_load(&calls);
}

static bool tries_all(void)
{
    const char *how = getenv("TAWNY_FAILS");
    return how && strcmp(how, "all") == 0;
}

/* Each of the first ones, where things begin, and the rest in even steps. */
static void try_each(const scene *s, failing which)
{
    const long made = run_with(s, which, 0, false);
    const long close = s->runs / 2;
    const long step = tries_all() || made <= s->runs ? 1 : 1 + (made - close) / close;
    for (long n = 1; n <= made; n += n < close ? 1 : step) {
        (void)run_with(s, which, n, false);
        (void)run_with(s, which, n, true);
    }
    print_message("%s: %ld calls\n", WORDS[which], made);
}

/* ---- a rehearsal --------------------------------------------------------------------
 */

#define KERB "sim:kerb,size=128x72"
#define LINES                                                                            \
    "fps = 5\npace = no\nsettle = 0 s\npost_event = 1 s\npre_event = 1 s\n"              \
    "clip_video = mjpeg\ncaption = {camera}\n"

typedef struct footage {
    char *folder, *pictures, *store;
    tw_settings *settings;
    size_t stored; /* files, before */
    uint64_t stored_bytes;
} footage;

static void make_footage(footage *f)
{
    char text[1024];
    memset(f, 0, sizeof *f);
    f->folder = make_folder();
    f->pictures = join(f->folder, "pictures");
    f->store = join(f->folder, "store");
    assert_int_equal(mkdir(f->pictures, 0755), 0);
    /* from just before the first subject until it has gone */
    assert_int_equal(write_pictures(f->pictures, KERB, 5, 115), 115);
    (void)snprintf(
        text, sizeof text,
        "[station]\nname = hollin\nstore = %s\nkeep_free = 0\n[cameras]\n" LINES
        "[camera kerb]\nsource = file:%s\n",
        f->store, f->pictures);
    f->settings = settings_of(text);
}

static void drop_footage(footage *f)
{
    tw_settings_free(f->settings);
    free(f->pictures);
    free(f->store);
    remove_folder(f->folder);
}

static void rehearse(void *ctx)
{
    const footage *f = ctx;
    tw_card card = {0};
    twi_camera_settings camera;
    twi_station_settings station;
    tw_rehearsal_result result;
    tw_error err = {0};
    if (tw_sim_card(NULL, &card) != TW_OK)
        return;
    twi_settings_station(f->settings, &station);
    if (twi_settings_camera(f->settings, "kerb", &camera) == TW_OK) {
        const tw_platform platform = {
            .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &card};
        const tw_status st =
            twi_rehearse(&platform, &camera, &station, NULL, NULL, NULL, &result, &err);
        assert_true(st == TW_OK || err.text[0] != '\0'); /* it is said what is wrong */
    }
    assert_int_equal(tw_sim_card_open(&card), 0);
    card.ops->destroy(card.ctx);
}

static void test_a_rehearsal(void **state)
{
    (void)state;
    footage f;
    make_footage(&f);
    const scene s = {rehearse, &f, 24};
    try_each(&s, MEMORY);
    try_each(&s, OPENING);
    drop_footage(&f);
}

/* ---- a start ------------------------------------------------------------------------
 */

static void start(void *ctx)
{
    const footage *f = ctx;
    char text[1024];
    tw_error err = {0};
    tw_card card = {0};
    tw_station *station = NULL;
    tw_settings *settings = tw_settings_new();
    (void)snprintf(text, sizeof text,
                   "[station]\nname = hollin\nstore = %s\n[camera kerb]\nsource = "
                   "file:%s\n[zone kerb/reeds]\narea = 0,0 30,0 20,40\n"
                   "[hook ring]\non = clip\nrun = /bin/true {file}\n",
                   f->store, f->pictures);
    if (settings &&
        tw_settings_read_text(settings, "test", text, strlen(text), NULL, NULL) ==
            TW_OK &&
        tw_settings_check(settings, NULL, NULL) == TW_OK &&
        tw_linux_card(f->store, &card, &err) == TW_OK) {
        const tw_platform platform = {
            .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &card};
        const tw_status st =
            tw_station_new(&platform, settings, NULL, NULL, &station, &err);
        assert_true((st == TW_OK) == (station != NULL));
        assert_true(st == TW_OK || err.text[0] != '\0');
        tw_station_free(station);
    }
    if (card.ops)
        card.ops->destroy(card.ctx);
    tw_settings_free(settings);
}

static void test_a_start(void **state)
{
    (void)state;
    footage f;
    make_footage(&f);
    const scene s = {start, &f, 400};
    for (int which = MEMORY; which < FAILINGS; which++)
        try_each(&s, (failing)which);
    drop_footage(&f);
}

/* ---- a station of two cameras --------------------------------------------------------
 */

/* How many captures there are. @param bytes  Set to their size; may be NULL. */
static size_t whole_files(const char *store, uint64_t *bytes)
{
    char **files = list_files(store);
    const size_t count = count_ending(files, ".jpg") + count_ending(files, ".mp4");
    for (size_t i = 0; bytes && files[i]; i++) {
        struct stat s;
        char *path = join(store, files[i]);
        if (strstr(files[i], ".part") == NULL && stat(path, &s) == 0)
            *bytes += (uint64_t)s.st_size;
        free(path);
    }
    free_list(files);
    return count;
}

static tw_status watch_once(const footage *f)
{
    tw_card card = {0};
    tw_station *station = NULL;
    tw_error err = {0};
    tw_status st = tw_linux_card(f->store, &card, &err);
    if (st == TW_OK) {
        const tw_platform platform = {
            .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = &card};
        st = tw_station_new(&platform, f->settings, NULL, NULL, &station, &err);
    }
    if (st == TW_OK)
        st = tw_station_run(station);
    tw_station_free(station);
    if (card.ops)
        card.ops->destroy(card.ctx);
    return st;
}

/* A card that says that it is full loses old captures for new ones, but not for nothing:
 * what one try takes at most. */
static bool lost_any(const footage *f, failing which, uint64_t bytes, size_t files)
{
    enum { ONE_TRY = 400000 };
    return which == FILLING ? bytes + ONE_TRY < f->stored_bytes : files < f->stored;
}

static void watch(void *ctx)
{
    footage *f = ctx;
    (void)watch_once(f);
    const failing which = (failing)atomic_exchange(&what, (int)NOTHING);
    uint64_t bytes = 0;
    const size_t files = whole_files(f->store, &bytes);
    if (lost_any(f, which, bytes, files))
        fail_msg("%s fails at %ld: of %zu files that were stored %zu are left",
                 WORDS[which], atomic_load(&at), f->stored, files);
    f->stored = files;
    f->stored_bytes = bytes;
    atomic_store(&what, (int)which);
}

static bool count_capture(void *ctx, const tw_capture_record *r)
{
    (void)r;
    (*(size_t *)ctx)++;
    return true;
}

/* As ever, and what was torn off is mended: the catalogue has each file, and no more. */
static void check_store(const footage *f)
{
    const size_t before = whole_files(f->store, NULL);
    size_t known = 0;
    tw_catalogue *catalogue = NULL;
    assert_int_equal(watch_once(f), TW_OK);
    const size_t after = whole_files(f->store, NULL);
    assert_true(after >= before + 4); /* a still and a clip of each camera */
    char *path = join(f->store, TWI_CATALOGUE_FILE), **files = list_files(f->store);
    assert_int_equal(count_ending(files, ".part"), 0);
    assert_int_equal(tw_catalogue_open(path, false, &catalogue, NULL), TW_OK);
    assert_int_equal(tw_catalogue_captures(catalogue, 0, count_capture, &known, NULL),
                     TW_OK);
    assert_int_equal(known, after);
    tw_catalogue_close(catalogue);
    free_list(files);
    free(path);
}

static void test_a_station_of_two_cameras(void **state)
{
    (void)state;
    footage f;
    make_footage(&f);
    char text[2048];
    tw_settings_free(f.settings);
    (void)snprintf(
        text, sizeof text,
        "[station]\nname = hollin\nstore = %s\nkeep_free = 0\n[cameras]\n" LINES
        "[camera kerb]\nsource = file:%s\n[camera mere]\nsource = file:%s\n",
        f.store, f.pictures, f.pictures);
    f.settings = settings_of(text);
    const scene s = {watch, &f, 6};
    for (int which = MEMORY; which < FAILINGS; which++) {
        try_each(&s, (failing)which);
        check_store(&f);
    }
    drop_footage(&f);
}

/* ---- sending ------------------------------------------------------------------------
 */

typedef struct post {
    stored *s;
    char *destination, *place;
} post;

/* Begin to send, fail, end: what waits still waits, or has arrived. */
static void send(void *ctx)
{
    post *p = ctx;
    twi_deliver *deliverer = NULL;
    tw_error err = {0};
    if (twi_deliver_new(p->s->settings, p->s->store, tw_linux_clock(), NULL, NULL,
                        &deliverer, &err) == TW_OK) {
        const tw_event event = {.kind = TW_EVENT_ENDED, .camera = "kerb"};
        twi_deliver_event(deliverer, &event);
        (void)usleep(30000);
    }
    twi_deliver_free(deliverer);
}

static void test_sending(void **state)
{
    (void)state;
    char text[1024];
    post p = {.s = make_stored()};
    p.place = join(p.s->folder, "disk");
    assert_int_equal(mkdir(p.place, 0755), 0);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = file:%s\nwhat = still, clip, record\n",
                   p.place);
    const scene s = {send, &p, 12};
    deliver(p.s, "there", text);
    deliver(p.s, NULL, NULL);
    uint32_t sightings = 0;
    for (int which = MEMORY; which < FAILINGS; which++) {
        for (int i = 0; i < 3; i++, sightings++)
            (void)sight(p.s, 3000);
        try_each(&s, (failing)which);
    }
    deliver(p.s, "there", text);
    (void)twi_outbox_retry(p.s->catalogue, NULL, NULL, NULL);
    WAIT_FOR(filled(p.s, "there").waiting == 0);
    assert_int_equal(filled(p.s, "there").given_up, 0);
    char **files = list_files(p.place);
    assert_int_equal(list_length(files), 3 * sightings); /* each once, and no half one */
    free_list(files);
    free(p.place);
    leave_stored(p.s);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_a_start),
        cmocka_unit_test(test_a_rehearsal),
        cmocka_unit_test(test_a_station_of_two_cameras),
        cmocka_unit_test(test_sending),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
