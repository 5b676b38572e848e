#include "whole.h"

#include <stdlib.h>
#include <string.h>

#include "support.h"
#include "../../src/station/store.h"

static bool has_name(const char *file)
{
    return strstr(file, TWI_PART) == NULL;
}

size_t count_named(const char *store)
{
    char **files = list_files(store);
    size_t count = 0;
    for (size_t i = 0; files[i]; i++)
        count += has_name(files[i]);
    free_list(files);
    return count;
}

static void check_one(const char *store, const char *file)
{
    char *path = join(store, file);
    outcome o = run_program(NULL, FFMPEG, "-v", "error", "-xerror", "-i", path, "-f",
                            "null", "-", NULL);
    if (o.code != 0)
        fail_msg("%s: %s", file, o.err);
    free_outcome(&o);
    free(path);
}

size_t check_whole(const char *store, size_t one_in)
{
    char **files = list_files(store);
    size_t count = 0;
    for (size_t i = 0; files[i]; i++) {
        if (!has_name(files[i]))
            continue;
        if (count++ % one_in == 0)
            check_one(store, files[i]);
    }
    free_list(files);
    return count;
}

static bool count_one(void *ctx, const tw_capture_record *r)
{
    (void)r;
    ++*(size_t *)ctx;
    return true;
}

void check_agreed(const char *store, size_t files)
{
    size_t known = 0;
    tw_catalogue *c = NULL;
    char **all = list_files(store), *catalogue = join(store, TWI_CATALOGUE_FILE);
    for (size_t i = 0; all[i]; i++)
        if (!has_name(all[i]))
            fail_msg("%s is left", all[i]);
    assert_int_equal(tw_catalogue_open(catalogue, false, &c, NULL), TW_OK);
    assert_int_equal(tw_catalogue_captures(c, 0, count_one, &known, NULL), TW_OK);
    tw_catalogue_close(c);
    assert_int_equal(known, files);
    free(catalogue);
    free_list(all);
}
