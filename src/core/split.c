/* JPEG pictures in a stream of bytes. */
#include "split.h"

enum { SOI = 0xD8, EOI = 0xD9, SOS = 0xDA, RST0 = 0xD0, RST7 = 0xD7, TEM = 0x01 };

/* Step over entropy-coded data. @return whether its end, a marker, has been found. */
static bool step_over_scan(twi_split *s, const uint8_t *data, size_t bytes)
{
    while (s->at + 1 < bytes) {
        if (data[s->at] != 0xFF) {
            s->at++;
            continue;
        }
        const uint8_t next = data[s->at + 1];
        if (next == 0xFF) { /* fill */
            s->at++;
        } else if (next == 0 || (next >= RST0 && next <= RST7)) {
            s->at += 2;
        } else {
            s->in_scan = false;
            return true;
        }
    }
    return false;
}

/* Step over one marker with what belongs to it. @return TW_OK: go on; TW_EEND: it was the
 * picture's end; TW_EAGAIN; TW_EDAMAGED. */
static tw_status step_over_marker(twi_split *s, const uint8_t *data, size_t bytes)
{
    if (s->at + 2 > bytes)
        return TW_EAGAIN;
    if (data[s->at] != 0xFF)
        return TW_EDAMAGED;
    const uint8_t marker = data[s->at + 1];
    if (marker == 0xFF) { /* fill */
        s->at++;
        return TW_OK;
    }
    if (marker == EOI) {
        s->at += 2;
        return TW_EEND;
    }
    if (marker == TEM || (marker >= RST0 && marker <= RST7)) {
        s->at += 2;
        return TW_OK;
    }
    if (marker == 0 || marker == SOI)
        return TW_EDAMAGED;
    if (s->at + 4 > bytes)
        return TW_EAGAIN;
    const size_t length = (size_t)data[s->at + 2] << 8 | data[s->at + 3];
    if (length < 2)
        return TW_EDAMAGED;
    s->at += 2 + length;
    s->in_scan = marker == SOS;
    return TW_OK;
}

tw_status twi_split_jpeg(twi_split *s, const uint8_t *data, size_t bytes, size_t *length)
{
    if (!s || !data || !length)
        return TW_EINVAL;
    if (s->at == 0) {
        if (bytes < 2)
            return TW_EAGAIN;
        if (data[0] != 0xFF || data[1] != SOI)
            return TW_EDAMAGED;
        s->at = 2;
    }
    for (;;) { /* each round goes on in data, or returns */
        if (s->in_scan && !step_over_scan(s, data, bytes))
            return TW_EAGAIN;
        const tw_status st = step_over_marker(s, data, bytes);
        if (st == TW_EEND) {
            *length = s->at;
            *s = (twi_split){0, false};
            return TW_OK;
        }
        if (st != TW_OK)
            return st;
    }
}

size_t twi_split_find(const uint8_t *data, size_t bytes, size_t from)
{
    for (size_t i = from; data && i < bytes; i++)
        if (data[i] == 0xFF && (i + 1 == bytes || data[i + 1] == SOI))
            return i;
    return bytes;
}
