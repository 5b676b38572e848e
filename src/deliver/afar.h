/* Settings that come from afar, signed: what the page of many stations has changed. */
#ifndef TWI_AFAR_H
#define TWI_AFAR_H

#include <pthread.h>
#include <stdbool.h>

#include "../net/broker.h"
#include "../station/drafts.h"
#include "tawny/settings.h"

/* How they reach a station. */
typedef struct twi_afar {
    const char *file;         /* of its settings; NULL: it has none */
    pthread_mutex_t *writing; /* held while that is changed; waited for a second */
    /** What was written is to hold; does not wait for it. @param made  Taken over. */
    void (*apply)(void *ctx, tw_settings *made);
    void *ctx;
} twi_afar;

/* From whom, and to whom. */
typedef struct twi_afar_way {
    const twi_broker_module *brokers;
    const char *key;         /* of who may; "": nobody */
    const char *station;     /* its name */
    tw_catalogue *catalogue; /* knows the last one; NULL: none is taken */
} twi_afar_way;

/**
 * Take in {"do": "settings", "draft": TEXT, "signature": TEXT}. The draft, which is what
 * was signed, is {"id": NUMBER, "station": NAME, "changes": [...]}; ids grow. One that
 * was taken is not taken again: it is answered as it was then.
 *
 * @param to   Not used where the order is refused before; may be zeroed: it takes none.
 * @param out  Set on TW_OK to what is to be answered.
 * @return TW_OK; TW_ENOTSUP: it is another order; TW_ESYNTAX: not understood, and nobody
 *         can be answered; TW_EAGAIN: somebody else changes the file; TW_EIO...: err. It
 *         is to come again then.
 */
tw_status twi_afar_take(const twi_afar *to, const twi_afar_way *way, const void *text,
                        size_t bytes, twi_draft_word *out, tw_error *err);

/** What of settings others may see, for brokers that have a key. @return the caller's to
 * free(); NULL: out of memory, or it is too much to be told. */
char *twi_afar_text(const tw_settings *settings);

#endif
