/* tawny/rehearse.h - a run over recorded footage, as fast as the machine allows.
 *
 * In the caller's thread; several may run at once, each with settings of its own. All
 * that is given is borrowed for the call. */
#ifndef TW_REHEARSE_H
#define TW_REHEARSE_H

#include "tawny/events.h"
#include "tawny/port.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct tw_rehearsal_result {
    size_t size;           /* of this struct; 0: see version.h */
    uint64_t frames;       /* read by the detector */
    uint64_t decoded;      /* pictures; more than were read where check_every is set */
    uint64_t bad_frames;   /* that could not be read */
    int64_t first_us;      /* capture time of the first frame */
    int64_t length_us;     /* from the first to the end of the last frame */
    uint32_t sightings;    /* each split part counted */
    uint64_t packet_bytes; /* of all frames as they came */
} tw_rehearsal_result;

/**
 * Run recorded footage through a camera's settings, in this thread, as fast as it can be
 * read (its pace and loop are not heeded). The same footage and settings give the same
 * events and the same files.
 *
 * @param settings  With the camera, whose source says what is read, and the names of
 *                  captures.
 * @param camera    Its name.
 * @param stop      Set to nonzero, from a signal handler for one, to end early; may be
 *                  NULL.
 * @param callback  May be NULL.
 * @param result    Written on TW_OK and TW_ESTOPPED.
 * @return TW_OK; TW_ESTOPPED; TW_ENOENT: there is no such camera; else err says which
 *         file cannot be read and why.
 */
TW_API tw_status tw_rehearse_sized(const tw_platform *platform, tw_settings *settings,
                                   const char *camera, const volatile int *stop,
                                   tw_event_fn callback, void *ctx,
                                   tw_rehearsal_result *result, tw_error *err,
                                   size_t size);

static inline tw_status tw_rehearse(const tw_platform *platform, tw_settings *settings,
                                    const char *camera, const volatile int *stop,
                                    tw_event_fn callback, void *ctx,
                                    tw_rehearsal_result *result, tw_error *err)
{
    return tw_rehearse_sized(platform, settings, camera, stop, callback, ctx, result, err,
                             sizeof *result);
}

#ifdef __cplusplus
}
#endif

#endif
