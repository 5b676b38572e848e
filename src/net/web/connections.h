/* The connections of a server, and how long each may take: whoever sends a byte every few
 * seconds is never silent for long, and would keep his place forever. */
#ifndef TWI_WEB_CONNECTIONS_H
#define TWI_WEB_CONNECTIONS_H

#include <pthread.h>
#include <stdbool.h>
#include <stdint.h>

#include "../web.h"
#include "tawny/error.h"

enum {
    REQUEST_S = 20,    /* for the whole of a request, from the end of the last one */
    STRANGER_S = 60,   /* for taking an answer, for one who is not logged in */
    STRANGERS_MAX = 40 /* places of TWI_WEB_CONNECTIONS; the others are for sessions */
};

/* A connection. Under the lock. */
typedef struct twi_connection {
    bool used;
    bool known;     /* somebody who is logged in has asked by it */
    bool answering; /* a request has come in whole */
    int socket;
    int64_t since_us; /* that it waits, or is answered */
} twi_connection;

typedef struct twi_connections {
    pthread_mutex_t lock;
    pthread_cond_t changed;
    pthread_t thread;
    bool running, ending;
    twi_connection all[TWI_WEB_CONNECTIONS];
} twi_connections;

/** Zeroed memory. @return TW_OK; TW_ENOMEM: no thread. */
tw_status twi_connections_begin(twi_connections *g, tw_error *err);
void twi_connections_end(twi_connections *g);

/** A connection came. Where strangers have all their places, the one who has been there
 * for longest is shown out. @return its place, NULL: there is none. */
twi_connection *twi_connections_open(twi_connections *g, int socket);
void twi_connections_close(twi_connections *g, twi_connection *connection);
/** Its request has come in whole, and is answered. @param known  For one who is logged
 * in. */
void twi_connections_answer(twi_connections *g, twi_connection *connection, bool known);
/** It has been answered; the next request may come. */
void twi_connections_wait(twi_connections *g, twi_connection *connection);

#endif
