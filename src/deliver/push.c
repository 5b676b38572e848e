/* Phones: a message to each browser that wants to be told (Web Push). One that cannot be
 * reached holds up no other: it is told later how many it has missed. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "destination.h"
#include "phones.h"

enum {
    AGAIN_MOST_US = 900000000, /* a phone that fails is tried again after, at most */
    KEPT_S = 24 * 3600,        /* a message, for a phone that is off */
    WHY_MOST = 300             /* bytes of a reason, of those that a message has */
};

/* What became of a phone since the station was started. */
typedef struct phone_state {
    int64_t number; /* 0: the place is free */
    unsigned missed;
    bool told; /* what is wrong with it */
    int64_t next_us;
    twi_backoff backoff;
} phone_state;

struct phone_states {
    twi_phones phones; /* as they are in their file */
    phone_state all[TWI_PHONES_MAX];
};

/* What all phones are told. */
typedef struct news_item {
    char *title;
    char body[512], topic[33], picture[64], url[64];
} news_item;

/* ---- what is known of phones ------------------------------------------------------- */

static bool make_states(destination *d)
{
    if (!d->phones)
        d->phones = calloc(1, sizeof *d->phones);
    return d->phones != NULL;
}

static phone_state *state_of(destination *d, const twi_phone *phone)
{
    phone_state *free_one = NULL;
    for (size_t i = 0; i < TWI_PHONES_MAX; i++) {
        phone_state *s = &d->phones->all[i];
        bool known = false;
        for (size_t k = 0; k < d->phones->phones.count; k++)
            known = known || d->phones->phones.all[k].number == s->number;
        if (s->number == phone->number)
            return s;
        if (!free_one && !known)
            free_one = s;
    }
    if (free_one) /* there are as many places as phones */
        *free_one = (phone_state){
            .number = phone->number,
            .backoff = {TWI_AGAIN_US, AGAIN_MOST_US, (uint32_t)phone->number, 0}};
    return free_one;
}

/* ---- wording ----------------------------------------------------------------------- */

static void word_one(const destination *d, const sighting_facts *s, news_item *out)
{
    char time[128];
    twi_compose_time(d, s, time, sizeof time);
    (void)snprintf(out->body, sizeof out->body, "%s\n%.*s", time, WHY_MOST, s->why);
    (void)snprintf(out->topic, sizeof out->topic, "sighting-%lld", (long long)s->id);
    (void)snprintf(out->picture, sizeof out->picture, "/api/thumbs/%lld",
                   (long long)s->id);
    (void)snprintf(out->url, sizeof out->url, "/" TWI_PAGE_SIGHTING "%lld",
                   (long long)s->id);
}

static void word_many(const message *l, news_item *out)
{
    size_t at = 0;
    for (size_t i = 0; i < l->sighting_count && at < sizeof out->body; i++) {
        bool named = false;
        for (size_t k = 0; k < i && !named; k++)
            named = strcmp(l->sightings[k].camera, l->sightings[i].camera) == 0;
        if (!named)
            at += (size_t)snprintf(out->body + at, sizeof out->body - at, "%s%s",
                                   at > 0 ? ", " : "", l->sightings[i].camera);
    }
    (void)snprintf(out->topic, sizeof out->topic, "sightings");
    (void)snprintf(out->url, sizeof out->url, "/#sightings");
}

static void word_alarm(const destination *d, const message_item *a, news_item *out)
{
    char title[256];
    (void)snprintf(title, sizeof title, "%s%s%s", d->of->station,
                   a->camera[0] ? ": " : "", a->camera);
    free(out->title);
    out->title = strdup(title);
    (void)snprintf(out->body, sizeof out->body, "%s", a->text);
    (void)snprintf(out->topic, sizeof out->topic, "alarm-%lld", (long long)a->entry);
    (void)snprintf(out->url, sizeof out->url, "/#station");
}

static bool word(const destination *d, const message *l, news_item *out)
{
    memset(out, 0, sizeof *out);
    out->title = twi_compose_subject(d, l);
    if (l->sighting_count == 0 && l->alarm_count > 0)
        word_alarm(d, &l->items[0], out);
    else if (l->sighting_count == 1)
        word_one(d, &l->sightings[0], out);
    else
        word_many(l, out);
    return out->title != NULL;
}

/* ---- telling ----------------------------------------------------------------------- */

/* What is wrong with one phone is told once, and is no matter of the others. */
static void judge(destination *d, const twi_phone *phone, phone_state *s,
                  const twi_sending *sent)
{
    const char *whose = phone->account[0] ? phone->account : "nobody";
    if (sent->verdict == TWI_DELIVERED) {
        *s = (phone_state){.number = phone->number, .backoff = s->backoff};
        twi_backoff_reset(&s->backoff);
        return;
    }
    s->missed++;
    s->next_us = twi_deliver_now(d) + twi_backoff_next(&s->backoff);
    if (sent->verdict == TWI_NEVER && sent->fault == TWI_FAULT_RECIPIENT) {
        (void)twi_phone_forget(d->of->accounts, NULL, phone->number, NULL);
        twi_deliver_tell(d, TW_ENOENT, "%s of %s is forgotten: %s", phone->name, whose,
                         sent->text);
    } else if (!s->told && !atomic_load(&d->of->stop)) {
        s->told = true;
        twi_deliver_tell(d, TW_EAGAIN, "%s of %s: %s", phone->name, whose, sent->text);
    }
}

/* Whom a push service may write to: who sends mail from here, else the page. What would
 * break the line that is signed is not said. */
static void word_contact(const destination *d, char *out, size_t capacity)
{
    const char *from = d->set.from ? d->set.from : "";
    (void)snprintf(out, capacity, "%s%s", strchr(from, '@') ? "mailto:" : "",
                   strchr(from, '@')                              ? from
                   : strncmp(d->of->page_url, "https://", 8) == 0 ? d->of->page_url
                                                                  : "");
    if (strpbrk(out, "\"\\<> \t\r\n"))
        out[0] = '\0';
}

static void tell_phone(destination *d, const twi_phone *phone, unsigned missed,
                       const news_item *what, twi_sending *out)
{
    json_t *o = twi_json_told(&(twi_told){.title = what->title,
                                          .body = what->body,
                                          .tag = what->topic,
                                          .url = what->url,
                                          .picture = what->picture,
                                          .missed = missed,
                                          .wall_us = twi_deliver_wall(d)});
    char *text = twi_json_text(o), contact[256];
    word_contact(d, contact, sizeof contact);
    const twi_push_message told = {.data = text,
                                   .bytes = text ? strlen(text) : 0,
                                   .topic = what->topic,
                                   .keep_s = KEPT_S,
                                   .contact = contact,
                                   .wall_us = twi_deliver_wall(d)};
    const twi_push_phone to = {phone->endpoint, phone->key, phone->secret};
    if (text)
        d->transfer->sender_push(d->sender, &to, d->phones->phones.key, &told, out);
    else
        twi_deliver_fail(out, TWI_FAULT_OTHER, "out of memory");
    free(text);
}

/* Each phone whose turn it is. @return whether one took it. @param out  Of the last that
 * did not. */
static bool tell_all(destination *d, const news_item *what, bool at_once,
                     twi_sending *out)
{
    bool taken = false;
    const twi_phones *phones = &d->phones->phones;
    for (size_t i = 0; i < phones->count && !atomic_load(&d->of->stop); i++) {
        phone_state *s = state_of(d, &phones->all[i]);
        twi_sending sent;
        if (!s)
            continue;
        if (s->next_us > twi_deliver_now(d) && !at_once) {
            s->missed++;
            continue;
        }
        tell_phone(d, &phones->all[i], s->missed, what, &sent);
        judge(d, &phones->all[i], s, &sent);
        taken = taken || sent.verdict == TWI_DELIVERED;
        if (sent.verdict != TWI_DELIVERED)
            *out = sent;
    }
    return taken;
}

/* @param at_once  Also those that were not to be reached a moment ago. */
static void tell(destination *d, const news_item *what, bool at_once, twi_sending *out)
{
    tw_error err = {0};
    twi_deliver_fail(out, TWI_FAULT_BUSY, "no phone can be reached now");
    if (!make_states(d)) {
        twi_deliver_fail(out, TWI_FAULT_OTHER, "out of memory");
    } else if (twi_phones_ready(d->of->accounts, d->transfer, &d->phones->phones, &err) !=
               TW_OK) {
        twi_deliver_fail(out, TWI_FAULT_SECRET, "%s", err.text);
    } else if (d->phones->phones.count == 0) {
        twi_deliver_fail(out, TWI_FAULT_RECIPIENT,
                         "no phone wants to be told yet: on the page, Station, Tell this "
                         "phone");
        out->verdict = TWI_HALT;
    } else if (tell_all(d, what, at_once, out)) {
        memset(out, 0, sizeof *out);
    } else if (out->verdict == TWI_NEVER) { /* who is left may take the next try */
        out->verdict = TWI_LATER;
    }
}

/* Where no phone can be reached, all are tried each time that the destination is. */
static void push_message(destination *d, const message *l, const char *key,
                         twi_sending *out)
{
    news_item what;
    (void)key;
    if (word(d, l, &what))
        tell(d, &what, d->failing, out);
    else
        twi_deliver_fail(out, TWI_FAULT_OTHER, "out of memory");
    free(what.title);
}

static void send_push(destination *d, const twi_outbox_batch *batch, twi_sending *out)
{
    twi_message_send(d, batch, push_message, out);
}

void twi_push_try(destination *d, const char *text, twi_sending *out)
{
    news_item what = {.title = strdup(d->of->station)};
    (void)snprintf(what.body, sizeof what.body, "%s", text);
    (void)snprintf(what.topic, sizeof what.topic, "test");
    (void)snprintf(what.url, sizeof what.url, "/#station");
    if (what.title)
        tell(d, &what, true, out);
    else
        twi_deliver_fail(out, TWI_FAULT_OTHER, "out of memory");
    free(what.title);
}

const transport twi_transport_push = {.message = true,
                                      .take = TWI_TAKE_SIGHTING,
                                      .send = send_push,
                                      .end = twi_deliver_disconnect};
