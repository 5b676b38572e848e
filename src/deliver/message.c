/* What a message is made of. */
#include "destination.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../media/drawing.h"
#include "../media/jpeg.h"
#include "../station/series.h"

/* ---- what is known of a sighting ------------------------------------------------------
 */

static bool take_facts(void *ctx, const tw_sighting_record *r)
{
    sighting_facts *f = ctx;
    *f = (sighting_facts){.id = r->id,
                          .start_us = r->start_us,
                          .end_us = r->end_us,
                          .peak_ppm = r->peak_ppm,
                          .frames = r->frames,
                          .over = r->end_us > 0,
                          .unsure = r->unsure};
    (void)snprintf(f->camera, sizeof f->camera, "%s", r->camera);
    (void)snprintf(f->why, sizeof f->why, "%s", r->why);
    if (r->name[0] && r->count > 0)
        (void)snprintf(f->who, sizeof f->who, "%u %s", (unsigned)r->count, r->name);
    else
        (void)snprintf(f->who, sizeof f->who, "%s", r->name);
    return false;
}

tw_status twi_message_facts(tw_catalogue *catalogue, int64_t sighting,
                            sighting_facts *out, tw_error *err)
{
    const tw_sighting_filter filter = {.id = sighting};
    memset(out, 0, sizeof *out);
    const tw_status st = tw_catalogue_sightings(catalogue, &filter, take_facts, out, err);
    return st == TW_OK && out->id == 0 ? TW_ENOENT : st;
}

bool twi_message_link(const destination *d, int64_t sighting, char *out, size_t capacity)
{
    const char *at = d->of->page_url;
    const size_t n = strlen(at);
    out[0] = '\0';
    if (n > 0 && snprintf(out, capacity, "%.*s/" TWI_PAGE_SIGHTING "%lld",
                          (int)(at[n - 1] == '/' ? n - 1 : n), at,
                          (long long)sighting) >= (int)capacity)
        out[0] = '\0';
    return out[0] != '\0';
}

json_t *twi_message_record(const destination *d, int64_t sighting, const char *phase)
{
    char link[LINK_BYTES];
    json_t *o = twi_json_record_of(d->catalogue, sighting, d->of->station, phase);
    char series[TWI_SERIES_BYTES];
    if (o && twi_catalogue_series(d->catalogue, series, NULL) == TW_OK)
        (void)json_object_set_new(o, "series", json_string(series));
    if (o && twi_message_link(d, sighting, link, sizeof link))
        (void)json_object_set_new(o, "link", json_string(link));
    return o;
}

json_t *twi_message_alarm(const destination *d, const message_item *item)
{
    const bool daily = twi_message_is(item, TWI_SEND_DAILY);
    const tw_event event = {.kind = daily ? TW_EVENT_DAILY : TW_EVENT_ALARM,
                            .camera = item->camera[0] ? item->camera : NULL,
                            .wall_us = item->start_us,
                            .text = item->text};
    return twi_json_event(&event, d->of->station, item->start_us);
}

enum { QUALITY = 85 };

const char *twi_message_word(int64_t what_bit)
{
    static const char *const words[] = {"still",   "small", "clip",  "record", "timed",
                                        "segment", "reel",  "alarm", "daily"};
    for (size_t i = 0; i < sizeof words / sizeof *words; i++)
        if (what_bit == INT64_C(1) << i)
            return words[i];
    return "?";
}

bool twi_message_is(const message_item *item, int64_t what_bit)
{
    return strcmp(item->what, twi_message_word(what_bit)) == 0;
}

void twi_message_path(const twi_deliver *of, const char *file, char out[PATH_BYTES])
{
    (void)snprintf(out, PATH_BYTES, "%s/%s", of->store, file);
}

void twi_message_take(const twi_outbox_item *item, message_item *out)
{
    *out = (message_item){.sighting = item->sighting,
                          .entry = item->entry,
                          .start_us = item->start_us,
                          .bytes = item->bytes};
    (void)snprintf(out->what, sizeof out->what, "%s", item->what);
    (void)snprintf(out->camera, sizeof out->camera, "%s", item->camera);
    (void)snprintf(out->file, sizeof out->file, "%s", item->file);
    (void)snprintf(out->text, sizeof out->text, "%s", item->text);
}

static bool take_item(void *ctx, const twi_outbox_item *item)
{
    message *l = ctx;
    if (l->count == l->room)
        return false;
    l->alarm_count += item->entry != 0;
    twi_message_take(item, &l->items[l->count++]);
    return true;
}

/* Items of one sighting stand together. */
static tw_status read_sightings(tw_catalogue *catalogue, message *l, tw_error *err)
{
    tw_status st = TW_OK;
    for (size_t i = 0; i < l->count && st == TW_OK; i++) {
        const int64_t id = l->items[i].sighting;
        if (id == 0 || (i > 0 && l->items[i - 1].sighting == id))
            continue;
        st = twi_message_facts(catalogue, id, &l->sightings[l->sighting_count], err);
        l->sighting_count += st == TW_OK;
        st = st == TW_ENOENT ? TW_OK : st;
    }
    return st;
}

static void take_stopped(void *ctx, const char *name, int64_t since_us, const char *why)
{
    message *l = ctx;
    if (l->stopped_count == STOPPED_MAX)
        return;
    message_stopped *s = &l->stopped[l->stopped_count++];
    s->since_us = since_us;
    (void)snprintf(s->name, sizeof s->name, "%s", name);
    (void)snprintf(s->why, sizeof s->why, "%s", why);
}

tw_status twi_message_read(tw_catalogue *catalogue, const twi_outbox_batch *batch,
                           message *out, tw_error *err)
{
    memset(out, 0, sizeof *out);
    out->room = batch->count;
    out->items = calloc(out->room + 1, sizeof *out->items);
    out->sightings = calloc(out->room + 1, sizeof *out->sightings);
    tw_status st =
        out->items && out->sightings ? TW_OK : tw_fail(err, TW_ENOMEM, "out of memory");
    if (st == TW_OK)
        st = twi_outbox_batch_items(catalogue, batch, take_item, out, err);
    if (st == TW_OK)
        st = read_sightings(catalogue, out, err);
    if (st == TW_OK)
        st = twi_outbox_stopped(catalogue, take_stopped, out, err);
    if (st != TW_OK)
        twi_message_free(out);
    return st;
}

void twi_message_free(message *l)
{
    free(l->items);
    free(l->sightings);
    memset(l, 0, sizeof *l);
}

/* ---- reduced stills --------------------------------------------------------------- */

/* The size that has a longer side of at most so many pixels. */
static void fit(uint16_t *width, uint16_t *height, uint16_t side)
{
    const uint32_t longer = *width > *height ? *width : *height;
    const uint32_t w = (*width * (uint32_t)side + longer / 2) / longer,
                   h = (*height * (uint32_t)side + longer / 2) / longer;
    *width = (uint16_t)(w > 0 ? w : 1);
    *height = (uint16_t)(h > 0 ? h : 1);
}

static tw_status scale(const uint8_t *pixels, uint16_t width, uint16_t height,
                       uint16_t side, uint8_t **out, size_t *bytes, tw_error *err)
{
    const twi_drawing *drawing = twi_drawing_load(err);
    uint16_t to_width = width, to_height = height;
    uint8_t *scaled = NULL;
    if (!drawing)
        return TW_ENOTSUP;
    fit(&to_width, &to_height, side);
    tw_status st =
        drawing->scale(pixels, width, height, to_width, to_height, &scaled, err);
    if (st == TW_OK)
        st =
            twi_jpeg_encode_pixels(scaled, to_width, to_height, QUALITY, out, bytes, err);
    free(scaled);
    return st;
}

tw_status twi_message_reduce(const char *store, const char *file, uint16_t side,
                             uint8_t **out, size_t *bytes, tw_error *err)
{
    char path[PATH_BYTES];
    uint8_t *data = NULL, *pixels = NULL;
    size_t capacity = 0, n = 0;
    uint16_t width = 0, height = 0;
    (void)snprintf(path, sizeof path, "%s/%s", store, file);
    tw_status st = twi_jpeg_read_file(path, &data, &capacity, &n, err);
    if (st == TW_OK)
        st = twi_jpeg_pixels(data, n, side, &pixels, &width, &height, err);
    if (st == TW_OK && width <= side && height <= side) { /* small enough as it is */
        *out = data;
        *bytes = n;
        data = NULL;
    } else if (st == TW_OK) {
        st = scale(pixels, width, height, side, out, bytes, err);
    }
    free(pixels);
    free(data);
    return st;
}
