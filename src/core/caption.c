/* What a caption says. */
#include "caption.h"

#include "pattern.h"

static void put_activity(twi_text *t, uint32_t ppm)
{
    const uint32_t hundredths = (ppm + 50) / 100;
    twi_put_number(t, hundredths / 100, 1);
    twi_put(t, '.');
    twi_put_number(t, hundredths % 100, 2);
    twi_put_text(t, " %");
}

static bool put_caption_field(twi_text *t, const char *at, size_t n, const void *fields)
{
    const twi_caption_fields *f = fields;
    if (twi_is_field(at, n, "{camera}"))
        twi_put_text(t, f->camera);
    else if (twi_is_field(at, n, "{station}"))
        twi_put_text(t, f->station);
    else if (twi_is_field(at, n, "{activity}"))
        put_activity(t, f->activity_ppm);
    else if (twi_is_field(at, n, "{ms}"))
        twi_put_number(t, f->time.microsecond / 1000, 3);
    else if (twi_is_field(at, n, "{sighting}")) {
        if (f->sighting > 0)
            twi_put_number(t, f->sighting, 1);
    } else
        return false;
    return true;
}

tw_status twi_caption_expand(const char *pattern, const twi_caption_fields *fields,
                             char *out, size_t capacity, const char **problem)
{
    if (!pattern || !fields || !out || capacity == 0)
        return TW_EINVAL;
    twi_text t = {out, 0, capacity, false, '/'};
    const char *wrong = twi_expand(&t, pattern, &fields->time, put_caption_field, fields);
    if (problem)
        *problem = wrong ? wrong : pattern;
    if (wrong)
        return TW_ESYNTAX;
    out[t.used] = '\0';
    return t.full ? TW_ESIZE : TW_OK;
}
