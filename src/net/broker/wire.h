/* What both ends of the broker module share. */
#ifndef TWI_BROKER_WIRE_H
#define TWI_BROKER_WIRE_H

#include <mosquitto.h>

#include "../broker.h"

/* Where a broker is, of its url. */
typedef struct broker_place {
    char host[256], user[256];
    int port;
} broker_place;

/** "mqtts://user@host:port/topic". @return false: it is not understood. */
bool broker_read_url(const twi_destination_settings *to, broker_place *out);

/** @return an error of the library. */
int broker_set_tls(struct mosquitto *client, const twi_destination_settings *to);

/** Word what became of it. */
void broker_fail(twi_sending *out, twi_fault fault, const char *more);

/** @param refused  Why the broker does not want us, of CONNACK; 0: it does. */
twi_fault broker_fault(int refused, int rc);

/* listener.c */
tw_status listener_new(const twi_listener_spec *spec, twi_listener **out, tw_error *err);
bool listener_read(twi_listener *listener, int wait_ms, twi_sending *out);
bool listener_acknowledge(twi_listener *listener);
void listener_drop(twi_listener *listener);
void listener_publish(twi_listener *listener, const char *topic, const char *payload);
void listener_free(twi_listener *listener);

/* signing.c */
bool broker_make_key(char secret[TWI_KEY_TEXT]);
bool broker_open_key(const char *secret, char key[TWI_KEY_TEXT]);
bool broker_sign(const char *secret, const char *text, char out[TWI_SIGNATURE_TEXT]);
bool broker_verify(const char *key, const char *text, const char *signature);
void broker_digest(const char *text, char out[TWI_DIGEST_TEXT]);

#endif
