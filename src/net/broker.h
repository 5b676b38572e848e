/* What the broker module does: messages over MQTT, by libmosquitto, which is loaded when
 * it is first needed. */
#ifndef TWI_BROKER_H
#define TWI_BROKER_H

#include <stdatomic.h>

#include "transfer.h"
#include "../settings/sections.h"

enum { TWI_BROKER_ABI = 1 };

/* A connection that is made again when it breaks. One thread at a time. */
typedef struct twi_broker twi_broker;

/** Told of a message that has come, within broker_step and broker_publish. */
typedef void (*twi_heard_fn)(void *ctx, const char *topic, const void *payload,
                             size_t bytes);

typedef struct twi_broker_spec {
    const twi_destination_settings *to; /* borrowed while the broker is there */
    const char *secret;                 /* copied; "": none */
    const char *client;                 /* id; the same each time */
    const char *will_topic, *will;      /* retained there when this end dies */
    const char *orders;                 /* topic that is listened to; NULL: none */
    const atomic_bool *stop;            /* gives up when it is set; may be NULL */
    twi_heard_fn heard;
    twi_talk_fn on_line; /* may be NULL */
    void *ctx;
} twi_broker_spec;

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
    /** @return a number that is another after each time it was connected; 0: never. */
    unsigned (*broker_times)(const twi_broker *broker);
    /** Say good-bye, so that the will is not done. NULL is fine. */
    void (*broker_free)(twi_broker *broker);
} twi_broker_module;

/** What the module exports. */
extern const twi_broker_module twi_broker_table;

/** As twi_codecs_load. */
const twi_broker_module *twi_broker_load(tw_error *err);

#endif
