/* Settings files as they would be. */
#include "draft.h"

#include <errno.h>
#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <unistd.h>

#include "../base/sync.h"
#include "edit.h"
#include "reader.h"
#include "state.h"
#include "texts.h"
#include "sections.h"
#include "tawny/settings.h"
#include "../base/system_error.h"

enum { PATH_BYTES = 4096, PROBLEMS_MAX = 500 };

/* Mistakes, without the places where they stand: lines move. */
typedef struct mistakes {
    char *all[PROBLEMS_MAX];
    size_t count;
} mistakes;

struct twi_draft {
    twi_texts texts; /* the first is the file itself */
    mistakes known;
    tw_settings *had; /* what the files said, as far as they are right */
};

/* ---- texts ------------------------------------------------------------------------ */

static bool differs(const twi_file_text *f)
{
    return f->before_bytes != f->now_bytes ||
           memcmp(f->before, f->now, f->now_bytes) != 0;
}

/* Takes text over. */
static void put(twi_file_text *f, char *text, size_t bytes)
{
    free(f->now);
    f->now = text;
    f->now_bytes = bytes;
}

/* ---- mistakes --------------------------------------------------------------------- */

/* "station.ini:14: ..." without its place. */
static const char *bare(const char *line)
{
    const char *colon = strstr(line, ": ");
    return colon ? colon + 2 : line;
}

static bool is_known(const mistakes *m, const char *line)
{
    for (size_t i = 0; i < m->count; i++)
        if (strcmp(m->all[i], bare(line)) == 0)
            return true;
    return false;
}

static void remember(void *ctx, const char *line)
{
    mistakes *m = ctx;
    char *copy = m->count < PROBLEMS_MAX ? strdup(bare(line)) : NULL;
    if (copy)
        m->all[m->count++] = copy;
}

/* ---- a draft ---------------------------------------------------------------------- */

/* What the texts say. @param out  Set unless TW_ENOMEM, whatever mistakes there are. */
static tw_status read_settings(twi_draft *d, const char *path, tw_problem_fn callback,
                               void *ctx, tw_settings **out)
{
    tw_settings *s = tw_settings_new();
    if (!s)
        return TW_ENOMEM;
    const tw_status st = twi_settings_read_texts(s, path, &d->texts, callback, ctx);
    const tw_status checked = tw_settings_check(s, callback, ctx);
    if (st == TW_ENOMEM || checked == TW_ENOMEM) {
        tw_settings_free(s);
        return TW_ENOMEM;
    }
    *out = s;
    return st == TW_OK ? checked : st;
}

/* What messages call the file itself. */
static tw_status call_it(twi_draft *d, const char *name, tw_error *err)
{
    char *copy = strdup(name);
    if (!copy)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    free(d->texts.all[0].shown);
    d->texts.all[0].shown = copy;
    return TW_OK;
}

static tw_status hand_out(twi_draft *d, tw_status st, twi_draft **out)
{
    d->texts.sealed = true; /* what a change would include is not even read */
    if (st == TW_OK)
        *out = d;
    else
        twi_draft_free(d);
    return st;
}

tw_status twi_draft_open(const char *path, twi_draft **out, tw_error *err)
{
    if (!path || !out)
        return tw_fail(err, TW_EINVAL, "no settings file");
    twi_draft *d = calloc(1, sizeof *d);
    if (!d)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = read_settings(d, path, remember, &d->known, &d->had);
    const char *slash = strrchr(path, '/');
    if (d->texts.count == 0)
        st = tw_fail(err, st == TW_OK ? TW_EIO : st, "%s: %s", path,
                     d->known.count > 0 ? d->known.all[0] : "it cannot be read");
    else if (st == TW_ENOMEM || st == TW_ESIZE)
        st = tw_fail(err, st, "%s: too many files, or too large ones", path);
    else /* mistakes that are there already are not ours */
        st = call_it(d, slash ? slash + 1 : path, err);
    return hand_out(d, st, out);
}

tw_status twi_draft_open_text(const char *name, const char *text, twi_draft **out,
                              tw_error *err)
{
    twi_draft *d = calloc(1, sizeof *d);
    if (!d)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    tw_status st = twi_texts_add(&d->texts, name, name, text, strlen(text));
    d->texts.sealed = true;
    if (st == TW_OK &&
        (st = read_settings(d, name, remember, &d->known, &d->had)) != TW_ENOMEM)
        st = TW_OK;
    if (st != TW_OK)
        (void)tw_fail(err, st, "%s: it is too large", name);
    return hand_out(d, st, out);
}

void twi_draft_free(twi_draft *d)
{
    if (!d)
        return;
    twi_texts_clear(&d->texts);
    tw_settings_free(d->had);
    for (size_t i = 0; i < d->known.count; i++)
        free(d->known.all[i]);
    free(d);
}

/* The file that a change belongs into. */
static twi_file_text *file_for(twi_draft *d, const twi_draft_change *c)
{
    for (int k = 0; k < 2; k++)
        for (size_t i = 0; i < d->texts.count; i++) {
            twi_file_text *f = &d->texts.all[i];
            if (twi_settings_has(f->now, f->now_bytes, c->head, c->name,
                                 k == 0 ? c->key : NULL))
                return f;
        }
    return &d->texts.all[0];
}

tw_status twi_draft_change_one(twi_draft *d, const twi_draft_change *c, tw_error *err)
{
    char *text = NULL;
    size_t bytes = 0;
    if (!d || !c || !c->head || !c->name || (c->key && strcmp(c->key, "include") == 0))
        return tw_fail(err, TW_EINVAL, "this cannot be changed here");
    twi_file_text *f = file_for(d, c);
    const tw_status st = twi_settings_edit(f->now, f->now_bytes, c->head, c->name, c->key,
                                           c->value, &text, &bytes);
    if (st == TW_OK)
        put(f, text, bytes);
    else if (st == TW_EINVAL)
        return tw_fail(err, st,
                       "[%.60s %.60s] %.60s: it does not fit on a line of its own, or "
                       "would be read as a comment",
                       c->head, c->name, c->key ? c->key : "");
    else if (st != TW_ENOENT)
        return tw_fail(err, st, "%s cannot be changed", f->shown);
    else
        return tw_fail(err, st, "[%.60s %.60s] %.60s is not set in a file", c->head,
                       c->name, c->key ? c->key : "");
    return st;
}

static void see_include(void *ctx, unsigned line, const char *key, const char *value)
{
    bool *found = ctx;
    (void)line;
    (void)value;
    *found = *found || strcmp(key, "include") == 0;
}

static void see_section(void *ctx, unsigned line, const char *head, const char *name)
{
    (void)ctx;
    (void)line;
    (void)head;
    (void)name;
}

static void see_problem(void *ctx, unsigned line, const char *what)
{
    (void)ctx;
    (void)line;
    (void)what;
}

tw_status twi_draft_replace(twi_draft *d, const char *text, size_t bytes, tw_error *err)
{
    bool includes = false;
    const twi_reader reader = {&includes, see_section, see_include, see_problem};
    if (!d || !text)
        return tw_fail(err, TW_EINVAL, "no text");
    if (bytes > TWI_FILE_MAX)
        return tw_fail(err, TW_ESIZE, "a settings file has at most 1 MB");
    twi_reader_run(&reader, text, bytes);
    if (includes)
        return tw_fail(err, TW_ESYNTAX,
                       "it includes other files: restore what was downloaded, which "
                       "has all in one");
    char *copy = twi_text_copy(text, bytes);
    if (!copy)
        return tw_fail(err, TW_ENOMEM, "out of memory");
    put(&d->texts.all[0], copy, bytes);
    return TW_OK;
}

/* Who gets mistakes that are new. */
typedef struct fresh {
    const mistakes *known;
    tw_problem_fn callback;
    void *ctx;
    unsigned count;
} fresh;

static void tell_fresh(void *ctx, const char *line)
{
    fresh *f = ctx;
    if (is_known(f->known, line))
        return;
    f->count++;
    if (f->callback)
        f->callback(f->ctx, line);
}

tw_status twi_draft_check(twi_draft *d, tw_problem_fn callback, void *ctx,
                          tw_settings **out)
{
    if (!d)
        return TW_EINVAL;
    fresh f = {.known = &d->known, .callback = callback, .ctx = ctx};
    tw_settings *s = NULL;
    tw_status st = read_settings(d, d->texts.all[0].path, tell_fresh, &f, &s);
    if (st != TW_ENOMEM)
        st = f.count > 0 ? TW_ESYNTAX : TW_OK;
    if (st == TW_OK && out)
        *out = s;
    else
        tw_settings_free(s);
    return st;
}

const tw_settings *twi_draft_had(const twi_draft *d)
{
    return d->had;
}

tw_status twi_draft_allow(const twi_draft *d, const tw_settings *made, tw_error *err)
{
    if (!d || !made)
        return tw_fail(err, TW_EINVAL, "no draft");
    return twi_settings_allow(d->had, made, err);
}

/* ---- what differs ----------------------------------------------------------------- */

/* The lines of a text. */
typedef struct lines {
    char *text;
    char **at;
    size_t count;
} lines;

static bool split(const char *text, size_t bytes, lines *out)
{
    size_t most = 1;
    for (size_t i = 0; i < bytes; i++)
        most += text[i] == '\n';
    *out =
        (lines){.text = twi_text_copy(text, bytes), .at = calloc(most, sizeof *out->at)};
    if (!out->text || !out->at)
        return false;
    for (char *s = out->text; *s;) {
        out->at[out->count++] = s;
        char *end = strchr(s, '\n');
        if (!end)
            break;
        *end = '\0';
        s = end + 1;
    }
    return true;
}

static void free_lines(lines *l)
{
    free(l->text);
    free(l->at);
}

/* How far two texts must be read on until they agree again: as little as possible in all.
 * Changes are small; where they are not, the rest differs. */
static void find_meeting(const lines *a, size_t i, const lines *b, size_t j,
                         size_t *ahead, size_t *behind)
{
    enum { AHEAD = 400 };
    const size_t left = a->count - i, right = b->count - j;
    for (size_t sum = 1; sum <= AHEAD; sum++) {
        for (size_t k = 0; k <= sum; k++) {
            const size_t x = k, y = sum - k;
            if (x < left && y < right && strcmp(a->at[i + x], b->at[j + y]) == 0) {
                *ahead = x;
                *behind = y;
                return;
            }
        }
    }
    *ahead = left;
    *behind = right;
}

typedef void (*line_fn)(void *ctx, const char *file, unsigned line, const char *before,
                        const char *after);

static void compare(const char *file, const lines *a, const lines *b, line_fn visit,
                    void *ctx)
{
    size_t i = 0, j = 0;
    while (i < a->count || j < b->count) {
        size_t x = 0, y = 0;
        if (i < a->count && j < b->count && strcmp(a->at[i], b->at[j]) == 0) {
            i++;
            j++;
            continue;
        }
        find_meeting(a, i, b, j, &x, &y);
        for (; x > 0 && y > 0; x--, y--, i++, j++)
            visit(ctx, file, (unsigned)i + 1, a->at[i], b->at[j]);
        for (; x > 0; x--, i++)
            visit(ctx, file, (unsigned)i + 1, a->at[i], NULL);
        for (; y > 0; y--, j++)
            visit(ctx, file, (unsigned)j + 1, NULL, b->at[j]);
    }
}

tw_status twi_draft_lines(const twi_draft *d, line_fn visit, void *ctx)
{
    if (!d || !visit)
        return TW_EINVAL;
    tw_status st = TW_OK;
    for (size_t i = 0; i < d->texts.count && st == TW_OK; i++) {
        const twi_file_text *f = &d->texts.all[i];
        lines before = {0}, now = {0};
        if (!differs(f))
            continue;
        if (split(f->before, f->before_bytes, &before) &&
            split(f->now, f->now_bytes, &now))
            compare(f->shown, &before, &now, visit, ctx);
        else
            st = TW_ENOMEM;
        free_lines(&before);
        free_lines(&now);
    }
    return st;
}

/* ---- all in one ------------------------------------------------------------------- */

/* A line that includes others is kept as a comment. */
static void append_file(FILE *out, const twi_file_text *f)
{
    for (size_t at = 0; at < f->now_bytes;) {
        const char *end = memchr(f->now + at, '\n', f->now_bytes - at);
        const size_t n = end ? (size_t)(end - f->now) - at : f->now_bytes - at;
        bool include = false;
        const twi_reader reader = {&include, see_section, see_include, see_problem};
        twi_reader_run(&reader, f->now + at, n);
        (void)fprintf(out, "%s%.*s\n", include ? "# " : "", (int)n, f->now + at);
        at += n + 1;
    }
}

char *twi_draft_whole(const twi_draft *d, size_t *bytes)
{
    char *text = NULL;
    FILE *out = d && bytes ? open_memstream(&text, bytes) : NULL;
    if (!out)
        return NULL;
    for (size_t i = 0; i < d->texts.count; i++) {
        if (i > 0)
            (void)fprintf(out, "\n# from %s\n", d->texts.all[i].shown);
        append_file(out, &d->texts.all[i]);
    }
    const bool failed = ferror(out) != 0;
    if (fclose(out) == 0 && !failed)
        return text;
    free(text);
    return NULL;
}

/* ---- writing ---------------------------------------------------------------------- */

static tw_status write_all(int fd, const char *text, size_t bytes)
{
    for (size_t at = 0; at < bytes;) {
        const ssize_t n = write(fd, text + at, bytes - at);
        if (n < 0 && errno != EINTR)
            return twi_status_of_errno(errno);
        at += n > 0 ? (size_t)n : 0;
    }
    return fsync(fd) == 0 ? TW_OK : twi_status_of_errno(errno);
}

/* A file beside its place first, with the rights that it had, so that one is there at any
 * moment. */
static tw_status write_file(const char *path, const char *text, size_t bytes,
                            const struct stat *like)
{
    char beside[PATH_BYTES + 16];
    (void)snprintf(beside, sizeof beside, "%s.XXXXXX", path);
    const int fd = mkostemp(beside, O_CLOEXEC);
    if (fd < 0)
        return twi_status_of_errno(errno);
    tw_status st = fchmod(fd, like->st_mode & 07777) == 0 ? TW_OK : TW_EACCES;
    if (like->st_uid != geteuid()) /* as root: it stays the user's */
        (void)!fchown(fd, like->st_uid, like->st_gid);
    if (st == TW_OK)
        st = write_all(fd, text, bytes);
    (void)close(fd);
    if (st == TW_OK && rename(beside, path) != 0)
        st = twi_status_of_errno(errno);
    if (st != TW_OK)
        (void)unlink(beside);
    else
        /* Some file systems cannot, and need not. */
        (void)twi_sync_named(AT_FDCWD, path);
    return st;
}

static tw_status write_text(twi_file_text *f, tw_error *err)
{
    char previous[PATH_BYTES + 8];
    struct stat like;
    char *path = realpath(f->path, NULL); /* a link stays one */
    if (!path || stat(path, &like) != 0) {
        free(path);
        return tw_fail(err, twi_status_of_errno(errno), "%s: %s", f->path,
                       strerror(errno));
    }
    (void)snprintf(previous, sizeof previous, "%s.old", path);
    tw_status st = write_file(previous, f->before, f->before_bytes, &like);
    if (st == TW_OK)
        st = write_file(path, f->now, f->now_bytes, &like);
    free(path);
    if (st != TW_OK)
        return tw_fail(err, st, "%s cannot be written: %s", f->path, tw_status_text(st));
    char *now = twi_text_copy(f->now, f->now_bytes);
    if (now) { /* it does not differ any more */
        free(f->before);
        f->before = now;
        f->before_bytes = f->now_bytes;
    }
    return TW_OK;
}

tw_status twi_draft_write(twi_draft *d, tw_error *err)
{
    if (!d)
        return tw_fail(err, TW_EINVAL, "no draft");
    tw_status st = TW_OK;
    for (size_t i = 0; i < d->texts.count && st == TW_OK; i++)
        if (differs(&d->texts.all[i]))
            st = write_text(&d->texts.all[i], err);
    return st;
}
