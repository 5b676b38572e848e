/* What the parts of the page of many stations share. */
#ifndef TWI_MANY_STATE_H
#define TWI_MANY_STATE_H

#include <jansson.h>
#include <pthread.h>

#include "../gather/ledger.h"
#include "../page/answer.h"
#include "few.h"
#include "many.h"

enum { MANY_PATH = 4096 };

/* ---- known.c: the stations, as far as all views need them */

typedef struct known_camera {
    char name[TWI_HEARD_NAME], state[32];
    char *text; /* its state as JSON, owned */
} known_camera;

/* What of a station wants somebody to go there; the last is the most urgent. */
typedef enum wants {
    WANTS_NOTHING,
    WANTS_DOWN,   /* it was ended on purpose */
    WANTS_SENSOR, /* a value is beyond its limits */
    WANTS_STOPPED,
    WANTS_CAMERA, /* one is lost */
    WANTS_ROOM,   /* its card is nearly full, or full */
    WANTS_CARD,   /* it has none */
    WANTS_DEAD,
    WANTS_SILENT
} wants;

typedef struct known_station {
    char name[TWI_HEARD_NAME], state[32], version[32];
    char settings[TWI_HEARD_NAME]; /* what stands for them; "": not told */
    bool changeable;               /* they are, by who has the key */
    int64_t waiting;               /* words that it has not answered yet */
    wants wants;
    bool placed;
    int64_t latitude, longitude; /* millionths of a degree, where it is placed */
    int64_t heard_us, usual_us;
    int64_t free_bytes, total_bytes; /* -1: not told */
    json_t *sensors;                 /* owned; NULL: none told */
    size_t first, cameras;           /* among all cameras */
} known_station;

typedef struct known {
    int64_t read_us, cost_us; /* when, by the clock, and how long that took */
    size_t count, camera_count;
    known_station *station; /* by name */
    known_camera *camera;
} known;

/* Who reads them anew while the views have what was read before. */
typedef struct known_reader {
    pthread_t thread;
    pthread_cond_t cond; /* wanted or ending has changed */
    bool started, wanted, ending;
} known_reader;

/* ---- many.c */

typedef struct twi_many_look twi_many_look;
typedef struct twi_many_store twi_many_store;

struct twi_many {
    twi_page *page;
    twi_many_look *look;   /* NULL: there are no live pictures */
    twi_many_store *store; /* NULL: captures lie on this machine */
    tw_settings *settings; /* owned */
    twi_many_spec spec;
    const twi_ledger_kind *kind;
    const char *place, *media, *groups; /* of the settings */
    twi_few few;                        /* which of these is whose */
    twi_ledger *ledger[TWI_FEW];
    pthread_mutex_t known_lock;
    known known;         /* under it ... */
    known_reader reader; /* ... and this */
};

/* ---- ledgers.c */

/** A ledger for the caller alone, to be given back.
 * @return NULL: it cannot be opened now, err says why. */
twi_ledger *twi_many_take(twi_many *many, tw_error *err);
/** @param st  What came of it: after a fault it is opened anew. */
void twi_many_give(twi_many *many, twi_ledger *ledger, tw_status st);

/** (known.c) What is known of all stations, not older than a while. Where it takes long
 * to read, it is read meanwhile, and what was there until then is given. Under a lock
 * until twi_known_done. @return NULL: it cannot be read, err says why, and nothing is
 * locked.
 */
const known *twi_known_take(twi_many *many, tw_error *err);
void twi_known_done(twi_many *many);
/** Once, before anything is taken. @return TW_ENOMEM */
tw_status twi_known_begin(twi_many *many, tw_error *err);
void twi_known_end(twi_many *many); /* nothing is taken any more */
const char *twi_wants_word(wants wants);
/** Whether nothing can be told to a station now. */
bool twi_known_is_away(const known_station *station);

/* ---- scope.c: which stations somebody asks for, and may see */

/** Whether a station is of those that are asked for (the query's group and station), and
 * who asks may see it. */
bool twi_scope_has(twi_many *many, const twi_asked *r, const char *station);

/** Their names as a list, as a ledger's filter takes it.
 * @param count  Set to how many they are. @return to be freed; NULL: out of memory */
char *twi_scope_list(twi_many *many, const twi_asked *r, const known *known,
                     size_t *count);

/** The same, where all of them need no list.
 * @param out  Set to the list, to be freed; NULL: all.
 * @return false: out of memory. */
bool twi_scope_names(twi_many *many, const twi_asked *r, const known *known, char **out);

/** The groups that who asks may see (a json_t). */
json_t *twi_scope_groups(twi_many *many, const twi_asked *r);

/* ---- show.c, sightings.c, media.c, orders.c: what answers */

twi_answer_fn twi_many_status, twi_many_stations, twi_many_sightings, twi_many_sighting,
    twi_many_nights, twi_many_say, twi_many_visit, twi_many_thumb, twi_many_capture,
    twi_many_picture, twi_many_order;

/* ---- settings.c: what stations told of theirs, and what is to be another */

twi_answer_fn twi_many_settings, twi_many_change, twi_many_words, twi_many_zones;

/* ---- orders.c */

/** Keep a word for stations (a list, as of a filter) until they answer, and have it told.
 * @param kept  Set on TW_OK to for how many. @return TW_OK; as twi_words_keep. */
tw_status twi_many_keep(twi_many *many, const twi_asked *r, const char *stations,
                        const char *what, const char *text, int64_t *kept, tw_error *err);

/* ---- store.c: captures that lie elsewhere are fetched, and kept for a while */

/** @param out  Set on TW_OK, to NULL where they lie on this machine; to be freed. */
tw_status twi_many_store_new(const tw_settings *settings, twi_many_store **out,
                             tw_error *err);
/** Nothing more is fetched, and what is being fetched is left. Any thread. */
void twi_many_store_stop(twi_many_store *store); /* NULL is fine */
void twi_many_store_free(twi_many_store *store); /* NULL is fine */
/** Where fetched ones are kept: a pattern as media has. */
const char *twi_many_store_kept(const twi_many_store *store);
/** Where they lie there: the same. */
const char *twi_many_store_names(const twi_many_store *store);
/** Fetch one, from any thread; waits.
 * @param path  Of the file that it becomes once it is whole.
 * @return false: it is not there now. */
bool twi_many_store_fetch(twi_many_store *store, const char *name, const char *path);

/* ---- look.c: live pictures */

/** @param out  Set in each case; to be freed. */
tw_status twi_many_look_new(twi_many *many, twi_many_look **out, tw_error *err);
void twi_many_look_free(twi_many_look *look); /* NULL is fine; before the page's end */

/* ---- sightings.c */

/** The record of "STATION/SERIES/NUMBER", of a station that who asks may see (a json_t,
 * the caller's). @param rest  Set to what follows that and a "/"; "".
 * @return NULL: there is none, or err says what is wrong. */
json_t *twi_many_record(twi_many *many, const twi_asked *r, const char *path,
                        const char **rest, tw_error *err);

/* ---- json */

/** Copy a member that a board told, if it is of a type; texts are at most so long. */
void twi_copy_told(json_t *to, const json_t *from, const char *key, json_type type);
/** A time as boards write it. */
void twi_put_time(json_t *o, const char *key, int64_t time_us);

#endif
