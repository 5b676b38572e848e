/* See stands.h. */
#include "stands.h"

#include <stdlib.h>

typedef struct reader {
    void (*take)(void *ctx, const twi_stand *stand);
    void *ctx;
} reader;

static void take_row(void *ctx, const char *const *row)
{
    const reader *to = ctx;
    const twi_stand stand = {.station = row[0],
                             .camera = row[1],
                             .since_us = strtoll(row[2], NULL, 10),
                             .latitude = strtoll(row[3], NULL, 10),
                             .longitude = strtoll(row[4], NULL, 10)};
    to->take(to->ctx, &stand);
}

tw_status twi_stands(const twi_ledger_kind *kind, twi_ledger *l,
                     void (*take)(void *ctx, const twi_stand *stand), void *ctx,
                     tw_error *err)
{
    reader to = {take, ctx};
    return kind->ask(l,
                     "SELECT s.name, p.camera, p.since_us, p.latitude, p.longitude FROM "
                     "stand p JOIN station s ON s.id = p.station ORDER BY s.name, "
                     "p.camera, p.since_us",
                     NULL, 0, take_row, &to, err);
}
