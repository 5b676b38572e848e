/* The connections of a server, and how long each may take: whoever sends a byte every few
 * seconds is never silent for long, and would keep his place for ever. */
#ifndef TW_WEB_GUESTS_H
#define TW_WEB_GUESTS_H

#include <pthread.h>
#include <stdbool.h>
#include <stdint.h>

#include "../web.h"
#include "tawny/error.h"

enum {
    REQUEST_S = 20,    /* for the whole of a request, from the end of the last one */
    STRANGER_S = 60,   /* for taking an answer, for one who is not logged in */
    STRANGERS_MAX = 40 /* places of TW_WEB_CONNECTIONS; the others are for sessions */
};

/* A connection. Under the lock. */
typedef struct tw_guest {
    bool used;
    bool known;     /* somebody who is logged in has asked by it */
    bool answering; /* a request has come in whole */
    int socket;
    int64_t since_us; /* that it waits, or is answered */
} tw_guest;

typedef struct tw_guests {
    pthread_mutex_t lock;
    pthread_cond_t changed;
    pthread_t thread;
    bool running, ending;
    tw_guest all[TW_WEB_CONNECTIONS];
} tw_guests;

/** Zeroed memory. @return TW_OK; TW_ENOMEM: no thread. */
tw_status tw_guests_begin(tw_guests *g, tw_error *err);
void tw_guests_end(tw_guests *g);

/** A connection came. Where strangers have all their places, the one who has been there
 * for longest is shown out. @return its place, NULL: there is none. */
tw_guest *tw_guests_come(tw_guests *g, int socket);
void tw_guests_leave(tw_guests *g, tw_guest *guest);
/** Its request has come in whole, and is answered. @param known  For one who is logged
 * in. */
void tw_guests_answer(tw_guests *g, tw_guest *guest, bool known);
/** It has been answered; the next request may come. */
void tw_guests_wait(tw_guests *g, tw_guest *guest);

#endif
