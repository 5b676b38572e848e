/* Shared frames. */
#include "buffer.h"

#include <stdlib.h>
#include <string.h>

/* What a block of so many bytes is made from: sizes in steps of a thirty-second to a
 * sixteenth. Frames differ in size by a little, and a block that one has left must do for
 * the next, or the heap of a station that runs for weeks is full of holes that just do
 * not fit. */
static size_t rounded(size_t bytes)
{
    size_t step = 64;
    while (step * 32 <= bytes)
        step *= 2;
    return (bytes + step - 1) / step * step;
}

/* Its data comes behind it where none is taken over. */
static twi_buffer *make(size_t room, uint8_t *taken, size_t bytes)
{
    twi_buffer *p = malloc(rounded(sizeof *p + room));
    if (!p)
        return NULL;
    atomic_init(&p->holders, 1);
    p->data = taken ? taken : (uint8_t *)(p + 1);
    p->size = bytes;
    p->activity_ppm = 0;
    p->sound = false;
    p->taken = taken;
    p->planes = (tw_picture){.px = {NULL}};
    return p;
}

twi_buffer *twi_buffer_new(size_t bytes)
{
    twi_buffer *p = make(bytes + TWI_BUFFER_PADDING, NULL, bytes);
    if (p)
        memset(p->data + bytes, 0, TWI_BUFFER_PADDING);
    return p;
}

twi_buffer *twi_buffer_copy(const uint8_t *data, size_t bytes)
{
    twi_buffer *p = twi_buffer_new(bytes);
    if (p && bytes > 0)
        memcpy(p->data, data, bytes);
    return p;
}

twi_buffer *twi_buffer_adopt(uint8_t *data, size_t bytes)
{
    twi_buffer *p = make(0, data, bytes);
    if (!p)
        free(data);
    return p;
}

twi_buffer *twi_buffer_ref(twi_buffer *p)
{
    (void)atomic_fetch_add_explicit(&p->holders, 1, memory_order_relaxed);
    return p;
}

void twi_buffer_unref(twi_buffer *p)
{
    if (!p || atomic_fetch_sub_explicit(&p->holders, 1, memory_order_acq_rel) != 1)
        return;
    free(p->taken);
    free(p);
}
