/* The page of many stations: its beginning and end, and the ledgers that it reads. */
#include "many_state.h"

#include <stdlib.h>
#include <string.h>

#include "../gather/groups.h"
#include "../settings/sections.h"

static const twi_answerer READ[] = {
    {"/api/status", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_status},
    {"/api/stations", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_stations},
    {"/api/sightings", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_sightings},
    {"/api/sightings/", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_sighting},
    {"/api/nights", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_nights},
    {"/api/settings", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_many_settings},
    {"/api/zones/", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_many_zones},
    {"/api/words", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_many_words},
    {"/api/names", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_show_names},
    {"/api/thumbs/", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_thumb},
    {"/captures/", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_capture},
    {"/picture/", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_picture},
    {NULL, TWI_MAY_NOTHING, TWI_SOME_NOTHING, NULL}};

static const twi_answerer CHANGE[] = {
    {"/api/visit", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_visit},
    {"/api/sightings/", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_many_say},
    {"/api/settings", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_many_change},
    {"/api/order", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_many_order},
    {NULL, TWI_MAY_NOTHING, TWI_SOME_NOTHING, NULL}};

/* ---- beginning -------------------------------------------------------------------- */

/* A capture is found by its station and its name: without both, one board could show
 * what another has sent. */
static tw_status check_media(const char *media, tw_error *err)
{
    if (!media[0])
        return TW_OK;
    const char *station = strstr(media, "{station}"), *file = strstr(media, "{file}");
    if (!station || !file || file < station)
        return tw_fail(err, TW_EINVAL,
                       "media = %s: write a path with {station} in it, and {file} behind "
                       "that, such as /srv/captures/{station}/{file}",
                       media);
    return TW_OK;
}

static void report(void *ctx, tw_status st, const char *line)
{
    const twi_many *m = ctx;
    if (m->spec.report)
        m->spec.report(m->spec.ctx, st, line);
}

static tw_status begin_page(twi_many *m, const twi_gather_settings *set, tw_error *err)
{
    const twi_page_host host = {.store = ".",
                                .clock = m->spec.clock,
                                .callback = report,
                                .read = READ,
                                .change = CHANGE,
                                .listen = set->listen,
                                .ctx = m};
    return twi_page_new(m->settings, &host, &m->page, err);
}

tw_status twi_many_new(const twi_many_spec *spec, twi_many **out, tw_error *err)
{
    twi_gather_settings set;
    twi_many *m = calloc(1, sizeof *m);
    *out = NULL;
    if (!m || !(m->settings = tw_settings_copy(spec->settings))) {
        free(m);
        return tw_fail(err, TW_ENOMEM, "out of memory");
    }
    twi_few_init(&m->few);
    (void)pthread_mutex_init(&m->known_lock, NULL);
    twi_settings_gather(m->settings, &set);
    m->spec = *spec;
    m->place = set.ledger;
    m->media = set.media;
    m->groups = set.groups;
    m->kind = twi_ledger_find(set.ledger, err);
    tw_status st = m->kind ? check_media(set.media, err) : TW_ENOTSUP;
    if (st == TW_OK)
        st = twi_groups_check(set.groups, err);
    if (st == TW_OK)
        st = twi_many_store_new(m->settings, &m->store, err);
    if (st == TW_OK && m->store)
        m->media = twi_many_store_kept(m->store);
    if (st == TW_OK)
        st = twi_known_begin(m, err);
    if (st == TW_OK)
        st = begin_page(m, &set, err);
    if (st == TW_OK && m->page && spec->broker)
        st = twi_many_look_new(m, &m->look, err);
    if (st == TW_OK && m->page)
        *out = m;
    else
        twi_many_free(m);
    return st;
}

int twi_many_port(const twi_many *m)
{
    return m ? twi_page_port(m->page) : 0;
}

void twi_many_free(twi_many *m)
{
    if (!m)
        return;
    twi_many_store_stop(m->store);
    twi_many_look_free(m->look);
    twi_page_free(m->page);
    twi_many_store_free(m->store);
    twi_known_end(m);
    for (size_t i = 0; i < TWI_FEW; i++)
        if (m->kind && m->ledger[i])
            m->kind->close(m->ledger[i]);
    twi_few_end(&m->few);
    (void)pthread_mutex_destroy(&m->known_lock);
    tw_settings_free(m->settings);
    free(m);
}
