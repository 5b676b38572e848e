/* What stations tell a broker, read: nothing of it is believed beyond the topic it came
 * on, which the broker's access list gives to one station alone. */
#ifndef TWI_GATHER_HEARD_H
#define TWI_GATHER_HEARD_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

enum {
    TWI_HEARD_NAME = 128,          /* bytes of a name, the final 0 included */
    TWI_HEARD_BYTES_MAX = 1 << 20, /* of a message: others are left out */
    TWI_HEARD_SERIES = 33
};

typedef enum twi_heard_kind {
    TWI_HEARD_STATION,  /* its state */
    TWI_HEARD_CAMERA,   /* a camera's state */
    TWI_HEARD_SIGHTING, /* its record, once it is over */
    TWI_HEARD_GONE,     /* a number that is no more */
    TWI_HEARD_ALARM,
    TWI_HEARD_SETTINGS, /* of the station */
    TWI_HEARD_ANSWER    /* to a word, see words.h */
} twi_heard_kind;

/* Of what is gone nothing but its number is known; a record that comes late replaces
 * that, never the other way. */
typedef enum twi_phase { TWI_PHASE_OVER = 1, TWI_PHASE_GONE } twi_phase;

/* One message. */
typedef struct twi_heard {
    twi_heard_kind kind;
    char station[TWI_HEARD_NAME], camera[TWI_HEARD_NAME]; /* camera "": the station */
    char series[TWI_HEARD_SERIES];                        /* "": not said */
    int64_t number;  /* of a sighting; of a station's state: up to here all are over;
                        of a word that is answered; -1: not said */
    twi_phase phase; /* of a sighting */
    int64_t start_us, end_us; /* of a sighting, wall clock; 0: not known */
    int64_t time_us;          /* when it was told, by the station's clock; 0: not said */
    uint32_t peak_ppm;
    int64_t count;               /* of the animals that were named; 0: not said */
    char name[TWI_HEARD_NAME];   /* of the animals; what stands for the settings that a
                                    station has, "" where they cannot be changed */
    bool placed;                 /* a camera says where it stands */
    int64_t latitude, longitude; /* millionths of a degree, where it does */
    char mark[16], state[32];    /* of an answer "taken" or "refused" */
    char *text;                  /* the message as JSON; the struct's */
} twi_heard;

/**
 * Read a message.
 *
 * @param root   Topic that all stand below: "tawny".
 * @param out    Set on TW_OK; to be cleared by twi_heard_clear.
 * @return TW_OK; TW_ENOENT: it is nothing to keep; TW_ESYNTAX: not understood, or it says
 *         that it is another station's than its topic; TW_ESIZE: too large; TW_ENOMEM.
 */
tw_status twi_heard_read(const char *root, const char *topic, const void *payload,
                         size_t bytes, twi_heard *out);

void twi_heard_clear(twi_heard *heard);

/** A time as stations write it: "2027-03-13T21:04:07.250Z".
 * @return wall clock, microseconds; 0: none (NULL is fine), or no such time. */
int64_t twi_heard_time(const char *text);

/** Where a camera says that it stands. @param camera  Its state, a json_t.
 * @return whether it is a place; set in millionths of a degree */
bool twi_heard_place(const void *camera, int64_t *latitude, int64_t *longitude);

/** @param percent  As stations write shares. @return 0: it is none. */
uint32_t twi_heard_ppm(double percent);

/**
 * The topic of a station: what stands in a topic means nothing there.
 *
 * @return false: it does not fit.
 */
bool twi_heard_topic(const char *root, const char *station, const char *what, char *out,
                     size_t capacity);

#endif
