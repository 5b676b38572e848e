/* What the transfer module does, by libcurl, which is loaded when it is first needed:
 * getting what an address names, and sending to destinations. */
#ifndef TWI_TRANSFER_H
#define TWI_TRANSFER_H

#include <stdatomic.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "../core/reply.h"
#include "tawny/error.h"
#include "tawny/settings.h"
#include "../settings/sections.h"

enum {
    TWI_TRANSFER_ABI = 6,
    TWI_REPLY_MAX = 200,
    TWI_PUSH_KEY_BYTES = 512, /* of our key as PEM, the final 0 included */
    TWI_PUSH_PUBLIC = 88,     /* likewise of its public half, in base64url */
    TWI_PUSH_MOST = 3993,     /* bytes of a message to a phone */
    TWI_PUSH_SEALED = 4096,   /* the same, encrypted */
    TWI_PUSH_SALT = 16
};

/* One address that is got again and again over one connection. One thread at a time. */
typedef struct twi_fetch twi_fetch;

typedef struct twi_fetch_spec {
    const char *url;   /* http:// or https://, with user and password if wanted */
    const char *shown; /* its name for messages: without a password */
    long timeout_ms;   /* for all of one getting */
    size_t most_bytes; /* of an answer; larger ones are refused */
} twi_fetch_spec;

/* A destination; its connections are kept while it is there. One thread at a time. */
typedef struct twi_sender twi_sender;

/* Told of each line of the conversation, with secrets masked.
 * @param who  '<' the server, '>' we, '*' a remark. */
typedef void (*twi_talk_fn)(void *ctx, char who, const char *line);

typedef struct twi_sender_spec {
    const twi_destination_settings *to; /* borrowed while the sender is there */
    const char *secret;                 /* copied; "": none */
    const atomic_bool *stop;            /* gives up when it is set; may be NULL */
    twi_talk_fn on_line;                /* may be NULL */
    void *ctx;
} twi_sender_spec;

/* What is sent: a file, or, with path NULL, bytes in memory. Borrowed. */
typedef struct twi_content {
    const char *path;
    const void *data;
    size_t bytes;     /* of data */
    const char *name; /* "20270313T203014.jpg" */
    const char *type; /* "image/jpeg" */
} twi_content;

/* A mail. Texts are UTF-8; what would break a header is taken out. */
typedef struct twi_mail {
    const char *subject, *text, *html;
    const char *id;     /* of the message, without < > */
    const char *thread; /* id that it answers; NULL: none */
    int64_t wall_us;    /* Date */
    int32_t offset_s;
    const twi_content *pictures; /* shown by html as cid:picture0, cid:picture1, ... */
    size_t picture_count;
    const twi_content *files; /* attached */
    size_t file_count;
} twi_mail;

/* What became of it. */
typedef struct twi_sending {
    twi_verdict verdict;
    twi_fault fault;
    uint64_t bytes;          /* that went there and came back, as far as they are known:
                                without those of TLS and TCP */
    int64_t again_us;        /* the server asks not to come back sooner; 0: it does not */
    char text[TW_ERROR_MAX]; /* one line: what is wrong, what the server said */
} twi_sending;

/* A browser that takes messages (Web Push), as it told of itself. */
typedef struct twi_push_phone {
    const char *endpoint; /* address at its push service: https:// */
    const char *key;      /* its public key, base64url */
    const char *secret;   /* for authentication, 16 bytes, base64url */
} twi_push_phone;

/* What it is told. */
typedef struct twi_push_message {
    const void *data; /* as its worker reads it */
    size_t bytes;     /* at most TWI_PUSH_MOST */
    const char
        *topic; /* replaces what still waits of the same; A-Z a-z 0-9 - _, at most 32 */
    uint32_t keep_s;     /* that the service keeps it for a phone that is off */
    const char *contact; /* of who runs the station: mailto: or https:; "": not said */
    int64_t wall_us;     /* now; what is signed holds for twelve hours */
} twi_push_message;

typedef struct twi_transfer {
    int abi; /* TWI_TRANSFER_ABI */
    /** @param spec  Copied. */
    tw_status (*fetch_new)(const twi_fetch_spec *spec, twi_fetch **out, tw_error *err);
    /** Begin to get it; what is under way is given up. */
    tw_status (*fetch_begin)(twi_fetch *fetch, tw_error *err);
    /** Go on for so long at most.
     * @param data  Set on TW_OK; good until the next call.
     * @return TW_OK: all of it is there; TW_EAGAIN: not yet; else err says why it cannot
     * be got, and what to do. */
    tw_status (*fetch_step)(twi_fetch *fetch, int wait_ms, const uint8_t **data,
                            size_t *bytes, tw_error *err);
    void (*fetch_free)(twi_fetch *fetch); /* NULL is fine */

    /** @return TW_OK; TW_ENOTSUP: not a destination of this module; TW_ENOMEM. */
    tw_status (*sender_new)(const twi_sender_spec *spec, twi_sender **out, tw_error *err);
    /** Put a file there under a name below the destination's folder ("/" between parts);
     * the folders above it are made. Where the protocol can, it has another name until
     * it is whole. What has that name is replaced.
     * @param out  Always set. */
    void (*sender_put)(twi_sender *sender, const char *name, const twi_content *what,
                       twi_sending *out);
    /** Get what has a name there, as sender_put names it, into a file that is open here.
     * @param most  Bytes; what is larger is not got. @param out  Always set. */
    void (*sender_get)(twi_sender *sender, const char *name, int fd, uint64_t most,
                       twi_sending *out);
    /** POST a form, or, with count 0, the record alone.
     * @param key  The same each time that it is tried, as Idempotency-Key. */
    void (*sender_post)(twi_sender *sender, const char *key, const char *record,
                        const twi_content *files, size_t count, twi_sending *out);
    void (*sender_mail)(twi_sender *sender, const twi_mail *mail, twi_sending *out);
    void (*sender_free)(twi_sender *sender); /* NULL is fine; wipes the secret */

    /** Make a key that stands for the station at push services (RFC 8292). */
    tw_status (*push_key_new)(char pem[TWI_PUSH_KEY_BYTES], tw_error *err);
    /** Its public half, as browsers ask for it. @return TW_OK; TW_EDAMAGED: it is none.
     */
    tw_status (*push_key_public)(const char *pem, char out[TWI_PUSH_PUBLIC],
                                 tw_error *err);
    /** Encrypt for a phone (RFC 8291).
     * @param salt  NULL: by chance, as each message must have; else given by a test.
     * @param pem   Key of this message alone; NULL: a new one, likewise.
     * @return TW_OK; TW_ESIZE: too long; TW_EINVAL: the phone's keys are none. */
    tw_status (*push_seal)(const twi_push_phone *phone, const void *data, size_t bytes,
                           const uint8_t salt[TWI_PUSH_SALT], const char *pem,
                           uint8_t out[TWI_PUSH_SEALED], size_t *out_bytes,
                           tw_error *err);
    /** Hand a message to the phone's push service (RFC 8030).
     * @param pem  The station's key.
     * @param out  Always set; TWI_NEVER with TWI_FAULT_RECIPIENT: that phone takes no
     *             more messages; with TWI_FAULT_LOGIN: not of this key. */
    void (*sender_push)(twi_sender *sender, const twi_push_phone *phone, const char *pem,
                        const twi_push_message *message, twi_sending *out);
} twi_transfer;

/** What the module exports. */
extern const twi_transfer twi_transfer_table;

/** As twi_codecs_load. */
const twi_transfer *twi_transfer_load(tw_error *err);

#endif
