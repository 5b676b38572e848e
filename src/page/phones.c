/* Phones that are to be told: each account may add its own, and let it go. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../deliver/phones.h"
#include "../json/json.h"
#include "../station/outbox.h"
#include "page_state.h"

/* Who asks, of whom it is known that he may look. @return false: he has just gone. */
static bool who_asks(twi_page *p, const twi_asked *r, account *out)
{
    session who;
    const char *token = p->web->cookie(r->call, TWI_COOKIE);
    accounts *all = calloc(1, sizeof *all);
    const account *found = NULL;
    bool open = false;
    memset(out, 0, sizeof *out);
    out->may = TWI_MAY_RUN;
    if (all && twi_accounts_read(p->accounts_file, all, NULL) == TW_OK) {
        open = !all->made;
        found = token ? twi_page_account(p, token, all, &who) : NULL;
    }
    if (found)
        *out = *found;
    free(all);
    return found || open;
}

/* ---- showing ----------------------------------------------------------------------- */

/* @return the names of destinations that are phones; the caller's. */
static json_t *list_destinations(twi_page *p)
{
    json_t *list = json_array();
    tw_settings *s = twi_page_settings(p);
    const char *name = NULL;
    for (size_t i = 0; s && (name = twi_settings_destination_name(s, i)); i++) {
        twi_destination_settings d;
        if (twi_settings_destination(s, name, &d) == TW_OK && twi_url_is_phones(d.url))
            (void)json_array_append_new(list, json_string(name));
    }
    tw_settings_free(s);
    return list;
}

static json_t *list_phones(const twi_phones *phones, const account *who)
{
    json_t *list = json_array();
    char since[TWI_UTC_MAX];
    for (size_t i = 0; i < phones->count; i++) {
        const twi_phone *f = &phones->all[i];
        if (who->may == TWI_MAY_RUN || strcmp(f->account, who->name) == 0)
            (void)json_array_append_new(
                list, json_pack("{sI ss ss ss}", "number", (json_int_t)f->number, "name",
                                f->name, "account", f->account, "since",
                                twi_utc(f->since_us, since)));
    }
    return list;
}

static void answer_phones(twi_page *p, const twi_phones *phones, const account *who,
                          const twi_transfer *transfer, twi_web_answer *out)
{
    char key[TWI_PUSH_PUBLIC];
    tw_error err = {0};
    if (transfer->push_key_public(phones->key, key, &err) == TW_OK)
        twi_answer_json(json_pack("{ss so so}", "key", key, "destinations",
                                  list_destinations(p), "phones",
                                  list_phones(phones, who)),
                        200, out);
    else
        twi_answer_error(500, err.text, out);
}

void twi_show_phones(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    account who;
    tw_error err = {0};
    const twi_transfer *transfer = twi_transfer_load(&err);
    twi_phones *phones = calloc(1, sizeof *phones);
    (void)rest;
    if (!who_asks(p, r, &who))
        twi_answer_error(401, "log in first", out);
    else if (!transfer || !phones ||
             twi_phones_ready(p->accounts_file, transfer, phones, &err) != TW_OK)
        twi_answer_error(500, err.text[0] ? err.text : "out of memory", out);
    else
        answer_phones(p, phones, &who, transfer, out);
    free(phones);
}

/* ---- changing ---------------------------------------------------------------------- */

/* What a browser gave of itself. @return false: it is none. */
static bool take(const json_t *o, const char *key, char *out, size_t capacity)
{
    const char *text = json_string_value(json_object_get(o, key));
    if (!text || snprintf(out, capacity, "%s", text) >= (int)capacity)
        return false;
    for (const char *c = text; *c; c++)
        if ((unsigned char)*c < ' ' || *c == 0x7F)
            return false;
    return text[0] != '\0';
}

/* What waited because nobody wanted to be told goes now. */
static void try_again(twi_page *p)
{
    size_t i = 0;
    json_t *name = NULL, *list = list_destinations(p);
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    json_array_foreach(list, i, name)
    {
        if (c)
            (void)twi_outbox_retry(c, json_string_value(name), NULL, NULL);
    }
    (void)pthread_mutex_unlock(&p->store_lock);
    json_decref(list);
}

static void add(twi_page *p, const json_t *o, const account *who, twi_web_answer *out)
{
    tw_error err = {0};
    twi_phone phone = {.since_us = twi_page_wall(p)};
    (void)snprintf(phone.account, sizeof phone.account, "%s", who->name);
    if (!take(o, "endpoint", phone.endpoint, sizeof phone.endpoint) ||
        !take(o, "key", phone.key, sizeof phone.key) ||
        !take(o, "secret", phone.secret, sizeof phone.secret) ||
        !take(o, "name", phone.name, sizeof phone.name)) {
        twi_answer_error(400, "a phone has endpoint, key, secret and name", out);
        return;
    }
    const tw_status st = twi_phone_add(p->accounts_file, &phone, &err);
    if (st == TW_OK) {
        try_again(p);
        twi_answer_json(json_pack("{sI}", "number", (json_int_t)phone.number), 200, out);
    } else {
        twi_answer_error(st == TW_EINVAL  ? 400
                         : st == TW_ESIZE ? 409
                                          : 500,
                         err.text, out);
    }
}

void twi_change_phones(twi_page *p, const twi_asked *r, const char *rest,
                       twi_web_answer *out)
{
    account who;
    tw_error err = {0};
    json_t *o = twi_body_of(r);
    const json_t *gone = json_object_get(o, "forget");
    (void)rest;
    if (!who_asks(p, r, &who)) {
        twi_answer_error(401, "log in first", out);
    } else if (json_is_integer(gone)) {
        const tw_status st =
            twi_phone_forget(p->accounts_file, who.may == TWI_MAY_RUN ? NULL : who.name,
                             json_integer_value(gone), &err);
        twi_answer_status(st, "there is no such phone", &err, out);
    } else {
        add(p, o, &who, out);
    }
    json_decref(o);
}
