/* Questions for sightings that were told before. */
#include "retell.h"

#include <jansson.h>
#include <string.h>

static bool number_of(const json_t *value, uint32_t *out)
{
    const json_int_t n = json_integer_value(value);
    *out = (uint32_t)n;
    return json_is_integer(value) && n >= 1 && n <= UINT32_MAX;
}

static bool read_range(const json_t *pair, uint32_t *first, uint32_t *last)
{
    return json_array_size(pair) == 2 && number_of(json_array_get(pair, 0), first) &&
           number_of(json_array_get(pair, 1), last) && *first <= *last;
}

static bool is_waiting(const twi_retelling *r, uint32_t first, uint32_t last)
{
    for (size_t i = 0; i < r->count; i++)
        if (r->first[i] <= first && r->last[i] >= last)
            return true;
    return false;
}

static tw_status add_ranges(twi_retelling *r, const json_t *ranges)
{
    twi_retelling more = *r;
    uint32_t first = 0, last = 0;
    if (!json_is_array(ranges) || json_array_size(ranges) == 0)
        return TW_ESYNTAX;
    for (size_t i = 0; i < json_array_size(ranges); i++) {
        if (!read_range(json_array_get(ranges, i), &first, &last))
            return TW_ESYNTAX;
        if (more.count == TWI_RETELL_RANGES || is_waiting(&more, first, last))
            continue;
        more.first[more.count] = first;
        more.last[more.count++] = last;
    }
    *r = more;
    return TW_OK;
}

tw_status twi_retell_take(twi_retelling *r, const char *series, const void *text,
                          size_t bytes)
{
    if (!r || !series || !text || bytes > TWI_RETELL_BYTES)
        return TW_ESYNTAX;
    json_t *o = json_loadb(text, bytes, JSON_REJECT_DUPLICATES, NULL);
    const char *of = json_string_value(json_object_get(o, "series"));
    tw_status st = of ? TW_OK : TW_ESYNTAX;
    if (st == TW_OK && strcmp(of, series) != 0)
        st = TW_ENOENT;
    if (st == TW_OK)
        st = add_ranges(r, json_object_get(o, "numbers"));
    json_decref(o);
    return st;
}

void twi_retell_add(twi_retelling *r, uint32_t number)
{
    if (r->count == TWI_RETELL_RANGES || is_waiting(r, number, number))
        return;
    r->first[r->count] = number;
    r->last[r->count++] = number;
}

bool twi_retell_next(twi_retelling *r, uint32_t *number)
{
    if (r->count == 0)
        return false;
    *number = r->first[0];
    if (r->first[0]++ < r->last[0])
        return true;
    r->count--;
    memmove(r->first, r->first + 1, r->count * sizeof *r->first);
    memmove(r->last, r->last + 1, r->count * sizeof *r->last);
    return true;
}
