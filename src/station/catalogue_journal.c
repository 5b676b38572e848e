/* What no file of a capture tells: a line of JSON for each sighting, beside the
 * catalogue, so that a catalogue that is lost can be made again as it was. Lines are
 * appended; of one sighting the last one holds. */
#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "catalogue_state.h"
#include "../core/naming.h"

enum { LINE_MOST = 8192, SIGHTINGS_MOST = 10000000 };

bool twi_catalogue_journal_name(const char *path, char *out, size_t capacity)
{
    const char *slash = path ? strrchr(path, '/') : NULL;
    const int n = slash ? snprintf(out, capacity, "%.*s/" TWI_JOURNAL_FILE,
                                   (int)(slash - path), path)
                        : 0;
    if (n > 0 && n < (int)capacity)
        return true;
    out[0] = '\0';
    return false;
}

/* In one write, so that two programs never mix their lines; one that a power cut tore off
 * is ended first. What cannot be written is in the catalogue all the same. */
static void append(const tw_catalogue *c, const char *line)
{
    char text[LINE_MOST + 2], last = '\n';
    const int fd =
        open(c->journal, O_RDWR | O_CREAT | O_APPEND | O_CLOEXEC | O_NOFOLLOW, 0666);
    if (fd < 0)
        return;
    const off_t end = lseek(fd, 0, SEEK_END);
    if (end > 0)
        (void)!pread(fd, &last, 1, end - 1);
    const int n = snprintf(text, sizeof text, "%s%s\n", last == '\n' ? "" : "\n", line);
    if (n > 0 && n < (int)sizeof text && write(fd, text, (size_t)n) == n)
        (void)fdatasync(fd);
    (void)close(fd);
}

/* The line that each row of a statement gives. */
static void append_rows(tw_catalogue *c, const char *sql, int64_t value)
{
    sqlite3_stmt *s = NULL;
    if (!c->journal[0] || twi_catalogue_prepare(c, sql, &s, NULL) != TW_OK)
        return;
    (void)sqlite3_bind_int64(s, 1, value);
    for (int i = 0; i < SIGHTINGS_MOST && sqlite3_step(s) == SQLITE_ROW; i++)
        append(c, twi_catalogue_text(s, 0));
    (void)sqlite3_finalize(s);
}

/* Of sightings. */
static void append_all(tw_catalogue *c, const char *where, int64_t value)
{
    static const char HEAD[] =
        "SELECT json_object('id', id, 'camera', camera, 'number', number, 'part', "
        "part, 'start_us', start_us, 'end_us', end_us, 'order_us', order_us, "
        "'peak_ppm', peak_ppm, 'frames', frames, 'start_ppm', start_ppm, 'stay_ppm', "
        "stay_ppm, 'why', why, 'unsure', unsure, 'starred', starred, 'mark', mark, "
        "'name', name, 'heads', heads, 'note', note, 'named_by', named_by, 'sure_ppm', "
        "sure_ppm, 'named_us', named_us) FROM sighting WHERE ";
    char sql[sizeof HEAD + 64];
    (void)snprintf(sql, sizeof sql, "%s%s", HEAD, where);
    append_rows(c, sql, value);
}

void twi_catalogue_journal_sighting(tw_catalogue *c, int64_t id)
{
    append_all(c, "id = ?", id);
}

void twi_catalogue_journal_run(tw_catalogue *c)
{
    append_all(c, "run = ? AND end_us > 0", c->run);
}

void twi_catalogue_journal_adopted(tw_catalogue *c)
{
    append_all(c, "run IS NULL AND ?1 = 0 ORDER BY id", 0);
    append_rows(c,
                "SELECT json_object('missed', id, 'camera', camera, 'at_us', at_us) FROM "
                "missed WHERE ?1 = 0",
                0);
}

static void append_removed(const tw_catalogue *c, const char *key, int64_t id)
{
    char line[64];
    (void)snprintf(line, sizeof line, "{\"%s\":%lld,\"removed\":1}", key, (long long)id);
    if (c->journal[0])
        append(c, line);
}

void twi_catalogue_journal_removed(tw_catalogue *c, int64_t id)
{
    append_removed(c, "id", id);
}

void twi_catalogue_journal_missed(tw_catalogue *c, int64_t id)
{
    append_rows(c,
                "SELECT json_object('missed', id, 'camera', camera, 'at_us', at_us) FROM "
                "missed WHERE id = ?",
                id);
}

void twi_catalogue_journal_not_missed(tw_catalogue *c, int64_t id)
{
    append_removed(c, "missed", id);
}

/* ---- reading it again ------------------------------------------------------------- */

/* A line that is none, or is damaged, tells nothing. */
static tw_status take_line(sqlite3_stmt *s, tw_catalogue *c, const char *line,
                           tw_error *err)
{
    (void)sqlite3_bind_text(s, 1, line, -1, SQLITE_STATIC);
    const int code = sqlite3_step(s);
    (void)sqlite3_reset(s);
    return code == SQLITE_DONE || code == SQLITE_CONSTRAINT
               ? TW_OK
               : twi_catalogue_fail(c, code, err);
}

/* What a line may do. */
enum { PUT, DROP, PUT_MISSED, DROP_MISSED, DEEDS };

static const char *const DEED[DEEDS] = {
    [PUT] =
        "INSERT OR REPLACE INTO sighting(id, camera, number, part, start_us, end_us, "
        "order_us, peak_ppm, frames, start_ppm, stay_ppm, why, unsure, starred, mark, "
        "name, heads, note, named_by, sure_ppm, named_us) "
        "SELECT ?1->>'id', ?1->>'camera', ?1->>'number', ?1->>'part', ?1->>'start_us', "
        "?1->>'end_us', ?1->>'order_us', ?1->>'peak_ppm', ?1->>'frames', "
        "?1->>'start_ppm', ?1->>'stay_ppm', ?1->>'why', ?1->>'unsure', ?1->>'starred', "
        "CASE WHEN ?1->>'mark' IN (1, 2) THEN ?1->>'mark' ELSE 0 END, " /* others: none */
        "coalesce(?1->>'name', ''), max(0, coalesce(?1->>'heads', 0)), "
        "coalesce(?1->>'note', ''), coalesce(?1->>'named_by', ''), "
        "coalesce(?1->>'sure_ppm', 0), coalesce(?1->>'named_us', 0) "
        "WHERE json_valid(?1) AND json_type(?1, '$.id') = 'integer' AND ?1->>'id' > 0 "
        "AND json_type(?1, '$.camera') = 'text'",
    [DROP] = "DELETE FROM sighting WHERE json_valid(?1) AND id = ?1->>'id'",
    [PUT_MISSED] =
        "INSERT OR REPLACE INTO missed(id, camera, at_us) SELECT ?1->>'missed', "
        "?1->>'camera', ?1->>'at_us' WHERE json_valid(?1) AND json_type(?1, '$.missed') "
        "= 'integer' AND json_type(?1, '$.camera') = 'text'",
    [DROP_MISSED] = "DELETE FROM missed WHERE json_valid(?1) AND id = ?1->>'missed'"};

/* Quotes inside of texts are written with a backslash, so these are keys. */
static int deed_of(const char *line)
{
    const bool missed = strstr(line, "\"missed\"") != NULL;
    if (strstr(line, "\"removed\""))
        return missed ? DROP_MISSED : DROP;
    return missed ? PUT_MISSED : PUT;
}

static tw_status take_lines(tw_catalogue *c, FILE *file, sqlite3_stmt *deeds[DEEDS],
                            tw_error *err)
{
    char line[LINE_MOST + 2];
    tw_status st = TW_OK;
    for (int i = 0; i < SIGHTINGS_MOST && st == TW_OK && fgets(line, sizeof line, file);
         i++) {
        char *end = strchr(line, '\n');
        if (!end) /* longer than any of ours, or torn off */
            continue;
        *end = '\0';
        st = take_line(deeds[deed_of(line)], c, line, err);
    }
    return st;
}

tw_status twi_catalogue_journal_read(tw_catalogue *c, tw_error *err)
{
    int64_t count = 0;
    sqlite3_stmt *deeds[DEEDS] = {NULL};
    tw_status st =
        twi_catalogue_ask(c, "SELECT count(*) FROM sighting", NULL, &count, err);
    FILE *file =
        st == TW_OK && count == 0 && c->journal[0] ? fopen(c->journal, "re") : NULL;
    if (!file)
        return st;
    st = twi_catalogue_begin_batch(c, err);
    for (int i = 0; i < DEEDS && st == TW_OK; i++)
        st = twi_catalogue_prepare(c, DEED[i], &deeds[i], err);
    if (st == TW_OK)
        st = take_lines(c, file, deeds, err);
    for (int i = 0; i < DEEDS; i++)
        (void)sqlite3_finalize(deeds[i]);
    const tw_status ended = twi_catalogue_end_batch(c, err);
    (void)fclose(file);
    return st == TW_OK ? ended : st;
}
