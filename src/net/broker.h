/* What the broker module does: messages over MQTT, by libmosquitto, which is loaded when
 * it is first needed. */
#ifndef TWI_BROKER_H
#define TWI_BROKER_H

#include <stdatomic.h>

#include "transfer.h"
#include "../settings/sections.h"

enum {
    TWI_BROKER_ABI = 4,
    TWI_KEY_TEXT = 45,       /* bytes of a key as text, the final 0 included */
    TWI_SIGNATURE_TEXT = 89, /* likewise of a signature */
    TWI_DIGEST_TEXT = 17     /* likewise of what stands for a text */
};

/* A connection that is made again when it breaks. One thread at a time. */
typedef struct twi_broker twi_broker;

/** Told of a message that has come, within broker_step and broker_publish. */
typedef void (*twi_heard_fn)(void *ctx, const char *topic, const void *payload,
                             size_t bytes);

typedef struct twi_broker_spec {
    const twi_destination_settings *to; /* borrowed while the broker is there */
    const char *secret;                 /* copied; "": none */
    const char *client;                 /* id; the same each time */
    const char *will_topic, *will; /* retained there when this end dies; NULL: none */
    const char *orders, *asks;     /* topics (filters) that are listened to; NULL: none */
    const atomic_bool *stop;       /* gives up when it is set; may be NULL */
    twi_heard_fn heard;
    twi_talk_fn on_line; /* may be NULL */
    void *ctx;
} twi_broker_spec;

/* Who listens to many: MQTT 5, in a session that the broker keeps, and as one of a group
 * that shares what comes. One thread at a time. */
typedef struct twi_listener twi_listener;

enum { TWI_LISTENER_TOPICS = 8 };

typedef struct twi_listener_spec {
    const twi_destination_settings *to;      /* borrowed while the listener is there */
    const char *secret;                      /* copied; "": none */
    const char *client;                      /* id of the session; the same each time */
    const char *group;                       /* that shares what comes */
    const char *topics[TWI_LISTENER_TOPICS]; /* filters; NULL from the last on */
    /* Likewise, of what is told again by itself: the broker does not keep it for who is
     * away, but hands on what it retains of it after each connection. */
    const char *passing[TWI_LISTENER_TOPICS];
    uint16_t most;           /* messages that may come before they are acknowledged */
    const atomic_bool *stop; /* gives up when it is set; may be NULL */
    twi_heard_fn heard;
    void *ctx;
} twi_listener_spec;

typedef struct twi_broker_module {
    int abi; /* TWI_BROKER_ABI */
    /** Nothing is connected yet. Topics are copied.
     * @return TW_OK; TW_ENOMEM; TW_EINVAL: err says what. */
    tw_status (*broker_new)(const twi_broker_spec *spec, twi_broker **out, tw_error *err);
    /** Connect if it is not, else keep it alive, for so long at most.
     * @param out  Always set. @return whether it is connected. */
    bool (*broker_step)(twi_broker *broker, int wait_ms, twi_sending *out);
    /** Publish, connected, and wait until the broker has it (QoS 1).
     * @param out  Always set. */
    void (*broker_publish)(twi_broker *broker, const char *topic, const char *payload,
                           bool retain, twi_sending *out);
    /** Publish something that is soon old, connected, and wait for nothing (QoS 0). */
    void (*broker_show)(twi_broker *broker, const char *topic, const void *payload,
                        size_t bytes);
    /** @return a number that is another after each time it was connected; 0: never. */
    unsigned (*broker_times)(const twi_broker *broker);
    /** Say good-bye, so that the will is not done. NULL is fine. */
    void (*broker_free)(twi_broker *broker);

    /** Nothing is connected yet. @return TW_OK; TW_ENOMEM; TW_EINVAL: err says what. */
    tw_status (*listener_new)(const twi_listener_spec *spec, twi_listener **out,
                              tw_error *err);
    /** Connect if it is not, else hand on what comes within so long, until nothing more
     * is there at once. Nothing of it is acknowledged: the broker has it still.
     * @param out  Always set. @return whether it is connected. */
    bool (*listener_read)(twi_listener *listener, int wait_ms, twi_sending *out);
    /** Acknowledge all that was handed on: it is safe.
     * @return false: the connection broke; the broker sends it again. */
    bool (*listener_acknowledge)(twi_listener *listener);
    /** Break the connection: what was not acknowledged comes again. */
    void (*listener_drop)(twi_listener *listener);
    /** Publish, when what was handed on is acknowledged; it need not arrive. */
    void (*listener_publish)(twi_listener *listener, const char *topic,
                             const char *payload);
    /** The session stays at the broker. NULL is fine. */
    void (*listener_free)(twi_listener *listener);

    /** A new secret key for signatures (Ed25519, by libsodium). Wipe it after use.
     * @return false: there is no randomness. */
    bool (*make_key)(char secret[TWI_KEY_TEXT]);
    /** The key by which signatures of a secret one are known.
     * @return false: it is no key. */
    bool (*open_key)(const char *secret, char key[TWI_KEY_TEXT]);
    /** @return false: the secret is no key. */
    bool (*sign)(const char *secret, const char *text, char out[TWI_SIGNATURE_TEXT]);
    /** Whether a text was signed by who has the secret of a key. Any bytes may stand in
     * all three. */
    bool (*verify)(const char *key, const char *text, const char *signature);
    /** What stands for a text (BLAKE2b); nobody finds another with the same on purpose
     * that easily, and it is no secret. */
    void (*digest)(const char *text, char out[TWI_DIGEST_TEXT]);
} twi_broker_module;

/** What the module exports. */
extern const twi_broker_module twi_broker_table;

/** As twi_codecs_load. */
const twi_broker_module *twi_broker_load(tw_error *err);

#endif
