/* Captures as one ZIP file, held by others' readers: unzip, and Python's. */
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../../src/station/pack.h"
#include "../support/support.h"

typedef struct packing {
    char *folder, *store;
    twi_pack *pack;
} packing;

static int set_up(void **state)
{
    packing *p = calloc(1, sizeof *p);
    p->folder = make_folder();
    p->store = join(p->folder, "store");
    assert_int_equal(mkdir(p->store, 0755), 0);
    char *kerb = join(p->store, "kerb");
    assert_int_equal(mkdir(kerb, 0755), 0);
    free(kerb);
    assert_int_equal(twi_pack_new(p->store, &p->pack, NULL), TW_OK);
    *state = p;
    return 0;
}

static int drop(void **state)
{
    packing *p = *state;
    twi_pack_free(p->pack);
    free(p->store);
    remove_folder(p->folder);
    free(p);
    return 0;
}

/* A capture of so many bytes, all of them what its name begins with. */
static void put(const packing *p, const char *name, size_t bytes)
{
    char *path = join(p->store, name), *data = malloc(bytes + 1);
    memset(data, name[5], bytes);
    write_bytes(path, data, bytes);
    free(data);
    free(path);
}

static void add(const packing *p, const char *name)
{
    assert_int_equal(twi_pack_add_file(p->pack, name, INT64_C(1804969800000000), NULL),
                     TW_OK);
}

/* Read all of it, so much at a time. @return bytes. */
static size_t save(const packing *p, size_t step)
{
    char *path = join(p->folder, "all.zip"), part[4096];
    size_t bytes = 0;
    long n = 0;
    FILE *f = fopen(path, "wb");
    while ((n = twi_pack_read(p->pack, part, step, NULL)) > 0) {
        assert_true((size_t)n <= step);
        assert_int_equal(fwrite(part, 1, (size_t)n, f), n);
        bytes += (size_t)n;
    }
    assert_int_equal(n, 0);
    assert_int_equal(twi_pack_read(p->pack, part, step, NULL),
                     0); /* it stays at its end */
    assert_int_equal(fclose(f), 0);
    free(path);
    return bytes;
}

static void check_list(const packing *p, const char *wanted)
{
    free(run_shell(p->folder,
                   "unzip -tq all.zip && /usr/bin/python3 -m zipfile -t all.zip"));
    char *said = run_shell(
        p->folder, "/usr/bin/python3 -c \"import zipfile\n"
                   "for i in zipfile.ZipFile('all.zip').infolist(): print(i.filename, "
                   "i.file_size, i.compress_type, *i.date_time[:3])\"");
    assert_string_equal(said, wanted);
    free(said);
}

static void test_captures_are_in_it_as_they_are(void **state)
{
    packing *p = *state;
    put(p, "kerb/a-001-clip.mp4", 200000);
    put(p, "kerb/b-001-still.jpg", 1);
    put(p, "kerb/c-002-still.jpg", 65536);
    put(p, "kerb/e \xC3\xB6.jpg", 10);
    add(p, "kerb/a-001-clip.mp4");
    add(p, "kerb/b-001-still.jpg");
    add(p, "kerb/c-002-still.jpg");
    add(p, "kerb/e \xC3\xB6.jpg");
    const size_t bytes = save(p, 1000);
    assert_true(bytes > 265547 && bytes < 265547 + 4 * 500);
    (void)setenv("TZ", "UTC", 1);
    check_list(p, "kerb/a-001-clip.mp4 200000 0 2027 3 13\n"
                  "kerb/b-001-still.jpg 1 0 2027 3 13\n"
                  "kerb/c-002-still.jpg 65536 0 2027 3 13\n"
                  "kerb/e \xC3\xB6.jpg 10 0 2027 3 13\n");
    char *said = run_shell(p->folder, "unzip -p all.zip kerb/c-002-still.jpg | cmp - "
                                      "store/kerb/c-002-still.jpg && echo same");
    assert_string_equal(said, "same\n");
    free(said);
}

static void test_what_is_gone_by_now_is_left_out(void **state)
{
    packing *p = *state;
    put(p, "kerb/b-001-still.jpg", 100);
    char *path = join(p->store, "kerb/link.jpg");
    assert_int_equal(symlink("/etc/hostname", path), 0); /* nothing outside is followed */
    free(path);
    add(p, "kerb/a-001-gone.mp4");
    add(p, "kerb/link.jpg");
    add(p, "kerb/b-001-still.jpg");
    add(p, "kerb/c-001-gone.jpg");
    (void)save(p, 4096);
    check_list(p, "kerb/b-001-still.jpg 100 0 2027 3 13\n");
}

static void test_nothing_is_an_empty_file(void **state)
{
    packing *p = *state;
    assert_int_equal(twi_pack_count(p->pack), 0);
    assert_int_equal(save(p, 4096), 22); /* the record that ends a directory */
}

/* A capture that shrinks while it is read is as long as what was read of it. */
static void test_one_that_gets_shorter_does_not_spoil_the_others(void **state)
{
    packing *p = *state;
    char part[64];
    put(p, "kerb/a-001-clip.mp4", 200000);
    put(p, "kerb/b-001-still.jpg", 100);
    add(p, "kerb/a-001-clip.mp4");
    add(p, "kerb/b-001-still.jpg");
    char *path = join(p->folder, "all.zip"),
         *clip = join(p->store, "kerb/a-001-clip.mp4");
    FILE *f = fopen(path, "wb");
    for (long n = 0; (n = twi_pack_read(p->pack, part, sizeof part, NULL)) > 0;) {
        assert_int_equal(fwrite(part, 1, (size_t)n, f), n);
        assert_int_equal(truncate(clip, 1000), 0);
    }
    assert_int_equal(fclose(f), 0);
    check_list(p, "kerb/a-001-clip.mp4 1000 0 2027 3 13\n"
                  "kerb/b-001-still.jpg 100 0 2027 3 13\n");
    free(clip);
    free(path);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test_setup_teardown(test_captures_are_in_it_as_they_are, set_up,
                                        drop),
        cmocka_unit_test_setup_teardown(test_what_is_gone_by_now_is_left_out, set_up,
                                        drop),
        cmocka_unit_test_setup_teardown(test_nothing_is_an_empty_file, set_up, drop),
        cmocka_unit_test_setup_teardown(
            test_one_that_gets_shorter_does_not_spoil_the_others, set_up, drop),
    };
    return cmocka_run_group_tests(tests, NULL, NULL);
}
