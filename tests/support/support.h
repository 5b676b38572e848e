/* What the tests share. Include this instead of cmocka.h. */
#ifndef TW_TEST_SUPPORT_H
#define TW_TEST_SUPPORT_H

#include <stdarg.h>
#include <stddef.h>
#include <setjmp.h>
#include <stdint.h>

#include <cmocka.h>
#include <stdio.h>

#include "../../src/core/backoff.h"
#include "../../src/core/best.h"
#include "../../src/core/brightness.h"
#include "../../src/core/caption.h"
#include "../../src/core/hours.h"
#include "../../src/core/interval.h"
#include "../../src/core/rate.h"
#include "../../src/core/recent.h"
#include "../../src/core/reply.h"
#include "../../src/core/score.h"
#include "../../src/core/split.h"
#include "../../src/core/timing.h"
#include "../../src/core/trace.h"
#include "../../src/core/tryout.h"
#include "../../src/core/tune.h"
#include "../../src/deliver/deliver.h"
#include "../../src/deliver/hooks.h"
#include "../../src/page/page.h"
#include "../../src/settings/draft.h"
#include "../../src/station/catalogue_write.h"
#include "../../src/station/outbox.h"
#include "../../src/station/plan.h"
#include "../../src/station/reel.h"
#include "tawny/tawny.h"

/* ---- files ------------------------------------------------------------------------- */

/** A new empty folder; remove it with remove_folder. @return its path, to be freed. */
char *make_folder(void);
void remove_folder(char *path); /* with all in it; frees path */

/** "folder/name", to be freed. */
char *join(const char *folder, const char *name);

/* Zeros, exactly so many; to be freed. The compiler is not told how many, else it would
 * say that a struct in them is cut short, which is what it is there for. */
void *make_block(size_t bytes);

/** Thirty pictures by an encoder of H.264, each tenth a key frame, as a device gives
 * them: start codes, and parameter sets in key frames alone. Caller frees it. */
uint8_t *encode_h264(size_t *bytes);
/** What a device says of such a stream: nothing of parameter sets. */
tw_stream h264_stream(void);
/** The next picture of it: the first if packet is zeroed, then the one behind it, a tenth
 * of a second later. @return false: there is none. */
bool next_h264(const uint8_t *data, size_t bytes, tw_packet *packet);

void write_bytes(const char *path, const void *data, size_t bytes);
void write_text(const char *path, const char *text);
/** Whole content, ended by 0; to be freed. */
char *read_file(const char *path, size_t *bytes);

/** Names of all files below a folder, but for the catalogue of a store; sorted, "/"
 * between parts. NULL-ended; free_list. */
char **list_files(const char *folder);
void free_list(char **list);
size_t list_length(char **list);
/** How many names of a list end so. */
size_t count_ending(char **list, const char *ending);

/* ---- programs ---------------------------------------------------------------------- */

typedef struct outcome {
    int code; /* exit code; 128 + signal */
    char *out, *err;
} outcome;

/** Have a shell run a line in a folder; the test fails unless it ends well.
 * @return what it printed; to be freed. */
char *run_shell(const char *folder, const char *line);

/** Run a program to its end. NULL ends the arguments. */
outcome run_program(const char *folder, const char *program, ...);
outcome run_arguments(const char *folder, char *const argv[]);
void free_outcome(outcome *o);

/** Fails unless a program, run there with its words as a shell reads them, ends so and
 * says so. @param input  What it reads, as printf has it. */
void check_command(const char *folder, const char *program, int code, const char *says,
                   const char *input, const char *words);

/** Lines of a text that contain something. */
size_t count_lines(const char *text, const char *with);

/* ---- footage ----------------------------------------------------------------------- */

extern const tw_camera_make_fn TEST_MAKERS[];

/** Open a camera from a source; fails the test if that is not possible. */
tw_camera open_camera(const char *source, uint32_t fps, tw_stream *stream);

/** Write numbered JPEG pictures of a source into a folder. @return how many. */
size_t write_pictures(const char *folder, const char *source, uint32_t fps, size_t most);

/** A small JPEG: grey, of one brightness. *bytes is set; to be freed. */
uint8_t *plain_jpeg(uint16_t width, uint16_t height, uint8_t level, size_t *bytes);

/* ---- problems ---------------------------------------------------------------------- */

/* Collects the lines that a tw_problem_fn is told. */
typedef struct problems {
    char text[8192];
    size_t count;
} problems;

void collect_problem(void *ctx, const char *line);

/** Settings of a text without mistakes, else it fails. The caller's. */
tw_settings *settings_of(const char *text);

/** Whether an event tells of a problem other than speed, which a busy machine does not
 *  hold: a rate of frames that is not kept, or is again, a queue that is full. */
bool is_fault(const tw_event *event);

/** Fails unless the text has the words in it; prints both. */
void assert_has(const char *text, const char *words);

/* What a station or a rehearsal has told, in numbers. */
typedef struct noted {
    size_t sightings, clips, stills, readings;
    problems problems;
} noted;

/* A tw_event_fn. @param ctx  A noted. */
void note_event(void *ctx, const tw_event *event);

/* "h264,240,136,57": codec, size, and how many frames of a video can be decoded. */
void describe_video(const char *folder, const char *name, char out[64]);

/* ---- a clock that runs faster -------------------------------------------------------
 */

enum { QUICK = 10 }; /* times as fast as the board's, from the board's time on */

/* Waits by it are as much shorter. */
tw_clock quick_clock(void);

/* Let so much of its time pass: nothing is to happen meanwhile. */
void let_pass(int64_t quick_us);

#endif
