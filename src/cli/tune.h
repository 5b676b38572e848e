/* What tuning shares between its search and its report. */
#ifndef TWI_CLI_TUNE_H
#define TWI_CLI_TUNE_H

#include "footage.h"
#include "output.h"
#include "../core/suggest.h"
#include "../settings/sections.h"

/* The settings of the detector that are tried. */
typedef struct tune_variant {
    int travel_pct, margin_pct;         /* percent of what is set now */
    int evidence_pct;                   /* likewise; 0: as set now */
    uint32_t smallest_ppm, largest_ppm; /* 0: as set now */
    gboolean shuts_out;                 /* a zone more is ignored: */
    tw_point corners[4];
    tw_zone *zones; /* those of the camera, and that one; see tune_shut_out */
    const char **names;
    char name[24]; /* of that one */
} tune_variant;

typedef struct tune_search {
    const twi_camera_settings *camera; /* as set now */
    const char *title;                 /* whose settings those are */
    tune_variant *variants;
    GArray *trials; /* of twi_trial */
    uint32_t worth;
    int64_t length_us; /* of all footage */
    guint files;
    twi_choice choice;
    const twi_trial *now, *chosen;
    gsize own_variants; /* so many are its own, for tune_search_clear */
} tune_search;

/* ---- footage --------------------------------------------------------------------- */

/* One piece of it. */
typedef struct tune_piece {
    cli_footage footage;
    char *name, *source;
    int64_t quiet_us;    /* its beginning, shown again and again first; 0: it is not */
    int64_t first_us;    /* time of the first frame that was shown */
    gboolean unreadable; /* set where the engine is lenient; told */
} tune_piece;

/* What runs pieces through the detector. */
typedef struct tune_engine {
    GArray *pieces; /* of tune_piece */
    const volatile int *stop;
    /* Told each frame as it is read, sets enough to read no further; may be NULL. */
    void (*look)(void *ctx, tune_piece *piece, const tw_event *event);
    void *ctx;
    gboolean lenient; /* what cannot be read is left out */
    volatile int enough;
    gboolean begun; /* the piece that is read has given a frame */
    tune_piece *reading;
    out_progress progress;
} tune_engine;

void tune_init(tune_engine *engine);
void tune_clear(tune_engine *engine);

/** @return the new piece, until the next is added. */
tune_piece *tune_add_piece(tune_engine *engine, const char *name);

/** Something happens in it between two times, and nothing else. */
void tune_set_event(tune_piece *piece, int64_t start_us, int64_t end_us);

/** Run all pieces through the detector with the settings of a variant. @return CLI_DONE;
 * CLI_FAILED, told. */
int tune_read(tune_engine *engine, const tune_search *search, uint16_t variant);

/** A camera's limits, armed, with another start_at: stay_at is at most that. */
tw_sighting_config tune_limits(const twi_camera_settings *camera, uint32_t start_ppm);

/** Try all limits with what was read. */
void tune_try(const tune_engine *engine, tune_search *search, uint16_t variant);

/** Whether any of the trials found something. */
gboolean tune_found_any(const tune_search *search);

/** Choose among the trials. */
void tune_choose(tune_search *search);

/* ---- from marks ------------------------------------------------------------------ */

/* What tune --marked is asked. */
typedef struct tune_asked {
    const cli_common *common;
    const twi_camera_settings *camera;
    char *store;     /* NULL: that of the settings */
    const char *day; /* NULL: all of them */
    const char *draw;
    int worth; /* false sightings that one right one is worth; <= 0: as is usual */
    const volatile int *stop;
} tune_asked;

/** Propose settings from what sightings of the store were marked as.
 * @param chosen  Set to what is proposed, for tune_changes; release it with
 *                tune_search_clear. @return CLI_DONE; CLI_FAILED, CLI_USAGE, told. */
int tune_marked(const tune_asked *asked, tune_search *chosen);

/** Release variants of its own, and its trials. */
void tune_search_clear(tune_search *search);

/* ---- what is changed --------------------------------------------------------------- */

/** Have a variant ignore a zone more, beside those of a camera. */
void tune_shut_out(tune_variant *variant, const twi_camera_settings *camera,
                   const twi_box *box);

/** The detector's settings of a variant. */
void tune_apply(const twi_camera_settings *now, const tune_variant *variant,
                twi_camera_settings *out);

/** A setting that is to be changed. */
typedef struct tune_change {
    const char *section; /* "camera" or "zone" */
    const char *key;
    char value[160], was[24]; /* was "": it is new */
} tune_change;

enum { TUNE_CHANGES_MAX = 8 };

/** "kerb/learnt", the zone that the choice adds, to g_free; NULL: it adds none. */
char *tune_zone_section(const tune_search *search);

/** What the choice changes. @return how many settings. */
int tune_changes(const tune_search *search, tune_change out[TUNE_CHANGES_MAX]);

/** Say in words what was found, what to change and why, and how sure that is. */
void tune_print(const tune_search *search);
void tune_print_json(const tune_search *search);

/** Draw recall against false sightings an hour. */
tw_status tune_plot(const tune_search *search, const char *path);

#endif
