/* A page that is served, and speaking to it byte by byte, as no browser would. */
#ifndef TW_TEST_SITE_H
#define TW_TEST_SITE_H

#include <stdatomic.h>

#include "stored.h"

typedef struct site {
    stored *s;                                      /* its store, and a sighting in it */
    volatile int proposes_slowly, proposes_nothing; /* what is learnt from marks */
    char *accounts, *file; /* of accounts, of settings: a camera kerb, a folder shed */
    tw_card card;
    twi_page *page;
    int port;
    char host[64];
    char told[1024];       /* what the page said while it was made */
    atomic_int reloads;    /* that the page asked for */
    atomic_llong ahead_us; /* of the machine's clock, that of the page is */
} site;

/** Serve a page for "127.0.0.1:0" of a store with one sighting. @param accounts  With
 * ann, who may run it (frogspawn), and bob, who may look (tadpoles). */
site *open_site(bool accounts);
/** Try to serve it at another address, in w->page. */
tw_status try_page(site *w, const char *listen, tw_error *err);
void close_site(site *w);

/** @return a connection, -1: refused. */
int dial(int port);
/** All that comes back until it is closed; static. */
const char *speak(int port, const char *text);
/** Ask. @param more  Header lines, each ended by \r\n. @return as speak. */
const char *get(const site *w, const char *path, const char *more);
const char *post(const site *w, const char *path, const char *more, const char *body);

int code_of(const char *answer);
void check(int code, const char *answer);

/** Its body as JSON, a json_t that is the caller's; fails unless the code is right. */
void *body_of(int code, const char *answer);

/** A value of JSON that is a text. */
void text_of(const char *answer, const char *key, char out[64]);

/** Log in. @param cookie  Set to the header line; change: to that of changes. */
void log_in(const site *w, const char *name, const char *password, char cookie[256],
            char change[256]);

#endif
