/* What the transfer module does: getting what an address names, by libcurl, which is
 * loaded when it is first needed. */
#ifndef TW_TRANSFER_H
#define TW_TRANSFER_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

enum { TW_TRANSFER_ABI = 1 };

/* One address that is got again and again over one connection. One thread at a time. */
typedef struct tw_fetch tw_fetch;

typedef struct tw_fetch_spec {
    const char *url;   /* http:// or https://, with user and password if wanted */
    const char *shown; /* its name for messages: without a password */
    long timeout_ms;   /* for all of one getting */
    size_t most_bytes; /* of an answer; larger ones are refused */
} tw_fetch_spec;

typedef struct tw_transfer {
    int abi; /* TW_TRANSFER_ABI */
    /** @param spec  Copied. */
    tw_status (*fetch_new)(const tw_fetch_spec *spec, tw_fetch **out, tw_error *err);
    /** Begin to get it; what is under way is given up. */
    tw_status (*fetch_begin)(tw_fetch *fetch, tw_error *err);
    /** Go on for so long at most.
     * @param data  Set on TW_OK; good until the next call.
     * @return TW_OK: all of it is there; TW_EAGAIN: not yet; else err says why it cannot
     * be got, and what to do. */
    tw_status (*fetch_step)(tw_fetch *fetch, int wait_ms, const uint8_t **data,
                            size_t *bytes, tw_error *err);
    void (*fetch_free)(tw_fetch *fetch); /* NULL is fine */
} tw_transfer;

typedef const tw_transfer *(*tw_transfer_entry)(void);

/** As tw_codecs_load. */
const tw_transfer *tw_transfer_load(tw_error *err);

#endif
