/* What a variant of the settings changes. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "tune.h"

enum { CORNERS = 4 };

static tw_zone zone_of(const tune_variant *v)
{
    return (tw_zone){.points = v->corners, .count = CORNERS};
}

static gboolean has_zone(const twi_camera_settings *camera, const char *name)
{
    for (size_t i = 0; i < camera->zone_count; i++)
        if (strcmp(camera->zone_names[i], name) == 0)
            return TRUE;
    return FALSE;
}

/* "learnt", or "learnt-2" where there is one of that name. */
static void name_zone(tune_variant *v, const twi_camera_settings *camera)
{
    (void)snprintf(v->name, sizeof v->name, "learnt");
    for (size_t i = 2; has_zone(camera, v->name) && i < camera->zone_count + 3; i++)
        (void)snprintf(v->name, sizeof v->name, "learnt-%zu", i);
}

void tune_shut_out(tune_variant *v, const twi_camera_settings *camera, const twi_box *box)
{
    const size_t n = camera->zone_count;
    v->zones = g_new0(tw_zone, n + 1);
    v->names = g_new0(const char *, n + 1);
    for (size_t i = 0; i < n; i++) {
        v->zones[i] = camera->zones[i];
        v->names[i] = camera->zone_names[i];
    }
    name_zone(v, camera);
    v->corners[0] = (tw_point){box->left_ppm, box->top_ppm};
    v->corners[1] = (tw_point){box->right_ppm, box->top_ppm};
    v->corners[2] = (tw_point){box->right_ppm, box->bottom_ppm};
    v->corners[3] = (tw_point){box->left_ppm, box->bottom_ppm};
    v->shuts_out = TRUE;
}

char *tune_zone_section(const tune_search *s)
{
    const tune_variant *v = &s->variants[s->chosen->variant];
    return v->shuts_out ? g_strdup_printf("%s/%s", s->camera->name, v->name) : NULL;
}

void tune_search_clear(tune_search *s)
{
    for (gsize i = 0; i < s->own_variants; i++) {
        g_free(s->variants[i].zones);
        g_free(s->variants[i].names);
    }
    if (s->own_variants > 0)
        g_free(s->variants);
    (void)g_array_free(s->trials, TRUE);
}

void tune_apply(const twi_camera_settings *now, const tune_variant *v,
                twi_camera_settings *out)
{
    tw_detector_config usual;
    tw_detector_defaults(&usual, TW_LUMA_MIN_WIDTH, TW_LUMA_MIN_WIDTH);
    *out = *now;
    /* Switched off, it is tried around its usual value. */
    const int64_t around = now->travel_ppm > 0    ? now->travel_ppm
                           : v->travel_pct != 100 ? (int64_t)usual.travel_ppm
                                                  : 0;
    out->travel_ppm = around * v->travel_pct / 100;
    out->noise_margin_pct = CLAMP(now->noise_margin_pct * v->margin_pct / 100, 10, 1000);
    if (v->evidence_pct > 0)
        out->evidence_pct = CLAMP(now->evidence_pct * v->evidence_pct / 100,
                                  TW_EVIDENCE_MIN, TW_EVIDENCE_MAX);
    if (v->smallest_ppm > 0)
        out->smallest_ppm = v->smallest_ppm;
    if (v->largest_ppm > 0)
        out->largest_ppm = v->largest_ppm;
    if (v->shuts_out) {
        /* Here and not before: variants move as more are added. */
        v->zones[now->zone_count] = zone_of(v);
        v->names[now->zone_count] = v->name;
        out->zones = v->zones;
        out->zone_names = v->names;
        out->zone_count = now->zone_count + 1;
    }
}

static void change(tune_change *c, const char *key, double value, double was)
{
    c->section = "camera";
    c->key = key;
    (void)snprintf(c->value, sizeof c->value, "%.3g %%", value);
    (void)snprintf(c->was, sizeof c->was, "%.3g %%", was);
}

static int change_zone(tune_change out[2], const tune_variant *v)
{
    const tw_point *p = v->corners;
    out[0] = (tune_change){.section = "zone", .key = "kind", .value = "ignored"};
    out[1] = (tune_change){.section = "zone", .key = "area"};
    (void)snprintf(out[1].value, sizeof out[1].value,
                   "%.1f,%.1f %.1f,%.1f %.1f,%.1f %.1f,%.1f", p[0].x_ppm / 1e4,
                   p[0].y_ppm / 1e4, p[1].x_ppm / 1e4, p[1].y_ppm / 1e4, p[2].x_ppm / 1e4,
                   p[2].y_ppm / 1e4, p[3].x_ppm / 1e4, p[3].y_ppm / 1e4);
    return 2;
}

int tune_changes(const tune_search *s, tune_change out[TUNE_CHANGES_MAX])
{
    twi_camera_settings to;
    const twi_camera_settings *now = s->camera;
    const uint32_t start = s->chosen->start_ppm;
    int n = 0;
    tune_apply(now, &s->variants[s->chosen->variant], &to);
    if (start != (uint32_t)now->start_ppm)
        change(&out[n++], "start_at", start / 1e4, (double)now->start_ppm / 1e4);
    if (start < (uint32_t)now->stay_ppm)
        change(&out[n++], "stay_at", start / 1e4, (double)now->stay_ppm / 1e4);
    if (to.travel_ppm != now->travel_ppm)
        change(&out[n++], "travel", (double)to.travel_ppm / 1e4,
               (double)now->travel_ppm / 1e4);
    if (to.noise_margin_pct != now->noise_margin_pct)
        change(&out[n++], "noise_margin", (double)to.noise_margin_pct,
               (double)now->noise_margin_pct);
    if (to.evidence_pct != now->evidence_pct)
        change(&out[n++], "evidence", (double)to.evidence_pct, (double)now->evidence_pct);
    if (to.smallest_ppm != now->smallest_ppm)
        change(&out[n++], "smallest", (double)to.smallest_ppm / 1e4,
               (double)now->smallest_ppm / 1e4);
    if (to.largest_ppm != now->largest_ppm)
        change(&out[n++], "largest", (double)to.largest_ppm / 1e4,
               (double)now->largest_ppm / 1e4);
    if (s->variants[s->chosen->variant].shuts_out)
        n += change_zone(&out[n], &s->variants[s->chosen->variant]);
    return n;
}
