/* Settings learnt from what sightings of the store were marked as. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "store.h"
#include "tune.h"
#include "../core/naming.h"
#include "../station/footage.h"
#include "../station/why.h"
#include "tawny/draw.h"

enum {
    RIGHT_LEAST = 3, /* marks: fewer say nothing */
    WRONG_LEAST = 2,
    RIGHT_WORTH = 1000, /* false sightings that one that was right is worth */
    NEAR_US = 3000000,  /* of the time at which something was missed */
    APART_US = 1000000, /* the quiet beginning ends so long before */
    QUIET_LEAST_US = 1000000,
    QUIET_MOST_US = 4000000
};

typedef enum mark_kind { RIGHT, NOTHING, MISSED, KINDS } mark_kind;

/* What was marked, and whether the detector sees it. */
typedef struct marked {
    mark_kind kind;
    int64_t id;                /* of the sighting, or of what was missed */
    int64_t from_us, until_us; /* on the wall */
    int64_t file_us;           /* first frame of its footage, on the wall */
    gboolean usable;           /* its footage is there */
    gboolean now, then;        /* seen with the settings as they are, as proposed */
    twi_marked seen;
} marked;

typedef struct learning {
    const tune_asked *asked;
    twi_camera_settings camera; /* as its footage lies in the store */
    tw_clock clock;
    char *store;
    tw_catalogue *catalogue;
    tune_engine engine;
    GArray *marks;         /* of marked; the first so many have a piece each, in order */
    guint gone, captioned; /* marks without footage; with none but captioned copies */
    tune_search *search;
} learning;

static marked *mark_at(const learning *l, guint i)
{
    return &g_array_index(l->marks, marked, i);
}

static tune_piece *piece_at(const learning *l, guint i)
{
    return &g_array_index(l->engine.pieces, tune_piece, i);
}

/* ---- what was marked ----------------------------------------------------------------
 */

static bool take_sighting(void *ctx, const tw_sighting_record *r)
{
    learning *l = ctx;
    const marked m = {.kind = r->mark == TW_MARK_RIGHT ? RIGHT : NOTHING,
                      .id = r->id,
                      .from_us = r->start_us,
                      .until_us = MAX(r->end_us, r->start_us)};
    g_array_append_val(l->marks, m);
    return l->marks->len < TWI_SUGGEST_MARKED;
}

static bool take_missed(void *ctx, const tw_missed_record *r)
{
    learning *l = ctx;
    const marked m = {.kind = MISSED,
                      .id = r->id,
                      .from_us = r->at_us - NEAR_US,
                      .until_us = r->at_us + NEAR_US};
    g_array_append_val(l->marks, m);
    return l->marks->len < TWI_SUGGEST_MARKED;
}

static int collect_marks(learning *l)
{
    tw_sighting_filter filter = {.camera = l->camera.name, .marked = true};
    tw_error err = {0};
    const int code =
        store_day(&l->clock, l->asked->day, &filter.from_us, &filter.until_us);
    if (code != CLI_DONE)
        return code;
    tw_status st = tw_catalogue_sightings(l->catalogue, &filter, take_sighting, l, &err);
    if (st == TW_OK)
        st = tw_catalogue_missed(l->catalogue, l->camera.name, filter.from_us,
                                 filter.until_us, take_missed, l, &err);
    return st == TW_OK ? CLI_DONE : cli_say(CLI_FAILED, "%s", err.text);
}

/* ---- their footage ------------------------------------------------------------------
 */

/* The clip of a sighting. */
typedef struct finding {
    char *file;
    int64_t start_us;
    gboolean captioned;
} finding;

static bool take_clip(void *ctx, const tw_capture_record *c)
{
    finding *f = ctx;
    f->captioned = f->captioned || strcmp(c->kind, "captioned-clip") == 0;
    if (strcmp(c->kind, "clip") != 0 || f->file)
        return true;
    f->file = g_strdup(c->file);
    f->start_us = c->start_us;
    return true;
}

static int find_footage(learning *l, marked *m)
{
    finding f = {0};
    tw_error err = {0};
    const tw_status st =
        m->kind == MISSED
            ? store_recording(l->catalogue, l->camera.name, m->from_us, &f.file,
                              &f.start_us, &err)
            : tw_catalogue_captures(l->catalogue, m->id, take_clip, &f, &err);
    if (st != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    l->captioned += !f.file && f.captioned;
    l->gone += !f.file && !f.captioned;
    if (!f.file)
        return CLI_DONE;
    g_autofree char *path = g_build_filename(l->store, f.file, NULL);
    m->file_us = f.start_us;
    m->usable = TRUE;
    const int64_t quiet_us = MIN(m->from_us - m->file_us - APART_US, QUIET_MOST_US);
    tune_piece *p = tune_add_piece(&l->engine, path);
    p->quiet_us = quiet_us >= QUIET_LEAST_US ? quiet_us : 0;
    g_free(f.file);
    return CLI_DONE;
}

/* One piece of footage for each mark that has some; the others go. */
static int find_all_footage(learning *l)
{
    int code = CLI_DONE;
    guint kept = 0;
    for (guint i = 0; i < l->marks->len && code == CLI_DONE; i++) {
        code = find_footage(l, mark_at(l, i));
        if (mark_at(l, i)->usable)
            *mark_at(l, kept++) = *mark_at(l, i);
    }
    g_array_set_size(l->marks, kept);
    return code;
}

/* ---- the first reading ---------------------------------------------------------------
 */

static void widen(twi_marked *seen, const tw_blob *b)
{
    const twi_box *o = &seen->box;
    if (b->size_ppm < seen->size_ppm / 2)
        return; /* a speck beside it */
    seen->box =
        b->size_ppm / 2 > seen->size_ppm /* there were specks alone so far */
            ? (twi_box){b->left_ppm, b->top_ppm, b->right_ppm, b->bottom_ppm}
            : (twi_box){MIN(o->left_ppm, b->left_ppm), MIN(o->top_ppm, b->top_ppm),
                        MAX(o->right_ppm, b->right_ppm),
                        MAX(o->bottom_ppm, b->bottom_ppm)};
    seen->size_ppm = MAX(seen->size_ppm, b->size_ppm);
}

/* Where it was and how large, with the settings as they are. */
static void look_at(void *ctx, tune_piece *piece, const tw_event *e)
{
    learning *l = ctx;
    const guint i = (guint)(piece - (tune_piece *)(void *)l->engine.pieces->data);
    marked *m = mark_at(l, i);
    const int64_t at_us = m->file_us + e->reading->t_us - piece->footage.zero_us;
    if (!e->sighting || at_us < m->from_us || at_us > m->until_us)
        return;
    for (uint16_t b = 0; b < e->reading->blob_count; b++)
        if (e->reading->blob[b].counted)
            widen(&m->seen, &e->reading->blob[b]);
}

static void add_event(cli_footage *f, int64_t from_us, int64_t until_us, bool unclear)
{
    if (until_us < from_us)
        return;
    f->what[f->event_count] = "marked";
    f->events[f->event_count++] =
        (twi_truth_event){.when = {from_us, until_us}, .unclear = unclear};
}

/* What is known of a piece: what lies around that which was right or missed was not
 * marked, and counts for nothing. */
static void place_event(learning *l, guint i)
{
    marked *m = mark_at(l, i);
    cli_footage *f = &piece_at(l, i)->footage;
    const int64_t end_us = f->length_us;
    const int64_t from_us = CLAMP(m->from_us - m->file_us, 0, end_us),
                  until_us = CLAMP(m->until_us - m->file_us, 0, end_us);
    f->events = g_new0(twi_truth_event, 3);
    f->what = g_new0(const char *, 3);
    m->usable = !piece_at(l, i)->unreadable &&
                (m->kind != MISSED || m->from_us + NEAR_US <= m->file_us + end_us);
    if (!m->usable)
        add_event(f, 0, end_us, true);
    if (!m->usable || m->kind == NOTHING)
        return;
    add_event(f, from_us, until_us, false);
    add_event(f, 0, from_us - 1, true);
    add_event(f, until_us + 1, end_us, true);
}

static void note_marks(learning *l)
{
    for (guint i = 0; i < l->marks->len; i++) {
        marked *m = mark_at(l, i);
        twi_civil t;
        twi_civil_split(m->from_us, l->clock.ops->offset_s(l->clock.ctx, m->from_us), &t);
        m->seen.right = m->kind == RIGHT;
        m->seen.minute = (uint16_t)(t.hour * 60 + t.minute);
        place_event(l, i);
        l->gone += !m->usable;
    }
}

static guint count(const learning *l, mark_kind kind)
{
    guint n = 0;
    for (guint i = 0; i < l->marks->len; i++)
        n += mark_at(l, i)->kind == kind && mark_at(l, i)->usable;
    return n;
}

/* ---- what is tried -------------------------------------------------------------------
 */

static void add_variant(GArray *variants, tune_variant v)
{
    v.travel_pct = v.travel_pct ? v.travel_pct : 100;
    v.margin_pct = v.margin_pct ? v.margin_pct : 100;
    g_array_append_val(variants, v);
}

/* Places and sizes first: they take away least of what is not known. */
static void make_variants(learning *l)
{
    GArray *variants = g_array_new(FALSE, TRUE, sizeof(tune_variant));
    twi_marked *seen = g_new0(twi_marked, l->marks->len + 1);
    size_t n = 0;
    for (guint i = 0; i < l->marks->len; i++)
        if (mark_at(l, i)->kind != MISSED)
            seen[n++] = mark_at(l, i)->seen;
    twi_box areas[TWI_SUGGEST_AREAS];
    const size_t area_count = twi_suggest_areas(seen, n, areas);
    const uint32_t smallest = twi_suggest_smallest(seen, n),
                   largest = twi_suggest_largest(seen, n);
    add_variant(variants, (tune_variant){0});
    for (size_t i = 0; i < area_count; i++) {
        tune_variant v = {0};
        tune_shut_out(&v, &l->camera, &areas[i]);
        add_variant(variants, v);
    }
    if (smallest > 0)
        add_variant(variants, (tune_variant){.smallest_ppm = smallest});
    if (largest > 0)
        add_variant(variants, (tune_variant){.largest_ppm = largest});
    if (area_count > 0 && smallest > 0) {
        tune_variant v = {.smallest_ppm = smallest};
        tune_shut_out(&v, &l->camera, &areas[0]);
        add_variant(variants, v);
    }
    static const tune_variant others[] = {{.evidence_pct = 160}, {.evidence_pct = 250},
                                          {.evidence_pct = 70},  {.evidence_pct = 45},
                                          {.travel_pct = 110},   {.travel_pct = 160},
                                          {.travel_pct = 250},   {.margin_pct = 150},
                                          {.margin_pct = 70},    {.travel_pct = 60}};
    for (size_t i = 0; i < G_N_ELEMENTS(others); i++)
        add_variant(variants, others[i]);
    g_free(seen);
    l->search->own_variants = variants->len;
    l->search->variants = (tune_variant *)(void *)g_array_free(variants, FALSE);
}

static gboolean any_false(const cli_footage *f)
{
    for (guint i = 0; i < f->sightings->len; i++)
        if (f->judged[i].is_false)
            return TRUE;
    return FALSE;
}

/* Which marks are seen with a limit, of what was read last. */
static void hold_marks(learning *l, uint32_t start_ppm, gboolean proposed)
{
    const tw_sighting_config config = tune_limits(&l->camera, start_ppm);
    twi_score unused = {0};
    for (guint i = 0; i < l->marks->len; i++) {
        marked *m = mark_at(l, i);
        cli_footage *f = &piece_at(l, i)->footage;
        cli_footage_replay(f, &config);
        cli_footage_judge(f, &unused);
        const gboolean seen =
            m->kind == NOTHING ? any_false(f) : f->event_count > 0 && f->events[0].found;
        *(proposed ? &m->then : &m->now) = seen;
    }
}

static int search_marked(learning *l)
{
    tune_search *s = l->search;
    tune_variant first = {.travel_pct = 100, .margin_pct = 100};
    s->variants = &first;
    l->engine.look = look_at;
    int code = tune_read(&l->engine, s, 0);
    l->engine.look = NULL;
    s->variants = NULL;
    if (code != CLI_DONE)
        return code;
    note_marks(l);
    if (count(l, RIGHT) < RIGHT_LEAST ||
        count(l, NOTHING) + count(l, MISSED) < WRONG_LEAST)
        return cli_say(
            CLI_FAILED,
            "too few marks with footage to learn from: %u right, %u nothing, %u missed; "
            "mark at least %d that were right, and %d that were nothing or missed",
            count(l, RIGHT), count(l, NOTHING), count(l, MISSED), RIGHT_LEAST,
            WRONG_LEAST);
    make_variants(l);
    hold_marks(l, (uint32_t)l->camera.start_ppm, FALSE);
    tune_try(&l->engine, s, 0);
    for (gsize v = 1; v < s->own_variants && code == CLI_DONE; v++) {
        code = tune_read(&l->engine, s, (uint16_t)v);
        if (code == CLI_DONE)
            tune_try(&l->engine, s, (uint16_t)v);
    }
    if (code != CLI_DONE)
        return code;
    tune_choose(s);
    code = tune_read(&l->engine, s, s->chosen->variant);
    if (code == CLI_DONE)
        hold_marks(l, s->chosen->start_ppm, TRUE);
    return code;
}

/* ---- what is said --------------------------------------------------------------------
 */

static guint seen_of(const learning *l, mark_kind kind, gboolean then)
{
    guint n = 0;
    for (guint i = 0; i < l->marks->len; i++) {
        const marked *m = mark_at(l, i);
        n += m->kind == kind && m->usable && (then ? m->then : m->now);
    }
    return n;
}

static void print_counts(const learning *l, const char *when, gboolean then)
{
    (void)printf("  %-9s %u of %u that were right are seen, %u of %u that were nothing",
                 when, seen_of(l, RIGHT, then), count(l, RIGHT),
                 seen_of(l, NOTHING, then), count(l, NOTHING));
    if (count(l, MISSED) > 0)
        (void)printf(", %u of %u that were missed", seen_of(l, MISSED, then),
                     count(l, MISSED));
    (void)printf("\n");
}

/* Those of a kind that the proposal changes, by their numbers. */
static void print_changed(const learning *l, mark_kind kind, gboolean to,
                          const char *words)
{
    GArray *ids = g_array_new(FALSE, FALSE, sizeof(gint64));
    for (guint i = 0; i < l->marks->len; i++) {
        const marked *m = mark_at(l, i);
        if (m->kind == kind && m->usable && m->now != m->then && m->then == to)
            g_array_append_val(ids, m->id);
    }
    g_array_sort(ids, cli_by_number);
    for (guint i = 0; i < ids->len; i++)
        (void)printf(i == 0 ? "  %s: %lld" : "%s %lld", i == 0 ? words : "",
                     (long long)g_array_index(ids, gint64, i));
    if (ids->len > 0)
        (void)printf("\n");
    (void)g_array_free(ids, TRUE);
}

/* Of n that all were so, this share may be otherwise, with 95 % certainty. */
static double at_most(guint n)
{
    return n > 0 ? 1 - pow(0.05, 1.0 / n) : 1;
}

static void print_certainty(const learning *l)
{
    const guint right = count(l, RIGHT), lost = right - seen_of(l, RIGHT, TRUE);
    (void)printf("How sure: ");
    if (lost > 0)
        (void)printf("%u of %u that were right would be LOST.\n", lost, right);
    else
        (void)printf("none of %u that were right is lost, so of others like them at most "
                     "%.0f %% would\n"
                     "be (95 %% certainty).%s\n",
                     right, 100 * at_most(right),
                     right < 20 ? " More marks would say more." : "");
    const guint again = seen_of(l, NOTHING, FALSE), nothing = count(l, NOTHING);
    if (again < nothing)
        (void)printf("%u that %s nothing %s not seen again in %s footage with the "
                     "settings as they are.\n",
                     nothing - again, nothing - again == 1 ? "was" : "were",
                     nothing - again == 1 ? "is" : "are",
                     nothing - again == 1 ? "its" : "their");
    if (l->gone > 0)
        (void)printf("%u marked %s no footage any more: star what is to stay.\n", l->gone,
                     l->gone == 1 ? "has" : "have");
    if (l->captioned > 0)
        (void)printf("%u %s captioned copies alone, which cannot be used: see "
                     "caption_clean.\n",
                     l->captioned, l->captioned == 1 ? "has" : "have");
}

static void print_hours(const learning *l)
{
    twi_marked *seen = g_new0(twi_marked, l->marks->len + 1);
    size_t n = 0;
    uint16_t from = 0, until = 0;
    for (guint i = 0; i < l->marks->len; i++) {
        const marked *m = mark_at(l, i);
        if (m->kind == RIGHT || (m->kind == NOTHING && m->then))
            seen[n++] = m->seen;
    }
    const size_t within = twi_suggest_hours(seen, n, &from, &until);
    g_free(seen);
    if (within == 0 || strcmp(l->camera.hours, "always") != 0)
        return;
    (void)printf("Or by the clock: %zu of those that are left lay between %02u:%02u and "
                 "%02u:%02u, and none that\n"
                 "was right. This would shut out whatever comes then:\n\n"
                 "    hours = %02u:%02u-%02u:%02u\n\n",
                 within, from / 60, from % 60, until / 60, until % 60, until / 60,
                 until % 60, from / 60, from % 60);
}

/* Stretches of the trace over a limit. */
typedef struct over_trace {
    twi_tryout now, then;
    gboolean good;
    int64_t first_us, last_us;
} over_trace;

static bool try_second(void *ctx, const tw_trace_point *point)
{
    over_trace *o = ctx;
    const tw_reading reading = {.t_us = point->t_us, .activity_ppm = point->max_ppm};
    o->first_us = o->first_us ? o->first_us : point->t_us;
    o->last_us = point->t_us;
    (void)twi_tryout_step(&o->now, &reading);
    (void)twi_tryout_step(&o->then, &reading);
    return true;
}

/* What another limit would have made of all the nights that the trace has. */
static void print_trace(const learning *l)
{
    over_trace o = {0};
    tw_sighting_config config = twi_sighting_config_of(&l->camera);
    const uint32_t start = l->search->chosen->start_ppm;
    config.own_count = 0; /* a trace does not say in which zone it was */
    if (start == config.start_ppm || twi_tryout_begin(&o.now, &config, true) != TW_OK)
        return;
    config = tune_limits(&l->camera, start);
    config.own_count = 0;
    if (twi_tryout_begin(&o.then, &config, true) != TW_OK ||
        tw_catalogue_trace(l->catalogue, l->camera.name, 0, 0, try_second, &o, NULL) !=
            TW_OK ||
        o.last_us == 0)
        return;
    (void)twi_tryout_end(&o.now);
    (void)twi_tryout_end(&o.then);
    (void)printf(
        "By the trace of %.1f days: %u stretches reach %.3g %%, %u reach %.3g %%.\n",
        (double)(o.last_us - o.first_us) / 8.64e10, o.now.sightings,
        (double)l->camera.start_ppm / 1e4, o.then.sightings, start / 1e4);
}

static void print_proposal(const learning *l)
{
    tune_change c[TUNE_CHANGES_MAX];
    const int n = tune_changes(l->search, c);
    g_autofree char *zone = tune_zone_section(l->search);
    gboolean in_zone = FALSE;
    (void)printf("Proposed:\n\n    [camera %s]\n", l->camera.name);
    for (int i = 0; i < n; i++) {
        const gboolean of_zone = strcmp(c[i].section, "zone") == 0;
        if (of_zone && !in_zone)
            (void)printf("    [zone %s]\n", zone);
        in_zone = of_zone;
        (void)printf("    %s = %s", c[i].key, c[i].value);
        (void)printf(c[i].was[0] ? "   # instead of %s\n" : "\n", c[i].was);
    }
    (void)printf("\n");
}

static void print_all(const learning *l)
{
    tune_change c[TUNE_CHANGES_MAX];
    const tune_search *s = l->search;
    (void)printf("%s: %u pieces of footage, %.1f s; %u settings tried.\n", s->title,
                 l->marks->len, (double)s->length_us / 1e6, s->trials->len);
    print_counts(l, "now", FALSE);
    if (tune_changes(s, c) == 0) {
        (void)printf("Nothing to change: nothing that was tried does better.\n");
    } else {
        print_counts(l, "proposed", TRUE);
        print_proposal(l);
        print_changed(l, NOTHING, FALSE, "nothing, gone with it");
        print_changed(l, NOTHING, TRUE, "nothing, and NEW with it");
        print_changed(l, MISSED, TRUE, "missed, seen with it");
        print_changed(l, RIGHT, TRUE, "right, seen again with it");
        print_changed(l, RIGHT, FALSE, "right, and LOST with it");
    }
    print_hours(l);
    print_certainty(l);
    print_trace(l);
}

static const char *const KIND_NAMES[KINDS] = {
    [RIGHT] = "right", [NOTHING] = "nothing", [MISSED] = "missed"};

static void print_json(const learning *l)
{
    for (guint i = 0; i < l->marks->len; i++) {
        const marked *m = mark_at(l, i);
        if (m->usable)
            (void)printf("{\"type\":\"mark\",\"number\":%lld,\"mark\":\"%s\",\"now\":%s,"
                         "\"proposed\":%s}\n",
                         (long long)m->id, KIND_NAMES[m->kind], m->now ? "true" : "false",
                         m->then ? "true" : "false");
    }
    tune_print_json(l->search);
}

/* ---- the picture ---------------------------------------------------------------------
 */

/* The zone over a frame of what it shuts out. */
static int draw_zone(const learning *l)
{
    const char *path = l->asked->draw;
    twi_camera_settings with;
    tw_error err = {0};
    tw_reading unused;
    uint8_t *data = NULL;
    size_t bytes = 0;
    guint i = 0;
    if (!l->search->variants[l->search->chosen->variant].shuts_out)
        return cli_say(CLI_DONE, "no zone is proposed, so that nothing is drawn");
    while (i + 1 < l->marks->len && !(mark_at(l, i)->kind == NOTHING &&
                                      mark_at(l, i)->now && !mark_at(l, i)->then))
        i++;
    const marked *m = mark_at(l, i);
    const tw_platform platform = cli_platform();
    const tw_look_options options = {.after_us = MAX(m->from_us - m->file_us, 0),
                                     .overlay = true,
                                     .png = g_str_has_suffix(path, ".png")};
    tune_apply(&l->camera, &l->search->variants[l->search->chosen->variant], &with);
    with.source = piece_at(l, i)->source;
    if (twi_look(&platform, &with, &options, &data, &bytes, &unused, &err) != TW_OK)
        return cli_say(CLI_FAILED, "%s", err.text);
    const int code = out_file(path, data, bytes);
    free(data);
    return code;
}

/* ---- all of it -----------------------------------------------------------------------
 */

static int learn(learning *l)
{
    int code = store_find(l->asked->common, &l->store);
    if (code == CLI_DONE)
        code = store_open(l->store, &l->catalogue);
    if (code == CLI_DONE)
        code = collect_marks(l);
    if (code == CLI_DONE && l->marks->len == 0)
        code = cli_say(CLI_FAILED,
                       "no sighting of %s is marked yet: say what they were with %s "
                       "sightings --mark right 12, or --mark nothing 13",
                       l->camera.name, cli_tool());
    if (code == CLI_DONE)
        code = find_all_footage(l);
    if (code == CLI_DONE)
        code = search_marked(l);
    if (code != CLI_DONE)
        return code;
    if (l->asked->common->json)
        print_json(l);
    else
        print_all(l);
    return l->asked->draw ? draw_zone(l) : CLI_DONE;
}

int tune_marked(const tune_asked *asked, tune_search *search)
{
    learning l = {.asked = asked,
                  .camera = *asked->camera,
                  .clock = tw_linux_clock(),
                  .store = g_strdup(asked->store),
                  .marks = g_array_new(FALSE, TRUE, sizeof(marked)),
                  .search = search};
    store_fit(&l.camera);
    l.camera.settle_us = 0; /* or most of the pre-event time would not be looked at */
    search->camera = &l.camera;
    search->worth = (uint32_t)(asked->worth > 0 ? asked->worth : RIGHT_WORTH);
    tune_init(&l.engine);
    l.engine.ctx = &l;
    l.engine.lenient = TRUE;
    l.engine.stop = asked->stop;
    const int code = learn(&l);
    search->camera = asked->camera;
    tune_clear(&l.engine);
    tw_catalogue_close(l.catalogue);
    (void)g_array_free(l.marks, TRUE);
    g_free(l.store);
    return code;
}
