/* libFuzzer target: settings files of any bytes. What is read of them can be checked,
 * asked for, walked through, and kept as a draft's text. */
#include <stdlib.h>
#include <string.h>

#include "../src/settings/draft.h"
#include "tawny/settings.h"
#include "../src/settings/sections.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes);

static void count_problem(void *ctx, const char *line)
{
    if (line[0] == '\0' || strchr(line, '\n')) /* one line, that says something */
        abort();
    ++*(size_t *)ctx;
}

static void see_setting(void *ctx, const tw_setting *setting)
{
    if (!setting->value || !setting->origin)
        abort();
    ++*(size_t *)ctx;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t bytes)
{
    tw_settings *s = tw_settings_new();
    size_t problems = 0, rows = 0;
    const char *name = NULL;
    if (!s)
        return 0;
    const tw_status st = tw_settings_read_text(s, "fuzz", (const char *)data, bytes,
                                               count_problem, &problems);
    if ((st == TW_OK) != (problems == 0))
        abort();
    (void)tw_settings_check(s, count_problem, &problems);
    for (size_t i = 0; (name = tw_settings_camera_name(s, i)); i++) {
        twi_camera_settings camera;
        if (twi_settings_camera(s, name, &camera) == TW_OK)
            (void)tw_settings_walk(s, name, see_setting, &rows);
    }
    for (size_t i = 0; (name = twi_settings_destination_name(s, i)); i++)
        (void)twi_settings_walk_destination(s, name, see_setting, &rows);
    (void)tw_settings_walk(s, NULL, see_setting, &rows);
    tw_settings *copy = tw_settings_copy(s);
    if (copy && twi_settings_difference(s, copy, NULL) != TW_APPLIED_NOT)
        abort();
    tw_settings_free(copy);
    tw_settings_free(s);
    return 0;
}
