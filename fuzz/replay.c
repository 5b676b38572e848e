/* The short form of fuzzing: what is in a folder, each as it is and with some bytes
 * changed, the same ones each time. Stands in for libFuzzer's main. */
#include <dirent.h>
#include <stdint.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

enum { INPUT_MOST = 1 << 20, PLACES_MOST = 8 };

static uint32_t chance(uint32_t *seed, uint32_t below)
{
    *seed = *seed * 1664525u + 1013904223u;
    return (uint32_t)(((uint64_t)*seed * below) >> 32);
}

/* Bytes changed, a piece cut out, or a piece said twice. */
static size_t change(uint8_t *data, size_t bytes, uint32_t *seed)
{
    if (bytes < 2)
        return bytes;
    const uint32_t places = 1 + chance(seed, PLACES_MOST);
    for (uint32_t i = 0; i < places; i++)
        data[chance(seed, (uint32_t)bytes)] = (uint8_t)chance(seed, 256);
    const size_t from = chance(seed, (uint32_t)bytes),
                 n = chance(seed, (uint32_t)(bytes - from)) / 4;
    const uint32_t how = chance(seed, 4);
    if (how == 0) {
        memmove(data + from, data + from + n, bytes - from - n);
        return bytes - n;
    }
    if (how == 1 && bytes + n <= INPUT_MOST) {
        memmove(data + from + n, data + from, bytes - from);
        return bytes + n;
    }
    return bytes;
}

/* An input of its own size, so that reading behind it is noticed. */
static void run(const uint8_t *data, size_t bytes)
{
    uint8_t *own = malloc(bytes ? bytes : 1);
    if (!own)
        abort();
    memcpy(own, data, bytes);
    (void)LLVMFuzzerTestOneInput(own, bytes);
    free(own);
}

static void run_file(const char *path, long times)
{
    static uint8_t input[INPUT_MOST], changed[INPUT_MOST];
    uint32_t seed = 1;
    FILE *file = fopen(path, "rb");
    if (!file)
        return;
    const size_t bytes = fread(input, 1, sizeof input, file);
    (void)fclose(file);
    run(input, bytes);
    for (long i = 0; i < times; i++) {
        memcpy(changed, input, bytes);
        run(changed, change(changed, bytes, &seed));
    }
}

int main(int argc, char **argv)
{
    if (argc != 3) {
        (void)fprintf(stderr, "replay FOLDER TIMES\n");
        return 2;
    }
    const long times = strtol(argv[2], NULL, 10);
    int files = 0;
    DIR *folder = opendir(argv[1]);
    for (const struct dirent *e = NULL; folder && (e = readdir(folder));) {
        char path[1024];
        if (e->d_name[0] == '.')
            continue;
        (void)snprintf(path, sizeof path, "%s/%s", argv[1], e->d_name);
        run_file(path, times);
        files++;
    }
    if (folder)
        (void)closedir(folder);
    (void)printf("%d files, each %ld times\n", files, times + 1);
    return files > 0 ? 0 : 1;
}
