/* What the parts of the page share. */
#ifndef TWI_PAGE_PAGE_STATE_H
#define TWI_PAGE_PAGE_STATE_H

#include <pthread.h>
#include <stdatomic.h>

#include "../core/recent.h"
#include "../net/web.h"
#include "../settings/draft.h"
#include "answer.h"
#include "page.h"
#include "tawny/catalogue.h"
#include "../settings/sections.h"
#include "tawny/events.h"
#include "tawny/settings.h"

enum {
    SESSIONS_OF_ONE = 8, /* of an account; its oldest goes for a new one */
    SESSIONS_MAX = SESSIONS_OF_ONE * TWI_ACCOUNTS_MAX,
    FAILURES_MAX = 256,
    LOGINS_MAX = 4, /* that wait for their password to be checked, one after another */
    CAMERAS_MAX = 64,
    PATH_BYTES = 4096,
    CELLS_MAX = TW_CELLS_MAX * TW_CELLS_MAX,
    SECONDS_KEPT = 180, /* more than the catalogue is behind */
    REMOVALS_MAX = 1000,
    UNDO_S = 10 /* that a removal can be undone for */
};

/* ---- accounts.c */

typedef struct account {
    char name[TWI_ACCOUNT_NAME_MAX];
    char cameras[TWI_ACCOUNT_CAMERAS_MAX]; /* with blanks between; "": all */
    char hash[TWI_HASH_BYTES];
    twi_may may;
} account;

typedef struct accounts {
    account all[TWI_ACCOUNTS_MAX];
    size_t count;
    bool made; /* there is a file; where the last account is gone, nobody is let in */
} accounts;

/** @return TW_OK, also where there is no file; else err says what is wrong with it. */
tw_status twi_accounts_read(const char *file, accounts *out, tw_error *err);
const account *twi_accounts_find(const accounts *all, const char *name);

/* ---- sessions.c */

/* Somebody who is logged in. */
typedef struct session {
    char token[TWI_TOKEN_BYTES];  /* in the cookie */
    char change[TWI_TOKEN_BYTES]; /* that changes must bring along */
    char name[TWI_ACCOUNT_NAME_MAX];
    char hash[TWI_HASH_BYTES]; /* of the password that held: it ends with that */
    int64_t seen_us;           /* by the clock; 0: the place is free */
} session;

/* Logins that failed, by who tried, and by who tried for whom. */
typedef struct failure {
    char key[128];
    unsigned count;
    int64_t until_us; /* nothing is tried before */
    int64_t last_us;
} failure;

typedef struct sessions {
    pthread_mutex_t lock;
    pthread_mutex_t checking; /* a password is: it takes 64 MB, so one at a time */
    unsigned waiting;         /* for that, and the one that is checked; under lock */
    session all[SESSIONS_MAX];
    failure failed[FAILURES_MAX];
} sessions;

/** Begin one; the oldest goes if there are too many. @param out  A copy. */
void twi_session_begin(sessions *s, const twi_web_module *web, const account *who,
                       int64_t now_us, session *out);
/** @return whether a token is one of a session that is not too old. */
bool twi_session_find(sessions *s, const twi_web_module *web, const char *token,
                      int64_t now_us, session *out);
void twi_session_end(sessions *s, const twi_web_module *web, const char *token);

/** Begin to check a password, when its turn has come. It counts as failed from now on.
 * @param known  Who tries is let in already, and need not wait for those who guess.
 * @return 0, and twi_login_end follows; else how long somebody must wait before the next
 *         try, microseconds. */
int64_t twi_login_begin(sessions *s, const char *peer, const char *name, bool known,
                        int64_t now_us);
/** @param worked  It was right: what had failed before is forgotten. */
void twi_login_end(sessions *s, const char *peer, const char *name, bool worked);

/* ---- live.c */

/* A camera's newest picture, and what was read in it; while somebody looks. */
typedef struct view {
    char name[TWI_PAGE_CAMERA];
    unsigned watching; /* how many */
    int64_t until_us; /* somebody has just looked: it is taken until then, by the clock */
    uint8_t *jpeg;    /* owned; NULL: none yet */
    size_t bytes;
    uint64_t number;           /* of the picture */
    int64_t taken_us, next_us; /* by the clock; none is taken before next_us */
    tw_watch_state state;
    int64_t wall_us;
    tw_reading reading; /* its cells are those below */
    uint8_t cells[CELLS_MAX];
} view;

typedef struct live {
    pthread_mutex_t lock;
    pthread_cond_t came;
    view *all[CAMERAS_MAX]; /* owned */
    size_t count;
    int64_t every_us;
    tw_clock clock;
    bool ending;
} live;

void twi_live_init(live *l, int64_t every_us, tw_clock clock);
void twi_live_end(live *l); /* streams end */
void twi_live_free(live *l);
void twi_live_event(live *l, const tw_event *event);

/** Pictures come so far apart from now on. */
void twi_live_pace(live *l, int64_t every_us);

/** Whether somebody waits for the next picture of a camera. */
bool twi_live_wants(live *l, const char *camera);
/* ---- moments.c */

/* What moved lately before a camera. */
typedef struct moment {
    char name[64];
    tw_trace_point second[SECONDS_KEPT]; /* a ring */
    size_t first, count;
    twi_recent *recent; /* owned; NULL: no frame yet */
} moment;

typedef struct moments {
    pthread_mutex_t lock;
    moment *all[CAMERAS_MAX]; /* owned */
    size_t count;
} moments;

void twi_moments_init(moments *m);
void twi_moments_free(moments *m);
void twi_moments_event(moments *m, const tw_event *event);

/** Something happened at the station. One thread at a time. */
void twi_page_event(twi_page *page, const tw_event *event);
/** Visit the seconds of a camera that begin at or after a time, in order. */
void twi_moments_seconds(moments *m, const char *camera, int64_t from_us,
                         bool (*visit)(void *ctx, const tw_trace_point *point),
                         void *ctx);
/** As twi_recent_walk, with the zones and the mask of settings. @return 0: nothing is
 * known. */
size_t twi_moments_walk(moments *m, const twi_camera_settings *camera,
                        void (*visit)(void *ctx, const tw_reading *reading), void *ctx);

/* ---- removals.c */

/* Sightings that will be removed, unless that is undone in time. */
typedef struct removals {
    pthread_mutex_t lock;
    pthread_cond_t changed;
    pthread_t thread;
    bool started, ending;
    struct {
        int64_t id, due_us; /* by the clock */
    } all[REMOVALS_MAX];
    size_t count;
} removals;

void twi_removals_init(removals *r);
/** Carries out what is left. */
void twi_removals_end(twi_page *page);
/** @return TW_OK; TW_ESIZE: too many at once; TW_ENOMEM: no thread. */
tw_status twi_removals_add(twi_page *page, int64_t id);
/** @return false: it is too late. */
bool twi_removals_undo(twi_page *page, int64_t id);
bool twi_removals_has(twi_page *page, int64_t id);

/* ---- proposals.c */

/* What is learnt from the marks of a camera, in a thread of its own. */
typedef struct proposing {
    pthread_mutex_t lock;
    pthread_t thread;
    bool started; /* the thread is to be joined */
    bool running;
    volatile int stop;
    int64_t begun_us;
    char camera[64]; /* "": none was asked for yet */
    char *lines;     /* what came of it; NULL: nothing */
    tw_error err;
} proposing;

void twi_proposals_init(proposing *p);
/** Ends what is under way. */
void twi_proposals_end(twi_page *page);

/* ---- page.c: its beginning and end; shared.c: what all parts ask of it */

struct twi_page {
    tw_settings *settings; /* under station_lock */
    char *store, *accounts_file, *station_name, *settings_file;
    twi_page_host host; /* its texts are those above */
    const twi_web_module *web;
    twi_web *server;
    char *certificate, *key; /* PEM; NULL: no TLS */
    bool loopback;           /* it answers there alone */
    sessions sessions;
    live live;
    moments moments;
    removals removals;
    proposing proposing;
    atomic_bool trying;           /* a destination is being tried */
    atomic_bool seeking;          /* cameras of the network are being looked for */
    atomic_bool ending;           /* the page is */
    pthread_mutex_t *writing;     /* settings are being changed */
    pthread_mutex_t own_writing;  /* that, where nobody else changes them */
    pthread_mutex_t station_lock; /* as in src/deliver: never where an event is told */
    tw_station *station;
    pthread_mutex_t store_lock;
    tw_catalogue *catalogue; /* under it; NULL: not open */
};

bool twi_page_is_tls(const twi_page *page);
bool twi_page_has_camera(twi_page *page, const char *name);
/** The settings as they are, the caller's. @return NULL: out of memory. */
tw_settings *twi_page_settings(twi_page *page);
/** The catalogue for the caller alone, to close, under no lock. @return NULL: there is
 * none. */
tw_catalogue *twi_page_catalogue_own(const twi_page *page);
/** The catalogue, under the lock of the store. @return NULL: there is none. */
tw_catalogue *twi_page_catalogue(twi_page *page);
int64_t twi_page_now(const twi_page *page);

/* ---- api.c */

#define TWI_COOKIE "tawny" /* that holds a session's token */

/** (visitors.c) The account of a session; NULL: there is none. Accounts hold as they are
 * now: one that is gone, or has another password, ends its sessions. */
const account *twi_page_account(twi_page *page, const char *token, const accounts *all,
                                session *out);

/** Whether somebody who has asked already may still look.
 * @param token  Of his session; "": he had none, as there were no accounts. */
bool twi_page_may_look(twi_page *page, const char *token);

/** The handler of the server. */
void twi_page_handle(void *page, const twi_web_request *request, twi_web_answer *out);

/** (visitors.c) Note in the log of the station what somebody did: "..., by ann".
 * @param camera  NULL: it concerns none, or several. */
void twi_page_did(twi_page *page, const twi_asked *r, const char *camera,
                  const char *what);

/* show.c: the station */
twi_answer_fn twi_show_status, twi_show_plan, twi_show_log, twi_show_sensors,
    twi_do_order;
/* live.c */
twi_answer_fn twi_show_stream, twi_show_picture, twi_show_reading;
/* stored.c: sightings and captures */
twi_answer_fn twi_show_sightings, twi_show_sighting, twi_show_capture, twi_show_thumb,
    twi_change_sighting;
/** What of the sightings is wanted, by the query; texts are the request's. */
void twi_filter_of(twi_page *p, const twi_asked *r, tw_sighting_filter *out);
/** Change one. @param asked  The JSON object that was asked.
 * @return TW_OK; TW_EINVAL: it asks for nothing that is known; TW_ENOENT... */
tw_status twi_change_one(twi_page *p, const twi_asked *r, int64_t id, const void *asked,
                         tw_error *err);
/* several.c: more than one of them */
twi_answer_fn twi_change_sightings, twi_show_packed;
/** Name a sighting. @param asked  The JSON object that was asked. */
tw_status twi_name_sighting(twi_page *p, int64_t id, const void *asked, tw_error *err);
/* missed.c: what no sighting was of */
twi_answer_fn twi_show_missed, twi_change_missed;
/* came.c: what the view of the last night needs beside sightings */
twi_answer_fn twi_show_nights, twi_note_visit;
/* proposals.c: what marks tell of the settings */
twi_answer_fn twi_show_proposal, twi_make_proposal;
/* past.c: activity that is past, and what other settings would have made of it */
twi_answer_fn twi_show_trace, twi_try_changes;
/* configure.c: the settings */
twi_answer_fn twi_show_settings, twi_show_zones, twi_show_file, twi_change_settings,
    twi_change_file;
/* outgoing.c: destinations */
twi_answer_fn twi_show_outbox, twi_change_outbox, twi_try_destination;

/* ---- finds.c */

twi_answer_fn twi_find_cameras;

/* phones.c: who wants to be told */
twi_answer_fn twi_show_phones, twi_change_phones;

/* ---- configure.c */

/** A draft of the settings with the changes of a request in it: [{head, name, key,
 * value}].
 * @param settings  Set on TW_OK to what it makes; the caller's.
 * @return TW_OK; else out is an answer that says what is wrong. */
tw_status twi_draft_of(twi_page *p, const void *changes, twi_draft **draft,
                       tw_settings **settings, twi_web_answer *out);

#endif
