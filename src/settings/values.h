/* Types of settings: how a value is written, read and explained. */
#ifndef TWI_VALUES_H
#define TWI_VALUES_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/settings.h"
#include "../core/dispatch.h"
#include "../core/view.h"
#include "sections.h"
#include "tawny/zones.h"

enum { TWI_VALUE_MAX = 320, TWI_AREA_MAX = 64 }; /* bytes of a printed value; corners */

typedef struct twi_row twi_row;

/* A field of any type, to read a value before it has its place. */
typedef union twi_value {
    bool yes;
    int64_t number;
    const char *text;
    twi_confirm confirm;
    twi_stills_choice stills;
    twi_timed_clip timed_clip;
    twi_size size;
    twi_crop crop;
    twi_by_kind by_kind;
    twi_when when;
    twi_limit limit;
    twi_budget budget;
} twi_value;

typedef struct twi_type {
    /* Read text into the field. @return false: not understood, the field untouched. */
    bool (*parse)(const twi_row *row, const char *text, void *field);
    /* Write the field as it would stand in a file. */
    void (*print)(const twi_row *row, const void *field, char *out, size_t capacity);
    /* What is allowed, in words, with an example. */
    void (*explain)(const twi_row *row, char *out, size_t capacity);
} twi_type;

/* Who may change a setting over the page: somebody who has come by an account must not
 * come by the machine. */
typedef enum twi_reach {
    TWI_REACH_PAGE,   /* whoever may change settings */
    TWI_REACH_SECRET, /* the same, unless the destination has a secret that it would send
                        elsewhere */
    TWI_REACH_PATH,   /* files and folders below the station's footage alone */
    TWI_REACH_FILE    /* the file itself alone */
} twi_reach;

/* One setting. */
struct twi_row {
    const char *section; /* "station", "camera", "zone"... */
    const char *group;
    const char *key;
    const twi_type *type;
    size_t offset;       /* of the field in the section's struct */
    int64_t min, max;    /* in the field's own unit */
    const char *preset;  /* the built-in value, as text */
    const char *example; /* for messages */
    const char *choices; /* words separated by blanks, in the order of the enum */
    const char *help;
    twi_reach reach;
    unsigned applied; /* a tw_applied; TWI_SENDING where what is sent differs with it,
                         TWI_ALWAYS */
};

enum {
    TWI_SENDING = 16,
    TWI_ALWAYS = 32 /* it is the same by day and night */
};

extern const twi_type twi_type_text;       /* const char *, borrowed from the text */
extern const twi_type twi_type_switch;     /* bool: yes, no */
extern const twi_type twi_type_choice;     /* int64_t: index into choices */
extern const twi_type twi_type_duration;   /* int64_t: microseconds */
extern const twi_type twi_type_share;      /* int64_t: ppm, written in percent */
extern const twi_type twi_type_percent;    /* int64_t: whole percent */
extern const twi_type twi_type_levels;     /* int64_t: luma levels, 0 is "auto" */
extern const twi_type twi_type_number;     /* int64_t */
extern const twi_type twi_type_rate;       /* int64_t: frames a second */
extern const twi_type twi_type_bytes;      /* int64_t */
extern const twi_type twi_type_confirm;    /* twi_confirm */
extern const twi_type twi_type_stills;     /* twi_stills_choice */
extern const twi_type twi_type_timed_clip; /* twi_timed_clip */
extern const twi_type twi_type_durations;  /* twi_by_kind: microseconds */
extern const twi_type twi_type_sizes;      /* twi_by_kind: bytes */
extern const twi_type twi_type_caption;    /* const char *, a pattern that expands */
extern const twi_type twi_type_decimal;    /* int64_t: millionths; "": TWI_NO_NUMBER */
extern const twi_type twi_type_clock;      /* int64_t: minute of the day; none: -1 */
extern const twi_type twi_type_degrees;    /* int64_t: millionths; "": TWI_NOWHERE */
extern const twi_type twi_type_hours;      /* const char *, hours that can be read */
extern const twi_type twi_type_source; /* const char *, printed without its password */
extern const twi_type twi_type_sound;  /* const char *, a microphone's name is sound */
extern const twi_type twi_type_size;   /* twi_size */
extern const twi_type twi_type_crop;   /* twi_crop, two corners */
extern const twi_type twi_type_words;  /* int64_t: bits, from the first of choices on */
extern const twi_type twi_type_when;   /* twi_when */
extern const twi_type twi_type_limit;  /* twi_limit */
extern const twi_type twi_type_budget; /* twi_budget */
extern const twi_type twi_type_area;   /* const char *, checked with twi_area_parse */

/** Read a duration, microseconds, or a size, bytes. @return false: not understood. */
bool twi_read_duration(const char *text, int64_t *us);
bool twi_read_bytes(const char *text, int64_t *bytes);

/** Write them as they would stand in a file. */
void twi_write_duration(int64_t us, char *out, size_t capacity);
void twi_write_bytes(int64_t bytes, char *out, size_t capacity);

/** Write millionths as a decimal, with as many digits as are needed: "-0.25". */
void twi_write_decimal(int64_t micro, char *out, size_t capacity);

/**
 * Read corners: "10,20 30,40 50,60", percent of the picture's width and height.
 *
 * @param points  Caller's, TWI_AREA_MAX of them; may be NULL to only check.
 * @return how many there are, 0: not understood, or fewer than 3.
 */
size_t twi_area_parse(const char *text, tw_point *points);

#endif
