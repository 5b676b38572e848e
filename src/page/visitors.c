/* Whose a session is. */
#include <stdlib.h>

#include "page_state.h"

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
