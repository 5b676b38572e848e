/* What was read of one piece of footage, kept for plots, scores and tuning. */
#ifndef TWI_CLI_FOOTAGE_H
#define TWI_CLI_FOOTAGE_H

#include "common.h"
#include "../settings/sections.h"

/* One frame. */
typedef struct cli_moment {
    int64_t t_us;     /* from the first frame */
    int64_t since_us; /* when the oldest subject was first seen, on the same clock */
    uint32_t activity_ppm, light_ppm, sway_ppm, shake_ppm, travel_ppm, size_ppm;
    uint32_t area_ppm[TW_AREAS_MAX];
    uint16_t subjects;
    gboolean whole_picture;
} cli_moment;

typedef struct cli_footage {
    const char *name;  /* as it was given */
    const char *names; /* pattern of the store's names, which tell the time; NULL: none */
    int64_t zero_us;   /* capture time of the first frame */
    int64_t length_us; /* once it has been read */
    GArray *moments;   /* of cli_moment */
    GArray *sightings; /* of tw_sighting, those that have ended */
    size_t event_count; /* what really happened, if that is known */
    twi_truth_event *events;
    const char **what;
    twi_score_sighting *judged; /* the sightings, once they are; NULL */
} cli_footage;

void cli_footage_init(cli_footage *footage, const char *name);
void cli_footage_clear(cli_footage *footage);

/** Take in a frame. */
void cli_footage_reading(cli_footage *footage, const tw_reading *reading);

/** Capture time to seconds from the first frame. */
double cli_footage_seconds(const cli_footage *footage, int64_t t_us);

/** The sightings that other limits would have made of the same readings replace those
 * that there are. */
void cli_footage_replay(cli_footage *footage, const tw_sighting_config *limits);

/** Hold the sightings against what happened, and add to the score. */
void cli_footage_judge(cli_footage *footage, twi_score *score);

/* ---- plots ----------------------------------------------------------------------- */

/** Text in quotes for gnuplot; g_free it. */
char *cli_plot_quoted(const char *text);

/** Begin a script that draws to a path: PNG or SVG by its ending; "-": the terminal. */
GString *cli_plot_begin(const char *path);

/**
 * Draw, and free the script.
 *
 * @param data  Lines of numbers, which the script calls $data.
 * @param what  The columns of data, in words, for those who have no gnuplot.
 * @return TW_OK; else told: TW_ENOTSUP: no gnuplot, the data is kept beside path.
 */
tw_status cli_plot_end(GString *script, const char *data, const char *what,
                       const char *path);

/** Whether a plot can have this name; told if not. */
gboolean cli_plot_name_fits(const char *path);

/**
 * Draw activity with both limits, sightings, what happened, and what the guards took.
 *
 * @param path  PNG or SVG by its ending; "-": to the terminal.
 * @return TW_OK; else told.
 */
tw_status cli_plot(const cli_footage *footage, const twi_camera_settings *camera,
                   const char *path);

#endif
