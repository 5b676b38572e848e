/* Tracks: blobs followed from frame to frame, and which of them are subjects.
 *
 * Leaves, rain, glitter and noise make blobs too, but they do not go anywhere. A track is
 * confirmed when it has been seen for long enough, often enough, and has travelled; it
 * stays while it goes on travelling. All lengths are millionths of the picture's width,
 * all times microseconds, so that neither resolution nor frame rate matters. */
#include <string.h>

#include "detector_state.h"
#include "root.h"

enum {
    MILLION = 1000000,
    PLACE_STEP = 64, /* millionths of the width */
    US = 1000000,
    MS = 1000,
    GATE = 43750,             /* a blob this near to where a track should be may be its */
    SAMPLE_US = 200 * MS,     /* between two positions that are remembered */
    NEW_US = 8 * US,          /* before this nothing is known of how it sways */
    KNOWN_US = 15 * US,       /* after this it is known where the place is restless */
    AGE_MIN_US = 600 * MS,    /* before a track can be confirmed */
    SEEN_WITHIN_US = US,      /* a confirmed track stays so long unseen */
    MOVED_WITHIN_US = 6 * US, /* and so long without travelling */
    FORGET_US = 1500 * MS,    /* an unseen track is dropped after this */
    DOUBT_US = 2 * US,        /* longer for what is small where it is restless */
    DOUBT_MASS = 20,          /* and not for what is not */
    STRONG_SIZE_PPM = 150000, /* a larger one must be as dense */
    STRONG_AGE_US = 1500 * MS,
    AGE_QUICK_US = 450 * MS,
    SPARSE_SIZE_PPM = 70000,
    CLOUD_SIZE_PPM = 150000,
    WIND_SIZE_PPM = 200000,
    WIDEST_US = 3 * US,
    LEAP_US = 3 * US / 2,
    VISITOR_FROM_US = 500 * MS,
    VISITOR_SIZE_PPM = 150000,
    STRAY_US = 3 * US, /* before this, what a track was is not asked while much falls */
    SLOW_SAMPLE_US = 2 * US, /* the same for what is slow */
    SLOW_AGE_US = 10 * US,
    RECENT_SLOW_SAMPLES = 7,
    RECENT_SAMPLES = 25 /* of 200 ms: what "still travelling" looks at */
};

static int32_t distance(int32_t dx, int32_t dy)
{
    return (int32_t)twi_root((uint64_t)((int64_t)dx * dx + (int64_t)dy * dy));
}

/* Towards a new value with a time constant: the share of the difference that one step
 * makes is step / (step + time), which is what exponential smoothing does for small
 * steps. */
static int32_t towards(int32_t old, int32_t value, int64_t step_us, int64_t time_us)
{
    return (int32_t)(old + ((int64_t)value - old) * step_us / (step_us + time_us));
}

/* The most of late: up at once, down with a time constant. */
static int32_t fade(int32_t most, int32_t value, int64_t step_us, int64_t time_us)
{
    const int32_t faded = towards(most, value, step_us, time_us);
    return faded > value ? faded : value;
}

static int64_t smaller(int64_t a, int64_t b)
{
    return a < b ? a : b;
}

static int64_t larger(int64_t a, int64_t b)
{
    return a > b ? a : b;
}

/* ---- clutter --------------------------------------------------------------------- */

/* From which mass on a blob is counted in each of d->clutter: a person is not hidden in a
 * crowd of leaves. */
static const int64_t CLUTTER_FROM[TWI_CLUTTERS] = {0, TWI_Q16(2), TWI_Q16(4), TWI_Q16(8),
                                                   TWI_Q16(16)};

/* How many blobs there are of some mass, Q16; what light explains counts less. */
static int64_t count_from(const tw_detector *d, size_t blobs, int64_t mass)
{
    int64_t count = 0;
    for (size_t i = 0; i < blobs; i++)
        if (d->found[i].mass >= mass)
            count += 65536 - d->found[i].plain * 3 / 4;
    return count;
}

/* How many blobs there are beside one, quickly up and slowly down. */
static void follow_clutter(tw_detector *d, size_t blobs)
{
    for (size_t k = 0; k < TWI_CLUTTERS; k++) {
        const int64_t now = larger(0, count_from(d, blobs, CLUTTER_FROM[k]) - 65536);
        const int64_t time = now > d->clutter[k] ? 700 * MS : 15 * US;
        const int64_t step = smaller(d->step_us, time);
        d->clutter[k] += (int32_t)((now - d->clutter[k]) * step / time);
    }
}

/* What else moves that is not far smaller than a track, Q16. */
static int32_t clutter_about(const tw_detector *d, const twi_track *t)
{
    size_t k = 0;
    while (k + 1 < TWI_CLUTTERS && t->mass / 4 >= CLUTTER_FROM[k + 1])
        k++;
    return d->clutter[k];
}

/* What clutter asks for in addition, Q16: none for one other blob now and then. */
static int64_t clutter(const tw_detector *d, const twi_track *t)
{
    return larger(0, clutter_about(d, t) - TWI_Q16(0.5));
}

/* Fine enough for any travel, and 16 bits hold a picture that is twice as high as wide;
 * below that, travel is seen only across. */
static int16_t in_steps(int32_t ppm)
{
    const int32_t steps = ppm / PLACE_STEP;
    return (int16_t)(steps > INT16_MAX   ? INT16_MAX
                     : steps < INT16_MIN ? INT16_MIN
                                         : steps);
}

static twi_place place_of(int32_t x, int32_t y)
{
    return (twi_place){in_steps(x), in_steps(y)};
}

/* ---- following ------------------------------------------------------------------- */

static void remember(const tw_detector *d, const twi_track *t, twi_trail *trail,
                     int64_t every_us)
{
    if (d->age_us - trail->sampled_us < every_us - d->step_us / 2)
        return;
    trail->place[trail->count % TWI_TRAIL_PLACES] = place_of(t->smooth_x, t->smooth_y);
    trail->count++;
    trail->sampled_us = d->age_us;
}

static void begin_track(twi_track *t, const twi_found *blob, int64_t now_us)
{
    memset(t, 0, sizeof *t);
    t->used = true;
    t->x = t->smooth_x = t->start_x = blob->x;
    t->y = t->smooth_y = t->start_y = blob->y;
    t->born_us = t->seen_us = now_us;
    t->trail.sampled_us = t->slow_trail.sampled_us = now_us;
    t->calm = blob->restless;
    t->hits = t->frames = 1;
    t->recent = 65536;
    t->size = t->widest = blob->size;
    t->mass = blob->mass;
    t->changing = blob->changing;
    t->restless = blob->restless;
    t->lit = blob->lit;
    t->plain = blob->plain;
    t->unlike = blob->unlike;
    t->coloured = blob->coloured;
    t->shade = blob->shade;
    t->blob = blob->label;
}

static void take_blob(const tw_detector *d, twi_track *t, const twi_found *blob)
{
    const int64_t step = d->step_us, gone = larger(d->age_us - t->seen_us, 1);
    const int64_t ahead = smaller(gone, US);
    t->leap = fade(t->leap,
                   distance((int32_t)(blob->x - t->x - t->vx * ahead / US),
                            (int32_t)(blob->y - t->y - t->vy * ahead / US)),
                   step, LEAP_US);
    const int32_t vx = (int32_t)(((int64_t)blob->x - t->x) * US / gone);
    const int32_t vy = (int32_t)(((int64_t)blob->y - t->y) * US / gone);
    t->vx = towards(t->vx, vx, step, 233 * MS);
    t->vy = towards(t->vy, vy, step, 233 * MS);
    t->x = blob->x;
    t->y = blob->y;
    const int64_t smoothing = t->hits < 3 ? 67 * MS : 186 * MS;
    t->smooth_x = towards(t->smooth_x, blob->x, step, smoothing);
    t->smooth_y = towards(t->smooth_y, blob->y, step, smoothing);
    t->seen_us = d->age_us;
    t->hits++;
    t->mass = towards(t->mass, blob->mass, step, 400 * MS);
    t->size = blob->size;
    t->widest = fade(t->widest, blob->size, step, WIDEST_US);
    t->changing = towards(t->changing, blob->changing, step, 400 * MS);
    t->lit = towards(t->lit, blob->lit, step, 400 * MS);
    t->plain = towards(t->plain, blob->plain, step, 400 * MS);
    t->unlike = towards(t->unlike, blob->unlike, step, 400 * MS);
    t->shade = towards(t->shade, blob->shade, step, 400 * MS);
    t->coloured = towards(t->coloured, blob->coloured, step, 400 * MS);
    t->restless = towards(t->restless, blob->restless, step, 900 * MS);
    t->blob = blob->label;
}

/* Whether a blob may be what is followed, by its mass: a flake is no fox that is suddenly
 * so small. Asked only where flakes are all around. */
static bool is_like(const twi_track *t, const twi_found *blob)
{
    const int64_t less = smaller(t->mass, blob->mass), more = larger(t->mass, blob->mass);
    return more <= 4 * less + TWI_Q16(6);
}

/* The free blob that is nearest to where the track should be now, NULL: none is near. */
static twi_found *nearest_blob(tw_detector *d, const twi_track *t, size_t blobs)
{
    const int64_t gone = d->age_us - t->seen_us, ahead = smaller(gone, US);
    const int32_t x = (int32_t)(t->x + t->vx * ahead / US);
    const int32_t y = (int32_t)(t->y + t->vy * ahead / US);
    const int64_t missed = smaller(gone - d->step_us, US);
    /* While much falls, only what overlaps with where it was is seen at all. */
    const int64_t apart = d->falling ? US / 10 : larger(d->step_us, US / 10);
    int64_t best = GATE * apart / (US / 10) + t->size / 2 + GATE * larger(missed, 0) / US;
    twi_found *found = NULL;
    for (size_t i = 0; i < blobs; i++) {
        twi_found *blob = &d->found[i];
        if (blob->taken)
            continue;
        const bool doubtful = d->falling && !is_like(t, blob);
        if (doubtful && !t->confirmed)
            continue;
        const int32_t off = distance(blob->x - x, blob->y - y) * (doubtful ? 2 : 1);
        if (off < best) {
            best = off;
            found = blob;
        }
    }
    return found;
}

static void follow(tw_detector *d, size_t blobs, bool confirmed)
{
    for (size_t k = 0; k < d->config.tracks; k++) {
        twi_track *t = &d->track[k];
        if (!t->used || t->confirmed != confirmed)
            continue;
        twi_found *blob = nearest_blob(d, t, blobs);
        if (!blob)
            continue;
        blob->taken = true;
        take_blob(d, t, blob);
    }
}

static void begin_new(tw_detector *d, size_t blobs)
{
    size_t k = 0;
    for (size_t i = 0; i < blobs; i++) {
        if (d->found[i].taken)
            continue;
        while (k < d->config.tracks && d->track[k].used)
            k++;
        if (k == d->config.tracks)
            return;
        begin_track(&d->track[k], &d->found[i], d->age_us);
    }
}

/* ---- judging --------------------------------------------------------------------- */

typedef struct travelled {
    int32_t net, recent; /* furthest from where it was, in all and of late */
} travelled;

/* Only what is gone in about one direction counts, and not a single leap.
 * @param of_late  So many of the newest places make what is recent. */
static travelled measure(const twi_track *t, const twi_trail *trail, uint32_t of_late)
{
    travelled out = {0, 0};
    int32_t x = t->smooth_x, y = t->smooth_y;
    int64_t path = 0, leap = 0;
    const uint32_t held =
        trail->count < TWI_TRAIL_PLACES ? trail->count : TWI_TRAIL_PLACES;
    for (uint32_t i = 0; i <= held; i++) {
        if (i == held && trail->count > TWI_TRAIL_PLACES)
            break; /* where it began is further back than what is remembered */
        const twi_place at = i < held
                                 ? trail->place[(trail->count - 1 - i) % TWI_TRAIL_PLACES]
                                 : place_of(t->start_x, t->start_y);
        const int32_t at_x = at.x * PLACE_STEP, at_y = at.y * PLACE_STEP;
        const int32_t step = distance(x - at_x, y - at_y);
        path += step;
        leap = larger(leap, step);
        x = at_x;
        y = at_y;
        const int32_t net = distance(t->smooth_x - x, t->smooth_y - y);
        if ((int64_t)net * 100 <= path * 55 || leap * 2 > net)
            continue;
        out.net = net > out.net ? net : out.net;
        if (i < of_late)
            out.recent = net > out.recent ? net : out.recent;
    }
    return out;
}

/* Q16: cells that are normally restless ask for more travel. */
static int64_t restless_factor(const twi_track *t)
{
    return 65536 + larger(0, t->restless - TWI_Q16(1.5)) / 4;
}

/* Q16: where much else moves, what only is unlike all that is near has shown less than
 * what is over the limit of its cells. */
static int64_t unlike_factor(const tw_detector *d, const twi_track *t)
{
    return 65536 + t->unlike * smaller(clutter(d, t), 65536) / 65536 / 2;
}

/* Q16: in the first seconds it is not yet known where the place is restless. What is wide
 * then, where it looks restless already, is the wind. */
static int64_t unknown_place_factor(const tw_detector *d, const twi_track *t)
{
    const int64_t left = larger(0, KNOWN_US - d->age_us);
    const int64_t new = larger(0, NEW_US - d->age_us);
    const bool wide = t->widest > WIND_SIZE_PPM;
    const int64_t sways = wide ? larger(0, t->calm - TWI_Q16(0.6)) : 0;
    return 65536 + 65536 * left / KNOWN_US + 40 * sways * new / NEW_US;
}

/* Q16: what light explains asks for more: shadows keep the colour of what they fall on,
 * and around the edge of a cloud light changes as well. */
static int64_t light_factor(const twi_track *t)
{
    const bool wide = t->widest > CLOUD_SIZE_PPM;
    const int64_t around = wide ? larger(0, t->shade - TWI_Q16(0.5)) : 0;
    return (65536 + 2 * t->plain) * (65536 + 4 * around) / 65536;
}

/* The area with limits of its own in which it is, as tw_reading.area_ppm counts them. */
static uint8_t area_of(const tw_detector *d, const twi_track *t)
{
    const int64_t cell = (int64_t)MILLION * d->grid.cell_px / d->config.width;
    const int64_t column = smaller(larger(t->x, 0) / cell, d->grid.columns - 1);
    const int64_t row = smaller(larger(t->y, 0) / cell, d->grid.rows - 1);
    return d->cell[row * d->grid.columns + column].area;
}

/* What the place asks of a subject, against what is usually asked. */
static int64_t asked(const tw_detector *d, const twi_track *t, int64_t usually)
{
    const uint16_t own = d->evidence_pct[area_of(d, t)];
    const uint16_t pct = own > 0 ? own : d->config.evidence_pct;
    return pct > 0 ? usually * pct / 100 : usually;
}

/* Big, calm around it, and moving inside for a while: a subject that need not travel. One
 * that is larger must be as dense. */
static bool is_strong(const tw_detector *d, const twi_track *t)
{
    const int64_t dense = 30 * larger(t->widest, STRONG_SIZE_PPM) / STRONG_SIZE_PPM;
    const int64_t mass = asked(
        d, t, dense * unknown_place_factor(d, t) / 65536 * (65536 + clutter(d, t) / 4));
    return t->mass >= mass && d->age_us - t->born_us >= asked(d, t, STRONG_AGE_US) &&
           t->changing >= TWI_Q16(0.4) && t->recent > TWI_Q16(0.8) &&
           t->lit < TWI_Q16(0.5) && t->restless < TWI_Q16(2.5) &&
           t->coloured <= TWI_Q16(0.5);
}

/* A bird at a feeder: it came where it was calm, in a place that is known, is compact,
 * was seen nearly all the time and keeps changing. What is smaller than a strong one must
 * show it for longer. */
static bool is_visitor(const tw_detector *d, const twi_track *t)
{
    const int64_t age = d->age_us - t->born_us - VISITOR_FROM_US;
    const int64_t restless = larger(0, t->calm - TWI_Q16(0.5));
    const int64_t need = asked(d, t,
                               30 * (65536 + clutter(d, t) + restless) / 65536 *
                                   unknown_place_factor(d, t));
    const bool came_well = t->born_us >= NEW_US && t->calm < TWI_Q16(1.0) &&
                           clutter_about(d, t) < TWI_Q16(1.5);
    return came_well && t->hits * UINT64_C(100) >= t->frames * UINT64_C(90) &&
           t->size <= VISITOR_SIZE_PPM && t->mass >= TWI_Q16(8) && age > 0 &&
           t->mass * (age / MS) >= need * (US / MS) && t->changing >= TWI_Q16(0.35) &&
           t->lit < TWI_Q16(0.3) && t->restless < TWI_Q16(2.5);
}

/* Something small that came where it is restless: leaves, ripples and shadows make such
 * blobs too, and some of them go somewhere for a second. */
static int64_t doubt_us(const twi_track *t)
{
    const int64_t restless = smaller(larger(0, t->calm - TWI_Q16(1.0)), TWI_Q16(1.0));
    const int64_t small = larger(0, TWI_Q16(1.0) - t->mass / DOUBT_MASS);
    return DOUBT_US * restless / 65536 * small / 65536;
}

/* Spread thin over what it spans, as the edge of a cloud is. */
static bool is_sparse(const tw_detector *d, const twi_track *t)
{
    const int64_t cells_ppm = (int64_t)t->size * d->config.width / d->grid.cell_px;
    const int64_t square = cells_ppm * cells_ppm / MILLION * 65536 / MILLION;
    return t->size > SPARSE_SIZE_PPM && t->mass < square * 3 / 10;
}

/* How far a track must have gone. */
static int64_t travel_needed(const tw_detector *d, const twi_track *t)
{
    const int64_t own = is_sparse(d, t) ? t->size / 2 : t->widest / 4;
    const int64_t crowd = 65536 + clutter(d, t) * 4 / 10;
    return asked(d, t,
                 larger(d->config.travel_ppm, own) * crowd / 65536 * restless_factor(t) /
                     65536 * unknown_place_factor(d, t) / 65536 * light_factor(t) /
                     65536 * unlike_factor(d, t) / 65536);
}

/* In which share of the frames it must have been seen, Q16. One that has gone further
 * than it must, and stands out from the crowd, may have been hidden more often. */
static int64_t share_needed(const tw_detector *d, const twi_track *t, int64_t net,
                            int64_t need)
{
    const int64_t cl = clutter(d, t);
    const int64_t often = smaller(TWI_Q16(0.92), TWI_Q16(0.75) + cl * 3 / 100);
    const bool stands_out =
        net > need && t->mass >= 2 * cl && t->plain < TWI_Q16(0.5) && d->age_us > NEW_US;
    return stands_out ? larger(often * 8 / 10, often * need / net) : often;
}

/* For how long it must have been followed. What goes twice as far as it must has shown as
 * much in a quarter of the time. */
static int64_t age_needed(const tw_detector *d, const twi_track *t, int64_t net,
                          int64_t need)
{
    const int64_t age = asked(d, t,
                              AGE_MIN_US + clutter(d, t) * (US / 2) / 65536 +
                                  doubt_us(t) + (int64_t)US * t->plain / 65536);
    const int64_t further = larger(net, need);
    return larger(smaller(age, AGE_QUICK_US), age * need / further * need / further);
}

/* A track that strays from one ripple to the next travels by leaps. */
static bool leaps(const twi_track *t, int64_t net)
{
    return net * t->hits < 3 * (int64_t)t->leap * t->frames;
}

static bool is_subject(const tw_detector *d, const twi_track *t, int32_t net)
{
    const int64_t need = travel_needed(d, t);
    return net >= need && !leaps(t, net) &&
           d->age_us - t->born_us + d->step_us >= age_needed(d, t, net, need) &&
           (int64_t)t->hits * 65536 >= share_needed(d, t, net, need) * t->frames &&
           t->mass >= asked(d, t, clutter(d, t) * 4 / 10) &&
           t->changing >= TWI_Q16(0.2) && t->lit < TWI_Q16(0.7);
}

/* A snail: it has been seen all the time, and in the end it has come from somewhere. By
 * then it has taught the cells around it to be restless, so only what they were like when
 * it came counts. */
static bool is_slow_subject(const tw_detector *d, const twi_track *t, int32_t net)
{
    const int64_t crowd = 65536 + clutter(d, t) * 4 / 10;
    const int64_t need =
        asked(d, t, larger(d->config.travel_ppm, t->widest / 4) * crowd / 65536);
    return !leaps(t, net) && d->age_us - t->born_us >= SLOW_AGE_US &&
           t->calm < TWI_Q16(1.5) && net >= need &&
           t->hits * UINT64_C(100) >= t->frames * UINT64_C(95) &&
           t->mass >= TWI_Q16(1.5) && t->changing >= TWI_Q16(0.2);
}

static bool still_travels(const tw_detector *d, const twi_track *t, int32_t recent)
{
    const int64_t cl = clutter(d, t), crowd = 65536 + cl * 4 / 10;
    const int64_t need = (int64_t)d->config.travel_ppm * 4 / 10 * crowd / 65536 *
                         restless_factor(t) / 65536;
    return recent > need && t->recent > TWI_Q16(0.5) && t->changing >= TWI_Q16(0.2) &&
           t->mass * 10 > cl * 4 / 10 * 6;
}

/* It has stayed where it is for too long: it must earn its place anew. */
static void demote(tw_detector *d, twi_track *t)
{
    t->confirmed = false;
    t->born_us = d->age_us;
    t->frames = t->hits = 0;
    t->start_x = t->smooth_x;
    t->start_y = t->smooth_y;
    t->slow = false;
    t->trail.count = t->slow_trail.count = 0;
}

/* While much falls, a track may have strayed from flake to flake before it met a subject:
 * how often it was seen is counted over the last seconds. */
static void forget_strays(const tw_detector *d, twi_track *t)
{
    if (!d->falling || (int64_t)t->frames * d->step_us <= STRAY_US)
        return;
    t->hits -= t->hits / 8;
    t->frames -= t->frames / 8;
}

static void judge(tw_detector *d, twi_track *t)
{
    const bool seen = t->seen_us == d->age_us;
    t->frames++;
    t->recent = towards(t->recent, seen ? 65536 : 0, d->step_us, 400 * MS);
    remember(d, t, &t->trail, SAMPLE_US);
    remember(d, t, &t->slow_trail, SLOW_SAMPLE_US);
    const travelled gone = measure(t, &t->trail, RECENT_SAMPLES);
    const travelled slowly = measure(t, &t->slow_trail, RECENT_SLOW_SAMPLES);
    t->net = gone.net > slowly.net ? gone.net : slowly.net;
    const bool strong = is_strong(d, t) || is_visitor(d, t);
    const bool slow = !t->confirmed && is_slow_subject(d, t, slowly.net);
    const int32_t net = d->falling ? gone.recent : gone.net;
    if (!t->confirmed && (strong || slow || is_subject(d, t, net))) {
        t->confirmed = true;
        t->slow = slow;
        t->stays = strong;
        t->moved_us = d->age_us;
    }
    const int32_t recent = t->slow ? slowly.recent : gone.recent;
    if (t->confirmed && (strong || still_travels(d, t, recent)))
        t->moved_us = d->age_us;
    t->alive = t->confirmed && d->age_us - t->seen_us < SEEN_WITHIN_US &&
               d->age_us - t->moved_us < MOVED_WITHIN_US;
    if (t->confirmed && d->age_us - t->moved_us >= MOVED_WITHIN_US)
        demote(d, t);
    const int64_t known = smaller(US, 300 * MS + (int64_t)t->hits * d->step_us / 2);
    const int64_t patience = t->confirmed ? 2 * FORGET_US : FORGET_US * known / US;
    if (d->age_us - t->seen_us > patience)
        t->used = false;
    forget_strays(d, t);
}

/* ---- for the detector ------------------------------------------------------------ */

void twi_tracks_follow(tw_detector *d, size_t blobs, tw_reading *out)
{
    follow_clutter(d, blobs);
    for (size_t k = 0; k < d->config.tracks; k++)
        d->track[k].blob = 0;
    follow(d, blobs, true); /* known subjects choose first */
    follow(d, blobs, false);
    int64_t born = d->age_us, earliest = d->age_us;
    for (size_t k = 0; k < d->config.tracks; k++) {
        twi_track *t = &d->track[k];
        if (!t->used)
            continue;
        judge(d, t);
        if (!t->used)
            continue;
        earliest = smaller(earliest, t->born_us);
        if (!t->alive)
            continue;
        out->subjects++;
        born = smaller(born, t->born_us);
    }
    begin_new(d, blobs);
    twi_predict(d);
    out->since_us = out->t_us - smaller(d->age_us - born, TW_DATED_BACK_US);
    out->earliest_us = out->t_us - smaller(d->age_us - earliest, TW_DATED_BACK_US);
}

bool twi_track_is_promising(const tw_detector *d, const twi_track *t)
{
    return d->age_us - t->born_us >= US && t->calm < TWI_Q16(1.0) &&
           t->hits * UINT64_C(100) >= t->frames * UINT64_C(95);
}

const twi_track *twi_tracks_of(const tw_detector *d, uint16_t label)
{
    for (size_t k = 0; k < d->config.tracks; k++)
        if (d->track[k].used && d->track[k].blob == label)
            return &d->track[k];
    return NULL;
}
