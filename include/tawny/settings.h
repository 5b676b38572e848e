/* tawny/settings.h - settings of a station and its cameras, with the origin of each.
 *
 * One table lists all settings; from it come parsing, messages, `tawny settings` and the
 * reference in docs/settings.md. Texts that structs point to belong to the tw_settings
 * that filled them, until it is freed or changed. One thread at a time. */
#ifndef TW_SETTINGS_H
#define TW_SETTINGS_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>
#include <stdio.h>

#include "tawny/dispatch.h"
#include "tawny/error.h"
#include "tawny/naming.h"
#include "tawny/status.h"
#include "tawny/view.h"
#include "tawny/zones.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef enum tw_stills {
    TW_STILLS_NONE,
    TW_STILLS_FIRST,
    TW_STILLS_BEST,
    TW_STILLS_EVERY
} tw_stills;

typedef enum tw_clip_video {
    TW_VIDEO_AUTO,
    TW_VIDEO_COPY,
    TW_VIDEO_H264,
    TW_VIDEO_MJPEG
} tw_clip_video;

/* What begins a sighting, where there is a motion sensor. */
typedef enum tw_sensor_starts {
    TW_SENSOR_EITHER, /* the sensor, or motion in the picture */
    TW_SENSOR_BOTH,   /* motion in the picture while or soon after the sensor says so */
    TW_SENSOR_ALONE   /* the sensor */
} tw_sensor_starts;

/* Which stills of a sighting are stored. */
typedef struct tw_stills_choice {
    tw_stills which;
    int64_t every_us; /* for TW_STILLS_EVERY */
} tw_stills_choice;

/* Of a picture, pixels. */
typedef struct tw_size {
    uint16_t width, height;
} tw_size;

/* Clips by the clock. */
typedef struct tw_timed_clip {
    int64_t length_us, every_us; /* every_us 0: none */
} tw_timed_clip;

#define TW_AS_ALL INT64_C(-1)
#define TW_NOWHERE INT64_MIN

/* A limit for captures, by kind. */
typedef struct tw_by_kind {
    int64_t all;
    int64_t kind[TW_KIND_COUNT]; /* TW_AS_ALL: it has none of its own */
} tw_by_kind;

/* Bits of caption_on. */
enum { TW_CAPTION_CLIPS = 1, TW_CAPTION_STILLS = 2, TW_CAPTION_LIVE = 4 };

/* Where a caption stands. */
typedef enum tw_corner {
    TW_TOP_LEFT,
    TW_TOP_RIGHT,
    TW_BOTTOM_LEFT,
    TW_BOTTOM_RIGHT
} tw_corner;

typedef struct tw_confirm {
    uint8_t k, n; /* k of n frames */
} tw_confirm;

/* [station] */
typedef struct tw_station_settings {
    const char *name;
    const char *store;   /* folder */
    const char *names;   /* pattern, see tw_name_expand */
    int64_t queue_bytes; /* footage that may wait for the card */
    int64_t keep_free;   /* bytes of the card that are kept free */
    const char *footage; /* folder of what the page may choose as footage; "": none */
    const char *listen;  /* where the page answers: "127.0.0.1:8420"; "none" nowhere */
    const char *accounts_file;                 /* of those who may see it */
    const char *certificate, *certificate_key; /* PEM files; "": no TLS */
    int64_t live_fps;                          /* of live pictures */
} tw_station_settings;

/* One camera, everything inherited. Times in microseconds, shares in ppm. */
typedef struct tw_camera_settings {
    const char *name;
    const char *use; /* names of profiles, separated by commas; "" none */
    const char *source;
    const char *detect_source; /* looked at instead, while a station watches; "": none */
    int64_t fps;               /* at most; 0: as the source has it */
    tw_size size;              /* wanted of a device; 0 x 0: as it likes */
    int64_t format;            /* index: auto, mjpeg, h264, yuyv, nv12, grey, rgb */
    const char *controls;      /* of a device */
    int64_t fetch_every_us;    /* of HTTP: fetch a picture so often; 0: it is a stream */
    int64_t rotate;            /* clockwise, quarters: 0..3 */
    bool mirror;               /* left to right, before that */
    tw_crop crop;              /* of the picture that this makes; all zero: none */
    int64_t transport;         /* of RTSP: 0 TCP, 1 UDP */
    bool loop, pace;
    bool armed, pre_disarmed; /* pre-event footage is kept while disarmed too */
    int64_t arm_delay_us;
    const char *hours;  /* as docs/settings.md has them */
    int64_t difference; /* luma levels; 0 follows the noise */
    int64_t noise_margin_pct;
    int64_t start_ppm, stay_ppm;
    tw_confirm confirm;
    int64_t smallest_ppm, largest_ppm;
    int64_t travel_ppm; /* of the width; 0: no tracks */
    int64_t memory_us;
    bool light_guard, sway_guard, shake_guard;
    int64_t settle_us;
    int64_t check_every_us; /* frames in between are kept but not looked at; 0: each is */
    const char *mask;       /* path of a PNG or PGM picture; "" none */
    int64_t pre_us, post_us, rest_us, longest_us;
    int64_t pre_bytes; /* memory that pre-event footage may take */
    tw_stills_choice stills;
    int64_t timed_still_us; /* a still every so often, sighting or not; 0: none */
    tw_timed_clip timed_clip;
    int64_t segment_us;    /* pieces of continuous recording */
    int64_t burst;         /* stills in quick succession, each time: 1..50 */
    int64_t still_quality; /* 1..100 */
    bool clips, continuous;
    bool caption_clean; /* the capture without its caption is stored too */
    int64_t clip_video; /* a tw_clip_video */
    int64_t clip_quality;
    const char *caption;      /* a pattern; "" none */
    int64_t caption_on;       /* bits: TW_CAPTION_CLIPS... */
    int64_t caption_place;    /* a tw_corner */
    int64_t caption_size_ppm; /* height of a line, share of the picture's height */
    tw_by_kind keep_for_us;   /* captures, then they are dropped; 0: for ever */
    tw_by_kind keep_size;     /* bytes that captures may take; 0: no limit. That of a kind
                                 holds beside that of all */
    int64_t keep_trace_us;    /* the trace of activity; 0: for ever */
    int64_t latitude, longitude; /* millionths of a degree; TW_NOWHERE: not said */
    const char *sensor_pin;      /* a motion sensor; "" none */
    int64_t sensor_starts;       /* a tw_sensor_starts */
    int64_t sensor_holds_us;     /* so long after its signal motion counts with it */
    const char *lamp_pin;        /* lit in the dark while a sighting lasts; "" none */
    int64_t dark_ppm;            /* of the brightest possible */
    const char *pulse_pin;       /* pulses when a sighting begins; "" none */
    int64_t pulse_us;
    const char *send_to; /* names of destinations, separated by commas; "" none */
    const tw_zone *zones;
    const char *const *zone_names;
    size_t zone_count;
} tw_camera_settings;

/* What a hook is started on; bits of tw_hook_settings.on, in the order of the words. */
enum {
    TW_HOOK_BEGAN = 1,    /* a sighting began */
    TW_HOOK_STILL = 2,    /* a still of one is stored */
    TW_HOOK_CLIP = 4,     /* a clip is */
    TW_HOOK_ENDED = 8,    /* a sighting ended */
    TW_HOOK_LOST = 16,    /* a camera gives nothing */
    TW_HOOK_BACK = 32,    /* it does again */
    TW_HOOK_LOW = 64,     /* the card is low: captures had to be dropped */
    TW_HOOK_STOPPED = 128 /* nothing is sent to a destination any more */
};

/* [hook NAME]: a program of the user's. */
typedef struct tw_hook_settings {
    const char *name;
    int64_t on;          /* TW_HOOK_ bits */
    const char *run;     /* program and arguments: no shell reads it */
    const char *cameras; /* their names, separated by commas; "": all */
    int64_t timeout_us;
} tw_hook_settings;

/* What goes to a destination; bits of tw_destination_settings.what, in the order of the
 * words. */
enum {
    TW_SEND_STILL = 1,   /* stills of sightings, and those that were asked for */
    TW_SEND_SMALL = 2,   /* the same, reduced */
    TW_SEND_CLIP = 4,    /* clips of sightings */
    TW_SEND_RECORD = 8,  /* what is known of a sighting that is over, as JSON */
    TW_SEND_TIMED = 16,  /* stills and clips by the clock */
    TW_SEND_SEGMENT = 32 /* continuous recording */
};

enum { TW_LIMIT_AUTO = 1000000 }; /* tw_limit.most: as the kind of destination wants */

typedef enum tw_send_by { TW_BY_WEBDAV, TW_BY_PUT, TW_BY_FORM, TW_BY_JSON } tw_send_by;
typedef enum tw_tls { TW_TLS_VERIFIED, TW_TLS_UNVERIFIED, TW_TLS_NONE } tw_tls;

/* [destination NAME]: where captures and messages go. */
typedef struct tw_destination_settings {
    const char *name;
    const char *url; /* without a password */
    int64_t what;    /* TW_SEND_ bits */
    tw_when when;
    tw_limit limit;
    const char *hours;                    /* as docs/settings.md has them */
    int64_t newest_first;                 /* 0, 1 */
    int64_t bandwidth;                    /* bytes a second; 0: no limit */
    int64_t small_side;                   /* pixels of a reduced still's longer side */
    int64_t attach_below;                 /* bytes of a clip that a mail carries */
    const char *to;                       /* of mail; separated by commas */
    const char *from;                     /* of mail; "": the user */
    const char *subject;                  /* of mail: a pattern */
    int64_t by;                           /* of HTTP: a tw_send_by */
    const char *headers;                  /* of HTTP: "Name: value | Name: value" */
    const char *region;                   /* of object storage */
    bool orders;                          /* of a broker: whether it may give them */
    const char *user;                     /* "": the URL's, if it has one */
    const char *secret_file, *secret_env; /* where the password is; "" nowhere */
    const char *key_file;                 /* of SFTP: private key */
    const char *host_keys;                /* of SFTP: the known ones */
    int64_t tls;                          /* a tw_tls */
    const char *trust;                    /* certificates to trust; "": the system's */
    int64_t timeout_us;                   /* without a sign from the other side */
} tw_destination_settings;

/* How another value of a setting is applied while a station runs; the gentlest first. */
typedef enum tw_applied {
    TW_APPLIED_NOT,     /* nothing differs */
    TW_APPLIED_LIVE,    /* between two frames; for files and messages, with the next */
    TW_APPLIED_RELEARN, /* the detector begins anew; what runs goes on */
    TW_APPLIED_REOPEN,  /* the camera is opened again, once no sighting runs */
    TW_APPLIED_START    /* when the station starts again */
} tw_applied;

/* One setting with its value and where that comes from. Texts are borrowed. */
typedef struct tw_setting {
    const char *section; /* "station", "camera" or "destination" */
    const char *group;   /* heading in the reference */
    const char *key;
    const char *value;   /* as it would be written in a settings file */
    const char *preset;  /* the built-in value */
    const char *range;   /* what is allowed, in words */
    const char *choices; /* words separated by blanks, of which it is one; NULL: it is
                            something else */
    const char *help;    /* one sentence */
    const char *origin;  /* "built-in", "station.ini:14", "--set" */
    bool in_file_alone;  /* it is changed in the file itself, never over the page */
    tw_applied applied;  /* how another value is */
} tw_setting;

typedef struct tw_settings tw_settings;

/** Told once for each mistake, with one line that says where, what and what to do. */
typedef void (*tw_problem_fn)(void *ctx, const char *line);

/** @return the word of a camera's format setting: "auto", "mjpeg"...; static. */
TW_API const char *tw_format_name(int64_t format);

/** A source as it may be shown: user and password become "***", and so does a query with
 * values, in which many cameras want them.
 * @param out  Caller's, capacity bytes, >= 1; cut where it is too long. @return out. */
TW_API const char *tw_source_shown(const char *source, char *out, size_t capacity);

/** Overwrite with "*", in place, what tw_source_shown does not show: for a program's
 * arguments, which everybody on the machine can read. Other text stays as it is. */
TW_API void tw_source_blank(char *source);

/** @return Settings with nothing but built-in values, NULL: out of memory. */
TW_API tw_settings *tw_settings_new(void);

/** @return a copy that is the caller's, NULL: out of memory. */
TW_API tw_settings *tw_settings_copy(const tw_settings *settings);

/** NULL is fine. */
TW_API void tw_settings_free(tw_settings *settings);

/**
 * Read a file on top of what is there. Reads on after a mistake, so that all are told.
 * A line include = PATTERN reads others in its place, in the order of their names,
 * from where the file is; up to eight deep.
 *
 * @param callback  May be NULL.
 * @return TW_OK; TW_ENOENT, TW_EACCES, TW_EIO: the file cannot be read; TW_ESIZE: over
 *         1 MB; TW_ESYNTAX: it has mistakes; TW_ENOMEM. All but TW_OK were told.
 */
TW_API tw_status tw_settings_read(tw_settings *settings, const char *path,
                                  tw_problem_fn callback, void *ctx);

/** The same from text. @param name  Stands for the file in messages and origins. */
TW_API tw_status tw_settings_read_text(tw_settings *settings, const char *name,
                                       const char *text, size_t bytes,
                                       tw_problem_fn callback, void *ctx);

/** Take "CAMERA.key=value", "station.key=value", or "key=value" for every camera; it wins
 * over all files. @return TW_OK; TW_ESYNTAX, told; TW_ENOMEM. */
TW_API tw_status tw_settings_set(tw_settings *settings, const char *assignment,
                                 tw_problem_fn callback, void *ctx);

/** What tw_settings_set said of others is said of these as well, of cameras that they
 * have; then they are checked. @return TW_OK; TW_ENOMEM. */
TW_API tw_status tw_settings_override(tw_settings *settings, const tw_settings *others);

/** Make sure that a camera exists, as "[camera NAME]" would, with this source.
 * @return TW_OK; TW_ESYNTAX, told: bad name; TW_ENOMEM. */
TW_API tw_status tw_settings_add_camera(tw_settings *settings, const char *name,
                                        const char *source, tw_problem_fn callback,
                                        void *ctx);

/** Check what no single line can show: limits against each other, cameras without source,
 * zones and profiles that belong to nothing. @return TW_OK; TW_ESYNTAX, told. */
TW_API tw_status tw_settings_check(tw_settings *settings, tw_problem_fn callback,
                                   void *ctx);

/** @return whether nothing is wrong with what concerns a camera: its section, its zones,
 * its profiles, and what is said of all. NULL: with what is said of all and of the
 * station, so that it can run with the cameras that are sound. After tw_settings_check.
 */
TW_API bool tw_settings_sound(const tw_settings *settings, const char *camera);

/** What it takes to go from what one set of settings says of a camera to what another
 * says, zones included; NULL: of the station.
 * @return TW_APPLIED_NOT: they say the same; TW_APPLIED_START also where one is NULL. */
TW_API tw_applied tw_settings_difference(const tw_settings *a, const tw_settings *b,
                                         const char *camera);

/** @return whether two settings say the same of all hooks. */
TW_API bool tw_settings_same_hooks(const tw_settings *a, const tw_settings *b);

/** @return whether two settings say the same of all destinations, and of what goes there:
 * which cameras there are, their send_to and captions, and the station's name. */
TW_API bool tw_settings_same_sending(const tw_settings *a, const tw_settings *b);

/** @return How many cameras there are. */
TW_API size_t tw_settings_camera_count(const tw_settings *settings);

/** @return The name of a camera in the order of the file, NULL past the last. */
TW_API const char *tw_settings_camera_name(const tw_settings *settings, size_t index);

/** @return The name of a hook in the order of the file, NULL past the last. Those with
 * mistakes are not among them. */
TW_API const char *tw_settings_hook_name(const tw_settings *settings, size_t index);

/** Fill in a hook's settings. @return TW_OK; TW_ENOENT: no such hook. */
TW_API tw_status tw_settings_hook(const tw_settings *settings, const char *name,
                                  tw_hook_settings *out);

/** @return The name of a destination in the order of the file, NULL past the last. Those
 * with mistakes are not among them. */
TW_API const char *tw_settings_destination_name(const tw_settings *settings,
                                                size_t index);

/** Fill in a destination's settings. @return TW_OK; TW_ENOENT: no such destination. */
TW_API tw_status tw_settings_destination(const tw_settings *settings, const char *name,
                                         tw_destination_settings *out);

/** @return whether a list of names, separated by commas or blanks, has one. */
TW_API bool tw_settings_names(const char *list, const char *name);

/** Fill in the [station] settings. */
TW_API void tw_settings_station(const tw_settings *settings, tw_station_settings *out);

/** Fill in one camera's settings. @return TW_OK; TW_ENOENT: no such camera; TW_ENOMEM. */
TW_API tw_status tw_settings_camera(tw_settings *settings, const char *name,
                                    tw_camera_settings *out);

/** Visit every setting of the station (camera NULL) or of one camera, in the table's
 * order.
 * @return TW_OK; TW_ENOENT: no such camera. */
TW_API tw_status tw_settings_walk(tw_settings *settings, const char *camera,
                                  void (*visit)(void *ctx, const tw_setting *setting),
                                  void *ctx);

/** The same for a destination. What its headers say is not shown unless they leave the
 * secret out. */
TW_API tw_status tw_settings_walk_destination(
    tw_settings *settings, const char *destination,
    void (*visit)(void *ctx, const tw_setting *setting), void *ctx);

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
TW_API tw_status tw_settings_edit(const char *text, size_t bytes, const char *head,
                                  const char *name, const char *key, const char *value,
                                  char **out, size_t *out_bytes);

/** Write the reference (Markdown) of all settings. @return TW_OK; TW_EIO. */
TW_API tw_status tw_settings_reference(FILE *out);

#ifdef __cplusplus
}
#endif

#endif
