/* Choosing the port that knows a source. */
#include "thinned.h"

tw_status tw_camera_make(const tw_camera_make_fn *makers,
                         const tw_camera_request *request, tw_camera *out, tw_error *err)
{
    if (!makers || !request || !request->source || !out)
        return TW_EINVAL;
    for (; *makers; makers++) {
        tw_status st = (*makers)(request, out, err);
        if (st == TW_OK && request->most_fps > 0)
            st = tw_thinned_camera(request->most_fps, out, err);
        if (st != TW_ENOTSUP)
            return st;
    }
    return tw_fail(err, TW_ENOTSUP,
                   "camera %s: source = %s: write file:PATH or sim:SCENE", request->name,
                   request->source);
}
