/* The ledgers that the page reads: a few, each for one thread at a time. */
#include "many_state.h"

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
