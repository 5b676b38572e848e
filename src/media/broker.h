/* What the broker module does: messages over MQTT, by libmosquitto, which is loaded when
 * it is first needed. */
#ifndef TW_BROKER_H
#define TW_BROKER_H

#include <stdatomic.h>

#include "transfer.h"

enum { TW_BROKER_ABI = 1 };

/* A connection that is made again when it breaks. One thread at a time. */
typedef struct tw_broker tw_broker;

/** Told of a message that has come, within broker_step and broker_publish. */
typedef void (*tw_heard_fn)(void *ctx, const char *topic, const void *payload,
                            size_t bytes);

typedef struct tw_broker_spec {
    const tw_destination_settings *to; /* borrowed while the broker is there */
    const char *secret;                /* copied; "": none */
    const char *client;                /* id; the same each time */
    const char *will_topic, *will;     /* retained there when this end dies */
    const char *orders;                /* topic that is listened to; NULL: none */
    const atomic_bool *stop;           /* gives up when it is set; may be NULL */
    tw_heard_fn heard;
    tw_said_fn said; /* may be NULL */
    void *ctx;
} tw_broker_spec;

typedef struct tw_broker_module {
    int abi; /* TW_BROKER_ABI */
    /** Nothing is connected yet. Topics are copied.
     * @return TW_OK; TW_ENOMEM; TW_EINVAL: err says what. */
    tw_status (*broker_new)(const tw_broker_spec *spec, tw_broker **out, tw_error *err);
    /** Connect if it is not, else keep it alive, for so long at most.
     * @param out  Always set. @return whether it is connected. */
    bool (*broker_step)(tw_broker *broker, int wait_ms, tw_sending *out);
    /** Publish, connected, and wait until the broker has it (QoS 1).
     * @param out  Always set. */
    void (*broker_publish)(tw_broker *broker, const char *topic, const char *payload,
                           bool retain, tw_sending *out);
    /** @return a number that is another after each time it was connected; 0: never. */
    unsigned (*broker_times)(const tw_broker *broker);
    /** Say good-bye, so that the will is not done. NULL is fine. */
    void (*broker_free)(tw_broker *broker);
} tw_broker_module;

typedef const tw_broker_module *(*tw_broker_entry)(void);

/** As tw_codecs_load. */
const tw_broker_module *tw_broker_load(tw_error *err);

#endif
