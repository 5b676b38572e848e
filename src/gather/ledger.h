/* The data base of what many stations told: one interface, and a kind for each engine.
 * What is put twice is there once, whoever puts it. One thread for each ledger at a time.
 */
#ifndef TWI_GATHER_LEDGER_H
#define TWI_GATHER_LEDGER_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "heard.h"

enum {
    TWI_LEDGER_ABI = 5,
    TWI_LEDGER_COLUMNS = 12, /* of a row */
    TWI_LEDGER_BATCH = 3000, /* messages that are put at once, a few more are fine */
    TWI_LEDGER_GAPS = 64,    /* ranges that are found at once */
    TWI_LEDGER_VAIN = 10     /* 20 s become six hours */
};

typedef struct twi_ledger twi_ledger;

/* A station as it is known. */
typedef struct twi_ledger_station {
    char name[TWI_HEARD_NAME], state[32], series[TWI_HEARD_SERIES];
    int64_t heard_us; /* when something came of it last, by the gatherer's clock */
    int64_t usual_us; /* how long that usually takes, see twi_usual_next */
    int64_t last_number, sightings;
    bool silent;      /* it was told that nothing comes of it any more */
    const char *text; /* its state as JSON; until the callback returns */
} twi_ledger_station;

/* A camera of one. */
typedef struct twi_ledger_camera {
    char station[TWI_HEARD_NAME], name[TWI_HEARD_NAME], state[32];
    const char *text; /* its state as JSON; until the callback returns */
} twi_ledger_camera;

/* A sighting as it is kept. */
typedef struct twi_ledger_sighting {
    char station[TWI_HEARD_NAME], camera[TWI_HEARD_NAME], series[TWI_HEARD_SERIES];
    char name[TWI_HEARD_NAME];
    int64_t number, start_us, end_us, count;
    twi_phase phase;
    uint32_t peak_ppm;
    const char *text; /* its record as JSON; until the callback returns */
} twi_ledger_sighting;

/* Which ones: all of them where a member is 0 or NULL. */
typedef struct twi_ledger_filter {
    const char *stations; /* their names, as a JSON list of texts; "[]": none at all */
    const char *camera, *name, *mark, *series;
    const char *has_name; /* in its name, whatever the case */
    int64_t number;
    uint32_t least_peak_ppm;
    int64_t from_us, until_us; /* of their start; until is not included */
    uint32_t most;             /* the first so many in the order that is asked for */
    bool newest;               /* those that began last come first */
} twi_ledger_filter;

/* Numbers of a series that are missing. */
typedef struct twi_ledger_gap {
    char station[TWI_HEARD_NAME], series[TWI_HEARD_SERIES];
    int64_t first, last;
} twi_ledger_gap;

typedef void (*twi_ledger_station_fn)(void *ctx, const twi_ledger_station *station);
typedef void (*twi_ledger_camera_fn)(void *ctx, const twi_ledger_camera *camera);
typedef void (*twi_ledger_sighting_fn)(void *ctx, const twi_ledger_sighting *sighting);

/** @param row  A text for each column, "" for none; until it returns. */
typedef void (*twi_ledger_row_fn)(void *ctx, const char *const *row);

typedef struct twi_ledger_kind {
    int abi; /* TWI_LEDGER_ABI */
    /** Open, and make or bring up to date what is in it.
     * @param place  A file, or an address such as postgresql://user@host/name. */
    tw_status (*open)(const char *place, twi_ledger **out, tw_error *err);
    void (*close)(twi_ledger *ledger); /* NULL is fine */
    /** Put all of it, or none; safe on the disk on TW_OK. @param now_us When it came.
     * @return TW_OK; TW_EINVAL: something in it cannot be kept; TW_EAGAIN: try again,
     *         others were in the way; TW_EIO...: the data base. */
    tw_status (*put)(twi_ledger *ledger, const twi_heard *batch, size_t count,
                     int64_t now_us, tw_error *err);
    /** Ranges that are missing, of series whose end is known, of stations that were not
     * asked within again_us, twice that once it was in vain, and so on, up to
     * TWI_LEDGER_VAIN times; who is returned counts as asked now.
     * @param found  Set to their number, TWI_LEDGER_GAPS at most. */
    tw_status (*gaps)(twi_ledger *ledger, int64_t now_us, int64_t again_us,
                      twi_ledger_gap *out, size_t *found, tw_error *err);
    /** All stations by name. @param counted  With the number of their sightings, which
     * looks at all of them; else that is 0. */
    tw_status (*stations)(twi_ledger *ledger, bool counted, twi_ledger_station_fn take,
                          void *ctx, tw_error *err);
    /** All cameras, by their stations' names and their own. */
    tw_status (*cameras)(twi_ledger *ledger, twi_ledger_camera_fn take, void *ctx,
                         tw_error *err);
    /** By their start; one after another, however many there are, so that the ledger is
     * not to be asked for anything else meanwhile. */
    tw_status (*sightings)(twi_ledger *ledger, const twi_ledger_filter *filter,
                           twi_ledger_sighting_fn take, void *ctx, tw_error *err);
    /** Somebody has looked. @param since_us  Set to when who it is looked last, some
     * while before this; 0: never. */
    tw_status (*visit)(twi_ledger *ledger, const char *who, int64_t now_us,
                       int64_t *since_us, tw_error *err);
    /** Ask, or change, something else, see words.h.
     * @param sql     As of twi_question_words, by ourselves alone.
     * @param values  Texts. @param take  NULL: there are no rows.
     * @return TW_OK; TW_EINVAL: a value cannot be kept; as put. */
    tw_status (*ask)(twi_ledger *ledger, const char *sql, const char *const *values,
                     int count, twi_ledger_row_fn take, void *ctx, tw_error *err);
    /** Mark a station as silent. @param first  Set to whether nobody else had. */
    tw_status (*silence)(twi_ledger *ledger, const char *station, bool *first,
                         tw_error *err);
} twi_ledger_kind;

/** SQLite, in a file. */
extern const twi_ledger_kind twi_ledger_sqlite;

/** @return the kind of a place; NULL: its module cannot be had, err says why. */
const twi_ledger_kind *twi_ledger_find(const char *place, tw_error *err);

/** Names of stations as a filter has them, to be freed.
 * @return NULL: out of memory. One that is no text (UTF-8) is no station's, and left out.
 */
char *twi_ledger_names(const char *const *names, size_t count);

/* ---- what is usual (usual.c) */

/**
 * How long a station usually takes between two words, after one more. The longest lately
 * counts; it wanes slowly, and one long silence does not make silence usual.
 *
 * @param usual_us  0: not known yet.
 * @return microseconds, at least TWI_USUAL_LEAST_US.
 */
int64_t twi_usual_next(int64_t usual_us, int64_t since_us);

/** @return whether it has been silent for its own usual time and a half. */
bool twi_usual_is_silent(int64_t usual_us, int64_t since_us);

#define TWI_USUAL_LEAST_US INT64_C(60000000)

#endif
