/* Words that stations are to have, kept in the ledger until they answer: settings, and
 * what is said of sightings. A station that is away gets them when it is back. */
#ifndef TWI_GATHER_WORDS_H
#define TWI_GATHER_WORDS_H

#include "ledger.h"

enum {
    TWI_WORDS_DUE = 256,         /* that are told at once */
    TWI_WORD_MOST_BYTES = 100000 /* of a text */
};

/* What is in a word. */
#define TWI_WORD_SETTINGS "settings" /* changes, a JSON list; one after another */
#define TWI_WORD_ORDER "order"       /* an order, a JSON object; likewise */
#define TWI_WORD_SAY "say"           /* the same, of sightings; in no order */

/* One that is due. */
typedef struct twi_due {
    int64_t id;
    char station[TWI_HEARD_NAME], what[16];
    char *text; /* owned */
} twi_due;

/* One as it is kept. Texts are borrowed until the callback returns. */
typedef struct twi_kept_word {
    int64_t id;
    const char *station, *what, *who, *state; /* "waits", "taken", "refused" */
    const char *text, *answer;
    int64_t made_us, told_us, answered_us; /* wall clock; 0: not yet */
} twi_kept_word;

typedef void (*twi_kept_word_fn)(void *ctx, const twi_kept_word *word);

/**
 * Keep one for each of some stations, until it is answered; all of them, or none.
 *
 * @param stations  As of a filter. Who is not known, or for whom too much waits, is left
 *                  out.
 * @param who   Who says it, for the list.
 * @param kept  Set on TW_OK to for how many it is kept; their ids grow.
 * @return TW_OK; TW_ESIZE: its text is too long; TW_EIO...
 */
tw_status twi_words_keep(const twi_ledger_kind *kind, twi_ledger *ledger,
                         const char *stations, const char *what, const char *who,
                         const char *text, int64_t now_us, int64_t *kept, tw_error *err);

/**
 * Those that are to be told now, to stations that are there: that were not told yet, or
 * again_us ago without an answer; in no order. Of settings, and of orders, a station is
 * told one at a time, in theirs. They count as told now.
 *
 * @param settings  false: none of settings.
 * @param found     Set to their number; each is to be cleared.
 */
tw_status twi_words_due(const twi_ledger_kind *kind, twi_ledger *ledger, bool settings,
                        int64_t now_us, int64_t again_us, twi_due out[TWI_WORDS_DUE],
                        size_t *found, tw_error *err);
void twi_due_clear(twi_due *due, size_t count);

/** Forget those that were answered a season ago, and what was kept a year ago, whatever
 * became of it: its station is no more. */
tw_status twi_words_forget(const twi_ledger_kind *kind, twi_ledger *ledger,
                           int64_t now_us, tw_error *err);

/** The newest first, so many at most. @param stations  As of a filter; NULL: all. */
tw_status twi_words_list(const twi_ledger_kind *kind, twi_ledger *ledger,
                         const char *stations, const char *what, uint32_t most,
                         twi_kept_word_fn take, void *ctx, tw_error *err);

/** How many wait, of each station for which some do, in no order. */
tw_status twi_words_waiting(const twi_ledger_kind *kind, twi_ledger *ledger,
                            void (*take)(void *ctx, const char *station, int64_t waiting),
                            void *ctx, tw_error *err);

/** Stations whose settings are not known, but can be asked for; each once within
 * again_us. */
tw_status twi_words_unknown(const twi_ledger_kind *kind, twi_ledger *ledger,
                            int64_t now_us, int64_t again_us,
                            void (*take)(void *ctx, const char *station), void *ctx,
                            tw_error *err);

/** Those of a list that told their settings and take others, by name. */
tw_status twi_words_settable(const twi_ledger_kind *kind, twi_ledger *ledger,
                             const char *stations,
                             void (*take)(void *ctx, const char *station), void *ctx,
                             tw_error *err);

/** What they told of their settings (JSON), by name. @param stations  As of a filter. */
tw_status
twi_words_settings(const twi_ledger_kind *kind, twi_ledger *ledger, const char *stations,
                   void (*take)(void *ctx, const char *station, const char *text),
                   void *ctx, tw_error *err);

#endif
