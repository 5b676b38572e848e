/* Whether motion may begin a sighting: orders, hours, the delay, the setting. */
#include "pipeline_state.h"
#include "../settings/sections.h"

bool twi_pipeline_within(const twi_pipeline *p, const twi_hours *hours, int64_t wall_us)
{
    const twi_camera_settings *c = p->camera;
    const twi_hours_place place = {c->latitude, c->longitude,
                                   c->latitude != TWI_NOWHERE &&
                                       c->longitude != TWI_NOWHERE};
    return twi_hours_within(hours, wall_us, p->clock.ops->offset_s(p->clock.ctx, wall_us),
                            &place);
}

static bool within_hours(const twi_pipeline *p, int64_t wall_us)
{
    return twi_pipeline_within(p, &p->arming.hours, wall_us);
}

/* What decides whether motion may begin a sighting now. */
static tw_arming arming_at(const twi_pipeline *p, int64_t t_us)
{
    const twi_camera_settings *c = p->camera;
    const int asked = p->orders ? atomic_load(&p->orders->armed) : TWI_AS_SET;
    if (asked == 0)
        return TW_DISARMED_BY_ORDER;
    if (asked == TWI_AS_SET && !c->armed)
        return TW_DISARMED_BY_SETTING;
    if (t_us - p->arming.from_us < c->arm_delay_us)
        return TW_DISARMED_BY_DELAY;
    if (asked != TWI_AS_SET)
        return TW_ARMED_BY_ORDER;
    return within_hours(p, t_us + p->times.wall_offset_us) ? TW_ARMED_BY_SETTING
                                                           : TW_DISARMED_BY_HOURS;
}

bool twi_arming_allows(const twi_pipeline *p, int64_t t_us)
{
    const tw_arming now = arming_at(p, t_us);
    return now == TW_ARMED_BY_SETTING || now == TW_ARMED_BY_ORDER;
}

/* When the hours begin next, by the wall; 0: not within a week. */
static int64_t next_hours(const twi_pipeline *p, int64_t wall_us)
{
    const int64_t minute_us = INT64_C(60000000), step = 5, week = 7 * 24 * 60;
    const int64_t from_us = wall_us - wall_us % minute_us;
    for (int64_t m = step; m <= week; m += step) {
        if (!within_hours(p, from_us + m * minute_us))
            continue;
        while (m > 1 && within_hours(p, from_us + (m - 1) * minute_us))
            m--;
        return from_us + m * minute_us;
    }
    return 0;
}

/* Looked at with each frame; when it ends is worked out when it begins. */
void twi_arming_note(twi_pipeline *p, int64_t t_us)
{
    const unsigned arms = p->orders ? atomic_load(&p->orders->arms) : 0;
    if (arms != p->arming.arms) { /* time to get out of the picture, once more */
        p->arming.arms = arms;
        p->arming.from_us = t_us;
    }
    const tw_arming now = arming_at(p, t_us);
    if (now == p->arming.now && now != TW_DISARMED_BY_DELAY && p->arming.known)
        return;
    p->arming.now = now;
    p->arming.known = true;
    p->arming.until_us =
        now == TW_DISARMED_BY_DELAY
            ? p->arming.from_us + p->camera->arm_delay_us + p->times.wall_offset_us
        : now == TW_DISARMED_BY_HOURS ? next_hours(p, t_us + p->times.wall_offset_us)
                                      : 0;
}
