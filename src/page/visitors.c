/* Whose a session is. */
#include <stdio.h>
#include <stdlib.h>

#include "page_state.h"
#include "tawny/station.h"

const account *twi_page_account(twi_page *p, const char *token, const accounts *all,
                                session *out)
{
    if (!token || !twi_session_find(&p->sessions, p->web, token, twi_page_now(p), out))
        return NULL;
    const account *who = twi_accounts_find(all, out->name);
    if (who && p->web->same(who->hash, out->hash))
        return who;
    twi_session_end(&p->sessions, p->web, token);
    return NULL;
}

bool twi_page_may_look(twi_page *p, const char *token)
{
    session s;
    accounts *all = calloc(1, sizeof *all);
    bool may = all && twi_accounts_read(p->accounts_file, all, NULL) == TW_OK;
    may = may && (token[0] ? twi_page_account(p, token, all, &s) != NULL : !all->made);
    free(all);
    return may;
}

bool twi_may_see(const twi_asked *r, const char *camera)
{
    return r->cameras[0] == '\0' || twi_settings_names(r->cameras, camera);
}

void twi_page_did(twi_page *p, const twi_asked *r, const char *camera, const char *what)
{
    char line[TW_ERROR_MAX];
    (void)snprintf(line, sizeof line, "%s, by %s", what,
                   r->who[0] ? r->who : "somebody at this machine");
    (void)pthread_mutex_lock(&p->station_lock);
    if (p->station)
        (void)tw_station_did(p->station, camera, line);
    (void)pthread_mutex_unlock(&p->station_lock);
}
