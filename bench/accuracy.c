/* How well the detector does on all simulated scenes with one setting for all: by kind of
 * scene, by size of the analysed picture, by frame rate, and with each guard off. Prints
 * the tables of docs/detector.md; exit 1 if what must be reached is not.
 *
 *     accuracy [SEED]            the first of SEEDS seeds that each scene is played with
 * (1) accuracy SEED KEY=VALUE…   only what each of these settings gives, in a line */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

#include "../src/core/score.h"
#include "tawny/tawny.h"
#include "../src/settings/sections.h"
#include "../src/station/rehearse.h"

enum { SIGHTINGS_MAX = 64, EVENTS_MAX = 16, SCENES_MAX = 32, LATE_MAX = 256, SEEDS = 3 };
#define SPREAD_MAX 0.03 /* of F1 between sizes, and between rates */

static const tw_camera_make_fn MAKERS[] = {tw_sim_camera_make, NULL};

/* One way of running all scenes. */
typedef struct trial {
    const char *name, *size;
    int fps;
    const char *set; /* "key=value", NULL: the built-in values */
} trial;

static const trial TRIALS[] = {
    {"as it is", "320x180", 10, NULL},
    {"240 wide", "240x136", 10, NULL},
    {"478 wide", "478x270", 10, NULL},
    {"5 a second", "320x180", 5, NULL},
    {"15 a second", "320x180", 15, NULL},
    {"25 a second", "320x180", 25, NULL},
    {"without colour", "320x180", 10, "colour=no"},
    {"without light guard", "320x180", 10, "light_guard=no"},
    {"without sway guard", "320x180", 10, "sway_guard=no"},
    {"without shake guard", "320x180", 10, "shake_guard=no"},
    {"without travel", "320x180", 10, "travel=0%"},
    {"difference of 12 levels", "320x180", 10, "difference=12"},
};
enum { TRIAL_COUNT = sizeof TRIALS / sizeof *TRIALS, SIZES = 3, RATES = 6 };

/* What comes of one. Goes through a pipe, so it points to nothing. */
typedef struct result {
    twi_score all, scene[SCENES_MAX];
    int64_t late_us[LATE_MAX];
    uint32_t late_count;
} result;

typedef struct collected {
    twi_score_sighting seen[SIGHTINGS_MAX];
    size_t count;
    int64_t zero_us;
    bool any;
} collected;

static void collect(void *ctx, const tw_event *e)
{
    collected *c = ctx;
    if (e->kind == TW_EVENT_READING && !c->any) {
        c->zero_us = e->reading->t_us;
        c->any = true;
    }
    if (e->kind == TW_EVENT_ENDED && c->count < SIGHTINGS_MAX)
        c->seen[c->count++].when = (twi_span){e->sighting->start_us - c->zero_us,
                                              e->sighting->end_us - c->zero_us};
}

static void die(const char *what)
{
    (void)fprintf(stderr, "bench: %s\n", what);
    exit(2);
}

static void add(twi_score *sum, const twi_score *s)
{
    sum->length_us += s->length_us;
    sum->events += s->events;
    sum->found += s->found;
    sum->sightings += s->sightings;
    sum->is_false += s->is_false;
    sum->event_us += s->event_us;
    sum->covered_us += s->covered_us;
}

static void run_scene(const trial *t, unsigned seed, size_t index, result *r)
{
    const tw_sim_scene *scene = tw_sim_scene_at(index);
    const tw_platform platform = {.makers = MAKERS, .clock = tw_linux_clock()};
    char source[128], fps[32];
    twi_camera_settings camera;
    tw_rehearsal_result got;
    tw_error err = {0};
    collected c = {0};
    twi_truth_event truth[EVENTS_MAX];
    memset(truth, 0, sizeof truth);
    (void)snprintf(source, sizeof source, "sim:%s,size=%s,seed=%u,raw=yes", scene->name,
                   t->size, seed);
    (void)snprintf(fps, sizeof fps, "fps=%d", t->fps);
    tw_settings *s = tw_settings_new();
    if (!s || tw_settings_add_camera(s, "bench", source, NULL, NULL) != TW_OK ||
        tw_settings_set(s, fps, NULL, NULL) != TW_OK ||
        (t->set && tw_settings_set(s, t->set, NULL, NULL) != TW_OK) ||
        twi_settings_camera(s, "bench", &camera) != TW_OK)
        die("settings");
    if (twi_rehearse(&platform, &camera, NULL, NULL, collect, &c, &got, &err) != TW_OK)
        die(err.text);
    for (size_t i = 0; i < scene->event_count; i++) {
        truth[i].when = (twi_span){scene->events[i].start_us, scene->events[i].end_us};
        truth[i].unclear = strcmp(scene->events[i].what, "unclear") == 0;
    }
    (void)twi_score_add(&r->scene[index], got.length_us, truth, scene->event_count,
                        c.seen, c.count);
    for (size_t i = 0; i < scene->event_count; i++)
        if (truth[i].found && !truth[i].unclear && r->late_count < LATE_MAX)
            r->late_us[r->late_count++] = truth[i].late_us;
    tw_settings_free(s);
}

static int begin(const trial *t, unsigned seed)
{
    int ends[2];
    if (pipe(ends) != 0)
        die("pipe");
    (void)fflush(stdout);
    if (fork() == 0) {
        result *r = calloc(1, sizeof *r);
        if (!r)
            die("out of memory");
        for (size_t i = 0; tw_sim_scene_at(i) && i < SCENES_MAX; i++) {
            for (unsigned k = 0; k < SEEDS; k++)
                run_scene(t, seed + k, i, r);
            add(&r->all, &r->scene[i]);
        }
        if (write(ends[1], r, sizeof *r) != (ssize_t)sizeof *r)
            die("pipe");
        exit(0);
    }
    (void)close(ends[1]);
    return ends[0];
}

static void take(int from, result *out)
{
    size_t have = 0;
    while (have < sizeof *out) {
        const ssize_t n = read(from, (char *)out + have, sizeof *out - have);
        if (n <= 0)
            die("a run was lost");
        have += (size_t)n;
    }
    (void)close(from);
}

static int by_value(const void *a, const void *b)
{
    const int64_t x = *(const int64_t *)a, y = *(const int64_t *)b;
    return (x > y) - (x < y);
}

static double median_late(result *r)
{
    qsort(r->late_us, r->late_count, sizeof r->late_us[0], by_value);
    return r->late_count > 0 ? (double)r->late_us[r->late_count / 2] / 1e6 : 0;
}

static double f1(const result *r)
{
    return twi_score_f1_ppm(&r->all) / 1e6;
}

/* A row for each scene, a column for each of some trials: found and false. */
static void print_scenes(const result *results, const int *columns, size_t count)
{
    printf("| scene | events |");
    for (size_t k = 0; k < count; k++)
        printf(" %s |", TRIALS[columns[k]].name);
    printf("\n|---|---|");
    for (size_t k = 0; k < count; k++)
        printf("---|");
    for (size_t i = 0; tw_sim_scene_at(i); i++) {
        printf("\n| `%s`: %s | %u |", tw_sim_scene_at(i)->name,
               tw_sim_scene_at(i)->lures[0].what, results[0].scene[i].events);
        for (size_t k = 0; k < count; k++) {
            const twi_score *s = &results[columns[k]].scene[i];
            printf(s->is_false ? " %u, %u false |" : " %u |", s->found, s->is_false);
        }
    }
    printf("\n");
}

static void print_trial(const char *name, result *r)
{
    const twi_score *s = &r->all;
    printf("| %s | %u | %u | %.1f | %.3f | %.2f | %.0f |\n", name, s->found, s->is_false,
           (double)twi_score_false_per_1000h(s) / 1e3, f1(r), median_late(r),
           twi_score_cover_ppm(s) / 1e4);
}

static void print_trials(result *results)
{
    printf("\n| | found of %u | false | an hour | F1 | latency, s | covered, %% |\n"
           "|---|---|---|---|---|---|---|\n",
           results[0].all.events);
    for (int i = 0; i < TRIAL_COUNT; i++)
        print_trial(TRIALS[i].name, &results[i]);
}

/* Between the best and the worst of some trials and the first. */
static double spread(const result *results, int from, int to)
{
    double low = f1(&results[0]), high = low;
    for (int i = from; i < to; i++) {
        low = f1(&results[i]) < low ? f1(&results[i]) : low;
        high = f1(&results[i]) > high ? f1(&results[i]) : high;
    }
    return high - low;
}

static int judge(const char *what, double value, double limit, bool least)
{
    const bool good = least ? value >= limit : value <= limit;
    printf("%-42s %.3f, at %s %.3f: %s\n", what, value, least ? "least" : "most", limit,
           good ? "ok" : "MISSED");
    return good ? 0 : 1;
}

static int try_settings(unsigned seed, char **sets, int count)
{
    for (int i = 0; i < count; i++) {
        static result r;
        const trial t = {sets[i], "320x180", 10, sets[i]};
        memset(&r, 0, sizeof r);
        take(begin(&t, seed), &r);
        print_trial(sets[i], &r);
        (void)fflush(stdout);
    }
    while (wait(NULL) > 0)
        continue;
    return 0;
}

int main(int argc, char **argv)
{
    const unsigned seed = argc > 1 ? (unsigned)strtoul(argv[1], NULL, 10) : 1;
    static result results[TRIAL_COUNT];
    if (argc > 2)
        return try_settings(seed, argv + 2, argc - 2);
    for (int i = 0; i < TRIAL_COUNT; i += 2) { /* two at a time */
        int from[2];
        const int n = i + 1 < TRIAL_COUNT ? 2 : 1;
        for (int k = 0; k < n; k++)
            from[k] = begin(&TRIALS[i + k], seed);
        for (int k = 0; k < n; k++)
            take(from[k], &results[i + k]);
        while (wait(NULL) > 0)
            continue;
    }
    static const int guards[] = {0, 6, 7, 8, 9, 10}, shapes[] = {0, 1, 2, 3, 4, 5};
    print_scenes(results, guards, sizeof guards / sizeof *guards);
    printf("\n");
    print_scenes(results, shapes, sizeof shapes / sizeof *shapes);
    print_trials(results);
    printf("\n");
    int code = judge("recall", twi_score_recall_ppm(&results[0].all) / 1e6, 1, true);
    code |= judge("false sightings an hour",
                  (double)twi_score_false_per_1000h(&results[0].all) / 1e3, 1, false);
    code |= judge("start latency, median, seconds", median_late(&results[0]), 0.5, false);
    code |=
        judge("spread of F1 between sizes", spread(results, 1, SIZES), SPREAD_MAX, false);
    code |= judge("spread of F1 between rates", spread(results, SIZES, RATES), SPREAD_MAX,
                  false);
    return code;
}
