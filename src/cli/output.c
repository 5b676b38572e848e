/* How the commands say what happens. */
#include "output.h"

#include "../json/json.h"

#include <csv.h>
#include <inttypes.h>
#include <math.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

enum { BAR_CELLS = 30 };

const char *out_s(unsigned count)
{
    return count == 1 ? "" : "s";
}

const char *out_percent(uint32_t ppm, char buffer[24])
{
    (void)snprintf(buffer, 24, "%.2f %%", ppm / 1e4);
    return buffer;
}

const char *out_bytes(uint64_t bytes, char buffer[24])
{
    if (bytes >= 10000000000)
        (void)snprintf(buffer, 24, "%.1f GB", (double)bytes / 1e9);
    else if (bytes >= 1000000)
        (void)snprintf(buffer, 24, "%.1f MB", (double)bytes / 1e6);
    else
        (void)snprintf(buffer, 24, "%.0f kB", ceil((double)bytes / 1e3));
    return buffer;
}

/* ---- CSV ------------------------------------------------------------------------- */

void out_csv_text(FILE *out, const char *text)
{
    if (strpbrk(text, ",\"\r\n"))
        (void)csv_fwrite(out, text, strlen(text));
    else
        (void)fputs(text, out);
}

void out_csv_end(FILE *out)
{
    (void)fputs("\r\n", out);
}

/* ---- JSON ------------------------------------------------------------------------ */

const char *out_lost(uint64_t dropped, uint64_t damaged, uint64_t late, char out[160])
{
    (void)snprintf(out, 160, "no frame lost");
    if (dropped + damaged + late > 0)
        (void)snprintf(out, 160,
                       "frames dropped by the driver: %llu, damaged: %llu, too late for "
                       "the card: %llu",
                       (unsigned long long)dropped, (unsigned long long)damaged,
                       (unsigned long long)late);
    return out;
}

void out_json(void *json)
{
    char *text = twi_json_text(json);
    if (text)
        (void)puts(text);
    free(text);
}

static void set_file(json_t *object, const char *file)
{
    if (file)
        (void)json_object_set_new(object, "file", json_string(file));
}

void out_json_of(const char *file, void *json)
{
    set_file(json, file);
    out_json(json);
}

void out_json_moment(const char *file, double t_s, const char *why)
{
    out_json_of(file, json_pack("{ss sf ss}", "type", "moment", "t", t_s, "why", why));
}

void out_json_verdict(const char *verdict, const char *file, const twi_span *when,
                      const char *what)
{
    json_t *o = json_pack("{ss so so}", "type", verdict, "start",
                          twi_json_seconds(when->start_us), "end",
                          twi_json_seconds(when->end_us));
    if (what)
        (void)json_object_set_new(o, "what", json_string(what));
    out_json_of(file, o);
}

void out_json_score(const twi_score *s, int64_t late_us)
{
    out_json(json_pack("{ss si si si si so sf sf so so}", "type", "score", "events",
                       (int)s->events, "found", (int)s->found, "sightings",
                       (int)s->sightings, "false", (int)s->is_false, "recall",
                       twi_json_percent(twi_score_recall_ppm(s)), "false_per_hour",
                       (double)twi_score_false_per_1000h(s) / 1e3, "f1",
                       twi_score_f1_ppm(s) / 1e6, "latency", twi_json_seconds(late_us),
                       "covered", twi_json_percent(twi_score_cover_ppm(s))));
}

int out_file(const char *path, const uint8_t *data, size_t bytes)
{
    GError *error = NULL;
    if (g_file_set_contents(path, (const char *)data, (gssize)bytes, &error))
        return CLI_DONE;
    const int code = cli_say(CLI_FAILED, "%s", error->message);
    g_error_free(error);
    return code;
}

/* ---- progress -------------------------------------------------------------------- */

void out_progress_start(out_progress *p, const char *what, int64_t total_us)
{
    *p = (out_progress){what, isatty(STDERR_FILENO) ? total_us : 0, -1};
}

void out_progress_at(out_progress *p, int64_t done_us)
{
    if (p->total_us <= 0)
        return;
    const int64_t share = done_us * 100 / p->total_us;
    const int now = (int)(share > 100 ? 100 : share < 0 ? 0 : share);
    if (now == p->shown)
        return;
    p->shown = now;
    const int full = now * BAR_CELLS / 100;
    (void)fprintf(stderr, "\r%s [", p->what);
    for (int i = 0; i < BAR_CELLS; i++)
        (void)fputc(i < full ? '#' : '.', stderr);
    (void)fprintf(stderr, "] %3d %%", now);
    (void)fflush(stderr);
}

void out_progress_clear(out_progress *p)
{
    if (p->shown >= 0)
        (void)fprintf(stderr, "\r\033[K");
    p->shown = -1;
}
