/* The ledgers that the page reads: a few, each for one thread at a time. */
#include "many_state.h"

twi_ledger *twi_many_take(twi_many *m, tw_error *err)
{
    const size_t at = twi_few_take(&m->few);
    if (!m->ledger[at] && m->kind->open(m->place, &m->ledger[at], err) != TW_OK) {
        m->ledger[at] = NULL;
        twi_few_give(&m->few, at);
        return NULL;
    }
    return m->ledger[at];
}

void twi_many_give(twi_many *m, twi_ledger *ledger, tw_status st)
{
    size_t at = 0;
    while (at < TWI_FEW && m->ledger[at] != ledger)
        at++;
    if (at == TWI_FEW)
        return;
    if (st != TW_OK) {
        m->kind->close(ledger);
        m->ledger[at] = NULL;
    }
    twi_few_give(&m->few, at);
}
