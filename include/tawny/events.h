/* tawny/events.h - what a station or a rehearsal tells of.
 *
 * Events are the library's, and good for the call that tells of them. Those of a station
 * come from a thread of the subscriber's own, under no lock; those of a rehearsal from
 * the thread that rehearses. */
#ifndef TW_EVENTS_H
#define TW_EVENTS_H

#include <stdbool.h>
#include <stdint.h>

#include "tawny/detector.h"
#include "tawny/error.h"
#include "tawny/frame.h"
#include "tawny/settings.h"
#include "tawny/sighting.h"

#ifdef __cplusplus
extern "C" {
#endif

enum tw_event_kind_values {
    TW_EVENT_OPENED,  /* a camera delivers: stream */
    TW_EVENT_READING, /* one frame was read: reading, luma, state, and sighting if one
                         runs */
    TW_EVENT_BEGAN,   /* a sighting was confirmed: sighting, reading */
    TW_EVENT_ENDED,   /* it is over: sighting */
    TW_EVENT_STORED,  /* a capture is complete on the card: file, kind, bytes, sighting */
    TW_EVENT_FREED,   /* captures were dropped to make room: bytes, text */
    TW_EVENT_PROBLEM, /* something went wrong and the camera goes on: status, text */
    TW_EVENT_LOST,    /* a live camera gives nothing and is tried again: status, text */
    TW_EVENT_BACK,    /* it is back: text says after how long */
    TW_EVENT_RELOADED, /* new settings hold: settings; text says what that changed */
    TW_EVENT_STOPPED,  /* nothing is sent to a destination any more: text says why */
    TW_EVENT_ORDERED,  /* somebody has given an order: text says which */
    TW_EVENT_CLOSED,   /* a camera has ended: status, text if that was an error */
    TW_EVENT_ALARM,    /* somebody should look after something, or need not any more:
                          status, text; what it began with was told when it did */
    TW_EVENT_DAILY,    /* the word of the day: text says how all is; status */
    TW_EVENT_HOLDS     /* other settings of the camera hold, by light and hour: text */
};
typedef int32_t tw_event_kind; /* one of them */

/** @return "opened", "began"...: one word for each kind; static. */
TW_API const char *tw_event_name(tw_event_kind kind);

/* Something that happened. All pointers are borrowed and good for the call; those that do
 * not belong to the kind are NULL. */
typedef struct tw_event {
    tw_event_kind kind;
    tw_watch_state state;
    const char *camera; /* NULL: it concerns the station */
    int64_t t_us;       /* capture time of the frame it belongs to */
    int64_t wall_us;    /* the same on the wall clock */
    const tw_stream *stream;
    const tw_reading *reading;
    const tw_luma *luma; /* what the reading was taken of */
    const tw_sighting *sighting;
    const char *file;      /* name below the store */
    const char *file_kind; /* a twi_kind_name */
    uint64_t bytes;
    const char *text;            /* one line: what and where */
    const tw_settings *settings; /* of TW_EVENT_RELOADED: those that hold from now on */
    uint64_t lost_frames; /* of this camera so far: wanted in a file, and not there */
    const struct tw_event_frame *frame; /* for tw_event_picture */
    tw_status status;
    bool lost; /* a capture could not be stored: file_kind says which */
    /* What this subscriber was too slow for, so far: readings, and all else. */
    uint64_t missed_readings, missed_others;
} tw_event;

/** Told of each event, one at a time. Of a station: from a thread of the subscriber's
 * own, which holds no lock, so it may take its time and call whatever any thread may; who
 * falls behind misses readings, and is told how many. Of a rehearsal: from the thread
 * that rehearses. */
typedef void (*tw_event_fn)(void *ctx, const tw_event *event);

/* A subscriber to a station's events. */
typedef struct tw_subscriber {
    size_t size;          /* of this struct; 0: see version.h */
    tw_event_fn callback; /* required */
    bool readings;        /* of all frames */
    /* Whether the next reading of a camera is wanted with luma and picture; asked in the
     * camera's thread, so it must not block. NULL: none is. */
    bool (*wants)(void *ctx, const char *camera);
    void *ctx;
} tw_subscriber;

/**
 * The frame of a TW_EVENT_READING as a JPEG picture: as the camera sent it where it sends
 * JPEG, else encoded. Only while the event is told, in the same thread; of a station only
 * for a subscriber that wants it.
 *
 * @param out  Set on TW_OK, the caller's to free().
 * @return TW_OK; TW_EINVAL: an event without one; else err says what is wrong.
 */
TW_API tw_status tw_event_picture(const tw_event *event, uint8_t **out, size_t *bytes,
                                  tw_error *err);

#ifdef __cplusplus
}
#endif

#endif
