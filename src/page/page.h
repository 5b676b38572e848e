/* The page that a station serves, and the accounts of those who may see
 * it.
 *
 * The page is for the person at the camera with a phone, and for the same person at home.
 * It asks no other host for anything. Without an account it answers on loopback only, and
 * whoever is there may do anything. */
#ifndef TWI_PAGE_H
#define TWI_PAGE_H

#include <pthread.h>
#include <stdbool.h>

#include "tawny/error.h"
#include "tawny/port.h"
#include "tawny/settings.h"
#include "tawny/station.h"

enum {
    TWI_ACCOUNTS_MAX = 64,
    TWI_ACCOUNT_NAME_MAX = 33,     /* bytes, the final 0 included */
    TWI_ACCOUNT_CAMERAS_MAX = 256, /* likewise */
    TWI_PASSWORD_LEAST = 8,        /* letters */
    TWI_PASSWORD_MAX = 256
};

/* What an account may do. */
typedef enum twi_may {
    TWI_MAY_NOTHING,
    TWI_MAY_LOOK, /* see */
    TWI_MAY_RUN   /* and change */
} twi_may;

/** Make an account, or give it another password and other rights. The password is hashed
 * by argon2id; the file is made with mode 0600, and replaced as a whole.
 *
 * @param name  1 to 32 letters, digits, - _ or .
 * @param cameras  That it may see, with blanks between; "": all.
 * @return TW_OK; TW_EINVAL: bad name, bad cameras, or a password that is too short or
 * long; TW_ESIZE: TWI_ACCOUNTS_MAX are there; TW_ENOTSUP: a module is missing;
 * TW_EDAMAGED: the file is none of accounts, or others may read it; TW_EIO... */
tw_status twi_account_set(const char *file, const char *name, twi_may may,
                          const char *cameras, const char *password, tw_error *err);

/** @return TW_OK; TW_ENOENT: there is no such account; else as above. */
tw_status twi_account_remove(const char *file, const char *name, tw_error *err);

/** Visit all accounts in the order of the file. @return as above; a file that is not
 * there has none. */
tw_status twi_account_walk(const char *file,
                           void (*visit)(void *ctx, const char *name, twi_may may,
                                         const char *cameras),
                           void *ctx, tw_error *err);

typedef struct twi_page twi_page;

/** Told of what happens to the page: "answers at http://...". From any thread. */
typedef void (*twi_page_report_fn)(void *ctx, tw_status st, const char *line);

/* What a page needs of the program that it is part of. */
typedef struct twi_page_host {
    const char *store;         /* folder of the captures */
    const tw_card *card;       /* the same, to remove sightings from; NULL: none is
                                  removed. Outlives the page */
    const char *settings_file; /* NULL: settings are not changed */
    tw_clock clock;
    twi_page_report_fn callback; /* may be NULL */
    /* The file has changed, and says these settings, which are the callee's. From any
     * thread. @return TW_OK; else they do not hold, which is told. NULL: they wait for
     * whoever reads the file next. */
    tw_status (*apply)(void *ctx, tw_settings *settings);
    pthread_mutex_t *writing; /* held while that file is changed, for others who do;
                                 NULL: nobody does. Outlives the page */
    /* As in tw_outward_host. */
    tw_status (*propose)(void *ctx, const char *camera, const volatile int *stop,
                         char **out, tw_error *err);
    /* Who answers for more than one station: tables of its own, that end with an entry
     * without a path. NULL: the station's. They outlive the page. */
    const struct twi_answerer *read, *change;
    const char *listen; /* instead of the settings'; NULL: that */
    void *ctx;
} twi_page_host;

/**
 * Serve the page at the settings' listen, until twi_page_free.
 *
 * @param settings  Copied.
 * @param host      Its texts are copied.
 * @param out       Set on TW_OK, to NULL if listen is none.
 * @return TW_OK; TW_EACCES, TW_EEXIST...: the port is not to be had; TW_EINVAL: it is to
 *         listen to others without an account; TW_ENOTSUP: the web module is missing.
 */
tw_status twi_page_new(const tw_settings *settings, const twi_page_host *host,
                       twi_page **out, tw_error *err);

/** @return the port at which it answers. */
int twi_page_port(const twi_page *page);

/** What it shows of cameras is of these settings from now on; where it answers stays.
 * @return TW_OK; TW_ENOMEM. NULL is fine. */
tw_status twi_page_reload(twi_page *page, const tw_settings *settings);

/** The station that it shows, whose events it takes from then on: before tw_station_run,
 * once; NULL: none any more, before it is freed. A frame's picture is taken for those who
 * look at its camera, none where nobody does.
 * @return TW_OK, as where page is NULL; else as tw_station_subscribe. */
tw_status twi_page_station(twi_page *page, tw_station *station);

/** Ends all connections, and removes the sightings that were to be. NULL is fine. */
void twi_page_free(twi_page *page);

#endif
