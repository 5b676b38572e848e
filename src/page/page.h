/* What the parts of the page share. */
#ifndef TW_PAGE_PAGE_H
#define TW_PAGE_PAGE_H

#include <pthread.h>
#include <stdatomic.h>

#include "../media/web.h"
#include "tawny/catalogue.h"
#include "tawny/page.h"

enum { SESSIONS_MAX = 64, FAILURES_MAX = 256, CAMERAS_MAX = 64, PATH_BYTES = 4096 };

/* ---- accounts.c */

typedef struct account {
    char name[TW_ACCOUNT_NAME_MAX];
    char hash[TW_HASH_BYTES];
    tw_may may;
} account;

typedef struct accounts {
    account all[TW_ACCOUNTS_MAX];
    size_t count;
} accounts;

/** @return TW_OK, also where there is no file; else err says what is wrong with it. */
tw_status tw_accounts_read(const char *file, accounts *out, tw_error *err);
const account *tw_accounts_find(const accounts *all, const char *name);

/* ---- sessions.c */

/* Somebody who is logged in. */
typedef struct session {
    char token[TW_TOKEN_BYTES];  /* in the cookie */
    char change[TW_TOKEN_BYTES]; /* that changes must bring along */
    char name[TW_ACCOUNT_NAME_MAX];
    tw_may may;
    int64_t seen_us; /* by the clock; 0: the place is free */
} session;

/* Logins that failed, by who tried or for whom. */
typedef struct failure {
    char key[96];
    unsigned count;
    int64_t until_us; /* nothing is tried before */
    int64_t last_us;
} failure;

typedef struct sessions {
    pthread_mutex_t lock;
    session all[SESSIONS_MAX];
    failure failed[FAILURES_MAX];
} sessions;

/** Begin one; the oldest goes if there are too many. @param out  A copy. */
void tw_session_begin(sessions *s, const tw_web_module *web, const account *who,
                      int64_t now_us, session *out);
/** @return whether a token is one of a session that is not too old. */
bool tw_session_find(sessions *s, const tw_web_module *web, const char *token,
                     int64_t now_us, session *out);
void tw_session_end(sessions *s, const tw_web_module *web, const char *token);

/** @return how long somebody must wait before the next try, microseconds; 0: not. */
int64_t tw_login_wait(sessions *s, const char *peer, const char *name, int64_t now_us);
void tw_login_failed(sessions *s, const char *peer, const char *name, int64_t now_us);
void tw_login_worked(sessions *s, const char *peer, const char *name);

/* ---- live.c */

/* A camera's newest picture, while somebody looks. */
typedef struct view {
    char name[64];
    unsigned watching; /* how many */
    uint8_t *jpeg;     /* owned; NULL: none yet */
    size_t bytes;
    uint64_t number; /* of the picture */
    int64_t next_us; /* none is taken before, by the clock */
} view;

typedef struct live {
    pthread_mutex_t lock;
    pthread_cond_t came;
    view all[CAMERAS_MAX];
    size_t count;
    int64_t every_us;
    bool ending;
} live;

void tw_live_init(live *l, int64_t every_us);
void tw_live_end(live *l); /* streams end */
void tw_live_free(live *l);
void tw_live_event(live *l, const tw_event *event, int64_t now_us);
/** Answer with a stream of a camera's pictures, or with one. */
void tw_live_stream(live *l, const char *camera, tw_web_answer *out);
void tw_live_picture(live *l, const char *camera, tw_web_answer *out);

/* ---- page.c */

struct tw_page {
    tw_settings *settings; /* under station_lock */
    char *store, *accounts_file, *station_name;
    tw_clock clock;
    tw_page_told_fn told;
    void *ctx;
    const tw_web_module *web;
    tw_web *server;
    char *certificate, *key; /* PEM; NULL: no TLS */
    bool loopback;           /* it answers there alone */
    sessions sessions;
    live live;
    pthread_mutex_t station_lock; /* as in src/deliver: never where an event is told */
    tw_station *station;
    pthread_mutex_t store_lock;
    tw_catalogue *catalogue; /* under it; NULL: not open */
};

bool tw_page_is_tls(const tw_page *page);
bool tw_page_has_camera(tw_page *page, const char *name);

/* ---- api.c */

/** The handler of the server. */
void tw_page_handle(void *page, const tw_web_request *request, tw_web_answer *out);

/* ---- show.c: what is read, as JSON; stored.c: sightings and captures */

void tw_show_status(tw_page *p, tw_web_answer *out);
void tw_show_sightings(tw_page *p, const tw_web_request *r, tw_web_answer *out);
void tw_show_sighting(tw_page *p, int64_t id, tw_web_answer *out);
void tw_show_capture(tw_page *p, const tw_web_request *r, const char *file,
                     tw_web_answer *out);
void tw_change_sighting(tw_page *p, const tw_web_request *r, int64_t id,
                        tw_web_answer *out);
void tw_do_order(tw_page *p, const tw_web_request *r, tw_web_answer *out);

/** Answer with JSON (a json_t), which is let go. */
void tw_answer_json(void *json, unsigned status, tw_web_answer *out);
/** Answer with {"error": ...}. */
void tw_answer_error(unsigned status, const char *text, tw_web_answer *out);

#endif
