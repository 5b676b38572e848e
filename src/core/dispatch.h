/* When what waits in an outbox goes to its destination: each at once, in digests, after
 * so many, and how much of it in one message. Pure: no I/O or clock. */
#ifndef TWI_DISPATCH_H
#define TWI_DISPATCH_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/error.h"

enum {
    TWI_GATHER_US = 2000000 /* what belongs to one sighting is waited for so long */
};

typedef enum twi_when_kind {
    TWI_WHEN_EACH,   /* each sighting by itself, as soon as may be */
    TWI_WHEN_DIGEST, /* all of so long in one message */
    TWI_WHEN_AFTER   /* nothing until so many sightings have come */
} twi_when_kind;

typedef struct twi_when {
    twi_when_kind kind;
    int64_t every_us; /* of a digest, > 0 */
    uint32_t count;   /* of TWI_WHEN_AFTER, > 0 */
} twi_when;

/* So many messages in so long. */
typedef struct twi_limit {
    uint32_t most; /* 0: no limit */
    int64_t in_us;
} twi_limit;

typedef struct twi_dispatch_rule {
    twi_when when;
    twi_limit limit;
    bool joins; /* several captures and sightings make one message */
} twi_dispatch_rule;

/* How a destination's queue stands. */
typedef struct twi_dispatch_queue {
    uint32_t waiting;   /* items */
    uint32_t sightings; /* that they belong to; what belongs to none counts as one */
    int64_t oldest_us;  /* wall time of the oldest of them */
    int64_t waited_us;  /* for how long the first of them has been there, */
    int64_t quiet_us;   /* and for how long nothing more of its sighting has come */
    bool over;          /* that sighting is over */
    bool part_sent;     /* something of it has been sent already */
    bool released;      /* the first was there when a digest went, or so many had come,
                           and it was not joined */
    uint32_t sent;      /* messages within the limit's time */
    int64_t sent_us;    /* wall time of the first of these */
    int64_t last_us;    /* of the last message ever; 0: none yet */
    bool within;        /* the destination's hours */
} twi_dispatch_queue;

typedef enum twi_hold {
    TWI_HOLD_NOTHING, /* there is nothing */
    TWI_HOLD_GATHER,  /* more is coming */
    TWI_HOLD_DIGEST,
    TWI_HOLD_AFTER,
    TWI_HOLD_LIMIT,
    TWI_HOLD_HOURS
} twi_hold;

typedef struct twi_dispatch {
    bool go;
    bool joined;     /* with all that waits in one message; else the first sighting's */
    twi_hold hold;   /* if not */
    int64_t wait_us; /* look again after, at the latest; > 0 */
} twi_dispatch;

/**
 * Whether something goes now.
 *
 * What is joined, by a digest, by TWI_WHEN_AFTER, or because more sightings wait than the
 * limit leaves messages for, leaves nothing out: a limit delays and joins. Of a sighting
 * that runs, what is there goes in one message, and the rest in another once it is over.
 *
 * @param now_us  Wall time.
 */
twi_dispatch twi_dispatch_decide(const twi_dispatch_rule *rule,
                                 const twi_dispatch_queue *queue, int64_t now_us);

/** @return "gather", "digest"...; static. */
const char *twi_hold_name(twi_hold hold);

#endif
