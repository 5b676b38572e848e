/* A batch in order: what is of one station and one series lies together, "a head" being
 * the first of it; in there by number, and of a sighting the last word first. */
#ifndef TWI_GATHER_POSTGRES_ORDER_H
#define TWI_GATHER_POSTGRES_ORDER_H

#include "../heard.h"

typedef struct twi_pg_order {
    const twi_heard **one; /* of the batch */
    size_t count;
} twi_pg_order;

tw_status twi_pg_order_begin(twi_pg_order *order, const twi_heard *batch, size_t count,
                             tw_error *err);
void twi_pg_order_free(twi_pg_order *order); /* also zeros */

bool twi_pg_is_head(const twi_pg_order *order, size_t i);

/** A sighting, or that it is gone. */
bool twi_pg_is_seen(const twi_heard *heard);

#endif
