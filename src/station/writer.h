/* Writing captures: jobs in, files out. Runs in the writer's thread, or, in a rehearsal,
 * wherever the jobs are given. */
#ifndef TW_WRITER_H
#define TW_WRITER_H

#include <stdatomic.h>

#include "../core/timing.h"
#include "../core/trace.h"
#include "../media/caption.h"
#include "../media/codecs.h"
#include "snapshot.h"
#include "store.h"
#include "tawny/catalogue.h"
#include "tawny/station.h"

/* When something was captured, as far as is known. */
typedef struct tw_stamp {
    int64_t wall_us;
    int64_t order_us; /* its place among all, see tw_timing_order */
    bool unsure;      /* the clock had not been set */
} tw_stamp;

/* A video file that is being written, by the settings with which it began. */
typedef struct tw_recording {
    const tw_camera_settings *camera;
    twi_snapshot *snapshot; /* that they lie in; NULL: they are their owner's */
    const tw_codecs *codecs;
    tw_clip *clip;    /* NULL: none open */
    bool encodes;     /* it; else packets are copied into it */
    tw_stream source; /* of what is encoded; its pointers are not used */
    tw_store_file file;
    struct tw_writer *writer;
    tw_caption *caption;    /* NULL: it gets none */
    tw_sighting sighting;   /* as it was when it began; all zero: it belongs to none */
    int64_t wall_offset_us; /* wall time less capture time */
    tw_stamp stamp;         /* of its first frame */
    int64_t synced_us;      /* when it was last made safe, by the clock */
    bool skip;              /* it has failed, and that has been said */
} tw_recording;

/* One camera's place at the writer. Made by its owner, who sets camera; from its first
 * job on all of it is the writer's. */
typedef struct tw_lane {
    const tw_camera_settings *camera;
    twi_snapshot *snapshot;          /* that it lies in; NULL: it is the owner's */
    tw_recording own[TW_KIND_COUNT]; /* one of each kind at a time */
    struct tw_lane *next;
    atomic_bool gone; /* the writer is done with it, see TW_JOB_LANE_GONE */
} tw_lane;

typedef enum tw_job_kind {
    TW_JOB_VIDEO_BEGIN,  /* parcel: the stream's extra */
    TW_JOB_VIDEO_PACKET, /* parcel: the packet's bytes */
    TW_JOB_VIDEO_END,
    TW_JOB_STILL, /* parcel: a JPEG, or planes */
    /* From here on for the catalogue: little, and never refused. */
    TW_JOB_BEGAN, /* a sighting; no parcel */
    TW_JOB_ENDED,
    TW_JOB_TRACE,    /* parcel: a tw_trace_minute */
    TW_JOB_HAPPENED, /* parcel: its text, ended by 0; lane NULL: to the station */
    TW_JOB_LANE,     /* a camera is there from now on; no parcel */
    TW_JOB_SETTINGS, /* other settings hold; lane NULL: the station's */
    TW_JOB_LANE_GONE /* it is not; no job of its lane comes after this one */
} tw_job_kind;

/* Something to be written. */
typedef struct tw_job {
    tw_job_kind kind;
    tw_kind what; /* it becomes; for videos and stills */
    tw_lane *lane;
    tw_sighting sighting;   /* all zero: it belongs to none */
    tw_parcel *parcel;      /* the job holds it; NULL: there is none */
    tw_packet packet;       /* points into the parcel */
    tw_stream stream;       /* for VIDEO_BEGIN; its extra is the parcel */
    int64_t wall_offset_us; /* wall time less capture time */
    uint32_t n;             /* number of the still, 0: the only one */
    tw_turn turn;           /* that the camera's pictures need; set by the recorder */
    uint16_t width, height; /* of the still */
    const char *happened;   /* what, for HAPPENED; static */
    twi_snapshot *snapshot; /* for SETTINGS: the job holds it */
} tw_job;

typedef struct tw_writer {
    atomic_uint last_number; /* of a sighting, in this store: the next is one more */
    bool numbers_for_good;   /* sightings take theirs from there */
    tw_store store;
    twi_snapshot *snapshot;   /* that its names lie in; NULL: their owner's */
    tw_catalogue *catalogue;  /* NULL: none is kept */
    bool catalogue_failed;    /* and that has been said; others may look, atomically */
    int64_t retry_us;         /* when it is opened again, by the clock */
    bool upkeep_failed;       /* likewise */
    uint64_t keep_free;       /* bytes of the card */
    int64_t card_us;          /* time that the card took in all, by the clock */
    int64_t useless_until_us; /* making room was of no use: not before, by the clock */
    uint64_t unchecked_bytes; /* written since it was looked whether there is room */
    tw_lane *lanes;           /* all cameras', in order; borrowed */
    tw_clock clock;
    tw_timing timing;
    tw_event_fn told; /* may be NULL */
    void *ctx;
} tw_writer;

/** Whether a stream is encoded anew in clips, by the camera's clip_video. */
bool tw_clip_must_encode(const tw_codecs *codecs, const tw_camera_settings *camera,
                         const tw_stream *stream);

/** What a clip of a stream is made of: raw pictures that are not encoded as video go into
 * it as JPEG. */
tw_stream tw_clip_stream(const tw_stream *stream, bool encode);

/**
 * Give a clip a frame.
 *
 * @param source  What the clip is made of; set anew where the frame lies otherwise: raw
 *                pictures may have been held as JPEG.
 * @param parcel  With the frame's bytes, or its planes; held as long as needed.
 */
tw_status tw_clip_frame(const tw_codecs *codecs, tw_clip *clip, bool encodes,
                        tw_stream *source, const tw_packet *packet, tw_parcel *parcel,
                        tw_error *err);

/** What is shown of a camera's pictures. @param lies  The turn that its stream says they
 * need. */
tw_view tw_view_of(const tw_camera_settings *camera, tw_turn lies);

/** When something was captured that a camera says was captured at a wall time. */
tw_stamp tw_writer_stamp(const tw_writer *writer, int64_t wall_us);

/** Do one job. Never fails: what goes wrong is told. Releases the job's parcel. */
void tw_writer_do(tw_writer *writer, tw_job *job);

/* Where a recorder gives its jobs. */
typedef struct tw_job_sink {
    /* Takes the job over if it returns true. With wait it always does. */
    bool (*give)(void *ctx, tw_job *job, bool wait);
    void *ctx;
} tw_job_sink;

/** Open the store with its catalogue. Set clock, told and ctx before. What fails
 * there is told, and captures are tried all the same: also where the card is full, or
 * cannot be written.
 * @return TW_OK; TW_EACCES: another station has it; TW_EEXIST: the folder is no store;
 *         TW_ESYNTAX: the pattern of names is wrong. */
tw_status tw_writer_open(tw_writer *writer, const tw_card *card,
                         const tw_station_settings *settings, tw_error *err);
/** Try whether the card can be written; make room if it is full; tell if it cannot. */
void tw_writer_try_card(tw_writer *writer);
/** Complete the videos that are open, after the last job. */
void tw_writer_end_videos(tw_writer *writer);
void tw_writer_close(tw_writer *writer); /* fine if it was never opened */

/** Open a catalogue again that failed, if it is time, and make it agree with the files.
 */
void tw_writer_retry(tw_writer *writer);

/** A camera's captures are looked after from now on. Not while another thread writes:
 * TW_JOB_LANE does it there. */
void tw_writer_add_lane(tw_writer *writer, tw_lane *lane);

/** A sink that does each job at once. */
tw_job_sink tw_writer_sink(tw_writer *writer);

#endif
