/* What a word becomes on its way to a station: settings are signed. */
#ifndef TWI_GATHER_SIGNED_H
#define TWI_GATHER_SIGNED_H

#include "../net/broker.h"
#include "words.h"

/** The order that a word is told as: {"do": "settings", "draft": TEXT, "signature":
 * TEXT}, or what is said with its id.
 *
 * @param secret  The key that signs settings; "": none, of which nothing is made.
 * @return the caller's to free(); NULL: it cannot be made.
 */
char *twi_signed_order(const twi_broker_module *brokers, const char *secret,
                       const twi_due *due);

#endif
