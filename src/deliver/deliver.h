/* Getting captures and messages off the board: a thread for each
 * destination empties its outbox, so that one that is dead holds no other up, and no
 * camera. */
#ifndef TWI_DELIVER_H
#define TWI_DELIVER_H

#include "../core/reply.h"
#include "afar.h"
#include "look.h"
#include "../station/outbox.h"
#include "tawny/error.h"
#include "tawny/settings.h"
#include "tawny/station.h"
#include "tawny/events.h"

enum { TWI_DELIVER_END_S = 5 }; /* that destinations have left once the station stops */

typedef struct twi_deliver twi_deliver;

/** Told of what becomes of destinations: "mail: 3 messages sent, nothing waits". From a
 * thread of theirs.
 * @param st  TW_OK; TW_EAGAIN: it is tried again; else somebody must do something. */
typedef void (*twi_deliver_report_fn)(void *ctx, tw_status st, const char *line);

/**
 * Begin to send what waits to the destinations of the settings, and say what goes there
 * from now on. After tw_station_new, so that the catalogue is there.
 *
 * @param settings  Copied.
 * @param store     Folder of the captures, where the catalogue is too.
 * @param out       Set on TW_OK, to NULL if there are no destinations; free it with
 *                  twi_deliver_free.
 * @return TW_OK; TW_ENOTSUP: a module is missing; TW_ENOMEM; TW_EIO...: the catalogue.
 */
tw_status twi_deliver_new(const tw_settings *settings, const char *store, tw_clock clock,
                          twi_deliver_report_fn callback, void *ctx, twi_deliver **out,
                          tw_error *err);

/** Where brokers whose destination says live = yes get live pictures; it outlives the
 * deliverer. NULL is fine for both. */
void twi_deliver_look(twi_deliver *deliver, twi_looking *look);

/** How settings from afar reach the station; it outlives the deliverer. NULL is fine for
 * both. */
void twi_deliver_afar(twi_deliver *deliver, const twi_afar *afar);

/** The settings that hold, which brokers with a key are told when they are others than
 * before. NULL is fine. */
void twi_deliver_settings(twi_deliver *deliver, const tw_settings *settings);

/** Something happened: look whether something is to be sent. Does not block. Any thread;
 * NULL is fine. */
void twi_deliver_event(twi_deliver *deliver, const tw_event *event);

/** The station whose state brokers are told, and that their orders go to; NULL: none any
 * more, before it is freed. */
void twi_deliver_station(twi_deliver *deliver, tw_station *station);

/** Send what may go now, for TWI_DELIVER_END_S at most; what is under way then is given
 * up, and sent again by the next one. NULL is fine. */
void twi_deliver_free(twi_deliver *deliver);

/* What became of a trial. */
typedef struct twi_send_outcome {
    twi_verdict verdict;
    twi_fault fault;
    char text[TW_ERROR_MAX]; /* one sentence */
} twi_send_outcome;

/**
 * Send a test to a destination at once: a mail; a small file, tawny-test.txt, that is
 * left there; a form; a message under "test".
 *
 * @param on_line  Told of the conversation: who ('<' they, '>' we, '*' a remark) and a
 * line, secrets masked. May be NULL.
 * @return TW_OK: out is set; TW_ENOENT: there is no such destination; TW_ENOTSUP: a
 * module is missing; TW_ENOMEM.
 */
tw_status twi_deliver_try(const tw_settings *settings, const char *destination,
                          tw_clock clock,
                          void (*on_line)(void *ctx, char who, const char *line),
                          void *ctx, twi_send_outcome *out, tw_error *err);

/**
 * Put the captures of a sighting into the queue of a destination, once more if they were
 * there: as what the destination takes of each kind. A station that runs sends them.
 *
 * @param items  How many captures were put there; may be NULL.
 * @return TW_OK; TW_ENOENT: there is no such destination, or nothing of the sighting that
 *         it takes; TW_ENOTSUP: it is a broker, which takes no files; TW_EIO...
 */
tw_status twi_deliver_again(const tw_settings *settings, const char *destination,
                            tw_catalogue *catalogue, int64_t sighting, uint32_t *items,
                            tw_error *err);

/** Whether the destinations' secrets can be had and what they need is there; nothing is
 * sent.
 * @param callback  Told one line for each that is not right, and for each that trusts
 * more than it should.
 * @return TW_OK; TW_EACCES: one is not right. */
tw_status twi_deliver_check(const tw_settings *settings, tw_problem_fn callback,
                            void *ctx);

/** Read an order that came from a broker, a page or a socket: {"do": "arm", "camera":
 * "kerb", "for_s": 7200}. Without a camera, or with null, it is for all; at most for 366
 * days. A key that is not known, or whose value is of another kind, is refused. "do" is
 * arm, disarm, as-set, trigger or snap; "id" is for who asks to be answered.
 *
 * @param bytes  Anything may stand in it.
 * @param who    For the log; NULL: not said.
 * @return TW_OK: the station has it; TW_ESYNTAX: not understood; TW_ENOENT: there is no
 *         such camera; TW_EINVAL. */
tw_status twi_deliver_order(tw_station *station, const void *text, size_t bytes,
                            const char *who, tw_error *err);

#endif
