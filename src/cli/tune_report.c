/* What tuning found, in words, as JSON and as a curve. */
#include <jansson.h>
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "output.h"
#include "tune.h"
#include "../settings/sections.h"

#define SURE 1.645 /* standard deviations that hold 95 % of one side */

static double hours(const tune_search *s)
{
    return (double)s->length_us / 3.6e9;
}

/* At least this share is found, with 95 % certainty: Wilson's bound. */
static double least_recall(const twi_score *s)
{
    const double n = s->events, p = n > 0 ? s->found / n : 1, z2 = SURE * SURE;
    if (n <= 0)
        return 0;
    return (p + z2 / (2 * n) - SURE * sqrt(p * (1 - p) / n + z2 / (4 * n * n))) /
           (1 + z2 / n);
}

/* At most so many false ones, with 95 % certainty: the chi-square bound of a Poisson
 * count, in Wilson's and Hilferty's approximation. */
static double most_false(const twi_score *s)
{
    const double n = s->is_false + 1.0;
    const double cube = 1 - 1 / (9 * n) + SURE / (3 * sqrt(n));
    return n * cube * cube * cube;
}

static double false_of(const twi_trial *t)
{
    return (double)twi_score_false_per_1000h(&t->score) / 1e3;
}

static double recall_of(const twi_trial *t)
{
    return twi_score_recall_ppm(&t->score) / 1e4;
}

static void print_result(const char *when, const twi_trial *t)
{
    (void)printf("  %-9s found %u of %u, %u false (%.1f an hour)\n", when, t->score.found,
                 t->score.events, t->score.is_false, false_of(t));
}

/* More margin sees less, less sees more: a reason must not say the opposite. */
static const char *reason_of_margin(const tune_search *s, const twi_score *now,
                                    const twi_score *then)
{
    twi_camera_settings to;
    tune_apply(s->camera, &s->variants[s->chosen->variant], &to);
    const bool keener = to.noise_margin_pct < s->camera->noise_margin_pct;
    if (keener)
        return then->found > now->found
                   ? "less, as what was missed hardly stands out from the noise"
                   : "less, as nothing is false with it and more is left to spare";
    return then->is_false < now->is_false
               ? "more, as what was false stands out from the noise less than what was "
                 "right"
               : "more, as what was right stands out far enough from the noise";
}

static const char *reason_of_travel(const tune_search *s, const twi_score *now,
                                    const twi_score *then)
{
    twi_camera_settings to;
    tune_apply(s->camera, &s->variants[s->chosen->variant], &to);
    if (to.travel_ppm < s->camera->travel_ppm)
        return then->found > now->found
                   ? "less, as what was missed did not go far enough to be taken for a "
                     "subject"
                   : "less, as nothing is false with it and more is left to spare";
    return then->is_false < now->is_false
               ? "more, as what was false went less far than what was right"
               : "more, as what was right went far enough";
}

static void print_reason(const tune_search *s, const tune_change *c)
{
    const twi_score *now = &s->now->score, *then = &s->chosen->score;
    if (strcmp(c->key, "start_at") == 0)
        (void)printf(
            "  start_at: anything from %.3g %% to %.3g %% does as well here, and "
            "this lies in the middle\n",
            s->choice.low_ppm / 1e4, s->choice.high_ppm / 1e4);
    else if (strcmp(c->key, "travel") == 0)
        (void)printf("  travel: %s\n", reason_of_travel(s, now, then));
    else if (strcmp(c->key, "noise_margin") == 0)
        (void)printf("  noise_margin: %s\n", reason_of_margin(s, now, then));
}

static void print_certainty(const tune_search *s)
{
    const twi_score *score = &s->chosen->score;
    (void)printf(
        "How sure: judging by %u event%s and %.2f hours of footage, with 95 %% "
        "certainty at\n"
        "least %.0f %% are found and at most %.1f sightings an hour are false.%s\n",
        score->events, out_s(score->events), hours(s), 100 * least_recall(score),
        most_false(score) / hours(s),
        score->events < 10 || hours(s) < 1 ? " More footage would say more." : "");
}

void tune_print(const tune_search *s)
{
    tune_change c[TUNE_CHANGES_MAX];
    const int n = tune_changes(s, c);
    (void)printf("%s: %u piece%s of footage, %.1f s; %u settings tried.\n", s->title,
                 s->files, out_s(s->files), (double)s->length_us / 1e6, s->trials->len);
    print_result("now", s->now);
    if (n == 0) {
        (void)printf("Nothing to change: start_at from %.3g %% to %.3g %% does as well "
                     "here, and nothing that was\n"
                     "tried does better.\n",
                     s->choice.low_ppm / 1e4, s->choice.high_ppm / 1e4);
        print_certainty(s);
        return;
    }
    print_result("proposed", s->chosen);
    (void)printf("Proposed, for the settings of this camera:\n\n");
    for (int i = 0; i < n; i++)
        (void)printf("    %s = %s   # instead of %s\n", c[i].key, c[i].value, c[i].was);
    (void)printf("\nWhy:\n");
    if (!s->choice.better)
        (void)printf("  as many are found and as few are false with what is set now, but "
                     "with less to spare\n");
    for (int i = 0; i < n; i++)
        print_reason(s, &c[i]);
    print_certainty(s);
}

static json_t *trial_json(const tune_search *s, const twi_trial *t, const char *type)
{
    twi_camera_settings c;
    tune_apply(s->camera, &s->variants[t->variant], &c);
    return json_pack("{ss sf sf sI sI si si si sf sf}", "type", type, "start_at",
                     t->start_ppm / 1e4, "travel", (double)c.travel_ppm / 1e4,
                     "noise_margin", (json_int_t)c.noise_margin_pct, "evidence",
                     (json_int_t)c.evidence_pct, "events", (int)t->score.events, "found",
                     (int)t->score.found, "false", (int)t->score.is_false,
                     "false_per_hour", false_of(t), "f1",
                     twi_score_f1_ppm(&t->score) / 1e6);
}

/* As the page asks for changes of the settings. */
static json_t *changes_json(const tune_search *s, const tune_change *c, int count)
{
    json_t *list = json_array();
    g_autofree char *zone = tune_zone_section(s);
    for (int i = 0; i < count; i++)
        (void)json_array_append_new(
            list, json_pack("{ss ss ss ss}", "head", c[i].section, "name",
                            strcmp(c[i].section, "zone") == 0 ? zone : s->camera->name,
                            "key", c[i].key, "value", c[i].value));
    return list;
}

void tune_print_json(const tune_search *s)
{
    tune_change c[TUNE_CHANGES_MAX];
    const int n = tune_changes(s, c);
    for (guint i = 0; i < s->trials->len; i++)
        out_json(trial_json(s, &g_array_index(s->trials, twi_trial, i), "trial"));
    out_json(trial_json(s, s->now, "now"));
    json_t *o = trial_json(s, s->chosen, "proposed");
    json_t *set = json_object();
    for (int i = 0; i < n; i++)
        (void)json_object_set_new(set, c[i].key, json_string(c[i].value));
    (void)json_object_set_new(o, "set", set);
    (void)json_object_set_new(o, "changes", changes_json(s, c, n));
    (void)json_object_set_new(o, "least_recall",
                              json_real(least_recall(&s->chosen->score) * 100));
    (void)json_object_set_new(o, "most_false_per_hour",
                              json_real(most_false(&s->chosen->score) / hours(s)));
    out_json(o);
}

static void add_point(GString *data, const twi_trial *t)
{
    g_string_append_printf(data, "%.4f %.2f %.4f %u\n", false_of(t), recall_of(t),
                           t->start_ppm / 1e4, t->variant);
}

static int fewer_first(gconstpointer a, gconstpointer b)
{
    const twi_trial *one = *(const twi_trial *const *)a,
                    *two = *(const twi_trial *const *)b;
    if (false_of(one) != false_of(two))
        return false_of(one) < false_of(two) ? -1 : 1;
    return recall_of(one) > recall_of(two) ? -1 : recall_of(one) < recall_of(two);
}

/* The front: trials for which no other finds as much with as little that is false. */
static void add_front(GString *data, const tune_search *s, double most)
{
    GPtrArray *all = g_ptr_array_new();
    double best = -1;
    for (guint i = 0; i < s->trials->len; i++)
        g_ptr_array_add(all, &g_array_index(s->trials, twi_trial, i));
    g_ptr_array_sort(all, fewer_first);
    for (guint i = 0; i < all->len; i++) {
        const twi_trial *t = all->pdata[i];
        if (recall_of(t) <= best)
            continue;
        best = recall_of(t);
        add_point(data, t);
    }
    if (best >= 0) /* with more that is false, no more is found */
        g_string_append_printf(data, "%.4f %.2f 0 0\n", most, best);
    (void)g_ptr_array_free(all, TRUE);
}

/* "proposed, start_at 0.2 %: loses 1 of 12, 0.5 false an hour" */
static void mark(GString *script, const twi_trial *t, const char *words,
                 const char *colour, int type, double below, double most)
{
    const double x = false_of(t), y = recall_of(t);
    g_string_append_printf(
        script,
        "set label '%s, start_at %.3g %%: loses %u of %u, %.1f false an hour' at "
        "%.4f,%.4f %s offset %s,%.1f tc rgb '%s' point pt %d ps 2.2 lc rgb '%s'\n",
        words, t->start_ppm / 1e4, t->score.events - t->score.found, t->score.events, x,
        x, y, x > most / 2 ? "right" : "left", x > most / 2 ? "-1.5" : "1.5", below,
        colour, type, colour);
}

/* The front alone is to be read; beneath it, faintly, a line for each variant as the
 * limit rises. */
tw_status tune_plot(const tune_search *s, const char *path)
{
    GString *data = g_string_new(NULL), *script = cli_plot_begin(path);
    guint last = 0;
    double most = 1;
    for (guint i = 0; i < s->trials->len; i++) {
        const twi_trial *t = &g_array_index(s->trials, twi_trial, i);
        if (i > 0 && t->variant != last)
            (void)g_string_append(data, "\n\n"); /* begins another index */
        last = t->variant;
        most = MAX(most, false_of(t));
        add_point(data, t);
    }
    (void)g_string_append(data, "\n\n");
    add_front(data, s, most * 1.08);
    g_autofree char *name = g_strdup_printf(
        "%s, %.1f s of footage, %u event%s", s->title, (double)s->length_us / 1e6,
        s->now->score.events, out_s(s->now->score.events));
    g_autofree char *title = cli_plot_quoted(name);
    g_string_append_printf(
        script,
        "set title %s tc rgb '#2a241c'\nset border 3 lc rgb '#2a241c'\n"
        "set tics nomirror tc rgb '#2a241c'\nset xrange [%.3f:%.3f]\nset yrange "
        "[-4:112]\n"
        "set xlabel 'false sightings an hour' tc rgb '#2a241c'\n"
        "set ylabel 'events found, %%' tc rgb '#2a241c'\n"
        "set key right bottom tc rgb '#2a241c'\n",
        title, -most / 40, most * 1.1);
    mark(script, s->now, "now", "#465b69", 6, 1.1, most);
    mark(script, s->chosen, "proposed", "#8f5212", 7, -1.1, most);
    for (guint v = 0; v <= last; v++)
        g_string_append_printf(script,
                               "%s$data index %u using 1:2 with lines lw 1 lc rgb "
                               "'#d9cfbc' %s",
                               v == 0 ? "plot " : ", ", v,
                               v == 0 ? "title 'other settings that were tried'"
                                      : "notitle");
    g_string_append_printf(script,
                           ", $data index %u using 1:2 with steps lw 3 lc rgb '#4a6426' "
                           "title 'most that is found with so few false'\n",
                           last + 1);
    const tw_status st =
        cli_plot_end(script, data->str, "false an hour, recall, start_at, variant", path);
    (void)g_string_free(data, TRUE);
    return st;
}
