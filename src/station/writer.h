/* Writing captures: jobs in, files out. Runs in the writer's thread, or, in a rehearsal,
 * wherever the jobs are given. */
#ifndef TWI_WRITER_H
#define TWI_WRITER_H

#include <stdatomic.h>

#include "../core/forecast.h"
#include "../core/timing.h"
#include "../core/trace.h"
#include "../media/caption.h"
#include "../media/codecs.h"
#include "../media/hide.h"
#include "snapshot.h"
#include "store.h"
#include "tawny/catalogue.h"
#include "tawny/station.h"
#include "../core/naming.h"
#include "../core/view.h"
#include "../settings/sections.h"
#include "tawny/events.h"

/* When something was captured, as far as is known. */
typedef struct twi_stamp {
    int64_t wall_us;
    int64_t order_us; /* its place among all, see twi_timing_order */
    bool unsure;      /* the clock had not been set */
} twi_stamp;

/* A clip that frames go into. */
typedef struct twi_clip_frames {
    const twi_codecs *codecs;
    twi_clip *clip;   /* NULL: none open */
    bool encodes;     /* it; else packets are copied into it */
    tw_stream source; /* of what is encoded; its pointers are not used */
    twi_view view;    /* what is shown of them */
    twi_hide hide;    /* of what is copied */
} twi_clip_frames;

/* A video file that is being written, by the settings with which it began. */
typedef struct twi_recording {
    const twi_camera_settings *camera;
    twi_snapshot *snapshot; /* that they lie in; NULL: they are their owner's */
    twi_clip_frames frames;
    twi_store_file file;
    struct twi_writer *writer;
    twi_caption *caption;   /* NULL: it gets none */
    tw_sighting sighting;   /* as it was when it began; all zero: it belongs to none */
    int64_t wall_offset_us; /* wall time less capture time */
    twi_stamp stamp;        /* of its first frame */
    int64_t synced_us;      /* when it was last made safe, by the clock */
    bool skip;              /* it has failed, and that has been said */
} twi_recording;

/* One camera's place at the writer. Made by its owner, who sets camera; from its first
 * job on all of it is the writer's. */
typedef struct twi_channel {
    const twi_camera_settings *camera;
    twi_snapshot *snapshot;            /* that it lies in; NULL: it is the owner's */
    twi_recording own[TWI_KIND_COUNT]; /* one of each kind at a time */
    struct twi_channel *next;
    atomic_bool gone; /* the writer is done with it, see TWI_JOB_CHANNEL_GONE */
} twi_channel;

typedef enum twi_job_kind {
    TWI_JOB_VIDEO_BEGIN,  /* buffer: the stream's extra */
    TWI_JOB_VIDEO_PACKET, /* buffer: the packet's bytes */
    TWI_JOB_VIDEO_END,
    TWI_JOB_FILE_BEGIN, /* a capture that was made elsewhere; no buffer */
    TWI_JOB_FILE_PART,  /* buffer: its next bytes, those of the packet */
    TWI_JOB_FILE_END,
    TWI_JOB_STILL, /* buffer: a JPEG, or planes */
    /* From here on for the catalogue: little, and never refused. */
    TWI_JOB_BEGAN, /* a sighting; no buffer */
    TWI_JOB_ENDED,
    TWI_JOB_TRACE,       /* buffer: a twi_trace_minute */
    TWI_JOB_SENSED,      /* buffer: a twi_sensed; channel NULL */
    TWI_JOB_HAPPENED,    /* buffer: its text, ended by 0; channel NULL: to the station */
    TWI_JOB_CHANNEL,     /* a camera is there from now on; no buffer */
    TWI_JOB_SETTINGS,    /* other settings hold; channel NULL: the station's */
    TWI_JOB_CHANNEL_GONE /* it is not; no job of its channel comes after this one */
} twi_job_kind;

/* A value of a sensor, for TWI_JOB_SENSED. */
typedef struct twi_sensed {
    char name[64];
    int64_t value;   /* millionths of its unit */
    int64_t keep_us; /* how long values are kept; 0: forever */
} twi_sensed;

/* Something to be written. */
typedef struct twi_job {
    twi_job_kind kind;
    twi_kind what; /* it becomes; for videos and stills */
    twi_channel *channel;
    tw_sighting sighting;   /* all zero: it belongs to none */
    twi_buffer *buffer;     /* the job holds it; NULL: there is none */
    tw_packet packet;       /* points into the buffer */
    tw_stream stream;       /* for VIDEO_BEGIN; its extra is the buffer */
    int64_t wall_offset_us; /* wall time less capture time */
    uint32_t n;             /* number of the still, 0: the only one */
    tw_turn turn;           /* that the camera's pictures need; set by the recorder */
    uint16_t width, height; /* of the still */
    const char *happened;   /* what, for HAPPENED; static */
    twi_snapshot *snapshot; /* for SETTINGS: the job holds it */
} twi_job;

#define TWI_FREE_UNKNOWN UINT64_MAX

typedef struct twi_writer {
    atomic_uint last_number; /* of a sighting, in this store: the next is one more */
    bool numbers_for_good;   /* sightings take theirs from there */
    twi_store store;
    twi_snapshot *snapshot;      /* that its names lie in; NULL: their owner's */
    tw_catalogue *catalogue;     /* NULL: none is kept */
    bool catalogue_failed;       /* and that has been said; others may look, atomically */
    int64_t retry_us;            /* when it is opened again, by the clock */
    bool store_failed;           /* likewise */
    uint64_t keep_free;          /* bytes of the card */
    bool segments_first;         /* go where it is full */
    twi_forecast forecast;       /* of when it will be full */
    _Atomic uint64_t free_bytes; /* of it, when it was looked last; others may look */
    int64_t alarm_after_us;      /* as the settings say; 0: there are no alarms */
    int64_t opened_us;           /* by the clock */
    bool clock_told;             /* that the clock is not set, as an alarm */
    int64_t card_us;             /* time that the card took in all, by the clock */
    int64_t useless_until_us;    /* making room was of no use: not before, by the clock */
    uint64_t unchecked_bytes;    /* written since it was looked whether there is room */
    twi_channel *channels;       /* all cameras', in order; borrowed */
    tw_clock clock;
    twi_timing timing;
    tw_event_fn callback; /* may be NULL */
    void *ctx;
} twi_writer;

/** Whether a stream is encoded anew in clips, by the camera's clip_video. */
bool twi_clip_must_encode(const twi_codecs *codecs, const twi_camera_settings *camera,
                          const tw_stream *stream);

/** What a clip of a stream is made of: raw pictures that are not encoded as video go into
 * it as JPEG. */
tw_stream twi_clip_stream(const tw_stream *stream, bool encode);

/**
 * Give a clip a frame, or a packet of sound. Its source is set anew where the frame lies
 * otherwise: raw pictures may have been held as JPEG.
 *
 * @param buffer  With the frame's bytes, or its planes; held as long as needed.
 */
tw_status twi_clip_frame(twi_clip_frames *frames, const tw_packet *packet,
                         twi_buffer *buffer, tw_error *err);

/** What is shown of a camera's pictures. @param lies  The turn that its stream says they
 * need. */
twi_view twi_view_of(const twi_camera_settings *camera, tw_turn lies);

/** When something was captured that a camera says was captured at a wall time. */
twi_stamp twi_writer_stamp(const twi_writer *writer, int64_t wall_us);

/** Tell of something that concerns no camera's frame, with the time that it is. */
void twi_writer_tell(const twi_writer *writer, tw_event event);

/** Tell what is wrong with the store; once, until it works again. */
void twi_writer_trouble(twi_writer *writer, const tw_error *why);

/** Do one job. Never fails: what goes wrong is told. Releases the job's buffer. */
void twi_writer_do(twi_writer *writer, twi_job *job);

/* Where a recorder gives its jobs. */
typedef struct twi_jobs {
    /* Takes the job over if it returns true. With wait it always does. */
    bool (*give)(void *ctx, twi_job *job, bool wait);
    void *ctx;
} twi_jobs;

/** Open the store with its catalogue. Set clock, callback and ctx before. What fails
 * there is told, and captures are tried all the same: also where the card is full, or
 * cannot be written.
 * @return TW_OK; TW_EACCES: another station has it; TW_EEXIST: the folder is no store;
 *         TW_ESYNTAX: the pattern of names is wrong. */
tw_status twi_writer_open(twi_writer *writer, const tw_card *card,
                          const twi_station_settings *settings, tw_error *err);
/** Try whether the card can be written; make room if it is full; tell if it cannot. */
void twi_writer_try_card(twi_writer *writer);
/** Complete the videos that are open, after the last job. */
void twi_writer_end_videos(twi_writer *writer);
void twi_writer_close(twi_writer *writer); /* fine if it was never opened */

/** What is to be done now and then: a catalogue that failed is opened again, the clock is
 * looked at, and what is too old or too much goes. */
void twi_writer_tend(twi_writer *writer);

/** Open a catalogue again that failed, if it is time, and make it agree with the files.
 */
void twi_writer_retry(twi_writer *writer);

/** A camera's captures are looked after from now on. Not while another thread writes:
 * TWI_JOB_CHANNEL does it there. */
void twi_writer_add_channel(twi_writer *writer, twi_channel *channel);

/** A sink that does each job at once. */
twi_jobs twi_writer_jobs(twi_writer *writer);

#endif
