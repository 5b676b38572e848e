/* What tuning shares between its search and its report. */
#ifndef TWI_CLI_TUNE_H
#define TWI_CLI_TUNE_H

#include "footage.h"
#include "../settings/sections.h"

/* The settings of the detector that are tried: percent of what is set now. */
typedef struct tune_variant {
    int travel_pct, margin_pct;
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
} tune_search;

/** The detector's settings of a variant. */
void tune_apply(const twi_camera_settings *now, const tune_variant *variant,
                twi_camera_settings *out);

/** A setting that is to be changed. */
typedef struct tune_change {
    const char *key;
    char value[24], was[24];
} tune_change;

enum { TUNE_CHANGES_MAX = 4 };

/** What the choice changes. @return how many settings. */
int tune_changes(const tune_search *search, tune_change out[TUNE_CHANGES_MAX]);

/** Say in words what was found, what to change and why, and how sure that is. */
void tune_print(const tune_search *search);
void tune_print_json(const tune_search *search);

/** Draw recall against false sightings an hour. */
tw_status tune_plot(const tune_search *search, const char *path);

#endif
