/* Day and night: which of a camera's settings hold now. */
#include <string.h>

#include "pipeline_state.h"
#include "../settings/sections.h"

enum { LOOK_EVERY_US = 1000000 };

static const unsigned NONE_REFUSED = ~0U;

/* ---- dark or light --------------------------------------------------------------- */

static twi_dark_sign sign_of_pin(twi_pipeline *p)
{
    bool active = false;
    tw_error err = {0};
    const tw_pins *pins = p->gpio.pins;
    if (!pins || p->camera->dark_pin[0] == '\0')
        return TWI_SIGN_NONE;
    const tw_status st = pins->ops->read(pins->ctx, p->camera->dark_pin, &active, &err);
    if (st != TW_OK && !p->light.failed)
        twi_pipeline_problem(p, st, err.text);
    p->light.failed = st != TW_OK;
    return st != TW_OK ? TWI_SIGN_NONE : active ? TWI_SIGN_DARK : TWI_SIGN_LIGHT;
}

static twi_dark_sign sign_of_sun(const twi_pipeline *p, int64_t wall_us)
{
    twi_hours night;
    if (twi_hours_parse("dusk-dawn", &night, NULL) != TW_OK)
        return TWI_SIGN_NONE;
    return twi_pipeline_within(p, &night, wall_us) ? TWI_SIGN_DARK : TWI_SIGN_LIGHT;
}

/* What the picture says. Its own lamp is no day. */
static twi_dark_sign sign_of_picture(const twi_pipeline *p)
{
    uint32_t light_ppm = 0, noise = 0, coloured_ppm = 0;
    if (!p->detect.detector || p->gpio.lamp)
        return TWI_SIGN_NONE;
    if (p->camera->dark_by == TWI_DARK_FROM_COLOUR)
        return tw_detector_coloured(p->detect.detector, &coloured_ppm) == TW_OK
                   ? twi_dark_by_colour(&p->light.dark, coloured_ppm)
                   : TWI_SIGN_NONE;
    tw_detector_conditions(p->detect.detector, &light_ppm, &noise);
    return twi_dark_by_light(&p->light.dark, light_ppm, (uint32_t)p->camera->dark_ppm);
}

static twi_dark_sign sign_at(twi_pipeline *p, int64_t wall_us)
{
    switch ((twi_dark_from)p->camera->dark_by) {
    case TWI_DARK_FROM_SUN: return sign_of_sun(p, wall_us);
    case TWI_DARK_FROM_PIN: return sign_of_pin(p);
    case TWI_DARK_FROM_LIGHT:
    case TWI_DARK_FROM_COLOUR: break;
    }
    return sign_of_picture(p);
}

static void look(twi_pipeline *p, int64_t t_us, int64_t wall_us)
{
    const int64_t after_us =
        p->camera->dark_by == TWI_DARK_FROM_SUN ? 0 : p->camera->dark_after_us;
    (void)twi_dark_take(&p->light.dark, sign_at(p, wall_us), t_us, after_us);
}

/* ---- what holds ------------------------------------------------------------------ */

static bool holds(const twi_pipeline *p, const twi_condition *c, int64_t wall_us)
{
    const twi_dark *dark = &p->light.dark;
    switch (c->kind) {
    case TWI_CONDITION_DARK: return dark->known && dark->dark;
    case TWI_CONDITION_LIGHT: return dark->known && !dark->dark;
    case TWI_CONDITION_HOURS: break;
    }
    return twi_pipeline_within(p, &c->hours, wall_us);
}

static unsigned bits_at(const twi_pipeline *p, const twi_conditions *all, int64_t wall_us)
{
    unsigned bits = 0;
    for (size_t k = 0; all && k < all->count; k++)
        bits |= (unsigned)holds(p, &all->of[k], wall_us) << k;
    return bits;
}

static void tell_holds(const twi_pipeline *p)
{
    char which[TWI_HOLDS_MAX];
    tw_error line = {0};
    twi_conditions_word(p->light.conditions, p->light.bits, which, sizeof which);
    if (which[0])
        (void)tw_fail(&line, TW_OK, "what it has set for %s holds", which);
    else
        (void)tw_fail(&line, TW_OK, "what it has set for all times holds alone");
    twi_pipeline_tell(p, (tw_event){.kind = TW_EVENT_HOLDS,
                                    .t_us = p->frame.packet.t_us,
                                    .text = line.text});
}

/* What does not hold, as a mask that cannot be read, is tried again with the next change.
 */
static void go_over(twi_pipeline *p, unsigned bits)
{
    tw_error err = {0}, line = {0};
    if (twi_pipeline_run_on(p, &p->light.conditions->by[bits], &err) == TW_OK) {
        p->light.bits = bits;
        p->light.refused = NONE_REFUSED;
        tell_holds(p);
        return;
    }
    p->light.refused = bits;
    (void)tw_fail(&line, err.status,
                  "what it has set by light and hour does not hold: %s", err.text);
    twi_pipeline_problem(p, line.status, line.text);
}

void twi_light_begin(twi_pipeline *p, const twi_conditions *conditions)
{
    p->light.conditions = conditions;
    p->light.refused = NONE_REFUSED;
}

void twi_light_follow(twi_pipeline *p, const tw_packet *packet)
{
    const twi_conditions *all = p->light.conditions;
    const bool lamp = p->gpio.pins && p->camera->lamp_pin[0] != '\0';
    const int64_t since_us = packet->t_us - p->light.looked_us;
    if ((!all && !lamp) || p->result.frames == 0 || /* there is no picture yet */
        (p->light.looked && since_us >= 0 && since_us < LOOK_EVERY_US))
        return;
    p->light.looked = true;
    p->light.looked_us = packet->t_us;
    look(p, packet->t_us, packet->wall_us);
    const unsigned bits = bits_at(p, all, packet->wall_us);
    if (bits != p->light.bits && bits != p->light.refused)
        go_over(p, bits);
}

tw_status twi_pipeline_adjust(twi_pipeline *p, const twi_camera_settings *camera,
                              tw_error *err)
{
    const twi_conditions *all = camera->conditions;
    const unsigned bits = bits_at(p, all, p->times.last_us + p->times.wall_offset_us);
    const tw_status st = twi_pipeline_run_on(p, all ? &all->by[bits] : camera, err);
    if (st != TW_OK)
        return st;
    twi_light_begin(p, all);
    p->light.bits = bits;
    return TW_OK;
}

unsigned twi_pipeline_holds(const twi_pipeline *p)
{
    return p->light.bits;
}
