/* How the commands say what happens, as text and as JSON. */
#ifndef TWI_CLI_OUTPUT_H
#define TWI_CLI_OUTPUT_H

#include <stdio.h>

#include "common.h"

/** @return "s" behind what there are count of, or "". */
const char *out_s(unsigned count);

/** "0.44 %"; from ppm. The buffer is the caller's. */
const char *out_percent(uint32_t ppm, char buffer[24]);

/** "3.1 MB" */
const char *out_bytes(uint64_t bytes, char buffer[24]);

/** Where frames of a camera went: "no frame lost", or "frames dropped by the driver: 3,
 * ..."; 160 bytes. @return out. */
const char *out_lost(uint64_t dropped, uint64_t damaged, uint64_t late, char out[160]);

/** Print a JSON object on a line of its own, and release it. */
void out_json(void *json);

/** The same, with the name of the footage it is of; NULL: none. */
void out_json_of(const char *file, void *json);

/** What was seen at a moment that was asked for. */
void out_json_moment(const char *file, double t_s, const char *why);

/** An event that was "missed", a sighting that is "false" or an "overrun"; what may be
 * NULL. */
void out_json_verdict(const char *verdict, const char *file, const twi_span *when,
                      const char *what);

/** @param late_us  Median of the start latency. */
void out_json_score(const twi_score *score, int64_t late_us);

/** A value of a CSV file, quoted if it has to be (RFC 4180). */
void out_csv_text(FILE *out, const char *text);

/** The end of a row. */
void out_csv_end(FILE *out);

/** Write a file, beside its place first, so that an old one is not lost to half a new
 * one.
 * @return CLI_DONE; CLI_FAILED, told. */
int out_file(const char *path, const uint8_t *data, size_t bytes);

/* A bar on standard error for long work; nothing if that is no terminal. */
typedef struct out_progress {
    const char *what;
    int64_t total_us;
    int shown; /* percent; -1: nothing yet */
} out_progress;

void out_progress_start(out_progress *progress, const char *what, int64_t total_us);
void out_progress_at(out_progress *progress, int64_t done_us);
void out_progress_clear(out_progress *progress);

#endif
