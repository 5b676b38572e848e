/* Captures as one ZIP file. */
#include <errno.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "../station/pack.h"
#include "output.h"
#include "packing.h"

static int write_pack(twi_pack *pack, FILE *to, const char *path, guint64 *bytes)
{
    g_autofree char *part = g_malloc(65536);
    tw_error err = {0};
    long n = 0;
    while ((n = twi_pack_read(pack, part, 65536, &err)) > 0) {
        *bytes += (guint64)n;
        if (fwrite(part, 1, (size_t)n, to) != (size_t)n)
            return cli_say(CLI_FAILED, "%s cannot be written: %s", path,
                           g_strerror(errno));
    }
    return n == 0 ? CLI_DONE : cli_say(CLI_FAILED, "%s: %s", path, err.text);
}

/* Beside its place first, so that a half one is not taken for a whole. */
static int save_pack(twi_pack *pack, const char *path, guint64 *bytes)
{
    g_autofree char *part = g_strdup_printf("%s.part", path);
    FILE *to = fopen(part, "wb");
    int code = to ? write_pack(pack, to, path, bytes)
                  : cli_say(CLI_FAILED, "%s: %s", part, g_strerror(errno));
    if (to && fclose(to) != 0 && code == CLI_DONE)
        code = cli_say(CLI_FAILED, "%s: %s", part, g_strerror(errno));
    if (code == CLI_DONE && rename(part, path) != 0)
        code = cli_say(CLI_FAILED, "%s: %s", path, g_strerror(errno));
    if (to && code != CLI_DONE)
        (void)unlink(part);
    return code;
}

int packing_write(const char *store, tw_catalogue *catalogue, const GArray *ids,
                  const char *path)
{
    const gboolean piped = strcmp(path, "-") == 0;
    char size[24];
    guint64 bytes = 0;
    tw_error err = {0};
    twi_pack *pack = NULL;
    tw_status st = twi_pack_new(store, &pack, &err);
    for (guint i = 0; i < ids->len && st == TW_OK; i++)
        st = twi_pack_add(pack, catalogue, g_array_index(ids, gint64, i), &err);
    int code = CLI_DONE;
    if (st != TW_OK)
        code = cli_say(CLI_FAILED, "%s", err.text);
    else if (twi_pack_count(pack) == 0)
        code = cli_say(CLI_FAILED, "nothing was captured of what is found");
    else
        code = piped ? write_pack(pack, stdout, "standard output", &bytes)
                     : save_pack(pack, path, &bytes);
    if (code == CLI_DONE && !piped)
        (void)printf("%zu capture%s, %s in %s\n", twi_pack_count(pack),
                     out_s((unsigned)twi_pack_count(pack)), out_bytes(bytes, size), path);
    twi_pack_free(pack);
    return code;
}
