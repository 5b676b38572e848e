/* What the parts of the settings share: what the files said, and what they call of each
 * other. */
#ifndef TWI_SETTINGS_STATE_H
#define TWI_SETTINGS_STATE_H

#include "table.h"
#include "texts.h"
#include "tawny/zones.h"
#include "tawny/settings.h"

enum { NAME_MAX_BYTES = 32, WHEN_MAX_BYTES = 128 };

#define TWI_ORIGIN_SET "--set" /* of values that tw_settings_set has set */

/* Where a value stands. Of two values for one key, the higher wins. */
typedef enum level {
    IN_STATION,
    IN_CAMERAS,
    IN_CAMERAS_WHEN,
    IN_PROFILE,
    IN_CAMERA,
    IN_CAMERA_WHEN,
    IN_ZONE,
    IN_HOOK,
    IN_DESTINATION,
    IN_SENSOR,
    IN_GATHER,
    SET_ALL,   /* --set key=value */
    SET_CAMERA /* --set NAME.key=value, or station.key */
} level;

typedef struct section {
    level level;
    char *name; /* "" where there is only one; "kerb when dark" */
    char *file;
    unsigned line;
    bool wrong; /* what it says has mistakes */
} section;

typedef struct entry {
    const twi_row *row;
    level level;
    char *name; /* of the section */
    char *value;
    char *origin; /* "station.ini:14" */
} entry;

/* What of a camera's conditions holds. */
typedef struct twi_holding {
    const twi_conditions *conditions;
    unsigned bits;
} twi_holding;

/* A camera's zones, made when they are asked for. */
typedef struct camera_zones {
    char *camera;
    unsigned bits; /* of the conditions that hold */
    tw_zone *zones;
    const char **names;
    tw_point *points;
    uint16_t *evidence_pct; /* asked for in each; 0: as elsewhere */
    size_t count;
    tw_zone *hidden; /* those of them that are private */
    size_t hidden_count;
} camera_zones;

/* A camera's settings by what holds, likewise. */
typedef struct camera_times {
    char *camera;
    twi_conditions *conditions; /* borrowed by what was made; NULL: it has none */
    twi_camera_settings *by;
} camera_times;

struct tw_settings {
    section *sections;
    size_t section_count;
    entry *entries;
    size_t entry_count;
    camera_zones *made;
    size_t made_count;
    camera_times *times;
    size_t times_count;
    bool wrong; /* there are mistakes in what concerns all cameras */
};

/** @return NULL: there is none. */
section *twi_find_section(const tw_settings *s, level at, const char *name);
entry *twi_find_entry(const tw_settings *s, level at, const char *name,
                      const twi_row *row);

/** Keep a section, or the value of a key; a later value takes the place of an earlier.
 * @return TW_OK; TW_ENOMEM. */
tw_status twi_add_section(tw_settings *s, level at, const char *name, const char *file,
                          unsigned line);
tw_status twi_add_entry(tw_settings *s, level at, const char *name, const twi_row *row,
                        const char *value, const char *origin);

/** Room for one more in an array. @return NULL: out of memory, or there are too many. */
void *twi_one_more(void *array, size_t count, size_t size);

/** What was made of cameras and zones does not hold any more. */
void twi_forget_made(tw_settings *s);
void twi_free_zones(camera_zones *made);
void twi_free_times(camera_times *made);

/** @param now  What holds; NULL: nothing that holds at times.
 * @return the entry that decides a camera's setting, NULL: the built-in value does. */
const entry *twi_deciding(const tw_settings *s, const char *camera, const twi_row *row,
                          const twi_holding *now);

/** The same of sections of one level that hold at times, the last of them winning. */
const entry *twi_deciding_when(const tw_settings *s, const char *camera, level at,
                               const twi_row *row, const twi_holding *now);

/** The sensitivity of a camera. */
int64_t twi_dial_of(const tw_settings *settings, const char *camera,
                    const twi_holding *now);

/** The value of a camera's setting where none is set: by its sensitivity, else the
 * built-in one. */
const char *twi_unset_value(const tw_settings *settings, const char *camera,
                            const twi_row *row, const twi_holding *now);

/** @return the condition of a section that holds at times for this camera, else NULL. */
const char *twi_condition_of(const section *s, const char *camera);

/** Whether a name is that of a section that holds at times, there or not: "kerb when
 * dark" of a camera that is there, "when dark". @param at  Set to its level. */
bool twi_condition_section_read(const tw_settings *s, const char *name, level *at);

/** @return what a section of a level begins with in a file: "camera". */
const char *twi_level_head(level at);

/** @param value  As it stands in a file.
 * @return it as it may be seen: as its kind is written, in out; or "***". */
const char *twi_value_shown(const twi_row *row, const char *value, char *out,
                            size_t capacity);

/** Split the name of a section that holds at times.
 * @param before  Set to the length of the camera's name, 0: it is of all.
 * @return its condition, NULL: it has none. */
const char *twi_condition_in(const char *name, size_t *before);

/** All conditions of a camera, each once.
 * @return how many there are; out has at most TWI_CONDITIONS_MAX of them. */
size_t twi_gather_conditions(const tw_settings *s, const char *camera,
                             twi_conditions *out);

/** @return the entry that names a camera's profiles, NULL: none does. */
const entry *twi_used_profiles(const tw_settings *s, const char *camera);

/** Take the next name off a list of profiles. @return false: there is none. */
bool twi_next_name(const char **list, char *name, size_t capacity);

/** @return the zone's own name if the section is a zone of this camera, else NULL. */
const char *twi_zone_of(const section *s, const char *camera);

/** What is said of a zone, by its whole name. */
void twi_read_zone(const tw_settings *s, const char *name, twi_zone_settings *out);

/** Whether a destination has a secret, in a file or the environment. */
bool twi_has_secret(const tw_settings *s, const char *destination);

/** Whether settings that somebody made over the page from others change only what he
 * may. @return TW_OK; TW_EACCES: err says what may not be changed. */
tw_status twi_settings_allow(const tw_settings *had, const tw_settings *made,
                             tw_error *err);

/* One reading of settings: where it stands, and what it has found. */
typedef struct intake {
    tw_settings *settings;
    const char *file;
    tw_problem_fn callback;
    void *ctx;
    bool in_section;
    bool skip; /* the section is not known, and that has been said */
    bool lone; /* what is wrong concerns no section that is there */
    level level;
    char name[NAME_MAX_BYTES + WHEN_MAX_BYTES + 8];
    tw_status status;
    const char *folder; /* of the file; NULL: it is none, and cannot include others */
    int depth;          /* of files that include each other */
    twi_texts *texts;   /* stand for the files; those that are not there yet are added.
                          NULL: the files themselves */
} intake;

/** As tw_settings_read, from texts. */
tw_status twi_settings_read_texts(tw_settings *settings, const char *path,
                                  twi_texts *texts, tw_problem_fn callback, void *ctx);

/** Tell of a mistake, and remember whom it concerns: the section that in stands in.
 * @param line  0: none in particular. */
void twi_intake_tell(intake *in, tw_status st, unsigned line, const char *format, ...)
    TW_PRINTF(4, 5);

#endif
