/* The numbers of a catalogue, as others see them. */
#include "series.h"

#include <stdio.h>

#include "catalogue_state.h"

tw_status twi_catalogue_last_over(tw_catalogue *c, int64_t *out, tw_error *err)
{
    return twi_catalogue_ask(c,
                             "SELECT coalesce((SELECT min(id) - 1 FROM sighting WHERE "
                             "end_us = 0), (SELECT seq FROM sqlite_sequence WHERE name = "
                             "'sighting'), 0)",
                             NULL, out, err);
}

tw_status twi_catalogue_series(tw_catalogue *c, char out[TWI_SERIES_BYTES], tw_error *err)
{
    sqlite3_stmt *s = NULL;
    out[0] = '\0';
    const tw_status st = twi_catalogue_prepare(c, "SELECT word FROM series", &s, err);
    if (st != TW_OK)
        return st;
    if (sqlite3_step(s) == SQLITE_ROW)
        (void)snprintf(out, TWI_SERIES_BYTES, "%s", twi_catalogue_text(s, 0));
    return twi_catalogue_finish(c, s, err);
}
