/* Truth files: what really happens in footage. CSV with a header line:
 *
 *     file,start,end,what
 *     kerb.mp4,12.0,19.5,toad
 *     kerb.mp4,60.0,64.0,unclear
 *     rain.mp4,,,nothing
 *
 * Times in seconds from the first frame, or as minutes:seconds. A file in which nothing
 * happens has a line without times, so that it is known to be quiet and not forgotten.
 * `what` is free; `unclear` is neither right nor wrong to be seen. A path is matched as
 * it is given or by its last part. */
#ifndef TWI_CLI_TRUTH_H
#define TWI_CLI_TRUTH_H

#include <stdio.h>

#include "common.h"

typedef struct cli_truth cli_truth;

/* One line of a file: where and what. */
typedef struct cli_truth_line {
    char *file;
    twi_truth_event event;
    gboolean nothing; /* event says nothing: the file is quiet */
    char *what;
} cli_truth_line;

/** Read a truth file. @return TW_OK: *out is the caller's; else told. */
tw_status cli_truth_read(const char *path, cli_truth **out);
void cli_truth_free(cli_truth *truth); /* NULL is fine */

/**
 * What happens in one file of footage.
 *
 * @param events  Set to copies, g_free; NULL if there are none.
 * @param what    Set to their words, borrowed, in the same order; g_free the array.
 * @return TW_OK; TW_ENOENT: the file is not listed; told.
 */
tw_status cli_truth_of(const cli_truth *truth, const char *file, size_t *count,
                       twi_truth_event **events, const char ***what);

/** Write the header, and a line; what is NULL: the file is quiet. */
void cli_truth_begin(FILE *out);
void cli_truth_write(FILE *out, const char *file, const twi_span *when, const char *what);

/** "1:02.5" or "62.5" as microseconds. @return FALSE: not understood. */
gboolean cli_seconds(const char *text, int64_t *us);

#endif
