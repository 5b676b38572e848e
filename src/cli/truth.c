/* Truth files, by libcsv. */
#include "truth.h"

#include <csv.h>
#include <stdio.h>
#include <string.h>

#include "output.h"

enum { FIELDS = 4, LINES_MAX = 1000000, FILE_BYTES_MAX = 64 << 20 };

struct cli_truth {
    char *path;
    GArray *lines; /* of cli_truth_line */
};

/* A file that is being read. */
typedef struct reading {
    cli_truth *truth;
    char *field[FIELDS];
    int count; /* fields of this row so far */
    guint row; /* counted from 1 */
    gboolean failed;
} reading;

gboolean cli_seconds(const char *text, int64_t *us)
{
    double total = 0;
    const char *at = text;
    for (int part = 0; part < 3; part++) {
        char *end = NULL;
        if (!g_ascii_isdigit(*at) && *at != '.')
            return FALSE;
        const double value = g_ascii_strtod(at, &end);
        if (end == at || !(value >= 0) || value > 1e9)
            return FALSE;
        total = total * 60 + value;
        at = end;
        if (*at != ':')
            break;
        at++;
    }
    if (*at != '\0')
        return FALSE;
    *us = (int64_t)(total * 1e6 + 0.5);
    return TRUE;
}

static void fail(reading *r, const char *problem)
{
    (void)cli_say(CLI_USAGE, "%s:%u: %s", r->truth->path, r->row, problem);
    r->failed = TRUE;
}

static void on_field(void *data, size_t length, void *ctx)
{
    reading *r = ctx;
    if (r->count < FIELDS)
        r->field[r->count] = g_strstrip(g_strndup(data ? data : "", length));
    r->count++;
}

static void take_header(reading *r)
{
    static const char *const names[FIELDS] = {"file", "start", "end", "what"};
    for (int i = 0; i < FIELDS; i++) {
        if (i < r->count && strcmp(r->field[i], names[i]) == 0)
            continue;
        fail(r, "the first line must be file,start,end,what");
        return;
    }
}

static void take_line(reading *r)
{
    cli_truth_line line = {0};
    const gboolean quiet = r->field[1][0] == '\0' && r->field[2][0] == '\0';
    twi_span *when = &line.event.when;
    if (r->field[0][0] == '\0') {
        fail(r, "the file's name is missing");
    } else if (quiet) {
        line.nothing = TRUE;
    } else if (!cli_seconds(r->field[1], &when->start_us) ||
               !cli_seconds(r->field[2], &when->end_us)) {
        fail(r, "start and end must be seconds, such as 12.5 or 1:02.5");
    } else if (when->end_us < when->start_us) {
        fail(r, "the end is before the start");
    }
    if (r->failed)
        return;
    line.file = g_strdup(r->field[0]);
    line.what = g_strdup(r->field[3]);
    line.event.unclear = strcmp(line.what, "unclear") == 0;
    g_array_append_val(r->truth->lines, line);
}

static void on_row(int terminator, void *ctx)
{
    (void)terminator;
    reading *r = ctx;
    r->row++;
    if (!r->failed && r->count > 0) {
        if (r->count != FIELDS)
            fail(r, "a line has four fields: file,start,end,what");
        else if (r->row == 1)
            take_header(r);
        else
            take_line(r);
    }
    for (int i = 0; i < FIELDS; i++)
        g_clear_pointer(&r->field[i], g_free);
    r->count = 0;
}

static gboolean parse(reading *r, const char *text, size_t bytes)
{
    struct csv_parser parser;
    if (csv_init(&parser, CSV_APPEND_NULL) != 0)
        return FALSE;
    const size_t taken = csv_parse(&parser, text, bytes, on_field, on_row, r);
    const int end = csv_fini(&parser, on_field, on_row, r);
    if ((taken != bytes || end != 0) && !r->failed) {
        r->row++;
        fail(r, csv_strerror(csv_error(&parser)));
    }
    csv_free(&parser);
    return !r->failed;
}

tw_status cli_truth_read(const char *path, cli_truth **out)
{
    GError *error = NULL;
    g_autofree char *text = NULL;
    gsize bytes = 0;
    if (!g_file_get_contents(path, &text, &bytes, &error)) {
        (void)cli_say(CLI_USAGE, "%s", error->message);
        g_error_free(error);
        return TW_ESYNTAX;
    }
    cli_truth *truth = g_new0(cli_truth, 1);
    truth->path = g_strdup(path);
    truth->lines = g_array_new(FALSE, FALSE, sizeof(cli_truth_line));
    reading r = {.truth = truth};
    gboolean good = bytes <= FILE_BYTES_MAX && parse(&r, text, bytes);
    if (good && r.row == 0) {
        (void)cli_say(CLI_USAGE, "%s: the first line must be file,start,end,what", path);
        good = FALSE;
    }
    if (good)
        *out = truth;
    else
        cli_truth_free(truth);
    return good ? TW_OK : TW_ESYNTAX;
}

void cli_truth_free(cli_truth *truth)
{
    if (!truth)
        return;
    for (guint i = 0; i < truth->lines->len; i++) {
        cli_truth_line *line = &g_array_index(truth->lines, cli_truth_line, i);
        g_free(line->file);
        g_free(line->what);
    }
    (void)g_array_free(truth->lines, TRUE);
    g_free(truth->path);
    g_free(truth);
}

static gboolean is_of(const cli_truth_line *line, const char *file)
{
    g_autofree char *base = g_path_get_basename(file);
    return strcmp(line->file, file) == 0 || strcmp(line->file, base) == 0;
}

tw_status cli_truth_of(const cli_truth *truth, const char *file, size_t *count,
                       twi_truth_event **events, const char ***what)
{
    gboolean listed = FALSE;
    GArray *found = g_array_new(FALSE, FALSE, sizeof(twi_truth_event));
    GArray *words = g_array_new(FALSE, FALSE, sizeof(const char *));
    for (guint i = 0; i < truth->lines->len; i++) {
        const cli_truth_line *line = &g_array_index(truth->lines, cli_truth_line, i);
        if (!is_of(line, file))
            continue;
        listed = TRUE;
        if (line->nothing)
            continue;
        g_array_append_val(found, line->event);
        g_array_append_val(words, line->what);
    }
    *count = found->len;
    *events = (twi_truth_event *)(void *)g_array_free(found, FALSE);
    *what = (const char **)(void *)g_array_free(words, FALSE);
    if (listed)
        return TW_OK;
    (void)cli_say(
        CLI_USAGE,
        "%s is not in %s: add what happens in it, or, if nothing does, the line "
        "%s,,,nothing",
        file, truth->path, file);
    g_clear_pointer(events, g_free);
    g_clear_pointer(what, g_free);
    return TW_ENOENT;
}

void cli_truth_begin(FILE *out)
{
    (void)fputs("file,start,end,what", out);
    out_csv_end(out);
}

void cli_truth_write(FILE *out, const char *file, const twi_span *when, const char *what)
{
    out_csv_text(out, file);
    if (what) {
        (void)fprintf(out, ",%.2f,%.2f,", (double)when->start_us / 1e6,
                      (double)when->end_us / 1e6);
        out_csv_text(out, what);
    } else {
        (void)fputs(",,,nothing", out);
    }
    out_csv_end(out);
}
