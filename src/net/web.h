/* What the web module does: an HTTP server by libmicrohttpd, and passwords by libsodium,
 * which are loaded when they are first needed. It knows nothing of what is served. */
#ifndef TWI_WEB_H
#define TWI_WEB_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

enum {
    TWI_WEB_ABI = 4,
    TWI_WEB_CONNECTIONS = 64, /* at once; more are closed */
    TWI_WEB_PATIENCE_S = 15,  /* without a sign from the other side */
    TWI_WEB_BODY_MAX = 1 << 20,
    TWI_HASH_BYTES = 128, /* of a password's hash, the final 0 included */
    TWI_TOKEN_BYTES = 44  /* likewise of a token */
};

typedef struct twi_web twi_web;
typedef struct twi_web_call twi_web_call; /* a request, for its handler */

typedef struct twi_web_request {
    const char *method; /* "GET" */
    const char *path;   /* decoded; begins with "/" */
    const char *peer;   /* address of who asks */
    const char *body;   /* ended by 0; "" none */
    size_t bytes;
    twi_web_call *call; /* for the look-ups of the table */
} twi_web_request;

typedef enum twi_answer_kind {
    TWI_ANSWER_BYTES,
    TWI_ANSWER_FILE,
    TWI_ANSWER_STREAM
} twi_answer_kind;

/* What is answered. All zero but status: nothing is in it. */
typedef struct twi_web_answer {
    twi_answer_kind kind;
    unsigned status;
    const char *type;  /* content type; static */
    char cookie[256];  /* Set-Cookie; "" none */
    char name[256];    /* that a browser saves it under; "" none */
    char tag[24];      /* ETag, without its quotes; "" none */
    const char *cache; /* Cache-Control; NULL: no-store */
    bool zipped;       /* bytes are gzip */
    bool known;        /* who asks is let in: his connection keeps its place */
    unsigned again_s;  /* Retry-After; 0 none */
    /* BYTES: */
    const void *data;
    size_t bytes;
    bool owned; /* data is freed by the server */
    /* FILE: opened here, closed by the server. A range that is asked for is cut out. */
    int fd;
    uint64_t file_bytes;
    /* STREAM: */
    long (*read)(void *ctx, char *out, size_t room); /* may wait; -1: it ends; -2: it
                                                        failed, and is no whole */
    void (*end)(void *ctx);
    void *ctx;
} twi_web_answer;

typedef void (*twi_web_handle_fn)(void *ctx, const twi_web_request *request,
                                  twi_web_answer *out);

typedef struct twi_web_spec {
    const char *address;           /* "127.0.0.1", "::", "0.0.0.0" */
    int port;                      /* 0: any */
    const char *certificate, *key; /* PEM, in memory; NULL: no TLS */
    twi_web_handle_fn handle;      /* from many threads at once */
    void *ctx;
} twi_web_spec;

typedef struct twi_web_module {
    int abi; /* TWI_WEB_ABI */
    /** @return TW_OK; TW_EACCES, TW_EEXIST: the port is not to be had; TW_EINVAL. */
    tw_status (*start)(const twi_web_spec *spec, twi_web **out, tw_error *err);
    int (*port)(const twi_web *web);
    /** Streams must end by themselves: read returns -1 from now on. NULL is fine. */
    void (*stop)(twi_web *web);
    /** A header, a cookie, a part of the query; NULL: there is none. For the handler. */
    const char *(*header)(twi_web_call *call, const char *name);
    const char *(*cookie)(twi_web_call *call, const char *name);
    const char *(*query)(twi_web_call *call, const char *name);
    /** Argon2id, which takes memory and time on purpose. @return false: out of memory. */
    bool (*hash)(const char *password, char out[TWI_HASH_BYTES]);
    bool (*check)(const char *password, const char *hash);
    /** 256 bits by chance, in letters that are safe anywhere. */
    void (*token)(char out[TWI_TOKEN_BYTES]);
    /** Whether two texts are the same, in a time that does not tell where they differ. */
    bool (*same)(const char *a, const char *b);
} twi_web_module;

/** What the module exports. */
extern const twi_web_module twi_web_table;

/** As twi_codecs_load. */
const twi_web_module *twi_web_load(tw_error *err);

#endif
