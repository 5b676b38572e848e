/* Captures that lie in a store: fetched as they were put there, from real servers, whole
 * or not at all, and kept within bounds. */
#include <dirent.h>
#include <fcntl.h>
#include <netinet/in.h>
#include <pthread.h>
#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../../src/many/many_state.h"
#include "../support/servers.h"

/* What is fetched, and where it is kept. */
typedef struct place {
    char *folder;
    tw_settings *settings;
    twi_many_store *store;
} place;

static void put(const char *folder, const char *name, const char *text)
{
    char *path = join(folder, name);
    for (char *slash = strchr(path + 1, '/'); slash; slash = strchr(slash + 1, '/')) {
        *slash = '\0';
        (void)mkdir(path, 0755);
        *slash = '/';
    }
    write_text(path, text);
    (void)chmod(path, 0644);
    free(path);
}

static place *anew(void)
{
    place *p = calloc(1, sizeof *p);
    p->folder = make_folder();
    (void)chmod(p->folder, 0755);
    make_credentials(p->folder);
    return p;
}

/* @param destination  How the store is reached. */
static tw_status reach(place *p, const char *destination, tw_error *err)
{
    char text[2048], *file = join(p->folder, "gather.ini");
    (void)snprintf(text, sizeof text,
                   "[station]\nstore = %s/own\n[gather]\nmedia = "
                   "{station}/{file}\nmedia_from = there\n%s",
                   p->folder, destination);
    write_text(file, text);
    free(file);
    tw_settings_free(p->settings);
    p->settings = tw_settings_new();
    char *path = join(p->folder, "gather.ini");
    assert_int_equal(tw_settings_read(p->settings, path, NULL, NULL), TW_OK);
    free(path);
    return twi_many_store_new(p->settings, &p->store, err);
}

static void must_reach(place *p, const char *destination)
{
    tw_error err = {0};
    if (reach(p, destination, &err) != TW_OK || !p->store)
        fail_msg("%s", err.text);
}

static void end(place *p)
{
    twi_many_store_free(p->store);
    tw_settings_free(p->settings);
    remove_folder(p->folder);
    free(p);
}

static bool fetch(const place *p, const char *name)
{
    char *path = join(p->folder, "own/gatherer/fetched"), *whole = join(path, name);
    const bool good = twi_many_store_fetch(p->store, name, whole);
    free(path);
    free(whole);
    return good;
}

/* Files in a folder of what is kept; -1: it is not there. */
static int count_kept(const place *p, const char *folder)
{
    char *top = join(p->folder, "own/gatherer/fetched"), *path = join(top, folder);
    DIR *dir = opendir(path);
    int n = dir ? 0 : -1;
    for (const struct dirent *e = NULL; dir && (e = readdir(dir));)
        n += e->d_name[0] != '.';
    if (dir)
        (void)closedir(dir);
    free(path);
    free(top);
    return n;
}

/* @param folder  Where the server has it, below the test's. */
static void check_fetching(place *p, const char *folder)
{
    char *there = join(p->folder, folder), *kept = NULL;
    put(there, "north/2027-03-13/a b+c%.jpg", "toads");
    put(there, "secret.jpg", "secret");
    assert_true(fetch(p, "north/2027-03-13/a b+c%.jpg"));
    kept = join(p->folder, "own/gatherer/fetched/north/2027-03-13/a b+c%.jpg");
    char *text = read_file(kept, NULL);
    assert_string_equal(text, "toads");
    free(text);
    assert_false(fetch(p, "north/2027-03-13/gone.jpg"));
    assert_false(fetch(p, "south/gone.jpg"));
    assert_false(fetch(p, "north//2027-03-13/x.jpg"));
    assert_false(fetch(p, "north/line\nbreak.jpg"));
    assert_int_equal(count_kept(p, "north/2027-03-13"), 1); /* no part is left */
    assert_true(fetch(p, "north/2027-03-13/a b+c%.jpg"));   /* the connection is well */
    free(kept);
    free(there);
}

/* ---- tests ------------------------------------------------------------------------- */

static void test_webdav(void **state)
{
    (void)state;
    char text[1024];
    place *p = anew();
    server web = start_webdav(p->folder, true);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = https://localhost:%d/lane\ntrust = "
                   "%s/cert.pem\n",
                   web.port, p->folder);
    must_reach(p, text);
    check_fetching(p, "www/lane");
    end_server(&web);
    assert_false(fetch(p, "north/2027-03-13/a b+c%.jpg")); /* nobody is there */
    end(p);
}

static void test_sftp(void **state)
{
    (void)state;
    char text[1024];
    place *p = anew();
    server ssh = start_sftp(p->folder);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = sftp://root@127.0.0.1:%d%s/sftp/lane\n"
                   "key_file = %s/id\nhost_keys = %s/known_hosts\n",
                   ssh.port, p->folder, p->folder, p->folder);
    must_reach(p, text);
    check_fetching(p, "sftp/lane");
    end_server(&ssh);
    end(p);
}

static void test_object_storage(void **state)
{
    (void)state;
    char text[1024];
    place *p = anew();
    char *objects = join(p->folder, "objects");
    (void)mkdir(objects, 0755);
    server store = start_stand_in("object_store.py", objects, NULL);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = s3+http://127.0.0.1:%d/toads/lane\n"
                   "user = key\nsecret_file = %s/s3.secret\nregion = eu-west-1\n",
                   store.port, p->folder);
    must_reach(p, text);
    check_fetching(p, "objects/toads/lane");
    twi_many_store_free(p->store);
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = s3+http://127.0.0.1:%d/toads/lane\n"
                   "user = key\nsecret_file = %s/bad.secret\n",
                   store.port, p->folder);
    must_reach(p, text);
    assert_false(fetch(p, "north/2027-03-13/a b+c%.jpg"));
    end_server(&store);
    free(objects);
    end(p);
}

/* What is fetched takes the place of what was looked at long ago. */
static void test_the_oldest_go(void **state)
{
    enum { MANY = 2100 };
    (void)state;
    char text[1024], name[64];
    place *p = anew();
    server web = start_webdav(p->folder, false);
    char *kept = join(p->folder, "own/gatherer/fetched"),
         *there = join(p->folder, "www/lane");
    for (int i = 0; i < MANY; i++) {
        (void)snprintf(name, sizeof name, "old/%04d.jpg", i);
        put(kept, name, "x");
        char *path = join(kept, name);
        const struct timespec at[2] = {{1000 + i, 0}, {1000 + i, 0}};
        assert_int_equal(utimensat(AT_FDCWD, path, at, 0), 0);
        free(path);
    }
    put(there, "north/new.jpg", "new");
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://localhost:%d/lane\n", web.port);
    must_reach(p, text);
    assert_true(fetch(p, "north/new.jpg"));
    assert_int_equal(count_kept(p, "old"), 1999);
    assert_int_equal(count_kept(p, "north"), 1);
    char *first = join(kept, "old/0100.jpg"), *next = join(kept, "old/0101.jpg");
    assert_int_not_equal(access(first, F_OK), 0);
    assert_int_equal(access(next, F_OK), 0);
    free(first);
    free(next);
    free(kept);
    free(there);
    end_server(&web);
    end(p);
}

typedef struct slow {
    const place *p;
    atomic_bool begun, ended, good;
} slow;

static void *fetch_slowly(void *ctx)
{
    slow *s = ctx;
    atomic_store(&s->begun, true);
    atomic_store(&s->good, fetch(s->p, "hollin/2027-03-13/kerb-still.jpg"));
    atomic_store(&s->ended, true);
    return NULL;
}

/* The kernel takes the connection, and nobody ever answers. */
static void test_what_is_being_fetched_does_not_hold_up_the_end(void **state)
{
    (void)state;
    char text[256];
    pthread_t thread;
    struct sockaddr_in at = {.sin_family = AF_INET,
                             .sin_addr.s_addr = htonl(INADDR_LOOPBACK)};
    socklen_t bytes = sizeof at;
    const int fd = socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0);
    assert_int_equal(bind(fd, (struct sockaddr *)&at, sizeof at), 0);
    assert_int_equal(listen(fd, 4), 0);
    assert_int_equal(getsockname(fd, (struct sockaddr *)&at, &bytes), 0);
    place *p = anew();
    (void)snprintf(text, sizeof text,
                   "[destination there]\nurl = http://127.0.0.1:%d/\ntls = none\n"
                   "timeout = 10 min\n",
                   ntohs(at.sin_port));
    must_reach(p, text);
    slow s = {.p = p};
    assert_int_equal(pthread_create(&thread, NULL, fetch_slowly, &s), 0);
    WAIT_FOR(atomic_load(&s.begun));
    (void)usleep(300000);
    assert_false(atomic_load(&s.ended));
    twi_many_store_stop(p->store);
    WAIT_FOR(atomic_load(&s.ended));
    (void)pthread_join(thread, NULL);
    assert_false(atomic_load(&s.good));
    assert_int_equal(count_kept(p, "hollin/2027-03-13"), 0);
    (void)close(fd);
    end(p);
}

static void test_what_cannot_be_reached_is_told(void **state)
{
    (void)state;
    tw_error err = {0};
    place *p = anew();
    assert_int_equal(reach(p, "[destination else]\nurl = https://localhost/lane\n", &err),
                     TW_EINVAL);
    assert_has(err.text, "there is no [destination there]");
    assert_int_equal(reach(p, "[destination there]\nurl = mqtt://localhost/lane\n", &err),
                     TW_EINVAL);
    assert_has(err.text, "nothing can be fetched from mqtt://localhost/lane");
    assert_int_equal(reach(p,
                           "[destination there]\nurl = https://localhost/lane\nuser = "
                           "x\nsecret_file = /nowhere\n",
                           &err),
                     TW_ENOENT);
    end(p);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_webdav),
        cmocka_unit_test(test_sftp),
        cmocka_unit_test(test_object_storage),
        cmocka_unit_test(test_the_oldest_go),
        cmocka_unit_test(test_what_is_being_fetched_does_not_hold_up_the_end),
        cmocka_unit_test(test_what_cannot_be_reached_is_told),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
