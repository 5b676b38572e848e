/* What goes where: the routes of the settings, in the catalogue. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "destination.h"
#include "../core/naming.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

enum { OTHERS_MAX = 32 };

/* Kinds of captures, and as what they go. */
static const struct {
    twi_kind kind;
    int64_t what;
} GOES[] = {{TWI_KIND_STILL, TWI_SEND_STILL},
            {TWI_KIND_CAPTIONED_STILL, TWI_SEND_STILL},
            {TWI_KIND_SNAP, TWI_SEND_STILL},
            {TWI_KIND_STILL, TWI_SEND_SMALL},
            {TWI_KIND_CAPTIONED_STILL, TWI_SEND_SMALL},
            {TWI_KIND_SNAP, TWI_SEND_SMALL},
            {TWI_KIND_CLIP, TWI_SEND_CLIP},
            {TWI_KIND_CAPTIONED_CLIP, TWI_SEND_CLIP},
            {TWI_KIND_TIMED_STILL, TWI_SEND_TIMED},
            {TWI_KIND_TIMED_CLIP, TWI_SEND_TIMED},
            {TWI_KIND_SEGMENT, TWI_SEND_SEGMENT},
            {TWI_KIND_REEL, TWI_SEND_REEL}};

enum { GOES_COUNT = sizeof GOES / sizeof *GOES };

/* Where there are both, the one with its caption goes. */
static bool is_spare(const twi_camera_settings *camera, twi_kind kind)
{
    const bool captions = camera->caption && camera->caption[0] && camera->caption_clean;
    return captions &&
           ((kind == TWI_KIND_STILL && (camera->caption_on & TWI_CAPTION_STILLS)) ||
            (kind == TWI_KIND_CLIP && (camera->caption_on & TWI_CAPTION_CLIPS)));
}

static size_t routes_of(const twi_camera_settings *camera, const destination *d,
                        twi_route *out)
{
    size_t n = 0;
    const bool broker = d->transport == &twi_transport_broker;
    if (!(d->set.on & TWI_TELL_SIGHTINGS))
        return 0;
    for (size_t i = 0; i < GOES_COUNT && !broker; i++)
        if ((d->set.what & GOES[i].what) && !is_spare(camera, GOES[i].kind))
            out[n++] = (twi_route){camera->name, twi_kind_name(GOES[i].kind), d->set.name,
                                   twi_message_word(GOES[i].what)};
    if (broker || (d->set.what & TWI_SEND_RECORD))
        out[n++] =
            (twi_route){camera->name, "", d->set.name, twi_message_word(TWI_SEND_RECORD)};
    return n;
}

static bool is_served(const twi_deliver *o, const char *name)
{
    for (size_t i = 0; i < o->count; i++)
        if (strcmp(o->all[i].set.name, name) == 0)
            return true;
    return false;
}

/* Destinations that the queue knows and the settings do not serve. */
typedef struct others {
    const twi_deliver *of;
    char *wrong[OTHERS_MAX + 1]; /* what they say of these has mistakes */
    size_t wrong_count;
    char *gone[OTHERS_MAX]; /* of these they say nothing */
    size_t gone_count;
} others;

static void take_other(void *ctx, const char *name)
{
    others *x = ctx;
    twi_destination_settings set;
    if (is_served(x->of, name) || x->wrong_count + x->gone_count == OTHERS_MAX)
        return;
    if (twi_settings_destination(x->of->settings, name, &set) == TW_OK)
        x->wrong[x->wrong_count++] = strdup(name);
    else
        x->gone[x->gone_count++] = strdup(name);
}

/* What waits for a destination that is no more there holds its captures on the card. */
static void tell_gone(const twi_deliver *o, tw_catalogue *catalogue, const char *name)
{
    char line[TW_ERROR_MAX];
    twi_outbox_fill fill;
    if (!name || !o->callback ||
        twi_outbox_inspect(catalogue, name, false, 0, &fill, NULL) != TW_OK ||
        fill.waiting == 0)
        return;
    (void)snprintf(line, sizeof line,
                   "%s: %u wait for it, and there is no such destination any more: tawny "
                   "outbox --drop %s",
                   name, (unsigned)fill.waiting, name);
    o->callback(o->ctx, TW_ENOENT, line);
}

/* What is said in words goes there whichever camera, or none, it is of. */
static size_t routes_of_words(const destination *d, twi_route *routes)
{
    static const int64_t words[][2] = {{TWI_TELL_ALARMS, TWI_SEND_ALARM},
                                       {TWI_TELL_DAILY, TWI_SEND_DAILY}};
    size_t count = 0;
    if (!d->transport->message && d->transport != &twi_transport_broker)
        return 0;
    for (size_t i = 0; i < sizeof words / sizeof *words; i++) {
        const char *what = twi_message_word(words[i][1]);
        if (d->set.on & words[i][0])
            routes[count++] = (twi_route){"", what, d->set.name, what};
    }
    return count;
}

static size_t collect_routes(twi_deliver *o, twi_route *routes)
{
    size_t count = 0;
    const char *name = NULL;
    for (size_t k = 0; k < o->count; k++)
        count += routes_of_words(&o->all[k], routes + count);
    for (size_t i = 0; (name = tw_settings_camera_name(o->settings, i)); i++) {
        twi_camera_settings camera;
        if (twi_settings_camera(o->settings, name, &camera) != TW_OK)
            continue;
        for (size_t k = 0; k < o->count; k++)
            if (twi_settings_names(camera.send_to, o->all[k].set.name))
                count += routes_of(&camera, &o->all[k], routes + count);
    }
    return count;
}

/* What goes where from now on. A mistake in what is said of a destination loses nothing:
 * what was to go there goes on waiting. */
tw_status twi_deliver_route(twi_deliver *o, tw_error *err)
{
    tw_catalogue *catalogue = NULL;
    others x = {.of = o};
    const size_t most =
        tw_settings_camera_count(o->settings) * o->count * (GOES_COUNT + 1) +
        2 * o->count + 1;
    twi_route *routes = calloc(most, sizeof *routes);
    if (!routes)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = twi_deliver_catalogue(o, &catalogue, err);
    if (st == TW_OK)
        st = twi_outbox_destinations(catalogue, take_other, &x, err);
    if (st == TW_OK)
        st = twi_outbox_route(catalogue, routes, collect_routes(o, routes),
                              (const char *const *)x.wrong, err);
    for (size_t i = 0; st == TW_OK && i < x.gone_count; i++)
        tell_gone(o, catalogue, x.gone[i]);
    for (size_t i = 0; i < OTHERS_MAX; i++) {
        free(x.wrong[i]);
        free(x.gone[i]);
    }
    tw_catalogue_close(catalogue);
    free(routes);
    return st;
}

/* ---- once more -------------------------------------------------------------------- */

/* Captures are read first: the catalogue is not changed while it is walked through. */
typedef struct found {
    char **files;
    twi_kind *kinds;
    size_t count;
    bool failed; /* out of memory */
} found;

static bool take_file(void *ctx, const tw_capture_record *r)
{
    found *f = ctx;
    char **files = realloc(f->files, (f->count + 1) * sizeof *files);
    f->files = files ? files : f->files;
    twi_kind *kinds = realloc(f->kinds, (f->count + 1) * sizeof *kinds);
    f->kinds = kinds ? kinds : f->kinds;
    char *name = files && kinds ? strdup(r->file) : NULL;
    f->failed = f->failed || !name;
    if (!name)
        return false;
    f->kinds[f->count] = twi_kind_find(r->kind);
    f->files[f->count++] = name;
    return true;
}

static void free_found(found *f)
{
    for (size_t i = 0; i < f->count; i++)
        free(f->files[i]);
    free(f->files);
    free(f->kinds);
}

/* @return as what a destination takes a kind, NULL: it does not. */
static const char *word_for(const twi_destination_settings *set, twi_kind kind)
{
    for (size_t i = 0; i < GOES_COUNT; i++)
        if (GOES[i].kind == kind && (set->what & GOES[i].what))
            return twi_message_word(GOES[i].what);
    return NULL;
}

static tw_status add_again(const twi_destination_settings *set, tw_catalogue *catalogue,
                           int64_t sighting, uint32_t *items, tw_error *err)
{
    found f = {0};
    tw_status st = tw_catalogue_captures(catalogue, sighting, take_file, &f, err);
    if (st == TW_OK && f.failed)
        st = tw_fail(err, TW_ENOMEM, "out of memory");
    for (size_t i = 0; i < f.count && st == TW_OK; i++) {
        const char *what = word_for(set, f.kinds[i]);
        if (!what)
            continue;
        st = twi_outbox_add(catalogue, f.files[i], set->name, what, err);
        *items += st == TW_OK;
    }
    free_found(&f);
    if (st == TW_OK && *items == 0)
        st = tw_fail(err, TW_ENOENT, "%s takes nothing of what this sighting has",
                     set->name);
    return st;
}

tw_status twi_deliver_again(const tw_settings *settings, const char *name,
                            tw_catalogue *catalogue, int64_t sighting, uint32_t *items,
                            tw_error *err)
{
    twi_destination_settings set;
    uint32_t count = 0;
    if (!settings || !name || !catalogue || sighting <= 0)
        return tw_fail(err, TW_EINVAL, "no sighting or no destination");
    if (twi_settings_destination(settings, name, &set) != TW_OK)
        return tw_fail(err, TW_ENOENT, "there is no [destination %s] in the settings",
                       name);
    if (twi_deliver_transport(&set) == &twi_transport_broker)
        return tw_fail(err, TW_ENOTSUP, "%s is a broker: it is told, and takes no files",
                       name);
    const tw_status st = add_again(&set, catalogue, sighting, &count, err);
    if (items)
        *items = count;
    return st;
}
