/* What is wired to a camera: a motion sensor, a lamp, an output that pulses. */
#include <string.h>

#include "pipeline_state.h"
#include "../settings/sections.h"

static bool wired(const twi_pipeline *p, const char *line)
{
    return p->gpio.pins && line && line[0] != '\0';
}

/* Told once: a wire that is off stays off. */
static void tell(twi_pipeline *p, tw_status st, const tw_error *err)
{
    if (!p->gpio.failed)
        twi_pipeline_problem(p, st, err->text);
    p->gpio.failed = true;
}

static void switch_line(twi_pipeline *p, const char *line, bool on)
{
    const tw_pins *pins = p->gpio.pins;
    tw_error err = {0};
    const tw_status st = pins->ops->write(pins->ctx, line, on, &err);
    if (st != TW_OK)
        tell(p, st, &err);
}

void twi_gpio_read(twi_pipeline *p)
{
    const twi_camera_settings *c = p->camera;
    twi_gpio *w = &p->gpio;
    tw_error err = {0};
    if (w->pulse && p->reading.t_us >= w->pulse_until_us) {
        switch_line(p, c->pulse_pin, false);
        w->pulse = false;
    }
    if (!wired(p, c->sensor_pin))
        return;
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

bool twi_gpio_allows(const twi_pipeline *p)
{
    const twi_gpio *w = &p->gpio;
    if (!wired(p, p->camera->sensor_pin) || w->blind) /* better too much than nothing */
        return true;
    switch ((twi_sensor_starts)p->camera->sensor_starts) {
    case TWI_SENSOR_EITHER: return true;
    case TWI_SENSOR_ALONE: return false;
    case TWI_SENSOR_BOTH: break;
    }
    return w->sensed_us != INT64_MIN &&
           p->reading.t_us - w->sensed_us <= p->camera->sensor_holds_us;
}

bool twi_gpio_senses(const twi_pipeline *p)
{
    return p->gpio.sensed && p->camera->sensor_starts != TWI_SENSOR_BOTH;
}

static void light(twi_pipeline *p, bool on)
{
    if (p->gpio.lamp == on)
        return;
    switch_line(p, p->camera->lamp_pin, on);
    p->gpio.lamp = on;
    if (p->detect.detector)
        tw_detector_light_switched(p->detect.detector);
}

void twi_gpio_began(twi_pipeline *p)
{
    if (wired(p, p->camera->lamp_pin) && twi_light_is_dark(p))
        light(p, true);
    if (!wired(p, p->camera->pulse_pin))
        return;
    switch_line(p, p->camera->pulse_pin, true);
    p->gpio.pulse = true;
    p->gpio.pulse_until_us = p->reading.t_us + p->camera->pulse_us;
}

void twi_gpio_ended(twi_pipeline *p)
{
    light(p, false);
    if (p->gpio.pulse)
        switch_line(p, p->camera->pulse_pin, false);
    p->gpio.pulse = false;
}

void twi_gpio_change(twi_pipeline *p, const twi_camera_settings *next)
{
    const twi_camera_settings *had = p->camera;
    twi_gpio *w = &p->gpio;
    if (w->lamp && strcmp(had->lamp_pin, next->lamp_pin) != 0)
        light(p, false);
    if (w->pulse && strcmp(had->pulse_pin, next->pulse_pin) != 0) {
        switch_line(p, had->pulse_pin, false);
        w->pulse = false;
    }
    w->failed = false; /* what is wrong with them is told again */
}
