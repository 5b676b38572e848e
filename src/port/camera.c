/* Choosing the port that knows a source. */
#include "../core/sized.h"
#include "push_camera.h"
#include "thinned.h"

static tw_status ask_each(const tw_camera_make_fn *makers,
                          const tw_camera_request *request, tw_camera *out, tw_error *err)
{
    tw_status st = twi_push_camera(request, out, err);
    for (; st == TW_ENOTSUP && makers && *makers; makers++)
        st = (*makers)(request, out, err);
    if (st != TW_ENOTSUP)
        return st;
    return tw_fail(err, TW_ENOTSUP,
                   "camera %s: source = %s: write file:PATH or sim:SCENE", request->name,
                   request->source);
}

tw_status tw_camera_make(const tw_camera_make_fn *makers,
                         const tw_camera_request *request, tw_camera *out, tw_error *err)
{
    if (!request || !request->source || !out)
        return TW_EINVAL;
    tw_camera_request own;
    TWI_TAKE(own, request);
    const tw_status st = ask_each(makers, &own, out, err);
    return st == TW_OK && own.most_fps > 0 ? twi_thinned_camera(own.most_fps, out, err)
                                           : st;
}
