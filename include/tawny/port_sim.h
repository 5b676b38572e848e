/* tawny/port_sim.h - a simulated board: a scene with known truth, a clock that jumps, a
 * card in memory. The base of the demo and of the tests.
 *
 * Scenes are static. A card, pins and a clock are one thread's at a time unless a line
 * says otherwise; card and pins are the caller's, to destroy. */
#ifndef TW_PORT_SIM_H
#define TW_PORT_SIM_H

#include "tawny/port.h"

#ifdef __cplusplus
extern "C" {
#endif

/* ---- scene ----------------------------------------------------------------------- */

/* One subject that crosses the picture, in seconds of the scene. */
typedef struct tw_sim_event {
    int64_t start_us, end_us; /* from the first to the last frame in which it is seen */
    const char *what; /* "toad", "hedgehog"; "unclear": neither right nor wrong to see */
} tw_sim_event;

typedef struct tw_sim_scene {
    const char *name;           /* as in "sim:kerb" */
    const tw_sim_event *events; /* what a perfect detector finds; static */
    size_t event_count;
    const tw_sim_event *lures; /* what it must not find: headlights */
    size_t lure_count;
    int64_t length_us; /* the scene begins again after this */
} tw_sim_scene;

/** @return The scene of a name, NULL if there is none; static. */
TW_API const tw_sim_scene *tw_sim_scene_find(const char *name);

/** @return A scene by its index from 0, NULL past the last; static. */
TW_API const tw_sim_scene *tw_sim_scene_at(size_t index);

/* ---- camera ---------------------------------------------------------------------- */

/** Makes cameras from "sim:SCENE" or "sim:SCENE,seed=N,size=WxH,raw=yes": JPEG packets,
 * with raw=yes grey pixels instead. Ends with the scene unless it loops.
 * A tw_camera_make_fn. */
TW_API tw_status tw_sim_camera_make(const tw_camera_request *request, tw_camera *out,
                                    tw_error *err);

/* ---- clock ----------------------------------------------------------------------- */

/* Virtual clock: it stands still until somebody sleeps. One thread. */
typedef struct tw_sim_time {
    int64_t now_us;
    int64_t wall_at_zero_us; /* wall time when now_us is 0 */
    int32_t offset_s;        /* local time, seconds east of UTC */
    int64_t sure_from_us;    /* wall times before this are not to be trusted */
} tw_sim_time;

/** @param time  Caller's; outlives the clock. */
TW_API tw_clock tw_sim_clock(tw_sim_time *time);

/* ---- pins ------------------------------------------------------------------------ */

/* An input that is active for a while, by the clock. */
typedef struct tw_sim_signal {
    const char *line;
    int64_t from_us, until_us;
} tw_sim_signal;

/** Pins that follow a script: inputs are active as the signals say, and any line can be
 * written to.
 * @param signals  Borrowed until they are destroyed; none may be NULL.
 * @return TW_OK; TW_ENOMEM. */
TW_API tw_status tw_sim_pins(const tw_sim_signal *signals, size_t count, tw_clock clock,
                             tw_pins *out);

/** How an output is. Any thread. @param switched  Set to how often it changed.
 * @return whether it is active. */
TW_API bool tw_sim_pins_output(const tw_pins *pins, const char *line, uint32_t *switched);

/* ---- card ------------------------------------------------------------------------ */

/* What befalls a simulated card. Counts start with 1; 0: never. */
typedef struct tw_sim_faults {
    size_t size;         /* of this struct; 0: see version.h */
    uint64_t capacity;   /* bytes; TW_ENOSPC beyond */
    uint32_t fail_call;  /* this call fails, counted over all of them ... */
    tw_status fail_with; /* ... with this */
    bool dead;           /* and so does each call after it ... */
    uint32_t back_call;  /* ... until this one: the card is put back */
    uint32_t fail_every; /* one call of so many fails */
    bool read_only;      /* only calls that would change something fail */
    bool forgets;    /* what is written is counted and not kept: for endless footage */
    int64_t slow_us; /* a write takes so long, by ... */
    tw_clock clock;  /* ... this clock */
} tw_sim_faults;

/** A card in memory. @return TW_OK; TW_ENOMEM. Destroy it when done. */
TW_API tw_status tw_sim_card(const tw_sim_faults *faults, tw_card *out);

/** A power cut, and the card in use again: open files are as if closed, of what was
 * appended to a file since its last sync a part is left, some of it zeros, and faults are
 * over.
 * @param seed  Chooses how much. */
TW_API void tw_sim_card_cut(tw_card *card, uint32_t seed);

/** @return Files on it, open ones too. */
TW_API size_t tw_sim_card_count(const tw_card *card);

/** Name and content of a file. @return TW_OK; TW_ENOENT past the last. Borrowed until the
 * next change. */
TW_API tw_status tw_sim_card_file(const tw_card *card, size_t index, const char **name,
                                  const uint8_t **data, size_t *bytes);

/** @return Calls so far. */
TW_API uint32_t tw_sim_card_calls(const tw_card *card);

/** @return Files created and not yet closed. */
TW_API size_t tw_sim_card_open(const tw_card *card);

#ifdef __cplusplus
}
#endif

#endif
