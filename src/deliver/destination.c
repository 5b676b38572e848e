/* What all destinations have in common: what is reported of them, their connections and
 * their secrets. */
#include "destination.h"

#include "../station/catalogue_write.h"
#include "../station/tell.h"
#include "tawny/events.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { AGAIN_MOST_US = 900000000 /* what fails is tried again after, at most */ };

int64_t twi_deliver_now(const destination *d)
{
    return d->of->clock.ops->now_us(d->of->clock.ctx);
}

int64_t twi_deliver_wall(const destination *d)
{
    return d->of->clock.ops->wall_us(d->of->clock.ctx);
}

void twi_deliver_tell(const destination *d, tw_status st, const char *format, ...)
{
    char what[TW_ERROR_MAX], line[TW_ERROR_MAX + 64];
    va_list args;
    va_start(args, format);
    (void)vsnprintf(what, sizeof what, format, args);
    va_end(args);
    (void)snprintf(line, sizeof line, "%s: %s", d->set.name, what);
    if (d->of->callback)
        d->of->callback(d->of->ctx, st, line);
}

void twi_deliver_alarm(const destination *d, const char *format, ...)
{
    char text[TW_ERROR_MAX];
    va_list args;
    va_start(args, format);
    (void)vsnprintf(text, sizeof text, format, args);
    va_end(args);
    const tw_log_entry entry = {
        .at_us = twi_deliver_wall(d), .what = "alarm", .text = text};
    if (!d->catalogue || d->of->alarm_after_us == 0)
        return;
    if (twi_catalogue_happened(d->catalogue, &entry, NULL) == TW_OK)
        (void)twi_outbox_spare(d->catalogue, d->set.name, NULL);
    (void)pthread_mutex_lock(&d->of->station_lock);
    if (d->of->running)
        twi_station_pass(d->of->running, &(tw_event){.kind = TW_EVENT_ALARM,
                                                     .wall_us = entry.at_us,
                                                     .status = TW_EAGAIN,
                                                     .text = text});
    (void)pthread_mutex_unlock(&d->of->station_lock);
}

void twi_deliver_fail(twi_sending *out, twi_fault fault, const char *format, ...)
{
    va_list args;
    memset(out, 0, sizeof *out);
    out->fault = fault;
    out->verdict = twi_fault_verdict(fault);
    va_start(args, format);
    (void)vsnprintf(out->text, sizeof out->text, format, args);
    va_end(args);
}

bool twi_deliver_secret(destination *d, char secret[SECRET_BYTES], twi_sending *out)
{
    tw_error err = {0};
    twi_secret_stand_in(&d->set, d->made_of); /* before: a change since then is another */
    if (twi_secret_read(&d->set, secret, &err) == TW_OK)
        return true;
    twi_deliver_fail(out, TWI_FAULT_SECRET, "%s", err.text);
    return false;
}

bool twi_deliver_connect(destination *d, twi_sending *out)
{
    char secret[SECRET_BYTES];
    tw_error err = {0};
    if (d->sender)
        return true;
    if (!twi_deliver_secret(d, secret, out))
        return false;
    const twi_sender_spec spec = {.to = &d->set,
                                  .secret = secret,
                                  .stop = &d->of->stop,
                                  .on_line = d->on_line,
                                  .ctx = d->talk_ctx};
    const tw_status st = d->transfer->sender_new(&spec, &d->sender, &err);
    explicit_bzero(secret, sizeof secret);
    if (st != TW_OK)
        twi_deliver_fail(out, TWI_FAULT_URL, "%s", err.text);
    return st == TW_OK;
}

void twi_deliver_disconnect(destination *d)
{
    if (d->sender)
        d->transfer->sender_free(d->sender);
    if (d->broker)
        d->brokers->broker_free(d->broker);
    d->sender = NULL;
    d->broker = NULL;
}

void twi_deliver_patience(destination *d)
{
    d->backoff =
        (twi_backoff){TWI_AGAIN_US, AGAIN_MOST_US, (uint32_t)twi_deliver_now(d), 0};
}

void twi_deliver_works(destination *d)
{
    if (d->failing)
        twi_deliver_tell(d, TW_OK, "works again");
    if (d->alarmed)
        twi_deliver_alarm(d, "%s takes what is sent again", d->set.name);
    d->failing = d->alarmed = false;
    d->failing_us = 0;
    d->next_us = 0;
    twi_backoff_reset(&d->backoff);
}

void twi_deliver_later(destination *d, const twi_sending *out)
{
    int64_t wait_us = twi_backoff_next(&d->backoff);
    if (out->again_us > wait_us)
        wait_us = out->again_us;
    d->next_us = twi_deliver_now(d) + wait_us;
    if (!d->failing)
        twi_deliver_tell(d, TW_EAGAIN, "%s; trying again in %.0f s, then less often",
                         out->text, (double)wait_us / 1e6);
    d->failing = true;
    twi_deliver_disconnect(d);
}

tw_status twi_deliver_catalogue(const twi_deliver *o, tw_catalogue **out, tw_error *err)
{
    char path[PATH_BYTES];
    (void)snprintf(path, sizeof path, "%s/" TWI_CATALOGUE_FILE, o->store);
    return tw_catalogue_open(path, true, out, err);
}
