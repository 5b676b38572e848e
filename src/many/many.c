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
    {"/api/names", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_names},
    {"/api/thumbs/", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_thumb},
    {"/captures/", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_capture},
    {NULL, TWI_MAY_NOTHING, TWI_SOME_NOTHING, NULL}};

static const twi_answerer CHANGE[] = {
    {"/api/visit", TWI_MAY_LOOK, TWI_SOME_HEEDED, twi_many_visit},
    {"/api/order", TWI_MAY_RUN, TWI_SOME_HEEDED, twi_many_order},
    {NULL, TWI_MAY_NOTHING, TWI_SOME_NOTHING, NULL}};

/* ---- ledgers ---------------------------------------------------------------------- */

static size_t wait_for_one(twi_many *m)
{
    size_t at = LEDGERS;
    (void)pthread_mutex_lock(&m->lock);
    while (at == LEDGERS) {
        for (at = 0; at < LEDGERS && m->busy[at]; at++)
            ;
        if (at == LEDGERS)
            (void)pthread_cond_wait(&m->freed, &m->lock);
    }
    m->busy[at] = true;
    (void)pthread_mutex_unlock(&m->lock);
    return at;
}

static void give_back(twi_many *m, size_t at)
{
    (void)pthread_mutex_lock(&m->lock);
    m->busy[at] = false;
    (void)pthread_cond_signal(&m->freed);
    (void)pthread_mutex_unlock(&m->lock);
}

twi_ledger *twi_many_take(twi_many *m, tw_error *err)
{
    const size_t at = wait_for_one(m);
    if (!m->ledger[at] && m->kind->open(m->place, &m->ledger[at], err) != TW_OK) {
        m->ledger[at] = NULL;
        give_back(m, at);
        return NULL;
    }
    return m->ledger[at];
}

void twi_many_give(twi_many *m, twi_ledger *ledger, tw_status st)
{
    size_t at = 0;
    while (at < LEDGERS && m->ledger[at] != ledger)
        at++;
    if (at == LEDGERS)
        return;
    if (st != TW_OK) {
        m->kind->close(ledger);
        m->ledger[at] = NULL;
    }
    give_back(m, at);
}

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
    (void)pthread_mutex_init(&m->lock, NULL);
    (void)pthread_mutex_init(&m->known_lock, NULL);
    (void)pthread_cond_init(&m->freed, NULL);
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
        st = begin_page(m, &set, err);
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
    twi_page_free(m->page);
    for (size_t i = 0; i < LEDGERS; i++)
        if (m->ledger[i])
            m->kind->close(m->ledger[i]);
    twi_known_clear(&m->known);
    (void)pthread_mutex_destroy(&m->lock);
    (void)pthread_mutex_destroy(&m->known_lock);
    (void)pthread_cond_destroy(&m->freed);
    tw_settings_free(m->settings);
    free(m);
}
