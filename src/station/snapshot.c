/* Settings that are shared, counted by holder. */
#include "snapshot.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

#include <stdatomic.h>
#include <stdlib.h>

struct twi_source {
    tw_settings *settings;
    bool owned;
    atomic_uint holders;
};

typedef struct counted {
    twi_snapshot shown; /* first: what others see */
    atomic_uint holders;
} counted;

twi_source *twi_source_new(tw_settings *settings, bool owned)
{
    twi_source *s = calloc(1, sizeof *s);
    if (!s)
        return NULL;
    s->settings = settings;
    s->owned = owned;
    atomic_init(&s->holders, 1);
    return s;
}

tw_settings *twi_source_settings(const twi_source *source)
{
    return source->settings;
}

void twi_source_release(twi_source *source)
{
    if (!source || atomic_fetch_sub(&source->holders, 1) > 1)
        return;
    if (source->owned)
        tw_settings_free(source->settings);
    free(source);
}

twi_snapshot *twi_snapshot_new(twi_source *source, const char *camera)
{
    counted *c = calloc(1, sizeof *c);
    if (!c)
        return NULL;
    if (!camera) {
        twi_settings_station(source->settings, &c->shown.station);
    } else if (twi_settings_camera(source->settings, camera, &c->shown.camera) != TW_OK) {
        free(c);
        return NULL;
    }
    c->shown.sound = twi_settings_sound(source->settings, camera);
    c->shown.source = source;
    (void)atomic_fetch_add(&source->holders, 1);
    atomic_init(&c->holders, 1);
    return &c->shown;
}

twi_snapshot *twi_snapshot_when(const twi_snapshot *snapshot, unsigned bits)
{
    const twi_conditions *all = snapshot->camera.conditions;
    counted *c = calloc(1, sizeof *c);
    if (!c)
        return NULL;
    c->shown = *snapshot;
    if (all && bits < 1U << all->count)
        c->shown.camera = all->by[bits];
    (void)atomic_fetch_add(&c->shown.source->holders, 1);
    atomic_init(&c->holders, 1);
    return &c->shown;
}

twi_snapshot *twi_snapshot_keep(twi_snapshot *snapshot)
{
    (void)atomic_fetch_add(&((counted *)snapshot)->holders, 1);
    return snapshot;
}

void twi_snapshot_release(twi_snapshot *snapshot)
{
    counted *c = (counted *)snapshot;
    if (!c || atomic_fetch_sub(&c->holders, 1) > 1)
        return;
    twi_source_release(c->shown.source);
    free(c);
}
