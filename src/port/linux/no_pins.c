/* In the place of pins.c, where the library is built without libgpiod. */
#include "tawny/port_linux.h"

tw_status tw_linux_pins(tw_pins *out, tw_error *err)
{
    (void)out;
    return tw_fail(err, TW_ENOTSUP, "built without libgpiod (-DTAWNY_PINS=ON)");
}
