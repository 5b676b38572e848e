/* A whole fleet of stations at a glance: subscribes to what they tell a broker, and
 * prints a table of it.
 *
 *   fleet [HOST [PORT [TOPIC [SECONDS]]]]     localhost, 1883, tawny, until Ctrl-C
 *
 * Stations retain their state at TOPIC/STATION/state and that of each camera at
 * TOPIC/STATION/CAMERA/state; sightings pass by at TOPIC/STATION/CAMERA/sighting. See
 * docs/sending.md. Nothing of ours is in between: any broker of MQTT does. */
#include <jansson.h>
#include <mosquitto.h>
#include <signal.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <time.h>

enum { ROWS_MAX = 256, STEP_MS = 200, KEEP_S = 30, PRINT_S = 2 };

/* A station (camera ""), or a camera. */
typedef struct row {
    char station[48], camera[48], state[24], last[32];
    int sightings;
    double activity;
} row;

typedef struct fleet {
    row rows[ROWS_MAX];
    size_t count;
    bool changed;
} fleet;

static volatile sig_atomic_t ended;

static void end(int number)
{
    (void)number;
    ended = 1;
}

static row *find(fleet *f, const char *station, const char *camera)
{
    for (size_t i = 0; i < f->count; i++)
        if (strcmp(f->rows[i].station, station) == 0 &&
            strcmp(f->rows[i].camera, camera) == 0)
            return &f->rows[i];
    if (f->count == ROWS_MAX)
        return NULL;
    row *r = &f->rows[f->count++];
    *r = (row){.state = "?"};
    (void)snprintf(r->station, sizeof r->station, "%s", station);
    (void)snprintf(r->camera, sizeof r->camera, "%s", camera);
    return r;
}

static const char *text_of(const json_t *o, const char *key)
{
    const char *text = json_string_value(json_object_get(o, key));
    return text ? text : "";
}

static void take_state(fleet *f, const json_t *o)
{
    row *r = find(f, text_of(o, "station"), text_of(o, "camera"));
    if (!r)
        return;
    (void)snprintf(r->state, sizeof r->state, "%s", text_of(o, "state"));
    r->sightings = (int)json_integer_value(json_object_get(o, "sightings"));
    r->activity = json_number_value(json_object_get(o, "activity"));
    if (text_of(o, "last")[0])
        (void)snprintf(r->last, sizeof r->last, "%s", text_of(o, "last"));
    f->changed = true;
}

static void print_sighting(const json_t *o)
{
    const bool over = strcmp(text_of(o, "type"), "sighting") == 0;
    (void)printf(
        "%s %s: sighting %d %s  %s%s\n", text_of(o, "station"), text_of(o, "camera"),
        (int)json_integer_value(json_object_get(o, over ? "number" : "sighting")),
        over ? "is over" : text_of(o, "type"), text_of(o, "file"), text_of(o, "why"));
    (void)fflush(stdout);
}

static void on_message(struct mosquitto *client, void *ctx,
                       const struct mosquitto_message *m)
{
    (void)client;
    json_t *o = json_loadb(m->payload, (size_t)m->payloadlen, 0, NULL);
    const char *type = text_of(o, "type");
    if (strcmp(type, "camera") == 0 || strcmp(type, "station") == 0)
        take_state(ctx, o);
    else if (strcmp(type, "sighting") == 0 || strcmp(type, "began") == 0 ||
             strcmp(type, "stored") == 0)
        print_sighting(o);
    json_decref(o);
}

static int by_name(const void *a, const void *b)
{
    const row *x = a, *y = b;
    const int stations = strcmp(x->station, y->station);
    return stations != 0 ? stations : strcmp(x->camera, y->camera);
}

static void print_table(fleet *f)
{
    qsort(f->rows, f->count, sizeof *f->rows, by_name);
    (void)printf("\n%-16s %-12s %-10s %9s %9s  %s\n", "station", "camera", "state",
                 "activity", "sightings", "last sighting");
    for (size_t i = 0; i < f->count; i++) {
        const row *r = &f->rows[i];
        if (r->camera[0])
            (void)printf("%-16s %-12s %-10s %7.2f %% %9d  %s\n", r->station, r->camera,
                         r->state, r->activity, r->sightings, r->last);
        else
            (void)printf("%-16s %-12s %s\n", r->station, "", r->state);
    }
    (void)fflush(stdout);
    f->changed = false;
}

static int watch(struct mosquitto *client, fleet *f, const char *topic, long seconds)
{
    char pattern[256];
    const time_t begun = time(NULL);
    time_t printed = begun; /* what is retained comes together */
    (void)snprintf(pattern, sizeof pattern, "%s/#", topic);
    int rc = mosquitto_subscribe(client, NULL, pattern, 1);
    while (!ended && rc == MOSQ_ERR_SUCCESS &&
           (seconds == 0 || time(NULL) - begun < seconds)) {
        rc = mosquitto_loop(client, STEP_MS, 1);
        if (f->changed && time(NULL) - printed >= PRINT_S) {
            printed = time(NULL);
            print_table(f);
        }
    }
    if (f->changed)
        print_table(f);
    if (rc != MOSQ_ERR_SUCCESS)
        (void)fprintf(stderr, "fleet: %s\n", mosquitto_strerror(rc));
    return rc == MOSQ_ERR_SUCCESS ? 0 : 1;
}

int main(int argc, char **argv)
{
    const char *host = argc > 1 ? argv[1] : "localhost";
    const int port = argc > 2 ? atoi(argv[2]) : 1883;
    const char *topic = argc > 3 ? argv[3] : "tawny";
    const long seconds = argc > 4 ? strtol(argv[4], NULL, 10) : 0;
    fleet *f = calloc(1, sizeof *f);
    int code = 1;
    (void)mosquitto_lib_init();
    struct mosquitto *client = f ? mosquitto_new(NULL, true, f) : NULL;
    (void)signal(SIGINT, end);
    (void)signal(SIGTERM, end);
    if (client) {
        mosquitto_message_callback_set(client, on_message);
        const int rc = mosquitto_connect(client, host, port, KEEP_S);
        if (rc == MOSQ_ERR_SUCCESS)
            code = watch(client, f, topic, seconds);
        else
            (void)fprintf(stderr, "fleet: no broker at %s:%d: %s\n", host, port,
                          mosquitto_strerror(rc));
        mosquitto_destroy(client);
    }
    (void)mosquitto_lib_cleanup();
    free(f);
    return code;
}
