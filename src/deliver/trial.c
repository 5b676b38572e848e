/* A test that is sent at once. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "destination.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

static const char NAME[] = "tawny-test.txt";

static void word_test(const destination *d, char *out, size_t capacity)
{
    char time[TWI_UTC_MAX];
    const tw_clock *clock = &d->of->clock;
    (void)snprintf(out, capacity, "A test of tawny station %s, %s.\n", d->of->station,
                   twi_utc(clock->ops->wall_us(clock->ctx), time));
}

static void try_mail(destination *d, const char *text, twi_sending *out)
{
    char subject[128], id[256], html[512], key[64];
    const tw_clock *clock = &d->of->clock;
    const int64_t wall_us = clock->ops->wall_us(clock->ctx);
    (void)snprintf(subject, sizeof subject, "Test of tawny station %s", d->of->station);
    (void)snprintf(key, sizeof key, "test-%lld", (long long)wall_us);
    twi_compose_id(d, key, id, sizeof id);
    (void)snprintf(html, sizeof html, "<html><body><p>%.300s</p></body></html>\n", text);
    const twi_mail mail = {.subject = subject,
                           .text = text,
                           .html = html,
                           .id = id,
                           .wall_us = wall_us,
                           .offset_s = clock->ops->offset_s(clock->ctx, wall_us)};
    d->transfer->sender_mail(d->sender, &mail, out);
}

static void try_server(destination *d, const char *text, twi_sending *out)
{
    char key[64];
    const twi_content content = {
        .data = text, .bytes = strlen(text), .name = NAME, .type = "text/plain"};
    char *record = twi_json_text(twi_json_test(d->of->station));
    (void)snprintf(key, sizeof key, "test-%lld",
                   (long long)d->of->clock.ops->wall_us(d->of->clock.ctx));
    if (d->transport == &twi_transport_mail)
        try_mail(d, text, out);
    else if (d->transport != &twi_transport_post)
        d->transfer->sender_put(d->sender, NAME, &content, out);
    else if (record)
        d->transfer->sender_post(d->sender, key, record, &content, 1, out);
    else
        twi_deliver_fail(out, TWI_FAULT_OTHER, "out of memory");
    free(record);
}

static void try_it(destination *d, twi_sending *out)
{
    char text[256];
    word_test(d, text, sizeof text);
    if (d->transport == &twi_transport_broker) {
        twi_broker_try(d, out);
    } else if (d->transport == &twi_transport_folder) {
        twi_folder_try(d, NAME, text, out);
    } else {
        if (twi_deliver_connect(d, out) && d->transport == &twi_transport_push)
            twi_push_try(d, text, out);
        else if (d->sender)
            try_server(d, text, out);
        twi_deliver_disconnect(d);
    }
}

tw_status twi_deliver_try(const tw_settings *settings, const char *name, tw_clock clock,
                          void (*on_line)(void *ctx, char who, const char *line),
                          void *ctx, twi_send_outcome *out, tw_error *err)
{
    twi_deliver *o = NULL;
    twi_sending sent;
    twi_destination_settings set;
    if (!settings || !name || !out)
        return tw_fail(err, TW_EINVAL, "no destination");
    if (twi_settings_destination(settings, name, &set) != TW_OK)
        return tw_fail(err, TW_ENOENT, "there is no [destination %s] in the settings",
                       name);
    tw_status st = twi_deliver_make(settings, name, clock, &o, err);
    if (st == TW_OK && o->count == 0) /* none is made of one that is not sound */
        st = tw_fail(err, TW_ESYNTAX,
                     "destination %s: its settings have mistakes: mend them first", name);
    if (st == TW_OK) {
        destination *d = &o->all[0];
        d->on_line = on_line;
        d->talk_ctx = ctx;
        try_it(d, &sent);
        out->verdict = sent.verdict;
        out->fault = sent.fault;
        (void)snprintf(out->text, sizeof out->text, "%s", sent.text);
    }
    twi_deliver_free(o);
    return st;
}
