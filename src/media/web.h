/* What the web module does: an HTTP server by libmicrohttpd, and passwords by libsodium,
 * which are loaded when they are first needed. It knows nothing of what is served. */
#ifndef TW_WEB_H
#define TW_WEB_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

enum {
    TW_WEB_ABI = 3,
    TW_WEB_CONNECTIONS = 64, /* at once; more are closed */
    TW_WEB_PATIENCE_S = 15,  /* without a sign from the other side */
    TW_WEB_BODY_MAX = 1 << 20,
    TW_HASH_BYTES = 128, /* of a password's hash, the final 0 included */
    TW_TOKEN_BYTES = 44  /* likewise of a token */
};

typedef struct tw_web tw_web;
typedef struct tw_web_call tw_web_call; /* a request, for its handler */

typedef struct tw_web_request {
    const char *method; /* "GET" */
    const char *path;   /* decoded; begins with "/" */
    const char *peer;   /* address of who asks */
    const char *body;   /* ended by 0; "" none */
    size_t bytes;
    tw_web_call *call; /* for the look-ups of the table */
} tw_web_request;

typedef enum tw_answer_kind {
    TW_ANSWER_BYTES,
    TW_ANSWER_FILE,
    TW_ANSWER_STREAM
} tw_answer_kind;

/* What is answered. All zero but status: nothing is in it. */
typedef struct tw_web_answer {
    tw_answer_kind kind;
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
    long (*read)(void *ctx, char *out, size_t room); /* may wait; -1: it ends */
    void (*end)(void *ctx);
    void *ctx;
} tw_web_answer;

typedef void (*tw_web_handle_fn)(void *ctx, const tw_web_request *request,
                                 tw_web_answer *out);

typedef struct tw_web_spec {
    const char *address;           /* "127.0.0.1", "::", "0.0.0.0" */
    int port;                      /* 0: any */
    const char *certificate, *key; /* PEM, in memory; NULL: no TLS */
    tw_web_handle_fn handle;       /* from many threads at once */
    void *ctx;
} tw_web_spec;

typedef struct tw_web_module {
    int abi; /* TW_WEB_ABI */
    /** @return TW_OK; TW_EACCES, TW_EEXIST: the port is not to be had; TW_EINVAL. */
    tw_status (*start)(const tw_web_spec *spec, tw_web **out, tw_error *err);
    int (*port)(const tw_web *web);
    /** Streams must end by themselves: read returns -1 from now on. NULL is fine. */
    void (*stop)(tw_web *web);
    /** A header, a cookie, a part of the query; NULL: there is none. For the handler. */
    const char *(*header)(tw_web_call *call, const char *name);
    const char *(*cookie)(tw_web_call *call, const char *name);
    const char *(*query)(tw_web_call *call, const char *name);
    /** Argon2id, which takes memory and time on purpose. @return false: out of memory. */
    bool (*hash)(const char *password, char out[TW_HASH_BYTES]);
    bool (*check)(const char *password, const char *hash);
    /** 256 bits by chance, in letters that are safe anywhere. */
    void (*token)(char out[TW_TOKEN_BYTES]);
    /** Whether two texts are the same, in a time that does not tell where they differ. */
    bool (*same)(const char *a, const char *b);
} tw_web_module;

typedef const tw_web_module *(*tw_web_entry)(void);

/** As tw_codecs_load. */
const tw_web_module *tw_web_load(tw_error *err);

#endif
