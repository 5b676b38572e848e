/* What the parts of delivering share. */
#ifndef TWI_DELIVER_DESTINATION_H
#define TWI_DELIVER_DESTINATION_H

#include <pthread.h>

#include "../core/backoff.h"
#include "../core/hours.h"
#include "../json/json.h"
#include "../net/broker.h"
#include "../net/transfer.h"
#include "deliver.h"
#include "secret.h"
#include "../core/dispatch.h"
#include "../settings/sections.h"
#include "tawny/settings.h"

enum {
    PATH_BYTES = 4096,
    LINK_BYTES = 1024,
    NEWS_MAX = 64,
    TWI_AGAIN_US = 5000000 /* what fails is tried again after so long, first */
};

typedef struct destination destination;

/* How a kind of destination is served. */
typedef struct transport {
    bool message; /* it takes messages, not single files */
    twi_outbox_take_what take;
    /* Send what is in a batch. @param out  Always set. */
    void (*send)(destination *d, const twi_outbox_batch *batch, twi_sending *out);
    /* What is to be done between, for so long at most; NULL: nothing. */
    void (*idle)(destination *d, int64_t wait_us);
    void (*end)(destination *d); /* let connections go */
} transport;

/* Something that has just happened to a sighting, for brokers: an event as JSON. */
typedef struct news {
    char camera[64];
    char *text; /* owned */
} news;

struct destination {
    twi_deliver *of;
    twi_destination_settings set;
    const transport *transport;
    twi_dispatch_rule rule;
    twi_hours hours;
    char made_of[TWI_MESSAGE_KEY]; /* stands for the settings, as they were last used */
    pthread_t thread;
    bool started;
    tw_catalogue *catalogue; /* of its thread alone; NULL: not open */
    twi_backoff backoff;
    int64_t next_us;      /* not tried before, by the clock; 0: at once */
    bool failing;         /* and that has been told */
    bool halted;          /* likewise */
    bool alarmed;         /* that it has failed for long was told */
    bool slow;            /* that something has waited for a day was told */
    int64_t failing_us;   /* since when, by the clock; 0: it works */
    int64_t slow_id;      /* the newest that waited at slow_us */
    int64_t slow_us;      /* by the clock; 0: not looked yet */
    int64_t slow_next_us; /* when it is looked again */
    uint64_t sent;        /* since nothing waited */
    twi_thrift thrift;    /* by its budget, as was told last */
    unsigned inspections; /* at the queue */
    /* What was seen of the queue, and when by the clock. */
    int64_t first, first_us, newest, newest_us, released;
    int64_t settled;         /* items up to this id have been there for TWI_GATHER_US */
    int64_t marked, mark_us; /* the newest id at a moment: it will have been */
    /* Connections. */
    const twi_transfer *transfer;
    twi_sender *sender;
    const twi_broker_module *brokers;
    twi_broker *broker;
    struct broker_view *view;    /* what the broker was told */
    struct phone_states *phones; /* what became of each */
    news news[NEWS_MAX];         /* under the lock of events; a ring */
    size_t news_first, news_count;
    twi_talk_fn on_line; /* of a trial */
    void *talk_ctx;
};

struct twi_deliver {
    tw_settings *settings;
    char *store, *station, *page_url;
    int64_t alarm_after_us;
    char *accounts; /* the file, beside which phones are kept */
    tw_clock clock;
    twi_deliver_report_fn callback;
    void *ctx;
    atomic_bool ending; /* what may go now goes, then threads end */
    atomic_bool stop;   /* they end at once */
    pthread_mutex_t lock;
    pthread_cond_t came;
    unsigned wakes;       /* under the lock */
    twi_looking *look;    /* likewise; NULL: there are no live pictures */
    const twi_afar *afar; /* likewise; NULL: no settings come from afar */
    char *plain;          /* likewise; the settings that hold, as others may see them */
    unsigned plain_times; /* likewise; that they were others */
    /* Held while the station is spoken to, which tells events meanwhile: never taken
     * where one is told, nor under the other lock. */
    pthread_mutex_t station_lock;
    tw_station *running; /* under it; NULL: none runs */
    destination *all;
    size_t count;
};

extern const transport twi_transport_file, twi_transport_folder, twi_transport_mail,
    twi_transport_post, twi_transport_broker, twi_transport_push;

/* (serve.c) So many bytes of the destination's budget were used. */
void twi_deliver_spend(destination *d, uint64_t bytes);

/* Send a test; what is connected is let go. @param out  Always set. */
void twi_broker_try(destination *d, twi_sending *out);
void twi_push_try(destination *d, const char *text, twi_sending *out);
void twi_folder_try(destination *d, const char *name, const char *text, twi_sending *out);

/* ---- secret.c */

/** What stands for a destination's settings and the state of its secret. */
void twi_secret_stand_in(const twi_destination_settings *to, char out[TWI_MESSAGE_KEY]);

/* ---- routes.c */

/** Put what goes where from now on into the catalogue. A mistake in what is said of a
 * destination loses nothing: what was to go there goes on waiting. */
tw_status twi_deliver_route(twi_deliver *o, tw_error *err);

/* ---- serve.c */

void *twi_deliver_work(void *destination); /* of its thread, until the end */

/* ---- destination.c */

int64_t twi_deliver_now(const destination *d);  /* by the clock, monotonic */
int64_t twi_deliver_wall(const destination *d); /* by the wall */
void twi_deliver_patience(destination *d);      /* it has not failed yet */

/** Another connection to the catalogue of the store; the caller's. */
tw_status twi_deliver_catalogue(const twi_deliver *o, tw_catalogue **out, tw_error *err);

/** Tell a line of a destination. */
void twi_deliver_tell(const destination *d, tw_status st, const char *format, ...)
    TW_PRINTF(3, 4);

/** Somebody should look after it: into the log, from which it goes where alarms go. */
void twi_deliver_alarm(const destination *d, const char *format, ...) TW_PRINTF(2, 3);

/** Set out to a fault of ours. */
void twi_deliver_fail(twi_sending *out, twi_fault fault, const char *format, ...)
    TW_PRINTF(3, 4);

/** (transports.c) How a destination is reached, by its URL. */
const transport *twi_deliver_transport(const twi_destination_settings *set);

/** (transports.c) Whether a text, which may be NULL, begins so. */
bool twi_deliver_begins(const char *text, const char *with);

/** (deliver.c) What serves the destinations of the settings, or the one that is named; no
 * thread is started. @param out  Always set; twi_deliver_free. */
tw_status twi_deliver_make(const tw_settings *settings, const char *only, tw_clock clock,
                           twi_deliver **out, tw_error *err);

/** Read the secret, and note what it is a secret of.
 * @param secret  Wipe it after use. @return false: out says why it cannot be had. */
bool twi_deliver_secret(destination *d, char secret[SECRET_BYTES], twi_sending *out);

/** Something has worked; something has not and is tried again. Told once. */
void twi_deliver_works(destination *d);
void twi_deliver_later(destination *d, const twi_sending *out);

/** Have d->sender ready, made of the settings and the secret.
 * @return false: out says why not. */
bool twi_deliver_connect(destination *d, twi_sending *out);
void twi_deliver_disconnect(destination *d);

/* ---- message.c: what is known of a sighting */

/* What is known of a sighting. */
typedef struct sighting_facts {
    int64_t id, start_us, end_us;
    char camera[64], why[256];
    char who[256]; /* was seen, "2 Bufo bufo"; "": that is not said */
    uint32_t peak_ppm, frames;
    bool over, unsure;
} sighting_facts;

/** @return TW_OK; TW_ENOENT: it is gone. */
tw_status twi_message_facts(tw_catalogue *catalogue, int64_t sighting,
                            sighting_facts *out, tw_error *err);

/* Behind the address of the page: its view of a sighting, by number. */
#define TWI_PAGE_SIGHTING "#sightings/"

/** Where a sighting is on the page. @return false: it is not said where that is found;
 * out is empty. */
bool twi_message_link(const destination *d, int64_t sighting, char *out, size_t capacity);

/** The record of a sighting, with its link. @return the caller's; NULL: it is gone. */
json_t *twi_message_record(const destination *d, int64_t sighting, const char *phase);

/* ---- message.c */

typedef struct message_item {
    char what[16], camera[64], file[512], text[256];
    int64_t sighting, entry, start_us;
    uint64_t bytes;
} message_item;

enum { STOPPED_MAX = 8 }; /* destinations that a message tells of */

/* Another destination, to which nothing is sent any more: whoever gets this message may
 * wait for that one. */
typedef struct message_stopped {
    char name[64], why[256];
    int64_t since_us;
} message_stopped;

/* What a message is made of. */
typedef struct message {
    message_item *items;
    size_t count, room;
    sighting_facts *sightings; /* in the order of time, each once */
    size_t sighting_count, alarm_count;
    message_stopped stopped[STOPPED_MAX];
    size_t stopped_count;
} message;

void twi_message_take(const twi_outbox_item *item, message_item *out);
tw_status twi_message_read(tw_catalogue *catalogue, const twi_outbox_batch *batch,
                           message *out, tw_error *err);
void twi_message_free(message *message);

/** A still of the store, reduced so that its longer side is at most so many pixels.
 * @param out  Set on TW_OK, the caller's to free(). */
tw_status twi_message_reduce(const char *store, const char *file, uint16_t side,
                             uint8_t **out, size_t *bytes, tw_error *err);

/** (messages.c) Send what is in a batch as one message. @param out  Always set. */
void twi_message_send(destination *d, const twi_outbox_batch *batch,
                      void (*send)(destination *d, const message *l, const char *key,
                                   twi_sending *out),
                      twi_sending *out);

/** Where a capture is. */
void twi_message_path(const twi_deliver *of, const char *file, char out[PATH_BYTES]);

/** @return the word in the outbox for a TWI_SEND_ bit; static. */
const char *twi_message_word(int64_t what_bit);
bool twi_message_is(const message_item *item, int64_t what_bit);

/** (message.c) An alarm as JSON: as the event that it was. @return the caller's. */
json_t *twi_message_alarm(const destination *d, const message_item *item);

/* ---- compose.c */

/* What a mail says. All the caller's to free(). */
typedef struct prose {
    char *subject, *text, *html;
} prose;

enum { SHOWN_MAX = 12 };

/* Pictures that a mail shows in their places: of the sightings with these ids (0: of
 * none), as cid:picture0, cid:picture1, ... */
typedef struct mail_shown {
    int64_t sighting[SHOWN_MAX];
    size_t count;
} mail_shown;

/** @param named  Files that are too large to be sent along; they are named.
 * @return TW_OK; TW_ENOMEM. */
tw_status twi_compose(const destination *d, const message *l, const mail_shown *shown,
                      const message_item *const *named, size_t named_count, prose *out);
void twi_compose_free(prose *prose);

/** In one line what a message is of. @return the caller's; NULL: out of memory. */
char *twi_compose_subject(const destination *d, const message *l);

/** "13 Mar 2027, 20:30:14, 26 s" */
void twi_compose_time(const destination *d, const sighting_facts *s, char *out,
                      size_t capacity);

/** The id of a sighting's thread of mails, without < >. */
void twi_compose_thread(const destination *d, const sighting_facts *s, char *out,
                        size_t capacity);
void twi_compose_id(const destination *d, const char *key, char *out, size_t capacity);

#endif
