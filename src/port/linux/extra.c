/* Set-up data of streams, kept while a camera is open. */
#include <stdlib.h>
#include <string.h>

#include "linux.h"

tw_status twi_linux_keep_extra(uint8_t **extra, tw_stream *stream, tw_error *err)
{
    free(*extra);
    *extra = NULL;
    if (stream->extra_size == 0)
        return TW_OK;
    *extra = malloc(stream->extra_size);
    if (!*extra)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    memcpy(*extra, stream->extra, stream->extra_size);
    stream->extra = *extra;
    return TW_OK;
}
