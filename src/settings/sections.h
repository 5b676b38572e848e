/* What settings say, as C values: of the station, of a camera with all that it inherits,
 * of a hook, of a destination. Texts that structs point to belong to the tw_settings that
 * filled them, until it is freed or changed. */
#ifndef TWI_SECTIONS_H
#define TWI_SECTIONS_H

#include <stdio.h>

#include "../core/budget.h"
#include "../core/dispatch.h"
#include "../core/hours.h"
#include "../core/naming.h"
#include "../core/view.h"
#include "tawny/settings.h"
#include "tawny/zones.h"

typedef enum twi_stills {
    TWI_STILLS_NONE,
    TWI_STILLS_FIRST,
    TWI_STILLS_BEST,
    TWI_STILLS_EVERY
} twi_stills;

/* What the film of a day is made of. */
typedef enum twi_reel_of {
    TWI_REEL_NONE,
    TWI_REEL_CLIPS,
    TWI_REEL_STILLS,
    TWI_REEL_TIMED
} twi_reel_of;

typedef enum twi_clip_video {
    TWI_VIDEO_AUTO,
    TWI_VIDEO_COPY,
    TWI_VIDEO_H264,
    TWI_VIDEO_MJPEG
} twi_clip_video;

/* What begins a sighting, where there is a motion sensor. */
typedef enum twi_sensor_starts {
    TWI_SENSOR_EITHER, /* the sensor, or motion in the picture */
    TWI_SENSOR_BOTH,   /* motion in the picture while or soon after the sensor says so */
    TWI_SENSOR_ALONE   /* the sensor */
} twi_sensor_starts;

/* What sound that is louder than usual does. */
typedef enum twi_sound_starts {
    TWI_SOUND_NO,
    TWI_SOUND_EITHER, /* it begins a sighting, as motion does */
    TWI_SOUND_BOTH    /* motion does, while it is loud or soon after */
} twi_sound_starts;

/* Which stills of a sighting are stored. */
typedef struct twi_stills_choice {
    twi_stills which;
    int64_t every_us; /* for TWI_STILLS_EVERY */
} twi_stills_choice;

/* Of a picture, pixels. */
typedef struct twi_size {
    uint16_t width, height;
} twi_size;

/* Clips by the clock. */
typedef struct twi_timed_clip {
    int64_t length_us, every_us; /* every_us 0: none */
} twi_timed_clip;

#define TWI_AS_ALL INT64_C(-1)
#define TWI_NO_NUMBER INT64_MIN
#define TWI_NOWHERE TWI_NO_NUMBER

/* A limit for captures, by kind. */
typedef struct twi_by_kind {
    int64_t all;
    int64_t kind[TWI_KIND_COUNT]; /* TWI_AS_ALL: it has none of its own */
} twi_by_kind;

/* Bits of caption_on. */
enum { TWI_CAPTION_CLIPS = 1, TWI_CAPTION_STILLS = 2, TWI_CAPTION_LIVE = 4 };

/* Where a caption stands. */
typedef enum twi_corner {
    TWI_TOP_LEFT,
    TWI_TOP_RIGHT,
    TWI_BOTTOM_LEFT,
    TWI_BOTTOM_RIGHT
} twi_corner;

typedef struct twi_confirm {
    uint8_t k, n; /* k of n frames */
} twi_confirm;

/* [station] */
typedef struct twi_station_settings {
    const char *name;
    const char *store;   /* folder */
    const char *names;   /* pattern, see twi_name_expand */
    int64_t queue_bytes; /* footage that may wait for the card */
    int64_t keep_free;   /* bytes of the card that are kept free */
    int64_t goes_first;  /* where it is full: 0 the oldest, 1 segments */
    const char *species; /* file of names that the page offers; "": none */
    const char *footage; /* folder of what the page may choose as footage; "": none */
    const char *listen;  /* where the page answers: "127.0.0.1:8420"; "none" nowhere */
    const char *accounts_file;                 /* of those who may see it */
    const char *certificate, *certificate_key; /* PEM files; "": no TLS */
    int64_t live_fps;                          /* of live pictures */
    int64_t alarm_after_us; /* what is wrong for so long is an alarm; 0: nothing is */
    int64_t daily_word;     /* when a word is said each day, minute of it; -1: never */
    int64_t daily_reel;     /* when the film of the last day is made, likewise */
    const char *page_url;   /* where others find the page; "": not said */
} twi_station_settings;

/* When a section holds that does at times. */
typedef enum twi_condition_kind {
    TWI_CONDITION_DARK,
    TWI_CONDITION_LIGHT,
    TWI_CONDITION_HOURS
} twi_condition_kind;

typedef struct twi_condition {
    twi_condition_kind kind;
    const char *text; /* "dark", "22:00-05:00" */
    twi_hours hours;  /* of TWI_CONDITION_HOURS */
} twi_condition;

/* What tells that it is dark. */
typedef enum twi_dark_from {
    TWI_DARK_FROM_LIGHT,  /* the picture is */
    TWI_DARK_FROM_COLOUR, /* it has no colour: the camera has gone over to infrared */
    TWI_DARK_FROM_SUN,    /* it is below the horizon */
    TWI_DARK_FROM_PIN     /* dark_pin is active */
} twi_dark_from;

enum { TWI_CONDITIONS_MAX = 5 };

struct twi_camera_settings;

/* A camera's conditions, and its settings by which of them hold. */
typedef struct twi_conditions {
    size_t count;
    twi_condition of[TWI_CONDITIONS_MAX];
    const struct twi_camera_settings *by; /* 1 << count of them: at 1 << k and so on where
                                             the k-th holds */
} twi_conditions;

/* One camera, everything inherited. Times in microseconds, shares in ppm. */
typedef struct twi_camera_settings {
    const char *name;
    const char *use; /* names of profiles, separated by commas; "" none */
    const char *source;
    const char *detect_source; /* looked at instead, while a station watches; "": none */
    int64_t fps;               /* at most; 0: as the source has it */
    twi_size size;             /* wanted of a device; 0 x 0: as it likes */
    int64_t format;            /* index: auto, mjpeg, h264, yuyv, nv12, grey, rgb */
    const char *controls;      /* of a device */
    const char *sound;         /* "none", "stream", "alsa:..." */
    int64_t sound_starts;      /* a twi_sound_starts */
    int64_t sound_margin;      /* decibels over what is usual */
    int64_t fetch_every_us;    /* of HTTP: fetch a picture so often; 0: it is a stream */
    int64_t rotate;            /* clockwise, quarters: 0..3 */
    bool mirror;               /* left to right, before that */
    twi_crop crop;             /* of the picture that this makes; all zero: none */
    int64_t transport;         /* of RTSP: 0 TCP, 1 UDP */
    bool loop, pace;
    bool armed, pre_disarmed; /* pre-event footage is kept while disarmed too */
    int64_t arm_delay_us;
    const char *hours;  /* as docs/settings.md has them */
    int64_t difference; /* luma levels; 0 follows the noise */
    int64_t noise_margin_pct;
    int64_t start_ppm, stay_ppm;
    twi_confirm confirm;
    int64_t smallest_ppm, largest_ppm;
    int64_t travel_ppm;   /* of the width; 0: no tracks */
    int64_t sensitivity;  /* 1..5; what it stands for is in the fields that it moves */
    int64_t evidence_pct; /* of what is usually asked of a subject */
    int64_t memory_us;
    bool light_guard, sway_guard, shake_guard, colour;
    int64_t settle_us;
    int64_t check_every_us; /* frames in between are kept but not looked at; 0: each is */
    const char *mask;       /* path of a PNG or PGM picture; "" none */
    int64_t pre_us, post_us, rest_us, longest_us;
    int64_t pre_bytes; /* memory that pre-event footage may take */
    twi_stills_choice stills;
    int64_t timed_still_us; /* a still every so often, sighting or not; 0: none */
    twi_timed_clip timed_clip;
    int64_t segment_us;     /* pieces of continuous recording */
    int64_t reel_of;        /* a twi_reel_of: the film of a day */
    int64_t reel_length_us; /* of it, at most */
    int64_t burst;          /* stills in quick succession, each time: 1..50 */
    int64_t still_quality;  /* 1..100 */
    bool clips, continuous;
    bool caption_clean; /* the capture without its caption is stored too */
    int64_t clip_video; /* a twi_clip_video */
    int64_t clip_quality;
    const char *caption;      /* a pattern; "" none */
    int64_t caption_on;       /* bits: TWI_CAPTION_CLIPS... */
    int64_t caption_place;    /* a twi_corner */
    int64_t caption_size_ppm; /* height of a line, share of the picture's height */
    twi_by_kind keep_for_us;  /* captures, then they are dropped; 0: forever */
    twi_by_kind keep_size;    /* bytes that captures may take; 0: no limit. That of a kind
                                holds beside that of all */
    int64_t keep_trace_us;    /* the trace of activity; 0: forever */
    int64_t latitude, longitude; /* millionths of a degree; TWI_NOWHERE: not said */
    const char *sensor_pin;      /* a motion sensor; "" none */
    int64_t sensor_starts;       /* a twi_sensor_starts */
    int64_t sensor_holds_us;     /* so long after its signal motion counts with it */
    const char *lamp_pin;        /* lit in the dark while a sighting lasts; "" none */
    int64_t dark_by;             /* a twi_dark_from */
    int64_t dark_ppm;            /* of the brightest possible */
    int64_t dark_after_us;       /* so long it must be dark, or light */
    const char *dark_pin;        /* active in the dark; "" none */
    const char *pulse_pin;       /* pulses when a sighting begins; "" none */
    int64_t pulse_us;
    const char *send_to; /* names of destinations, separated by commas; "" none */
    const tw_zone *zones;
    const char *const *zone_names;
    const uint16_t *zone_evidence_pct; /* 0: as elsewhere */
    size_t zone_count;
    const tw_zone *private_zones; /* those of them that nobody may see */
    size_t private_count;
    const twi_conditions *conditions; /* NULL: nothing holds at times alone */
} twi_camera_settings;

/* What a hook is started on; bits of twi_hook_settings.on, in the order of the words. */
enum {
    TWI_HOOK_BEGAN = 1,     /* a sighting began */
    TWI_HOOK_STILL = 2,     /* a still of one is stored */
    TWI_HOOK_CLIP = 4,      /* a clip is */
    TWI_HOOK_ENDED = 8,     /* a sighting ended */
    TWI_HOOK_LOST = 16,     /* a camera gives nothing */
    TWI_HOOK_BACK = 32,     /* it does again */
    TWI_HOOK_LOW = 64,      /* the card is low: captures had to be dropped */
    TWI_HOOK_STOPPED = 128, /* nothing is sent to a destination any more */
    TWI_HOOK_ALARM = 256,   /* somebody should look after something */
    TWI_HOOK_DAILY = 512    /* the word of the day */
};

/* [hook NAME]: a program of the user's. */
typedef struct twi_hook_settings {
    const char *name;
    int64_t on;          /* TWI_HOOK_ bits */
    const char *run;     /* program and arguments: no shell reads it */
    const char *cameras; /* their names, separated by commas; "": all */
    int64_t timeout_us;
    bool classifies; /* its last line says what a sighting shows */
} twi_hook_settings;

/* [sensor NAME]: a number that a file or a program gives. Values in millionths of the
 * unit.
 */
typedef struct twi_sensor_settings {
    const char *name;
    const char *file; /* "": a program gives it */
    const char *run;  /* program and arguments: no shell reads it; "": a file does */
    const char *unit;
    int64_t factor; /* millionths: what is read times this is the value */
    int64_t every_us;
    int64_t above, below; /* it is an alarm above or below; TWI_NO_NUMBER: never */
    int64_t keep_us;      /* values; 0: forever */
} twi_sensor_settings;

/* What goes to a destination; bits of twi_destination_settings.what, in the order of the
 * words. */
enum {
    TWI_SEND_STILL = 1,    /* stills of sightings, and those that were asked for */
    TWI_SEND_SMALL = 2,    /* the same, reduced */
    TWI_SEND_CLIP = 4,     /* clips of sightings */
    TWI_SEND_RECORD = 8,   /* what is known of a sighting that is over, as JSON */
    TWI_SEND_TIMED = 16,   /* stills and clips by the clock */
    TWI_SEND_SEGMENT = 32, /* continuous recording */
    TWI_SEND_REEL = 64,    /* films of the day */
    TWI_SEND_ALARM = 128,  /* an alarm; not in the settings' what */
    TWI_SEND_DAILY = 256   /* the word of the day; likewise */
};

/** Whether a destination's url means phones; NULL means nothing. */
bool twi_url_is_phones(const char *url);

/* Of what a destination is told. */
enum { TWI_TELL_SIGHTINGS = 1, TWI_TELL_ALARMS = 2, TWI_TELL_DAILY = 4 };

enum { TWI_LIMIT_AUTO = 1000000 }; /* twi_limit.most: as the kind of destination wants */

typedef enum twi_send_by {
    TWI_BY_WEBDAV,
    TWI_BY_PUT,
    TWI_BY_FORM,
    TWI_BY_JSON
} twi_send_by;
typedef enum twi_tls { TWI_TLS_VERIFIED, TWI_TLS_UNVERIFIED, TWI_TLS_NONE } twi_tls;

/* [destination NAME]: where captures and messages go. */
typedef struct twi_destination_settings {
    const char *name;
    const char *url; /* without a password */
    int64_t what;    /* TWI_SEND_ bits */
    twi_budget budget;
    int64_t on; /* TWI_TELL_ bits */
    twi_when when;
    twi_limit limit;
    const char *hours;    /* as docs/settings.md has them */
    int64_t newest_first; /* 0, 1 */
    int64_t bandwidth;    /* bytes a second; 0: no limit */
    int64_t small_side;   /* pixels of a reduced still's longer side */
    int64_t attach_below; /* bytes of a clip that a mail carries */
    const char *to;       /* of mail; separated by commas */
    const char *from;     /* of mail; "": the user */
    const char *subject;  /* of mail: a pattern */
    int64_t by;           /* of HTTP: a twi_send_by */
    const char *headers;  /* of HTTP: "Name: value | Name: value" */
    const char *region;   /* of object storage */
    bool orders, live;    /* of a broker: whether it may give them; gets live pictures */
    const char *settings_from; /* of a broker: key of who may change settings; "" */
    const char *user;          /* "": the URL's, if it has one */
    const char *secret_file, *secret_env; /* where the password is; "" nowhere */
    const char *key_file;                 /* of SFTP: private key */
    const char *host_keys;                /* of SFTP: the known ones */
    int64_t tls;                          /* a twi_tls */
    const char *trust;                    /* certificates to trust; "": the system's */
    int64_t timeout_us;                   /* without a sign from the other side */
} twi_destination_settings;

/* [gather]: what tawny gather takes in. */
typedef struct twi_gather_settings {
    const char *url;                /* of the broker; "": it gathers nothing */
    const char *user, *secret_file; /* as of a destination */
    const char *trust;
    int64_t tls;         /* a twi_tls */
    const char *ledger;  /* a file, or an address of a server */
    const char *session; /* name of this gatherer's at the broker */
    const char *media;   /* where captures lie: a path with {station} and {file} in it */
    const char *media_from;   /* a destination's name: captures lie there; "": here */
    const char *groups;       /* "lane: hollin marsh*; hill: north" */
    const char *listen;       /* of its page; "none": it has none */
    const char *settings_key; /* file with the key that signs settings; "": none */
} twi_gather_settings;

void twi_settings_gather(const tw_settings *settings, twi_gather_settings *out);

/** The settings as one text that can be read again: what files set, no file's place, and
 * nothing that is changed in the file alone; secrets are "***".
 * @return the caller's to free(); NULL: out of memory. */
char *twi_settings_plain(const tw_settings *settings);

/** @return whether nobody may see what is in a zone of a camera. */
static inline bool twi_zone_is_private(const twi_camera_settings *camera, size_t zone)
{
    for (size_t i = 0; i < camera->private_count; i++)
        if (camera->private_zones[i].points == camera->zones[zone].points)
            return true;
    return false;
}

/** @return the word of a camera's format setting: "auto", "mjpeg"...; static. */
const char *twi_format_name(int64_t format);

/** A source as it may be shown: user and password become "***", and so does a query with
 * values, in which many cameras want them.
 * @param out  Caller's, capacity bytes, >= 1; cut where it is too long. @return out. */
const char *twi_source_shown(const char *source, char *out, size_t capacity);

/** Overwrite with "*", in place, what twi_source_shown does not show: for a program's
 * arguments, which everybody on the machine can read. Other text stays as it is. */
void twi_source_blank(char *source);

/** What tw_settings_set said of others is said of these as well, of cameras that they
 * have; then they are checked. @return TW_OK; TW_ENOMEM. */
tw_status twi_settings_override(tw_settings *settings, const tw_settings *others);

/** @return whether nothing is wrong with what concerns a camera: its section, its zones,
 * its profiles, and what is said of all. NULL: with what is said of all and of the
 * station, so that it can run with the cameras that are sound. After tw_settings_check.
 */
bool twi_settings_sound(const tw_settings *settings, const char *camera);

/** What it takes to go from what one set of settings says of a camera to what another
 * says, zones included; NULL: of the station.
 * @return TW_APPLIED_NOT: they say the same; TW_APPLIED_START also where one is NULL. */
tw_applied twi_settings_difference(const tw_settings *a, const tw_settings *b,
                                   const char *camera);

/** @return whether two settings say the same of all hooks. */
bool twi_settings_same_hooks(const tw_settings *a, const tw_settings *b);

/** @return whether two settings say the same of all destinations, and of what goes there:
 * which cameras there are, their send_to and captions, and the station's name. */
bool twi_settings_same_sending(const tw_settings *a, const tw_settings *b);

/** @return The name of a hook in the order of the file, NULL past the last. Those with
 * mistakes are not among them. */
const char *twi_settings_hook_name(const tw_settings *settings, size_t index);

/** Fill in a hook's settings. @return TW_OK; TW_ENOENT: no such hook. */
tw_status twi_settings_hook(const tw_settings *settings, const char *name,
                            twi_hook_settings *out);

/** The same of sensors. */
const char *twi_settings_sensor_name(const tw_settings *settings, size_t index);
tw_status twi_settings_sensor(const tw_settings *settings, const char *name,
                              twi_sensor_settings *out);
bool twi_settings_same_sensors(const tw_settings *a, const tw_settings *b);

/** @return The name of a destination in the order of the file, NULL past the last. Those
 * with mistakes are not among them. */
const char *twi_settings_destination_name(const tw_settings *settings, size_t index);

/** Fill in a destination's settings. @return TW_OK; TW_ENOENT: no such destination. */
tw_status twi_settings_destination(const tw_settings *settings, const char *name,
                                   twi_destination_settings *out);

/** @return whether a list of names, separated by commas or blanks, has one. */
bool twi_settings_names(const char *list, const char *name);

/** Fill in the [station] settings. */
void twi_settings_station(const tw_settings *settings, twi_station_settings *out);

/** Fill in one camera's settings, without what holds at times: that is in conditions.
 * @return TW_OK; TW_ENOENT: no such camera; TW_ENOMEM. */
tw_status twi_settings_camera(tw_settings *settings, const char *name,
                              twi_camera_settings *out);

/** @return The name of a section that holds at times for one camera, "kerb when dark",
 * or, camera NULL, for all of them, "when dark"; in the order of the file, NULL past the
 * last. */
const char *twi_settings_condition_section(const tw_settings *settings,
                                           const char *camera, size_t index);

#define TWI_NOT_SET "not set" /* origin of what such a section does not have */

/** Visit the settings that may stand in such a section, as tw_settings_walk, whether it
 * is there already or not. What it does not have is told with the built-in value, and
 * TWI_NOT_SET. @return TW_OK; TW_ENOENT: it cannot be one. */
tw_status twi_settings_walk_condition(tw_settings *settings, const char *name,
                                      void (*visit)(void *ctx, const tw_setting *setting),
                                      void *ctx);

/** Visit the settings of [cameras], which hold for all that do not say otherwise; what
 * it does not say is told with the built-in value. */
tw_status twi_settings_walk_cameras(tw_settings *settings,
                                    void (*visit)(void *ctx, const tw_setting *setting),
                                    void *ctx);

/** Read "dark", "light" or hours. @param out  May be NULL; it borrows the text.
 * @return false: it is none of them, or hours that are always. */
bool twi_condition_read(const char *text, twi_condition *out);

/** Write those of a camera's conditions that hold: "dark; 22:00-05:00"; "": none.
 * @param conditions  May be NULL. @param bits  Of those that hold. */
void twi_conditions_word(const twi_conditions *conditions, unsigned bits, char *out,
                         size_t capacity);

/** The same for a sensor. */
tw_status twi_settings_walk_sensor(tw_settings *settings, const char *sensor,
                                   void (*visit)(void *ctx, const tw_setting *setting),
                                   void *ctx);

/** The same for a destination. What its headers say is not shown unless they leave the
 * secret out. */
tw_status twi_settings_walk_destination(tw_settings *settings, const char *destination,
                                        void (*visit)(void *ctx,
                                                      const tw_setting *setting),
                                        void *ctx);

/**
 * Change one thing in the text of a settings file; comments, order and spelling of the
 * rest stay. A value is changed where it is set in that section, else added at the
 * section's end, else the section is added. What the text means is not checked.
 *
 * @param head,name  The section: "camera", "kerb"; name is "" for [station].
 * @param key        NULL: the section itself.
 * @param value      NULL: the line that sets the key is taken out; without a key, all
 *                   lines of the section. A value without a key is the section's new
 * name.
 * @param out        Set on TW_OK, the caller's to free(); ended by 0.
 * @return TW_OK; TW_EINVAL: NULL pointer, or a text that would not be read as what it is:
 *         with a line break, or a comment in it; TW_ENOENT: what is to be taken out or
 *         renamed is not there; TW_ESIZE: over 1 MB; TW_ENOMEM.
 */
tw_status twi_settings_edit(const char *text, size_t bytes, const char *head,
                            const char *name, const char *key, const char *value,
                            char **out, size_t *out_bytes);

/** Write the reference (Markdown) of all settings. @return TW_OK; TW_EIO. */
tw_status twi_settings_reference(FILE *out);

#endif
