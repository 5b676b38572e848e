/* Leaving frames out. A frame costs one credit; time brings them. */
#include "thin.h"

enum {
    FRAME = 1000000,    /* a credit, in millionths */
    ENOUGH = 900000,    /* times are never quite even */
    FORGIVEN_PART = 64, /* of the rate, that is exceeded and left as it is */
    SAVED = 2 * FRAME,  /* at most, or a pause would be followed by a rush; but ... */
    BACK_US = 1000000,  /* that times never go back by themselves */
    SAVED_US = 10000000 /* ... so much time's, where frames come in groups */
};

static void earn(twi_thin *thin, int64_t t_us)
{
    int64_t since_us = t_us - thin->own.newest_us;
    if (since_us < -BACK_US) /* the clock, or the footage, began anew */
        thin->own.newest_us = t_us;
    if (since_us <= 0) /* pictures that depend on a later one come behind it */
        return;
    if (since_us > SAVED_US)
        since_us = SAVED_US;
    const int64_t most = thin->own.grouped ? (int64_t)thin->fps * SAVED_US : SAVED;
    const int64_t earned = since_us * thin->fps;
    thin->own.credit += earned + earned / FORGIVEN_PART;
    if (thin->own.credit > most)
        thin->own.credit = most;
    thin->own.newest_us = t_us;
}

static void begin(twi_thin *thin, int64_t t_us)
{
    thin->own.begun = true;
    thin->own.newest_us = t_us;
    thin->own.credit = FRAME;
}

bool twi_thin_keeps(twi_thin *thin, const tw_packet *packet)
{
    if (thin->fps == 0)
        return true;
    if (!thin->own.begun)
        begin(thin, packet->t_us);
    thin->own.grouped = thin->own.grouped || !packet->key;
    earn(thin, packet->t_us);
    const bool enough = thin->own.credit >= ENOUGH;
    if (packet->key) {
        thin->own.torn = thin->own.left_out;
        thin->own.left_out = !enough;
        thin->own.key_us = packet->t_us;
    } else if (!enough) {
        thin->own.left_out = true;
    }
    /* Shown before its key, it may need what was left out before that. */
    const bool leads = thin->own.torn && packet->t_us < thin->own.key_us;
    if (thin->own.left_out || leads)
        return false;
    thin->own.credit -= FRAME;
    return true;
}
