/* The reference of all settings, from the table. */
#include <stdio.h>
#include <string.h>

#include "state.h"
#include "tawny/settings.h"
#include "sections.h"

static const char INTRO[] =
    "# Settings\n\n"
    "One text file sets everything: sections, `key = value`, units written out, and "
    "`#`\n"
    "comments on lines of their own or behind a value. This page is made from the "
    "program's\n"
    "own table by `tawny settings --reference`.\n\n"
    "| section | holds |\n|---|---|\n"
    "| `[station]` | the board |\n"
    "| `[cameras]` | settings for every camera |\n"
    "| `[profile NAME]` | a bundle of camera settings, taken by `use = NAME` |\n"
    "| `[camera NAME]` | one camera |\n"
    "| `[camera NAME when dark]` | what holds for it in the dark alone; `light` and "
    "hours, `22:00-05:00`, likewise |\n"
    "| `[cameras when dark]` | the same for every camera |\n"
    "| `[zone CAMERA/NAME]` | a part of one camera's picture |\n"
    "| `[hook NAME]` | a program of yours that is started on events |\n"
    "| `[destination NAME]` | where captures and messages go |\n"
    "| `[sensor NAME]` | a number that a file or a program gives |\n"
    "| `[gather]` | what `tawny gather` takes in of many stations |\n\n"
    "Later wins: built-in, `[cameras]`, `[cameras when ...]`, profiles in the order of "
    "`use`,\n"
    "`[camera NAME]`, `[camera NAME when ...]` in their order, `--set key=value`, "
    "`--set NAME.key=value`. `tawny settings` shows where each value comes\n"
    "from.\n\n"
    "`include = cameras.d/*.ini` on a line of its own reads other files in its place, "
    "from where\n"
    "the file is, in the order of their names.\n\n"
    "While a station runs, another value holds *at once* (with the next frame, file "
    "or\n"
    "message), or once the detector has *learnt* the place again, or once the camera "
    "is\n"
    "*opened* again, or from the next *start* on. A sighting that runs goes on in any "
    "case.\n";

static const char *word_applied(const twi_row *row)
{
    static const char *const words[] = {"", "at once", "learnt", "opened", "start"};
    return words[twi_row_applied(row)];
}

static void print_row(FILE *out, const twi_row *row)
{
    char range[TWI_VALUE_MAX];
    row->type->explain(row, range, sizeof range);
    const char *quote = row->preset[0] ? "`" : "";
    (void)fprintf(out, "| `%s` | %s%s%s | %s | %s | %s |\n", row->key, quote,
                  row->preset[0] ? row->preset : "none", quote, row->help, range,
                  word_applied(row));
}

tw_status twi_settings_reference(FILE *out)
{
    if (!out)
        return TW_EINVAL;
    size_t count = 0;
    const twi_row *rows = twi_table(&count);
    const char *group = "";
    (void)fputs(INTRO, out);
    for (size_t i = 0; i < count; i++) {
        if (strcmp(rows[i].group, group) != 0) {
            group = rows[i].group;
            (void)fprintf(out,
                          "\n## %s\n\n| key | built-in | what it does | value | holds "
                          "|\n|---|---|---|---|---|\n",
                          group);
        }
        print_row(out, &rows[i]);
    }
    return ferror(out) ? TW_EIO : TW_OK;
}
