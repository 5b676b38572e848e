/* What a variant of the settings changes. */
#include <math.h>
#include <stdio.h>

#include "tune.h"

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
}

static void change(tune_change *c, const char *key, double value, double was)
{
    c->key = key;
    (void)snprintf(c->value, sizeof c->value, "%.3g %%", value);
    (void)snprintf(c->was, sizeof c->was, "%.3g %%", was);
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
    return n;
}
