/* Pins that follow a script. */
#include <pthread.h>
#include <stdlib.h>
#include <string.h>

#include "tawny/port_sim.h"

enum { OUTPUTS_MAX = 16, NAME_MAX_BYTES = 64 };

typedef struct output {
    char line[NAME_MAX_BYTES];
    bool active;
    uint32_t switched;
} output;

typedef struct sim_pins {
    const tw_sim_signal *signals;
    size_t count;
    tw_clock clock;
    pthread_mutex_t lock; /* of the outputs */
    output outputs[OUTPUTS_MAX];
} sim_pins;

static tw_status read_line(void *ctx, const char *line, bool *active, tw_error *err)
{
    const sim_pins *p = ctx;
    const int64_t now_us = p->clock.ops->now_us(p->clock.ctx);
    bool known = false;
    *active = false;
    for (size_t i = 0; i < p->count; i++) {
        const tw_sim_signal *s = &p->signals[i];
        if (strcmp(s->line, line) != 0)
            continue;
        known = true;
        *active = *active || (now_us >= s->from_us && now_us < s->until_us);
    }
    return known ? TW_OK : tw_fail(err, TW_ENOENT, "pin %s: there is no such line", line);
}

/* @return the output of a name, or a free one; NULL: there are too many. */
static output *find(sim_pins *p, const char *line)
{
    for (size_t i = 0; i < OUTPUTS_MAX; i++)
        if (p->outputs[i].line[0] == '\0' || strcmp(p->outputs[i].line, line) == 0)
            return &p->outputs[i];
    return NULL;
}

static tw_status write_line(void *ctx, const char *line, bool active, tw_error *err)
{
    sim_pins *p = ctx;
    if (strlen(line) >= NAME_MAX_BYTES)
        return tw_fail(err, TW_ENOENT, "pin %s: there is no such line", line);
    (void)pthread_mutex_lock(&p->lock);
    output *o = find(p, line);
    if (o) {
        memcpy(o->line, line, strlen(line) + 1);
        o->switched += o->active != active;
        o->active = active;
    }
    (void)pthread_mutex_unlock(&p->lock);
    return o ? TW_OK : tw_fail(err, TW_ENOMEM, "pin %s: too many outputs", line);
}

static void destroy(void *ctx)
{
    sim_pins *p = ctx;
    (void)pthread_mutex_destroy(&p->lock);
    free(p);
}

tw_status tw_sim_pins(const tw_sim_signal *signals, size_t count, tw_clock clock,
                      tw_pins *out)
{
    static const tw_pins_ops ops = {sizeof ops, read_line, write_line, destroy};
    sim_pins *p = calloc(1, sizeof *p);
    if (!p)
        return TW_ENOMEM;
    p->signals = signals;
    p->count = count;
    p->clock = clock;
    (void)pthread_mutex_init(&p->lock, NULL);
    *out = (tw_pins){&ops, p};
    return TW_OK;
}

bool tw_sim_pins_output(const tw_pins *pins, const char *line, uint32_t *switched)
{
    sim_pins *p = pins->ctx;
    (void)pthread_mutex_lock(&p->lock);
    const output *o = find(p, line);
    const bool active = o && o->active;
    *switched = o ? o->switched : 0;
    (void)pthread_mutex_unlock(&p->lock);
    return active;
}
