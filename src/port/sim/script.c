/* The scenes at Hollin Lane: `kerb`, along the lane; `tunnel`, in the culvert below it,
 * close and infrared; `mere`, at the pond's edge. Each subject and each nuisance comes at
 * least once, by day and by night, alone and together. */
#include "script.h"

#include <string.h>

#define S INT64_C(1000000)
#define MS INT64_C(1000)
#define COUNT(list) (sizeof(list) / sizeof *(list))

/* ---- kerb, by night: headlights ---------------------------------------------------- */

static const twi_crossing KERB_CROSSINGS[] = {
    {14 * S, 40400 * MS, -0.035F, 0.60F, 1.035F, 0.56F, 0.034F, 0.021F, TWI_PACE_TOAD, 34,
     0, 0, TWI_TOAD},
    {70 * S, 79 * S, 1.055F, 0.80F, -0.055F, 0.74F, 0.052F, 0.032F, TWI_PACE_EVEN, 26, 0,
     0, TWI_HEDGEHOG},
    {106 * S, 134200 * MS, 0.62F, 1.05F, 0.40F, -0.05F, 0.030F, 0.024F, TWI_PACE_TOAD, 30,
     0, 0, TWI_TOAD},
};
static const twi_headlight KERB_HEADLIGHTS[] = {
    {26 * S, 31 * S, -0.4F, 1.4F, 1.2F},
    {54 * S, 59 * S, 1.4F, -0.4F, 1.6F},
    {91 * S, 97 * S, -0.4F, 1.4F, 1.4F},
    {120 * S, 125 * S, 1.4F, -0.4F, 1.2F},
};
static const tw_sim_event KERB_EVENTS[] = {
    {14 * S, 40400 * MS, "toad"},
    {70 * S, 79 * S, "hedgehog"},
    {106 * S, 134200 * MS, "toad"},
};
static const tw_sim_event KERB_LURES[] = {
    {26 * S, 31 * S, "headlights"},
    {54 * S, 59 * S, "headlights"},
    {91 * S, 97 * S, "headlights"},
    {120 * S, 125 * S, "headlights"},
};

/* ---- kerb, by day: leaves, branches' shadows, a shaking pole ------------------------
 */

static const twi_crossing LEAVES_CROSSINGS[] = {
    {24 * S, 34 * S, -0.06F, 0.62F, 1.06F, 0.58F, 0.046F, 0.030F, TWI_PACE_EVEN, 34, 0, 0,
     TWI_HEDGEHOG},
};
static const tw_sim_event LEAVES_EVENTS[] = {{24 * S, 34 * S, "hedgehog"}};
static const tw_sim_event LEAVES_LURES[] = {{0, 60 * S, "leaves"}};

static const twi_crossing BRANCHES_CROSSINGS[] = {
    {35 * S, 47 * S, 1.02F, 0.44F, -0.02F, 0.40F, 0.020F, 0.013F, TWI_PACE_EVEN, 50, 0, 0,
     TWI_HEDGEHOG},
};
static const tw_sim_event BRANCHES_EVENTS[] = {{35 * S, 47 * S, "distant hedgehog"}};
static const tw_sim_event BRANCHES_LURES[] = {{0, 70 * S, "shadows and clouds"}};

static const twi_crossing STORM_CROSSINGS[] = {
    {40 * S, 42500 * MS, -0.13F, 0.62F, 1.13F, 0.60F, 0.110F, 0.060F, TWI_PACE_EVEN, 150,
     0, 0, TWI_FOX},
};
static const tw_sim_event STORM_EVENTS[] = {{40 * S, 42500 * MS, "fox"}};
static const tw_sim_event STORM_LURES[] = {{0, 60 * S, "shaking pole"}};

static const twi_step LAMP_STEPS[] = {{20 * S, 200 * MS, 1.9F}, {45 * S, 200 * MS, 1.0F}};
static const tw_sim_event LAMP_LURES[] = {{20 * S, 46 * S, "lamp switched on and off"},
                                          {0, 60 * S, "mains flicker"}};

/* ---- tunnel, infrared: sensor noise, gain, insects ----------------------------------
 */

static const twi_crossing TUNNEL_CROSSINGS[] = {
    {18 * S, 45 * S, -0.05F, 0.72F, 1.05F, 0.66F, 0.045F, 0.030F, TWI_PACE_TOAD, 30, 0, 0,
     TWI_TOAD},
    {62 * S, 64800 * MS, 1.16F, 0.64F, -0.16F, 0.60F, 0.120F, 0.075F, TWI_PACE_EVEN, 40,
     0, 0, TWI_HEDGEHOG},
};
static const tw_sim_event TUNNEL_EVENTS[] = {{18 * S, 45 * S, "toad"},
                                             {62 * S, 64800 * MS, "hedgehog, close"}};
static const tw_sim_event TUNNEL_LURES[] = {{0, 80 * S, "noise of an infrared night"}};

static const twi_insect MOTHS[] = {
    {12 * S, 13500 * MS, 0.055F, 90}, {21 * S, 22200 * MS, 0.040F, 120},
    {30 * S, 32 * S, 0.070F, 80},     {44 * S, 44900 * MS, 0.050F, 110},
    {52 * S, 54 * S, 0.045F, 100},
};
static const tw_sim_event MOTH_LURES[] = {{12 * S, 54 * S, "moths at the lens"}};

static const twi_step GAIN_STEPS[] = {
    {15 * S, 600 * MS, 1.35F}, {32 * S, 600 * MS, 0.85F}, {48 * S, 600 * MS, 1.15F}};
static const twi_crossing GAIN_CROSSINGS[] = {
    {26 * S, 46 * S, 0.5F, 1.08F, 0.56F, -0.08F, 0.040F, 0.034F, TWI_PACE_TOAD, 32, 0, 0,
     TWI_TOAD},
};
static const tw_sim_event GAIN_EVENTS[] = {{26 * S, 46 * S, "toad"}};
static const tw_sim_event GAIN_LURES[] = {{15 * S, 49 * S, "automatic gain"}};

/* ---- mere: reeds and water, rain, snow, dawn -----------------------------------------
 */

static const twi_crossing MERE_CROSSINGS[] = {
    {20 * S, 80 * S, -0.09F, 0.46F, 1.09F, 0.44F, 0.030F, 0.075F, TWI_PACE_HERON, 120,
     0.22F, 0.75F, TWI_HERON},
};
static const tw_sim_event MERE_EVENTS[] = {
    {20 * S, 33200 * MS, "heron comes"},
    {33200 * MS, 65 * S, "unclear"}, /* it stands */
    {65 * S, 80 * S, "heron goes"},
};
static const tw_sim_event MERE_LURES[] = {{0, 90 * S, "reeds and glittering water"}};

static const twi_crossing RAIN_CROSSINGS[] = {
    {22 * S, 52 * S, 1.04F, 0.74F, -0.04F, 0.80F, 0.038F, 0.024F, TWI_PACE_TOAD, 40, 0, 0,
     TWI_TOAD},
};
static const tw_sim_event RAIN_EVENTS[] = {{22 * S, 52 * S, "toad"}};
static const tw_sim_event RAIN_LURES[] = {{0, 70 * S, "rain"}};

static const twi_crossing SNOW_CROSSINGS[] = {
    {30 * S, 38 * S, -0.08F, 0.70F, 1.08F, 0.72F, 0.070F, 0.040F, TWI_PACE_EVEN, 46, 0, 0,
     TWI_FOX},
};
static const tw_sim_event SNOW_EVENTS[] = {{30 * S, 38 * S, "fox"}};
static const tw_sim_event SNOW_LURES[] = {{0, 60 * S, "snow"}};

static const twi_crossing DAWN_CROSSINGS[] = {
    {50 * S, 66 * S, 1.03F, 0.40F, -0.03F, 0.42F, 0.024F, 0.014F, TWI_PACE_EVEN, 24, 0, 0,
     TWI_MOORHEN},
};
static const tw_sim_event DAWN_EVENTS[] = {{50 * S, 66 * S, "moorhen, far off"}};
static const tw_sim_event DAWN_LURES[] = {{0, 80 * S, "dawn and clouds"}};

static const tw_sim_event PULSE_LURES[] = {{0, 45 * S, "key-frame pulsing"}};

#define EVENTS(name, seconds, events, lures)                                             \
    .scene = {name, events, COUNT(events), lures, COUNT(lures), (seconds)*S}
#define QUIET(name, seconds, lures)                                                      \
    .scene = {name, NULL, 0, lures, COUNT(lures), (seconds)*S}
#define CROSSED(list) .crossings = (list), .crossing_count = COUNT(list)
#define STEPPED(list) .steps = (list), .step_count = COUNT(list)

static const twi_script SCRIPTS[] = {
    {EVENTS("kerb", 150, KERB_EVENTS, KERB_LURES), .ground = TWI_GROUND_VERGE, .light = 1,
     .lamp = 1, .noise = 6, CROSSED(KERB_CROSSINGS), .headlights = KERB_HEADLIGHTS,
     .headlight_count = COUNT(KERB_HEADLIGHTS)},
    {EVENTS("kerb-leaves", 60, LEAVES_EVENTS, LEAVES_LURES), .ground = TWI_GROUND_VERGE,
     .light = 2.1F, .noise = 3, .sway = 0.006F, .leaves_x0 = 0.30F, .leaves_x1 = 0.62F,
     CROSSED(LEAVES_CROSSINGS)},
    {EVENTS("kerb-branches", 70, BRANCHES_EVENTS, BRANCHES_LURES),
     .ground = TWI_GROUND_VERGE, .light = 2.2F, .noise = 3, .sway = 0.003F,
     .shadows = 0.45F, .clouds = 0.3F, .cloud_s = 17, CROSSED(BRANCHES_CROSSINGS)},
    {EVENTS("kerb-storm", 60, STORM_EVENTS, STORM_LURES), .ground = TWI_GROUND_VERGE,
     .light = 1.8F, .noise = 4, .sway = 0.004F, .shake = 0.0012F,
     CROSSED(STORM_CROSSINGS)},
    {QUIET("kerb-lamp", 60, LAMP_LURES), .ground = TWI_GROUND_VERGE, .light = 0.9F,
     .noise = 7, .flicker = 0.06F, STEPPED(LAMP_STEPS)},
    {EVENTS("tunnel", 80, TUNNEL_EVENTS, TUNNEL_LURES), .ground = TWI_GROUND_CULVERT,
     .light = 0.9F, .lamp = 1, .noise = 12, CROSSED(TUNNEL_CROSSINGS)},
    {QUIET("tunnel-moths", 60, MOTH_LURES), .ground = TWI_GROUND_CULVERT, .light = 1,
     .lamp = 1, .noise = 8, .insects = MOTHS, .insect_count = COUNT(MOTHS)},
    {EVENTS("tunnel-gain", 60, GAIN_EVENTS, GAIN_LURES), .ground = TWI_GROUND_CULVERT,
     .light = 0.8F, .lamp = 1, .noise = 10, CROSSED(GAIN_CROSSINGS), STEPPED(GAIN_STEPS)},
    {EVENTS("mere", 90, MERE_EVENTS, MERE_LURES), .ground = TWI_GROUND_POND,
     .light = 1.9F, .noise = 3, .sway = 0.006F, .water = 26, CROSSED(MERE_CROSSINGS)},
    {EVENTS("mere-rain", 70, RAIN_EVENTS, RAIN_LURES), .ground = TWI_GROUND_POND,
     .light = 0.9F, .lamp = 1, .noise = 7, .water = 8, .rain = 160,
     CROSSED(RAIN_CROSSINGS)},
    {EVENTS("mere-snow", 60, SNOW_EVENTS, SNOW_LURES), .ground = TWI_GROUND_VERGE,
     .light = 2.0F, .noise = 4, .snow = 260, CROSSED(SNOW_CROSSINGS)},
    {EVENTS("mere-dawn", 80, DAWN_EVENTS, DAWN_LURES), .ground = TWI_GROUND_POND,
     .light = 0.5F, .noise = 9, .water = 7, .clouds = 0.25F, .cloud_s = 23, .dawn = 3.4F,
     CROSSED(DAWN_CROSSINGS)},
    {QUIET("mere-pulse", 45, PULSE_LURES), .ground = TWI_GROUND_POND, .light = 1.6F,
     .noise = 4, .water = 5, .pulse = true},
};

const tw_sim_scene *tw_sim_scene_at(size_t index)
{
    return index < COUNT(SCRIPTS) ? &SCRIPTS[index].scene : NULL;
}

const tw_sim_scene *tw_sim_scene_find(const char *name)
{
    for (size_t i = 0; name && tw_sim_scene_at(i); i++)
        if (strcmp(SCRIPTS[i].scene.name, name) == 0)
            return &SCRIPTS[i].scene;
    return NULL;
}

const twi_script *twi_script_of(const tw_sim_scene *scene)
{
    for (size_t i = 0; i < COUNT(SCRIPTS); i++)
        if (&SCRIPTS[i].scene == scene)
            return &SCRIPTS[i];
    return &SCRIPTS[0];
}
