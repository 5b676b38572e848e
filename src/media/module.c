/* Loading modules. */
#include "module.h"

#include <dlfcn.h>
#include <pthread.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "codecs.h"
#include "drawing.h"

#ifndef TW_MODULE_DIR
#define TW_MODULE_DIR "/usr/local/lib/tawny"
#endif

enum { PATH_BYTES = 4096, PLACES = 3 };

/* The folder of the file that holds this very function: the library's or a program's. */
static void own_folder(char *out, size_t capacity)
{
    static const char anchor = 0;
    Dl_info info;
    out[0] = '\0';
    if (dladdr(&anchor, &info) == 0 || !info.dli_fname)
        return;
    char path[PATH_BYTES];
    if (!realpath(info.dli_fname, path)) {
        const ssize_t n = readlink("/proc/self/exe", path, sizeof path - 1);
        if (n <= 0)
            return;
        path[n] = '\0';
    }
    char *slash = strrchr(path, '/');
    if (!slash)
        return;
    *slash = '\0';
    (void)snprintf(out, capacity, "%s", path);
}

/* @return how many places there are to look. */
static int places(char place[PLACES][PATH_BYTES])
{
    const char *chosen = getenv("TAWNY_MODULES");
    if (chosen) {
        (void)snprintf(place[0], PATH_BYTES, "%s", chosen);
        return 1;
    }
    char folder[PATH_BYTES - 32];
    own_folder(folder, sizeof folder);
    (void)snprintf(place[0], PATH_BYTES, "%s/tawny", folder);
    (void)snprintf(place[1], PATH_BYTES, "%s/../lib/tawny", folder);
    (void)snprintf(place[2], PATH_BYTES, "%s", TW_MODULE_DIR);
    return PLACES;
}

void *tw_module_entry(const char *name, const char *symbol, tw_error *err)
{
    char place[PLACES][PATH_BYTES];
    const int count = places(place);
    for (int i = 0; i < count; i++) {
        char path[PATH_BYTES + 64];
        (void)snprintf(path, sizeof path, "%s/tawny-%s.so", place[i], name);
        if (access(path, R_OK) != 0)
            continue;
        void *module = dlopen(path, RTLD_NOW | RTLD_LOCAL);
        void *entry = module ? dlsym(module, symbol) : NULL;
        if (!entry)
            (void)tw_fail(err, TW_ENOTSUP, "cannot load %s: %s", path, dlerror());
        return entry;
    }
    (void)tw_fail(
        err, TW_ENOTSUP,
        "the module tawny-%s.so is not there (looked in %s): install it, or build "
        "with -DTAWNY_CODECS=ON -DTAWNY_DRAWING=ON",
        name, place[count - 1]);
    return NULL;
}

/* One of each in a process, whoever asks first. Loading is not state of a station: the
 * dynamic linker keeps one copy of a module however often it is opened. */
static pthread_mutex_t loading = PTHREAD_MUTEX_INITIALIZER;

/* ISO C has no conversion between pointers to objects and to functions; POSIX asks that
 * they have the same representation. */
#define CALL_ENTRY(type, pointer)                                                        \
    (((union {                                                                           \
         void *object;                                                                   \
         type function;                                                                  \
     }){.object = (pointer)})                                                            \
         .function())

const tw_codecs *tw_codecs_load(tw_error *err)
{
    (void)pthread_mutex_lock(&loading);
    void *entry = tw_module_entry("codecs", "tw_codecs_table", err);
    const tw_codecs *codecs = entry ? CALL_ENTRY(tw_codecs_entry, entry) : NULL;
    (void)pthread_mutex_unlock(&loading);
    if (codecs && codecs->abi != TW_CODECS_ABI) {
        (void)tw_fail(err, TW_ENOTSUP,
                      "tawny-codecs.so is of another version: install both anew");
        return NULL;
    }
    return codecs;
}

const tw_drawing *tw_drawing_load(tw_error *err)
{
    (void)pthread_mutex_lock(&loading);
    void *entry = tw_module_entry("drawing", "tw_drawing_table", err);
    const tw_drawing *drawing = entry ? CALL_ENTRY(tw_drawing_entry, entry) : NULL;
    (void)pthread_mutex_unlock(&loading);
    if (drawing && drawing->abi != TW_DRAWING_ABI) {
        (void)tw_fail(err, TW_ENOTSUP,
                      "tawny-drawing.so is of another version: install both anew");
        return NULL;
    }
    return drawing;
}
