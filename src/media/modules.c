/* Loading the modules of pictures and video. */
#include "../base/module.h"
#include "codecs.h"
#include "drawing.h"
#include "zip.h"

const twi_codecs *twi_codecs_load(tw_error *err)
{
    return twi_module_table("codecs", TWI_CODECS_ABI, err);
}

const twi_drawing *twi_drawing_load(tw_error *err)
{
    return twi_module_table("drawing", TWI_DRAWING_ABI, err);
}

const twi_zip_module *twi_zip_load(tw_error *err)
{
    return twi_module_table("zip", TWI_ZIP_ABI, err);
}

tw_status twi_clip_copy(const twi_codecs *codecs, twi_clip *clip, const tw_packet *packet,
                        tw_error *err)
{
    twi_buffer *buffer = twi_buffer_copy(packet->data, packet->size);
    if (!buffer)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    const tw_status st = codecs->clip_packet(clip, packet, buffer, err);
    twi_buffer_unref(buffer);
    return st;
}
