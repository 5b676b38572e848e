/* libFuzzer target: a draft from opening to writing, as the page makes one of what an
 * account sends. The settings text and, behind a line of "%%", changes of four lines
 * each: head, name, key, value. Whatever they are, a draft that is allowed brings no
 * hooks, no secrets and no files that were not there. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "../src/settings/draft.h"
#include "fields.h"
#include "../src/settings/sections.h"
#include "tawny/settings.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

enum { CHANGES_MAX = 8 };

static const char OWN[] = "[station]\nname = hollin\nstore = captures\n[camera kerb]\n"
                          "source = sim:kerb\nsend_to = shed\n[destination shed]\n"
                          "url = https://lane.example/x\nsecret = frogspawn\n";

/* Where the settings of all inputs are. */
static const char *own_file(void)
{
    static char path[64];
    if (path[0])
        return path;
    (void)snprintf(path, sizeof path, "/tmp/tawny-fuzz-%d.ini", (int)getpid());
    FILE *file = fopen(path, "wb");
    if (!file || fwrite(OWN, 1, sizeof OWN - 1, file) != sizeof OWN - 1 ||
        fclose(file) != 0)
        abort();
    return path;
}

static void check_made(twi_draft *draft)
{
    tw_settings *made = NULL;
    tw_error err = {0};
    if (twi_draft_check(draft, NULL, NULL, &made) != TW_OK)
        return;
    if (twi_draft_allow(draft, made, &err) == TW_OK) {
        twi_station_settings station;
        twi_settings_station(made, &station);
        if (twi_settings_hook_name(made, 0) || strcmp(station.store, "captures") != 0)
            abort(); /* whoever is not at the machine may not */
    } else if (strlen(err.text) == 0) {
        abort();
    }
    tw_settings_free(made);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    static const char mark[] = "\n%%\n";
    const uint8_t *end = bytes > 0 ? memmem(data, bytes, mark, sizeof mark - 1) : NULL;
    twi_draft *draft = NULL;
    tw_error err = {0};
    if (twi_draft_open(own_file(), &draft, &err) != TW_OK)
        abort();
    if (end) { /* a whole text first */
        const size_t text = (size_t)(end - data);
        (void)twi_draft_replace(draft, (const char *)data, text, &err);
        data = end + sizeof mark - 1;
        bytes -= text + sizeof mark - 1;
    }
    for (int i = 0; i < CHANGES_MAX; i++) {
        char f[FIELDS][FIELD_MOST + 1];
        const size_t taken = fuzz_fields(data, bytes, f);
        if (taken == 0)
            break;
        const twi_draft_change change = {f[0], f[1], f[2][0] ? f[2] : NULL,
                                         f[3][0] ? f[3] : NULL};
        (void)twi_draft_change_one(draft, &change, &err);
        data += taken;
        bytes -= taken;
    }
    check_made(draft);
    size_t whole_bytes = 0;
    char *whole = twi_draft_whole(draft, &whole_bytes);
    if (!whole || strlen(whole) != whole_bytes)
        abort();
    free(whole);
    twi_draft_free(draft);
    return 0;
}
