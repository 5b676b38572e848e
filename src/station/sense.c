/* One reading of a sensor. */
#include "sense.h"

#include <stdio.h>
#include <string.h>

#include "../core/limits.h"

enum { TEXT_BYTES = 512 };

#define MICRO 1e6
#define MOST_VALUE 9e15 /* millionths: what a double holds to the last */

tw_status twi_sensor_read(const tw_sensors *port, const twi_sensor_settings *set,
                          int64_t *value, tw_error *err)
{
    char text[TEXT_BYTES] = "";
    int64_t number = 0;
    const tw_sensor_request request = {
        .size = sizeof request, .name = set->name, .file = set->file, .run = set->run};
    if (!port)
        return tw_fail(err, TW_ENOTSUP, "this board has no sensors");
    const tw_status st = port->ops->read(port->ctx, &request, text, sizeof text, err);
    if (st != TW_OK)
        return st;
    const bool found = twi_number_find(text, &number);
    const double scaled = (double)number / MICRO * (double)set->factor;
    text[strcspn(text, "\r\n")] = '\0';
    if (!found)
        return tw_fail(err, TW_EDAMAGED, "%s%s%.60s%s",
                       set->file[0] ? set->file : set->run,
                       text[0] ? ": there is no number in \"" : ": it says nothing", text,
                       text[0] ? "\"" : "");
    if (scaled > MOST_VALUE || scaled < -MOST_VALUE)
        return tw_fail(err, TW_EDAMAGED, "%s: %.60s times its factor is too large",
                       set->file[0] ? set->file : set->run, text);
    *value = (int64_t)(scaled + (scaled < 0 ? -0.5 : 0.5));
    return TW_OK;
}

const char *twi_sensor_words(int64_t value, const char *unit, char out[64])
{
    (void)snprintf(out, 64, "%.6g%s%.40s", (double)value / MICRO,
                   unit[0] && strcmp(unit, "%") != 0 ? " " : "", unit);
    return out;
}
