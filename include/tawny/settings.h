/* tawny/settings.h - settings of a station and its cameras, with the origin of each.
 *
 * One table lists all settings; from it come parsing, messages, `tawny settings` and the
 * reference in docs/settings.md. Texts that structs point to belong to the tw_settings
 * that filled them, until it is freed or changed. One thread at a time. */
#ifndef TW_SETTINGS_H
#define TW_SETTINGS_H

#include <stdbool.h>
#include <stddef.h>

#include "tawny/error.h"

#ifdef __cplusplus
extern "C" {
#endif

/* How another value of a setting is applied while a station runs; the gentlest first. */
enum tw_applied_values {
    TW_APPLIED_NOT,     /* nothing differs */
    TW_APPLIED_LIVE,    /* between two frames; for files and messages, with the next */
    TW_APPLIED_RELEARN, /* the detector begins anew; what runs goes on */
    TW_APPLIED_REOPEN,  /* the camera is opened again, once no sighting runs */
    TW_APPLIED_START    /* when the station starts again */
};
typedef int32_t tw_applied; /* one of them */

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

/** Make sure that a camera exists, as "[camera NAME]" would, with this source.
 * @return TW_OK; TW_ESYNTAX, told: bad name; TW_ENOMEM. */
TW_API tw_status tw_settings_add_camera(tw_settings *settings, const char *name,
                                        const char *source, tw_problem_fn callback,
                                        void *ctx);

/** Check what no single line can show: limits against each other, cameras without source,
 * zones and profiles that belong to nothing. @return TW_OK; TW_ESYNTAX, told. */
TW_API tw_status tw_settings_check(tw_settings *settings, tw_problem_fn callback,
                                   void *ctx);

/** @return How many cameras there are. */
TW_API size_t tw_settings_camera_count(const tw_settings *settings);

/** @return The name of a camera in the order of the file, NULL past the last. */
TW_API const char *tw_settings_camera_name(const tw_settings *settings, size_t index);

/** Visit every setting of the station (camera NULL) or of one camera, in the table's
 * order.
 * @return TW_OK; TW_ENOENT: no such camera. */
TW_API tw_status tw_settings_walk(tw_settings *settings, const char *camera,
                                  void (*visit)(void *ctx, const tw_setting *setting),
                                  void *ctx);

#ifdef __cplusplus
}
#endif

#endif
