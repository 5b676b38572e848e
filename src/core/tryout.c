/* What other limits would have made of activity that is past. */
#include "tryout.h"

#include <string.h>

tw_status twi_tryout_begin(twi_tryout *t, const tw_sighting_config *config, bool seconds)
{
    if (!t || !config)
        return TW_EINVAL;
    memset(t, 0, sizeof *t);
    tw_sighting_config tried = *config;
    tried.armed = true;
    tried.settle_us = 0;
    if (seconds)
        tried.confirm_k = tried.confirm_n = 1;
    return tw_sighting_init(&t->own.watch, &tried);
}

static void note(twi_tryout *t, unsigned news)
{
    if (news & TW_SIGHTING_ENDED) {
        t->ended = t->own.watch.ended;
        t->kept_us += t->ended.clip_end_us - t->ended.clip_start_us;
    }
    if (news & TW_SIGHTING_BEGAN)
        t->sightings += t->own.watch.now.part == 1;
}

unsigned twi_tryout_step(twi_tryout *t, const tw_reading *reading)
{
    const unsigned news = tw_sighting_step(&t->own.watch, reading);
    note(t, news);
    return news;
}

unsigned twi_tryout_end(twi_tryout *t)
{
    const unsigned news = tw_sighting_finish(&t->own.watch);
    note(t, news);
    return news;
}
