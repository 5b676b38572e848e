/* Loading modules. */
#include "module.h"

#include <dlfcn.h>
#include <elf.h>
#include <link.h>
#include <pthread.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

#ifndef TWI_MODULE_DIR
#define TWI_MODULE_DIR "/usr/local/lib/tawny"
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
    (void)snprintf(place[2], PATH_BYTES, "%s", TWI_MODULE_DIR);
    return PLACES;
}

/* Whether the linker has written into a library's code, which must then stay as it is. */
static bool has_relocated_code(const struct dl_phdr_info *info)
{
    for (size_t i = 0; i < info->dlpi_phnum; i++) {
        if (info->dlpi_phdr[i].p_type != PT_DYNAMIC)
            continue;
        const ElfW(Dyn) *d = (const void *)(info->dlpi_addr + info->dlpi_phdr[i].p_vaddr);
        for (; d->d_tag != DT_NULL; d++)
            if (d->d_tag == DT_TEXTREL ||
                (d->d_tag == DT_FLAGS && (d->d_un.d_val & DF_TEXTREL)))
                return true;
    }
    return false;
}

/* One of each in a process, whoever asks first. Loading is not state of a station: the
 * dynamic linker keeps one copy of a module however often it is opened. */
static pthread_mutex_t loading = PTHREAD_MUTEX_INITIALIZER;

/* Which libraries came with modules, by where they lie; under the lock. Those that the
 * program had already are its own. */
enum { LIBRARIES_MAX = 512 };
typedef struct libraries {
    size_t count;
    uintptr_t at[LIBRARIES_MAX];
} libraries;
static libraries ours;

static bool is_in(const libraries *l, uintptr_t at)
{
    for (size_t i = 0; i < l->count; i++)
        if (l->at[i] == at)
            return true;
    return false;
}

static int add_library(struct dl_phdr_info *info, size_t size, void *ctx)
{
    libraries *l = ctx;
    (void)size;
    if (l->count < LIBRARIES_MAX)
        l->at[l->count++] = info->dlpi_addr;
    return 0;
}

/* What is there now and was not before. Where there were too many to tell, nothing is. */
static int add_new(struct dl_phdr_info *info, size_t size, void *ctx)
{
    const libraries *before = ctx;
    (void)size;
    if (before->count < LIBRARIES_MAX && !is_in(before, info->dlpi_addr) &&
        !is_in(&ours, info->dlpi_addr) && ours.count < LIBRARIES_MAX)
        ours.at[ours.count++] = info->dlpi_addr;
    return 0;
}

static void *load(const char *path)
{
    libraries before = {0};
    (void)dl_iterate_phdr(add_library, &before);
    void *module = dlopen(path, RTLD_NOW | RTLD_LOCAL);
    if (module)
        (void)dl_iterate_phdr(add_new, &before);
    return module;
}

/* Give back the pages of one library of ours that cannot have been written; whoever needs
 * one gets it from the file again. */
static int give_back(struct dl_phdr_info *info, size_t size, void *ctx)
{
    (void)size;
    const uintptr_t page = *(const uintptr_t *)ctx;
    if (!is_in(&ours, info->dlpi_addr) || has_relocated_code(info))
        return 0;
    for (size_t i = 0; i < info->dlpi_phnum; i++) {
        const ElfW(Phdr) *p = &info->dlpi_phdr[i];
        if (p->p_type != PT_LOAD || (p->p_flags & PF_W))
            continue;
        const uintptr_t first = (info->dlpi_addr + p->p_vaddr) & ~(page - 1);
        const uintptr_t past = (info->dlpi_addr + p->p_vaddr + p->p_memsz) & ~(page - 1);
        if (past > first)
            (void)madvise((void *)first, past - first, MADV_DONTNEED);
    }
    return 0;
}

static void give_all_back(void)
{
    const long page = sysconf(_SC_PAGESIZE);
    uintptr_t size = (uintptr_t)(page > 0 ? page : 4096);
    (void)dl_iterate_phdr(give_back, &size);
}

void twi_module_give_back(void)
{
    (void)pthread_mutex_lock(&loading);
    give_all_back();
    (void)pthread_mutex_unlock(&loading);
}

/* Under the lock. @return what the symbol stands for; NULL: err says why. */
static const void *find_table(const char *name, tw_error *err)
{
    char place[PLACES][PATH_BYTES], symbol[64];
    const int count = places(place);
    (void)snprintf(symbol, sizeof symbol, "twi_%s_table", name);
    for (int i = 0; i < count; i++) {
        char path[PATH_BYTES + 64];
        (void)snprintf(path, sizeof path, "%s/tawny-%s.so", place[i], name);
        if (access(path, R_OK) != 0)
            continue;
        void *module = dlopen(path, RTLD_NOW | RTLD_NOLOAD);
        if (!module && (module = load(path)))
            give_all_back();
        const void *table = module ? dlsym(module, symbol) : NULL;
        if (!table)
            (void)tw_fail(err, TW_ENOTSUP, "cannot load %s: %s", path, dlerror());
        return table;
    }
    (void)tw_fail(
        err, TW_ENOTSUP,
        "the module tawny-%s.so is not there (looked in %s): install the package %s, or "
        "build with -DTAWNY_CODECS=ON -DTAWNY_DRAWING=ON -DTAWNY_TRANSFER=ON "
        "-DTAWNY_BROKER=ON -DTAWNY_WEB=ON -DTAWNY_FINDING=ON -DTAWNY_ZIP=ON",
        name, place[count - 1],
        strcmp(name, "codecs") == 0     ? "tawny-codecs"
        : strcmp(name, "postgres") == 0 ? "tawny-postgres"
                                        : "tawny-modules");
    return NULL;
}

const void *twi_module_table(const char *name, int abi, tw_error *err)
{
    (void)pthread_mutex_lock(&loading);
    const int *table = find_table(name, err);
    (void)pthread_mutex_unlock(&loading);
    if (!table || *table == abi)
        return table;
    (void)tw_fail(err, TW_ENOTSUP, "tawny-%s.so is of another version: install both anew",
                  name);
    return NULL;
}
