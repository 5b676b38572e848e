/* Start codes and the kinds of units: ITU-T H.264, 7.3.1, 7.4.1 and annex B. */
#include "h264.h"

enum { KIND = 0x1F, SLICE = 1, IDR_SLICE = 5 };

/* @return where the unit behind the next start code begins; bytes: there is none. */
static size_t next_unit(const uint8_t *data, size_t bytes, size_t from)
{
    for (size_t i = from; i + 3 < bytes; i++)
        if (data[i] == 0 && data[i + 1] == 0 && data[i + 2] == 1)
            return i + 3;
    return bytes;
}

bool twi_h264_is_key(const uint8_t *data, size_t bytes)
{
    for (size_t at = next_unit(data, bytes, 0); at < bytes;
         at = next_unit(data, bytes, at)) {
        const int kind = data[at] & KIND;
        if (kind >= SLICE && kind <= IDR_SLICE)
            return kind == IDR_SLICE;
    }
    return false;
}
