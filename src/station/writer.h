/* Writing captures: jobs in, files out. Runs in the writer's thread, or, in a rehearsal,
 * wherever the jobs are given. */
#ifndef TW_WRITER_H
#define TW_WRITER_H

#include "../media/codecs.h"
#include "store.h"
#include "tawny/catalogue.h"
#include "tawny/station.h"

/* One camera's place at the writer. Made by its owner; the writer alone uses own. */
typedef struct tw_lane {
    const tw_camera_settings *camera;
    struct {
        const tw_codecs *codecs;
        tw_clip *clip; /* NULL: none open */
        tw_store_file file;
        struct tw_writer *writer;
        int64_t start_us;  /* wall time of its first frame */
        int64_t synced_us; /* when it was last made safe, by the clock */
        bool skip;         /* this clip has failed, and that has been said */
    } own;
} tw_lane;

typedef enum tw_job_kind {
    TW_JOB_CLIP_BEGIN,  /* data: the stream's extra */
    TW_JOB_CLIP_PACKET, /* data: the packet */
    TW_JOB_CLIP_END,
    TW_JOB_STILL, /* data: a JPEG */
    TW_JOB_TIMED, /* likewise, of no sighting */
    TW_JOB_BEGAN, /* a sighting, for the catalogue; no data */
    TW_JOB_ENDED
} tw_job_kind;

/* Something to be written. Data is the job's own. */
typedef struct tw_job {
    tw_job_kind kind;
    tw_lane *lane;
    tw_sighting sighting;
    tw_packet packet;       /* its data is the job's */
    tw_stream stream;       /* for CLIP_BEGIN; its extra is the job's data */
    int64_t wall_offset_us; /* wall time less capture time */
    uint32_t n;             /* number of the still, 0: the only one */
    uint16_t width, height; /* of the still */
} tw_job;

typedef struct tw_writer {
    tw_store store;
    tw_catalogue *catalogue; /* NULL: none is kept */
    bool catalogue_failed;   /* and that has been said */
    bool upkeep_failed;      /* likewise */
    uint64_t keep_free;      /* bytes of the card */
    tw_lane *const *lanes;   /* all cameras'; borrowed */
    size_t lane_count;
    tw_clock clock;
    tw_event_fn told; /* may be NULL */
    void *ctx;
} tw_writer;

/** Whether a stream is encoded anew in clips, by the camera's clip_video. */
bool tw_clip_must_encode(const tw_codecs *codecs, const tw_camera_settings *camera,
                         const tw_stream *stream);

/** Do one job. Never fails: what goes wrong is told. Frees the job's data. */
void tw_writer_do(tw_writer *writer, tw_job *job);

/** Take a copy of bytes as a job's data. @return TW_OK; TW_ENOMEM. */
tw_status tw_job_copy(tw_job *job, const uint8_t *data, size_t bytes);

/* Where a recorder gives its jobs. */
typedef struct tw_job_sink {
    /* Takes the job over if it returns true. With wait it always does. */
    bool (*give)(void *ctx, tw_job *job, bool wait);
    void *ctx;
} tw_job_sink;

/** Open the store with its catalogue. Set clock, told, ctx and lanes before. What fails
 * there is told, and captures are stored all the same.
 * @return TW_OK; else the store cannot be written. */
tw_status tw_writer_open(tw_writer *writer, const tw_card *card,
                         const tw_station_settings *settings, tw_error *err);
void tw_writer_close(tw_writer *writer); /* fine if it was never opened */

/** A sink that does each job at once. */
tw_job_sink tw_writer_sink(tw_writer *writer);

#endif
