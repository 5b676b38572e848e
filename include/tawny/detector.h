/* tawny/detector.h - what moves in a picture. Pure: no I/O, clock or heap.
 *
 * The detector keeps a slowly learned background with a noise estimate for each pixel,
 * explains each cell of a new frame as the background under another light and a small
 * shift, and calls a cell moving where that explanation fails by more than the cell's own
 * usual restlessness. docs/architecture.md has the method in short.
 *
 * A detector is one thread's at a time; several may run at once. It lies in the caller's
 * memory and holds nothing else, so it is never freed. Pictures are borrowed for the
 * call; of a reading, cells alone is the detector's. */
#ifndef TW_DETECTOR_H
#define TW_DETECTOR_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "tawny/frame.h"
#include "tawny/error.h"
#include "tawny/zones.h"

#ifdef __cplusplus
extern "C" {
#endif

enum {
    TW_DETECTOR_MIN_SIDE = 16,   /* pixels: smaller pictures are refused */
    TW_DETECTOR_MAX_SIDE = 1024, /* pixels: reduce bigger pictures first */
    TW_CELLS_MIN = 10,           /* cells across a picture: fewer are refused ... */
    TW_CELLS_MAX = 64,           /* ... and so are more */
    TW_TRACKS_MAX = 32,          /* subjects, and what may become one */
    TW_LIGHTS_MAX = 3,           /* lights by which a place is remembered */
    TW_READING_BLOBS = 16,       /* blobs that a reading lists, largest first */
    TW_EVIDENCE_MIN = 20,        /* percent of what is usually asked for ... */
    TW_EVIDENCE_MAX = 500,       /* ... of a subject */
    TW_DATED_BACK_US = 3000000   /* a subject's beginning is dated back no further */
};

typedef struct tw_detector_config {
    size_t size;            /* of this struct; 0: see version.h */
    uint16_t width, height; /* of every frame, TW_DETECTOR_MIN_SIDE.._MAX_SIDE pixels */
    uint16_t difference;    /* luma levels, 1..255; 0 follows the measured noise */
    uint16_t noise_margin_pct; /* scales the noise that is expected, 10..1000; 100 */
    uint32_t smallest_ppm;     /* blobs below this share of the picture do not count */
    uint32_t largest_ppm;      /* nor those above; 1000000: no limit */
    uint32_t travel_ppm;   /* of the width that a subject must have gone; 0: no tracks */
    bool nearby;           /* ask the surroundings, too: leaves only change places, and
                              light changes over several cells; takes memory */
    int64_t memory_us;     /* time constant of the background, 1 s..1 h; 30 s */
    uint8_t cells;         /* across the picture, TW_CELLS_MIN.._MAX; 40. Fewer take less
                              memory, and small subjects are missed. A cell is 4 to 26
                              pixels wide, whatever is asked for */
    uint8_t tracks;        /* 1..TW_TRACKS_MAX, all of them; fewer take less memory */
    bool light_guard;      /* explain changes of brightness and contrast */
    bool sway_guard;       /* raise the limit where a cell is always restless */
    bool shake_guard;      /* explain shifts of less than a pixel */
    bool colour;           /* heed colour where pictures have it; takes memory */
    uint16_t evidence_pct; /* how much something must show of itself to be taken for a
                              subject, in distance, time and size, TW_EVIDENCE_MIN.._MAX;
                              0 is 100 */
    uint8_t lights;        /* 0..TW_LIGHTS_MAX, 3: how the place looks by so many other
                              lights is kept, for when they come back: by day, by
                              infrared, by a lamp. Each takes memory */
} tw_detector_config;

/* What a cell showed in the last frame; bits of tw_reading.cells. */
enum {
    TW_CELL_WATCHED = 1, /* inside the watched area */
    TW_CELL_MOVING = 2,  /* over its limit */
    TW_CELL_COUNTED = 4, /* moving, watched, and part of a blob that counts */
    TW_CELL_LIGHT = 8,   /* would have been moving without the light guard */
    TW_CELL_SWAY = 16,   /* would have been moving without the sway guard */
    TW_CELL_SIZE = 32,   /* moving, but its blob is too small or too large */
    TW_CELL_TRAVEL = 64, /* moving, but its blob has not travelled like a subject */
    TW_CELL_SHAKE = 128  /* would have been moving without the shake guard */
};

/* One connected group of moving cells. Millionths of the picture's width and height. */
typedef struct tw_blob {
    int32_t x_ppm, y_ppm; /* centre, weighted by how strongly each cell moves */
    int32_t left_ppm, top_ppm, right_ppm, bottom_ppm;
    uint32_t size_ppm;   /* share of the picture */
    uint32_t travel_ppm; /* how far it has gone so far, of the picture's width */
    uint16_t cells;
    bool counted; /* of allowed size, and a subject's unless travel is 0 */
} tw_blob;

/* What the detector says of one frame. All shares are of the watched area, in ppm. */
typedef struct tw_reading {
    size_t size;           /* of this struct; 0: see version.h */
    int64_t t_us;          /* the frame's capture time */
    uint32_t activity_ppm; /* moving, after everything shut out is taken off */
    uint32_t raw_ppm;      /* all moving cells, before the size limits */
    uint32_t light_ppm;    /* taken by the light guard */
    uint32_t sway_ppm;     /* taken by the sway guard */
    uint32_t shake_ppm;    /* taken by the shake guard */
    uint32_t size_ppm;     /* taken by smallest and largest */
    uint32_t travel_ppm;   /* in blobs that have not travelled like a subject */
    /* The same activity for each area: [0] what has no limits of its own, then the zones
     * that have, each as a share of itself. */
    uint32_t area_ppm[TW_AREAS_MAX];
    uint32_t ignored_ppm; /* moving outside the watched area, share of the picture */
    uint16_t subjects;    /* confirmed tracks, those unseen for less than a second too */
    int64_t since_us;     /* when the oldest of them was first seen, at most 3 s ago */
    int64_t
        earliest_us;    /* a subject that is confirmed later began no earlier than this */
    bool whole_picture; /* most of the picture turned at once: nothing can be said */
    uint16_t blob_count;  /* in blob[] */
    uint16_t blobs_found; /* in all */
    tw_blob blob[TW_READING_BLOBS];
    const uint8_t *cells; /* TW_CELL_ bits, the detector's, good until its next call */
    tw_grid grid;
    uint32_t colour_ppm; /* of what moves, by its colour alone */
    uint32_t unlike_ppm; /* of what moves, only as it is unlike all that is near */
} tw_reading;

typedef struct tw_detector tw_detector;

/** Fill in the values that suit an outdoor camera, for frames of this size. */
TW_API void tw_detector_defaults_sized(tw_detector_config *config, uint16_t width,
                                       uint16_t height, size_t size);

static inline void tw_detector_defaults(tw_detector_config *config, uint16_t width,
                                        uint16_t height)
{
    tw_detector_defaults_sized(config, width, height, sizeof *config);
}

/**
 * @param bytes  Set to the memory that a detector of this configuration needs.
 * @return TW_OK; TW_EINVAL: NULL pointer or a value out of range.
 */
TW_API tw_status tw_detector_bytes(const tw_detector_config *config, size_t *bytes);

/**
 * Make a detector in the caller's memory. It holds nothing else, so there is nothing to
 * release; the memory is simply given up. One thread at a time.
 *
 * @param memory  At least tw_detector_bytes, aligned as malloc does; outlives the
 * detector.
 * @param out     Set on TW_OK. Points into memory.
 * @return TW_OK; TW_EINVAL: NULL pointer, value out of range, misaligned memory;
 *         TW_ESIZE: memory too small.
 */
TW_API tw_status tw_detector_init(const tw_detector_config *config, void *memory,
                                  size_t bytes, tw_detector **out);

/**
 * Have other values hold from the next frame on. What has been learnt of the place, and
 * what is followed, stays.
 *
 * @param config  Its width, height, cells and tracks as they were.
 * @return TW_OK; TW_EINVAL: NULL pointer or a value out of range; TW_ESIZE: another size.
 *         The old values hold then.
 */
TW_API tw_status tw_detector_adjust(tw_detector *detector,
                                    const tw_detector_config *config);

/**
 * How bright the place is and how much its picture flickers, over all pixels of the
 * background. Reads all of it: for now and then, not for each frame.
 *
 * @param light_ppm  Set to the mean brightness, of the brightest possible.
 * @param noise      Set to the mean absolute difference of a still pixel, in sixteenths
 *                   of a luma level.
 */
TW_API void tw_detector_conditions(const tw_detector *detector, uint32_t *light_ppm,
                                   uint32_t *noise);

/**
 * How much of the picture has colour: a camera that has gone over to infrared gives
 * pictures in grey. Of the newest frame.
 *
 * @param coloured_ppm  Set to the share of its cells that have some.
 * @return TW_OK; TW_ENOENT: the frame came without chroma, or the detector does not heed
 *         it; TW_EINVAL: NULL pointer.
 */
TW_API tw_status tw_detector_coloured(const tw_detector *detector,
                                      uint32_t *coloured_ppm);

/** The light of the place is being switched, by a lamp that the caller knows of: for two
 * seconds nothing can be said of the picture, and the place is learned quickly. */
TW_API void tw_detector_light_switched(tw_detector *detector);

/** @return The grid of cells, for tw_zones_mark. */
TW_API tw_grid tw_detector_grid(const tw_detector *detector);

/**
 * Say which cells are watched; all are at the start.
 *
 * @param mask  columns * rows bytes as tw_zones_mark makes them: 0 ignored, 1 watched,
 *              2..TW_AREAS_MAX watched in an area of its own. Copied.
 * @return TW_OK; TW_EINVAL: NULL pointer, another value, or no cell watched.
 */
TW_API tw_status tw_detector_watch_cells(tw_detector *detector, const uint8_t *mask);

/**
 * Ask for more or less of a subject in one area than elsewhere.
 *
 * @param area  As tw_reading.area_ppm counts them: 0 what has no limits of its own.
 * @param pct   As tw_detector_config.evidence_pct; 0: as that says.
 * @return TW_OK; TW_EINVAL: NULL pointer, or a value out of range.
 */
TW_API tw_status tw_detector_area_evidence(tw_detector *detector, uint8_t area,
                                           uint16_t pct);

/**
 * Read one frame.
 *
 * @param luma    Of the configured size. Borrowed, read only.
 * @param chroma  Of the same frame, at any size; NULL: it has no colour. Borrowed, read
 *                only.
 * @param t_us  Capture time; rises from call to call. A step back, or of more than ten
 *              seconds, is taken for one tenth of a second.
 * @param out   Written on TW_OK.
 * @return TW_OK; TW_EINVAL: bad view or NULL pointer; TW_ESIZE: another frame size.
 */
TW_API tw_status tw_detector_read_sized(tw_detector *detector, const tw_luma *luma,
                                        const tw_chroma *chroma, int64_t t_us,
                                        tw_reading *out, size_t size);

static inline tw_status tw_detector_read_colour(tw_detector *detector,
                                                const tw_luma *luma,
                                                const tw_chroma *chroma, int64_t t_us,
                                                tw_reading *out)
{
    return tw_detector_read_sized(detector, luma, chroma, t_us, out, sizeof *out);
}

static inline tw_status tw_detector_read(tw_detector *detector, const tw_luma *luma,
                                         int64_t t_us, tw_reading *out)
{
    return tw_detector_read_sized(detector, luma, NULL, t_us, out, sizeof *out);
}

#ifdef __cplusplus
}
#endif

#endif
