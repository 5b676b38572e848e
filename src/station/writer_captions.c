/* What is written on pictures, and how they are turned. */
#include "writer_state.h"

twi_view twi_view_of(const twi_camera_settings *camera, tw_turn lies)
{
    const tw_turn wanted = {(uint8_t)camera->rotate, camera->mirror};
    return (twi_view){.turn = twi_turn_then(lies, wanted),
                      .crop = camera->crop,
                      .hidden = camera->private_zones,
                      .hidden_count = (uint16_t)camera->private_count};
}

twi_caption_fields twi_writer_caption(const twi_writer *writer,
                                      const twi_camera_settings *camera,
                                      uint32_t sighting, int64_t wall_us)
{
    twi_caption_fields f = {
        .camera = camera->name, .station = writer->store.station, .sighting = sighting};
    const twi_stamp stamp = twi_writer_stamp(writer, wall_us);
    twi_civil_split(stamp.wall_us,
                    writer->clock.ops->offset_s(writer->clock.ctx, stamp.wall_us),
                    &f.time);
    return f;
}

bool twi_writer_has_caption(const twi_channel *channel, int64_t on)
{
    return channel->camera->caption && channel->camera->caption[0] != '\0' &&
           (channel->camera->caption_on & on) != 0;
}
