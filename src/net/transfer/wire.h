/* What the parts of the transfer module share. */
#ifndef TWI_WIRE_H
#define TWI_WIRE_H

#include <curl/curl.h>

#include "../transfer.h"

enum { URL_BYTES = 4096, SAID_MAX = 512 };

/* What the server says, and what is reported of the conversation. */
typedef struct wire_talk {
    twi_talk_fn on_line;
    void *ctx;
    const char *secret;
    bool answering;           /* the server has asked for a part of a login */
    char last[TWI_REPLY_MAX]; /* line of the server's, as it may be shown */
    char tale[TWI_REPLY_MAX]; /* remark of the library's, likewise */
    char body[TWI_REPLY_MAX]; /* of an answer: its beginning */
    size_t body_bytes;
    uint64_t sent_bytes; /* since the last line */
} wire_talk;

struct twi_sender {
    twi_sender_spec spec;
    CURL *easy;
    twi_protocol protocol;
    char base[URL_BYTES]; /* for the library: no user, ends with "/" */
    char user[256];
    char *secret;
    char why[CURL_ERROR_SIZE];
    wire_talk talk;
    uint64_t body_bytes;                 /* of the answer, as far as it has come */
    int64_t body_since_us;               /* when its first came */
    bool cut_off;                        /* it had no end */
    uint64_t cost;                       /* bytes of all requests for what is sent */
    struct curl_slist *headers, *quotes; /* of the transfer that runs */
};

/* fetch.c: as the table says. */
tw_status twi_fetch_new(const twi_fetch_spec *spec, twi_fetch **out, tw_error *err);
tw_status twi_fetch_begin(twi_fetch *fetch, tw_error *err);
tw_status twi_fetch_step(twi_fetch *fetch, int wait_ms, const uint8_t **data,
                         size_t *bytes, tw_error *err);
void twi_fetch_free(twi_fetch *fetch);

/* sender.c */
tw_status wire_sender_new(const twi_sender_spec *spec, twi_sender **out, tw_error *err);
void wire_sender_free(twi_sender *sender);

/** Set the library up anew for one transfer: who, how encrypted, how long.
 * @return false: out of memory, or what the settings say cannot be done. */
bool wire_begin(twi_sender *s);

/** Add a header or a command; NULL text is none. @return false: out of memory. */
bool wire_header(twi_sender *s, const char *text);
bool wire_quote(twi_sender *s, const char *text);

/** (put.c) A name below the base, each part escaped. @return false: no room, or no good
 * name. */
bool wire_address(const twi_sender *s, const char *name, const char *ending, char *out,
                  size_t capacity);

/** Run it, and say what became of it. @param out  Always set. */
void wire_run(twi_sender *s, twi_sending *out);

/** Set out without a transfer: for what fails before. */
void wire_fail(twi_sending *out, twi_fault fault, const char *more);

/* put.c, get.c, post.c, mail.c: as the table says. */
void wire_get(twi_sender *s, const char *name, int fd, uint64_t most, twi_sending *out);
void wire_put(twi_sender *s, const char *name, const twi_content *what, twi_sending *out);
void wire_post(twi_sender *s, const char *key, const char *record,
               const twi_content *files, size_t count, twi_sending *out);
void wire_mail(twi_sender *s, const twi_mail *mail, twi_sending *out);

/* push.c: as the table says. */
void wire_push(twi_sender *s, const twi_push_phone *phone, const char *pem,
               const twi_push_message *message, twi_sending *out);

/* seal.c: keys and encryption of Web Push; the first three as the table says. */
tw_status push_key_new(char pem[TWI_PUSH_KEY_BYTES], tw_error *err);
tw_status push_key_public(const char *pem, char out[TWI_PUSH_PUBLIC], tw_error *err);
tw_status push_seal(const twi_push_phone *phone, const void *data, size_t bytes,
                    const uint8_t salt[TWI_PUSH_SALT], const char *pem,
                    uint8_t out[TWI_PUSH_SEALED], size_t *out_bytes, tw_error *err);

/** Sign claims by ES256 (RFC 7515): "head.claims.signature".
 * @return the caller's to free(); NULL: the key is none, or out of memory. */
char *push_sign(const char *pem, const char *claims);

/* talk.c */

/** The library's debug callback; its context is a wire_talk. */
int wire_hear(CURL *easy, curl_infotype type, char *data, size_t bytes, void *ctx);

/** What the settings' headers say, with the secret put in. @return false: no memory. */
bool wire_own_headers(twi_sender *s);

/** Sign what is asked of object storage, by signature version 4. @param hash  SHA-256 of
 * the body in hex. @return false: no memory. */
bool wire_sign(twi_sender *s, const char *hash);

/** Bytes that a part or an upload is made of.
 * @return false: a file is not there, or out of memory. */
bool wire_add_part(curl_mime *mime, const char *field, const twi_content *what,
                   const char *encoder);

#endif
