/* Times of recorded and drawn footage. */
#include "recorded.h"

enum { WAIT_MAX_US = 250000, STEP_USUAL_US = 100000 };

void twi_recorded_begin(twi_recorded *r, const tw_camera_request *request,
                        int64_t wall_zero_us)
{
    *r = (twi_recorded){.clock = request->clock,
                        .pace = request->pace,
                        .wall_zero_us = wall_zero_us,
                        .step_us = STEP_USUAL_US};
    r->clock_zero_us = r->clock.ops->now_us(r->clock.ctx);
}

void twi_recorded_again(twi_recorded *r)
{
    r->round_us = r->newest_us + r->step_us;
}

static tw_status deliver(const twi_recorded *r, const tw_packet *packet, tw_packet *out)
{
    const int64_t t = r->round_us + packet->t_us, dts = r->round_us + packet->dts_us;
    if (r->pace) {
        const int64_t due = r->clock_zero_us + dts;
        const int64_t now = r->clock.ops->now_us(r->clock.ctx);
        if (due - now > WAIT_MAX_US) {
            r->clock.ops->sleep_until(r->clock.ctx, now + WAIT_MAX_US);
            return TW_EAGAIN;
        }
        if (due > now)
            r->clock.ops->sleep_until(r->clock.ctx, due);
    }
    *out = *packet;
    const int64_t zero = r->pace ? r->clock_zero_us : 0;
    out->t_us = zero + t;
    out->dts_us = zero + dts;
    out->wall_us =
        r->pace ? r->clock.ops->wall_us(r->clock.ctx) + (t - dts) : r->wall_zero_us + t;
    return TW_OK;
}

tw_status twi_recorded_deliver(twi_recorded *r, const tw_packet *packet, tw_packet *out)
{
    const int64_t dts = r->round_us + packet->dts_us;
    const tw_status st = deliver(r, packet, out);
    if (st != TW_OK)
        return st;
    if (dts > r->newest_us)
        r->step_us = dts - r->newest_us;
    r->newest_us = dts;
    return TW_OK;
}

tw_status twi_recorded_sound(twi_recorded *r, const tw_packet *packet, tw_packet *out)
{
    return deliver(r, packet, out);
}
