/* What an H.264 byte stream says of itself. Pure: no I/O, clock or heap. */
#ifndef TWI_H264_H
#define TWI_H264_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

/**
 * Look at the units of an access unit up to its first slice.
 *
 * @param data  A byte stream with start codes (ITU-T H.264, annex B); may be NULL if
 *              bytes is 0. Each byte is looked at once at most.
 * @return whether a decoder can begin with it: its first slice is of an IDR picture.
 */
bool twi_h264_is_key(const uint8_t *data, size_t bytes);

#endif
