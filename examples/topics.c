/* What stations tell a broker, line by line: its topic, and the message. tawny gather
 * keeps it.
 *
 *   topics [HOST [PORT [TOPIC [SECONDS]]]]     localhost, 1883, tawny, a minute
 *
 * See docs/sending.md. Nothing of ours is in between: any broker of MQTT does. */
#include <mosquitto.h>
#include <stdio.h>
#include <stdlib.h>
#include <time.h>

static void on_message(struct mosquitto *client, void *ctx,
                       const struct mosquitto_message *m)
{
    (void)client;
    (void)ctx;
    (void)printf("%s %.*s\n", m->topic, m->payloadlen, (const char *)m->payload);
}

int main(int argc, char **argv)
{
    char all[256];
    const time_t until = time(NULL) + (argc > 4 ? atoi(argv[4]) : 60);
    (void)snprintf(all, sizeof all, "%s/#", argc > 3 ? argv[3] : "tawny");
    (void)mosquitto_lib_init();
    struct mosquitto *client = mosquitto_new(NULL, true, NULL);
    mosquitto_message_callback_set(client, on_message);
    int rc = mosquitto_connect(client, argc > 1 ? argv[1] : "localhost",
                               argc > 2 ? atoi(argv[2]) : 1883, 30);
    if (rc == MOSQ_ERR_SUCCESS)
        rc = mosquitto_subscribe(client, NULL, all, 1);
    while (rc == MOSQ_ERR_SUCCESS && time(NULL) < until)
        rc = mosquitto_loop(client, 200, 1);
    if (rc != MOSQ_ERR_SUCCESS)
        (void)fprintf(stderr, "topics: %s\n", mosquitto_strerror(rc));
    mosquitto_destroy(client);
    (void)mosquitto_lib_cleanup();
    return rc == MOSQ_ERR_SUCCESS ? 0 : 1;
}
