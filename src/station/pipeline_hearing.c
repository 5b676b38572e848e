/* What a camera hears: how loud its place is, and whether that begins a sighting. */
#include "../media/codecs.h"
#include "pipeline_state.h"
#include "../settings/sections.h"

enum {
    SAMPLE_US = 200000, /* between packets that are listened to for the meter alone */
    DEAF_US = 3000000   /* without a packet: it hears nothing any more */
};

static bool decides(const twi_pipeline *p)
{
    return p->camera->sound_starts != TWI_SOUND_NO;
}

/* Told once: what cannot be listened to is kept all the same. */
static bool can_listen(twi_pipeline *p)
{
    twi_hearing *h = &p->hearing;
    tw_error err = {0};
    if (h->level || h->failed)
        return h->level != NULL;
    h->codecs = twi_codecs_load(&err);
    if (h->codecs && h->codecs->level_open(&p->stream.sound, &h->level, &err) == TW_OK)
        return true;
    h->failed = true;
    twi_pipeline_problem(p, err.status, err.text);
    return false;
}

void twi_hearing_packet(twi_pipeline *p, const tw_packet *packet)
{
    twi_hearing *h = &p->hearing;
    int32_t level = 0;
    const bool first = h->listened_us == INT64_MIN || packet->t_us < h->listened_us;
    const bool due = first || decides(p) || packet->t_us - h->listened_us >= SAMPLE_US;
    if (!due || !can_listen(p))
        return;
    h->listened_us = packet->t_us;
    if (h->codecs->level_give(h->level, packet, &level) != TW_OK)
        return;
    const int32_t margin = (int32_t)p->camera->sound_margin * 10;
    h->loud = twi_loudness_hear(&h->loudness, packet->t_us, level, margin);
    if (h->loud)
        h->loud_us = packet->t_us;
}

static bool is_deaf(const twi_pipeline *p)
{
    const twi_hearing *h = &p->hearing;
    return h->listened_us == INT64_MIN || p->reading.t_us - h->listened_us > DEAF_US;
}

bool twi_hearing_allows(const twi_pipeline *p)
{
    const twi_hearing *h = &p->hearing;
    if (p->camera->sound_starts != TWI_SOUND_BOTH || is_deaf(p)) /* better too much */
        return true;
    return h->loud_us != INT64_MIN &&
           p->reading.t_us - h->loud_us <= p->camera->sensor_holds_us;
}

bool twi_hearing_begins(const twi_pipeline *p)
{
    return p->camera->sound_starts == TWI_SOUND_EITHER && p->hearing.loud && !is_deaf(p);
}

int32_t twi_hearing_level(const twi_pipeline *p)
{
    return p->hearing.loudness.moments == 0 || is_deaf(p) ? TW_SOUND_UNKNOWN
                                                          : p->hearing.loudness.newest;
}

void twi_hearing_close(twi_pipeline *p)
{
    if (p->hearing.level)
        p->hearing.codecs->level_close(p->hearing.level);
    p->hearing.level = NULL;
}
