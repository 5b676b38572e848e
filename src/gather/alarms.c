/* An alarm goes the way of those of a station: written down first, then sent. */
#include "alarms.h"

#include <stdio.h>
#include <stdlib.h>

#include "../core/naming.h"
#include "../deliver/deliver.h"
#include "../deliver/hooks.h"
#include "../station/catalogue_write.h"

struct twi_gather_alarms {
    tw_catalogue *catalogue;
    twi_deliver *deliver;
    twi_hooks *hooks;
    tw_clock clock;
    void (*tell)(void *ctx, tw_status st, const char *line);
    void *ctx;
};

static void report(void *ctx, tw_status st, const char *line)
{
    const twi_gather_alarms *a = ctx;
    a->tell(a->ctx, st, line);
}

static tw_status begin(twi_gather_alarms *a, const tw_settings *settings,
                       const char *folder, tw_error *err)
{
    char path[4096];
    (void)snprintf(path, sizeof path, "%s/%s", folder, TWI_CATALOGUE_FILE);
    tw_status st = tw_catalogue_open(path, true, &a->catalogue, err);
    if (st == TW_OK)
        st = twi_catalogue_begin_run(a->catalogue, a->clock.ops->wall_us(a->clock.ctx),
                                     "", err);
    if (st == TW_OK)
        st = twi_deliver_new(settings, folder, a->clock, report, a, &a->deliver, err);
    if (st == TW_OK)
        st = twi_hooks_new(settings, NULL, NULL, a->clock, report, a, &a->hooks, err);
    return st;
}

tw_status twi_gather_alarms_new(const tw_settings *settings, const char *folder,
                                tw_clock clock,
                                void (*tell)(void *ctx, tw_status st, const char *line),
                                void *ctx, twi_gather_alarms **out, tw_error *err)
{
    twi_gather_alarms *a = calloc(1, sizeof *a);
    if (!a)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    a->clock = clock;
    a->tell = tell;
    a->ctx = ctx;
    const tw_status st = begin(a, settings, folder, err);
    if (st != TW_OK) {
        twi_gather_alarms_free(a);
        return st;
    }
    *out = a;
    return TW_OK;
}

tw_status twi_gather_alarms_tell(twi_gather_alarms *a, const char *text, tw_error *err)
{
    const int64_t wall_us = a->clock.ops->wall_us(a->clock.ctx);
    const tw_log_entry entry = {.at_us = wall_us, .what = "alarm", .text = text};
    const tw_event event = {
        .kind = TW_EVENT_ALARM, .wall_us = wall_us, .status = TW_EAGAIN, .text = text};
    const tw_status st = twi_catalogue_happened(a->catalogue, &entry, err);
    twi_deliver_event(a->deliver, &event);
    twi_hooks_event(a->hooks, &event);
    return st;
}

void twi_gather_alarms_free(twi_gather_alarms *a)
{
    if (!a)
        return;
    twi_hooks_free(a->hooks);
    twi_deliver_free(a->deliver);
    tw_catalogue_close(a->catalogue);
    free(a);
}
