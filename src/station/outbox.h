/* The durable queue in front of the destinations: a part of the
 * catalogue.
 *
 * What goes where is a table of routes; a capture, or the end of a sighting, is put into
 * the queue by the data base itself in the transaction that makes it known, so that none
 * is forgotten, whenever the power goes. Each function is for one thread at a time and
 * catalogue; several may be open. Times are microseconds since 1970 UTC. */
#ifndef TWI_OUTBOX_H
#define TWI_OUTBOX_H

#include "tawny/catalogue.h"

enum {
    TWI_OUTBOX_BATCH = 2000,  /* items of one message at most */
    TWI_OUTBOX_MOST = 100000, /* that wait for one destination at most */
    TWI_MESSAGE_KEY = 33      /* bytes, the final 0 included */
};

/* What goes to a destination of what a camera makes. Texts are borrowed. */
typedef struct twi_route {
    const char *camera;
    const char *kind; /* a twi_kind_name; "": the record of a sighting that is over */
    const char *destination;
    const char *what; /* as what it goes: "still", "small"... */
} twi_route;

typedef enum twi_item_state {
    TWI_ITEM_WAITING,
    TWI_ITEM_SENT,
    TWI_ITEM_GIVEN_UP /* it will never work */
} twi_item_state;

/* One capture or record and one destination. Texts are borrowed for the call. */
typedef struct twi_outbox_item {
    int64_t id;
    const char *destination;
    const char *what;
    twi_item_state state;
    int64_t sighting; /* 0: it belongs to none */
    int64_t capture;  /* 0: it is a record, or an alarm */
    int64_t entry;    /* of the log, for an alarm; 0: it is none */
    const char *text; /* likewise; "" else */
    const char *camera;
    const char *file; /* name below the store; "" for a record */
    uint64_t bytes;
    int64_t start_us;    /* of the capture, or of the sighting */
    const char *message; /* key of the message it went or is going in; "": none yet */
    uint32_t tries;
    int64_t sent_us;
    const char *why; /* the last try failed; "": there was none that did */
} twi_outbox_item;

/** What goes where, from now on; what waits stays.
 * @param kept  Names of destinations whose routes stay as they were, ended by NULL; may
 * be NULL.
 * @return TW_OK; TW_EIO... */
tw_status twi_outbox_route(tw_catalogue *catalogue, const twi_route *routes, size_t count,
                           const char *const *kept, tw_error *err);

/** What was noted in the log last does not go to this destination, which it is of. */
tw_status twi_outbox_spare(tw_catalogue *catalogue, const char *destination,
                           tw_error *err);

/** Put a capture into the queue, by its file's name, whatever the routes say; again if
 * it was there. Until it is sent it is dropped only if the card would be full otherwise.
 * @return TW_OK; TW_ENOENT: there is no such capture; TW_EIO... */
tw_status twi_outbox_add(tw_catalogue *catalogue, const char *file,
                         const char *destination, const char *what, tw_error *err);

/** Over this connection, items that go as one of these words are as if they were not
 * there, but for messages that were begun and alarms.
 * @param words  As twi_thrift_words; borrowed while the catalogue is open. */
void twi_outbox_hold(tw_catalogue *catalogue, const char *words);

/** Note what a try to send has cost; what is older than keep_us is forgotten. */
tw_status twi_outbox_spend(tw_catalogue *catalogue, const char *destination,
                           int64_t at_us, uint64_t bytes, int64_t keep_us, tw_error *err);

/** @param bytes  Set to what was spent after a time. */
tw_status twi_outbox_spent(tw_catalogue *catalogue, const char *destination,
                           int64_t since_us, int64_t *bytes, tw_error *err);

/** Visit items in the order in which they came, until visit says false.
 * @param destination  NULL: of all. */
tw_status twi_outbox_items(tw_catalogue *catalogue, const char *destination,
                           twi_item_state state,
                           bool (*visit)(void *ctx, const twi_outbox_item *item),
                           void *ctx, tw_error *err);

/* How a destination's queue stands. */
typedef struct twi_outbox_fill {
    uint32_t waiting, sightings; /* items, and how many sightings they belong to */
    uint32_t given_up;
    int64_t oldest_us; /* start of the oldest that waits; 0: none */
    uint32_t sent;     /* messages since a time that is asked for */
    int64_t sent_us;   /* of the first of those; 0: none */
    int64_t last_us;   /* of the last ever; 0: none */
    int64_t newest;    /* id of the item that came last */
    /* Of the item that is next in the order: */
    int64_t first;        /* its id; 0: none waits */
    int64_t first_newest; /* id of the newest that waits of its sighting */
    bool over, part_sent; /* as in twi_dispatch_queue */
    bool begun;           /* it is part of a message that was begun */
    bool alarm;           /* it is one, and goes before all else */
    int64_t stopped_us;   /* since when nothing is sent there; 0: it is */
    char why[256];        /* it was stopped, or the last try failed */
    char
        of[TWI_MESSAGE_KEY]; /* the settings that it was stopped with, see twi_outbox_stop
                              */
} twi_outbox_fill;

/** Visit the destinations to which nothing is sent any more, until they are tried again,
 * as far as anything goes to them or waits for them. Texts are borrowed for the call.
 * @return TW_OK; TW_EIO... */
tw_status twi_outbox_stopped(tw_catalogue *catalogue,
                             void (*visit)(void *ctx, const char *destination,
                                           int64_t since_us, const char *why),
                             void *ctx, tw_error *err);

/** @param newest_first  The order. @param since_us  For sent. */
tw_status twi_outbox_inspect(tw_catalogue *catalogue, const char *destination,
                             bool newest_first, int64_t since_us, twi_outbox_fill *out,
                             tw_error *err);

/** The same of what is next alone, however much waits: waiting and sightings are 1 if
 * anything does, and what is counted or of the oldest is 0. */
tw_status twi_outbox_peek(tw_catalogue *catalogue, const char *destination,
                          bool newest_first, twi_outbox_fill *out, tw_error *err);

/* What goes in one message. */
typedef struct twi_outbox_batch {
    char message[TWI_MESSAGE_KEY]; /* its key, the same each time it is tried */
    uint32_t tries;                /* this one counted; above 1 it may have arrived */
    uint32_t count;
    int64_t *ids; /* the batch's, in the order of the queue */
} twi_outbox_batch;

/**
 * Take what goes next: the message that was begun if there is one, else the first item,
 * with the rest of its sighting or all that waits. The key is safe on the card on return,
 * and the try is counted.
 *
 * @param out  Set on TW_OK; twi_outbox_batch_free frees what it holds.
 * @return TW_OK; TW_ENOENT: nothing waits; TW_EIO...
 */
typedef enum twi_outbox_take_what {
    TWI_TAKE_ONE,
    TWI_TAKE_SIGHTING,
    TWI_TAKE_ALL
} twi_outbox_take_what;
tw_status twi_outbox_take(tw_catalogue *catalogue, const char *destination,
                          bool newest_first, twi_outbox_take_what what,
                          twi_outbox_batch *out, tw_error *err);
void twi_outbox_batch_free(twi_outbox_batch *batch);

/** Visit the items of a batch, in the order of time. */
tw_status twi_outbox_batch_items(tw_catalogue *catalogue, const twi_outbox_batch *batch,
                                 bool (*visit)(void *ctx, const twi_outbox_item *item),
                                 void *ctx, tw_error *err);

/** It has been sent. @param when_us  > 0. */
tw_status twi_outbox_sent(tw_catalogue *catalogue, const twi_outbox_batch *batch,
                          int64_t when_us, tw_error *err);

/** It did not work and is tried again, or never will work. */
tw_status twi_outbox_failed(tw_catalogue *catalogue, const twi_outbox_batch *batch,
                            bool for_good, const char *why, tw_error *err);

/** Nothing more goes there until its settings are others, or somebody asks for it.
 * @param of  Stands for the settings: at most TWI_MESSAGE_KEY - 1 bytes. */
tw_status twi_outbox_stop(tw_catalogue *catalogue, const char *destination,
                          int64_t since_us, const char *of, const char *why,
                          tw_error *err);

/** Try again what was given up, and a destination that was stopped.
 * @param destination  NULL: all. @param changed  Items; may be NULL. */
tw_status twi_outbox_retry(tw_catalogue *catalogue, const char *destination,
                           uint32_t *changed, tw_error *err);

/** Take items out of the queue that are not sent: one, or, with id 0, all of a
 * destination (NULL: of all). The captures stay in the store.
 * @return TW_OK; TW_ENOENT: there is no such item; TW_EIO... */
tw_status twi_outbox_drop(tw_catalogue *catalogue, const char *destination, int64_t id,
                          uint32_t *changed, tw_error *err);

/** Give up the oldest of more than so many that wait.
 * @param given_up  How many; may be NULL. */
tw_status twi_outbox_bound(tw_catalogue *catalogue, const char *destination,
                           uint32_t most, uint32_t *given_up, tw_error *err);

/** The ids of what waits for a destination: the first and the last; both 0: nothing does.
 */
tw_status twi_outbox_span(tw_catalogue *catalogue, const char *destination,
                          int64_t *first, int64_t *last, tw_error *err);

/** Visit the names of all destinations that the queue knows, in order. */
tw_status twi_outbox_destinations(tw_catalogue *catalogue,
                                  void (*visit)(void *ctx, const char *name), void *ctx,
                                  tw_error *err);

/** From now on a power cut, but no kill, may undo the last changes of this connection:
 * for destinations where sending again replaces what is there. Quicker. */
tw_status twi_outbox_relax(tw_catalogue *catalogue, tw_error *err);

#endif
