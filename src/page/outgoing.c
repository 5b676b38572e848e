/* Destinations: what waits for them, and whether they can be reached. */
#include <string.h>

#include "../deliver/deliver.h"
#include "../json/json.h"
#include "page_state.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

#define DAY_US INT64_C(86400000000)

enum { ITEMS_MAX = 200 };

/* ---- the outbox ------------------------------------------------------------------- */

static bool take_item(void *ctx, const twi_outbox_item *item)
{
    (void)json_array_append_new(ctx, twi_json_item(item));
    return json_array_size(ctx) < ITEMS_MAX;
}

/* Names of destinations: of the settings, and of the queue. */
static void add_name(void *ctx, const char *name)
{
    json_t *names = ctx;
    for (size_t i = 0; i < json_array_size(names); i++)
        if (strcmp(json_string_value(json_array_get(names, i)), name) == 0)
            return;
    (void)json_array_append_new(names, json_string(name));
}

static json_t *all_names(twi_page *p, tw_catalogue *c)
{
    const char *name = NULL;
    json_t *names = json_array();
    (void)pthread_mutex_lock(&p->station_lock);
    for (size_t i = 0; (name = twi_settings_destination_name(p->settings, i)); i++)
        add_name(names, name);
    (void)pthread_mutex_unlock(&p->station_lock);
    if (c)
        (void)twi_outbox_destinations(c, add_name, names, NULL);
    return names;
}

void twi_show_outbox(twi_page *p, const twi_asked *r, const char *rest,
                     twi_web_answer *out)
{
    static const twi_item_state states[] = {TWI_ITEM_GIVEN_UP, TWI_ITEM_WAITING};
    json_t *list = json_array(), *items = json_array();
    const int64_t since_us = twi_page_wall(p) - DAY_US;
    (void)r;
    (void)rest;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    json_t *names = all_names(p, c);
    for (size_t i = 0; i < json_array_size(names); i++) {
        const char *name = json_string_value(json_array_get(names, i));
        twi_outbox_fill fill;
        memset(&fill, 0, sizeof fill);
        if (!c || twi_outbox_inspect(c, name, false, since_us, &fill, NULL) == TW_OK)
            (void)json_array_append_new(list, twi_json_destination(name, &fill));
    }
    for (size_t i = 0; c && i < sizeof states / sizeof *states; i++)
        if (json_array_size(items) < ITEMS_MAX)
            (void)twi_outbox_items(c, NULL, states[i], take_item, items, NULL);
    (void)pthread_mutex_unlock(&p->store_lock);
    json_decref(names);
    twi_answer_json(json_pack("{so so}", "destinations", list, "items", items), 200, out);
}

void twi_change_outbox(twi_page *p, const twi_asked *r, const char *rest,
                       twi_web_answer *out)
{
    json_t *asked = twi_body_of(r);
    const char *retry = json_string_value(json_object_get(asked, "retry"));
    const json_int_t drop = json_integer_value(json_object_get(asked, "drop"));
    tw_status st = TW_EINVAL;
    tw_error err = {0};
    (void)rest;
    (void)pthread_mutex_lock(&p->store_lock);
    tw_catalogue *c = twi_page_catalogue(p);
    if (c && retry)
        st = twi_outbox_retry(c, retry[0] ? retry : NULL, NULL, &err);
    else if (c && drop > 0)
        st = twi_outbox_drop(c, NULL, drop, NULL, &err);
    (void)pthread_mutex_unlock(&p->store_lock);
    if (st == TW_EINVAL)
        twi_answer_error(400, "retry is a destination, or drop is an item's number", out);
    else
        twi_answer_status(st, "there is no such item", &err, out);
    json_decref(asked);
}

/* ---- a trial ---------------------------------------------------------------------- */

static void answer_outcome(const twi_send_outcome *o, twi_web_answer *out)
{
    twi_answer_json(json_pack("{sb ss}", "good", o->verdict == TWI_DELIVERED, "text",
                              o->text[0]                    ? o->text
                              : o->verdict == TWI_DELIVERED ? "it has arrived"
                                                            : "it has not arrived"),
                    200, out);
}

/* One at a time: each may take as long as the destination's patience. */
void twi_try_destination(twi_page *p, const twi_asked *r, const char *rest,
                         twi_web_answer *out)
{
    json_t *asked = twi_body_of(r);
    const char *name = json_string_value(json_object_get(asked, "destination"));
    tw_settings *settings = twi_page_settings(p);
    twi_send_outcome outcome;
    tw_error err = {0};
    (void)rest;
    memset(&outcome, 0, sizeof outcome);
    if (!name || !settings) {
        twi_answer_error(400, "destination is the name of one", out);
    } else if (atomic_exchange(&p->trying, true)) {
        twi_answer_error(409, "another test is under way: wait for it", out);
    } else {
        const tw_status st =
            twi_deliver_try(settings, name, p->host.clock, NULL, NULL, &outcome, &err);
        atomic_store(&p->trying, false);
        if (st == TW_OK)
            answer_outcome(&outcome, out);
        else
            twi_answer_status(st, err.text, &err, out);
    }
    tw_settings_free(settings);
    json_decref(asked);
}
