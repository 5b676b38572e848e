/* What is wired to a camera: a motion sensor, a lamp, an output that pulses. */
#include <string.h>

#include "pipeline_state.h"

static bool wired(const tw_pipeline *p, const char *line)
{
    return p->wiring.pins && line && line[0] != '\0';
}

/* Told once: a wire that is off stays off. */
static void tell(tw_pipeline *p, tw_status st, const tw_error *err)
{
    if (!p->wiring.failed)
        tw_pipeline_problem(p, st, err->text);
    p->wiring.failed = true;
}

static void switch_line(tw_pipeline *p, const char *line, bool on)
{
    const tw_pins *pins = p->wiring.pins;
    tw_error err = {0};
    const tw_status st = pins->ops->write(pins->ctx, line, on, &err);
    if (st != TW_OK)
        tell(p, st, &err);
}

void tw_wiring_look(tw_pipeline *p)
{
    const tw_camera_settings *c = p->camera;
    tw_wiring *w = &p->wiring;
    tw_error err = {0};
    if (w->pulse && p->reading.t_us >= w->pulse_until_us) {
        switch_line(p, c->pulse_pin, false);
        w->pulse = false;
    }
    if (!wired(p, c->sensor_pin))
        return;
    w->was_sensed = w->sensed;
    const tw_status st =
        w->pins->ops->read(w->pins->ctx, c->sensor_pin, &w->sensed, &err);
    w->blind = st != TW_OK;
    if (w->blind) {
        w->sensed = false;
        tell(p, st, &err);
    }
    if (w->sensed)
        w->sensed_us = p->reading.t_us;
}

bool tw_wiring_allows(const tw_pipeline *p)
{
    const tw_wiring *w = &p->wiring;
    if (!wired(p, p->camera->sensor_pin) || w->blind) /* better too much than nothing */
        return true;
    switch ((tw_sensor_starts)p->camera->sensor_starts) {
    case TW_SENSOR_EITHER: return true;
    case TW_SENSOR_ALONE: return false;
    case TW_SENSOR_BOTH: break;
    }
    return w->sensed_us != INT64_MIN &&
           p->reading.t_us - w->sensed_us <= p->camera->sensor_holds_us;
}

bool tw_wiring_starts(const tw_pipeline *p)
{
    const tw_wiring *w = &p->wiring;
    return w->sensed && !w->was_sensed && p->camera->sensor_starts != TW_SENSOR_BOTH;
}

static void light(tw_pipeline *p, bool on)
{
    if (p->wiring.lamp == on)
        return;
    switch_line(p, p->camera->lamp_pin, on);
    p->wiring.lamp = on;
    if (p->detector)
        tw_detector_light_switched(p->detector);
}

static bool is_dark(const tw_pipeline *p)
{
    uint32_t light_ppm = 0, noise = 0;
    tw_detector_conditions(p->detector, &light_ppm, &noise);
    return light_ppm < (uint64_t)p->camera->dark_ppm || p->camera->dark_ppm >= 1000000;
}

void tw_wiring_began(tw_pipeline *p)
{
    if (wired(p, p->camera->lamp_pin) && is_dark(p))
        light(p, true);
    if (!wired(p, p->camera->pulse_pin))
        return;
    switch_line(p, p->camera->pulse_pin, true);
    p->wiring.pulse = true;
    p->wiring.pulse_until_us = p->reading.t_us + p->camera->pulse_us;
}

void tw_wiring_ended(tw_pipeline *p)
{
    light(p, false);
    if (p->wiring.pulse)
        switch_line(p, p->camera->pulse_pin, false);
    p->wiring.pulse = false;
}

void tw_wiring_change(tw_pipeline *p, const tw_camera_settings *next)
{
    const tw_camera_settings *had = p->camera;
    tw_wiring *w = &p->wiring;
    if (w->lamp && strcmp(had->lamp_pin, next->lamp_pin) != 0)
        light(p, false);
    if (w->pulse && strcmp(had->pulse_pin, next->pulse_pin) != 0) {
        switch_line(p, had->pulse_pin, false);
        w->pulse = false;
    }
    w->failed = false; /* what is wrong with them is told again */
}
