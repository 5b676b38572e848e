/* The activity pattern of what was named: sightings by hour of the day and by week. */
#include "pattern.h"

#include <stdio.h>
#include <string.h>

#include "footage.h"
#include "output.h"
#include "../core/naming.h"
#include "tawny/catalogue.h"

enum {
    HOURS = 24,
    SHOWN = 6,
    OTHERS = SHOWN,
    ROWS = SHOWN + 1,
    WEEKS_MOST = 520,
    NAMES_MOST = 100000 /* that are told apart */
};

#define WEEK_US (INT64_C(7) * 24 * 3600 * 1000000)
#define MONDAY_US (INT64_C(4) * 24 * 3600 * 1000000) /* 1970-01-05 */

/* What is known of a name. */
typedef struct kept_name {
    char *name; /* owned */
    guint count, by_hour[HOURS];
    GHashTable *by_week; /* numbers, by the week since the first Monday of 1970 */
} kept_name;

struct pattern {
    tw_clock clock;
    GHashTable *known; /* of kept_name, by name */
    kept_name *others; /* those for which there was no room */
    /* What is shown, once all are there: */
    GPtrArray *names; /* those that came most first; the last row is of others */
    guint by_hour[ROWS][HOURS];
    guint by_week[ROWS][WEEKS_MOST];
    int64_t first_week;
    int weeks;
};

static int64_t local_us(const tw_clock *clock, int64_t wall_us)
{
    return wall_us + (int64_t)clock->ops->offset_s(clock->ctx, wall_us) * 1000000;
}

static int64_t week_of(const tw_clock *clock, int64_t wall_us)
{
    const int64_t since = local_us(clock, wall_us) - MONDAY_US;
    return since >= 0 ? since / WEEK_US : (since - WEEK_US + 1) / WEEK_US;
}

/* ---- counting --------------------------------------------------------------------- */

static void drop_name(gpointer data)
{
    kept_name *n = data;
    g_hash_table_destroy(n->by_week);
    g_free(n->name);
    g_free(n);
}

static kept_name *make_name(const char *name)
{
    kept_name *n = g_new0(kept_name, 1);
    n->name = g_strdup(name);
    n->by_week = g_hash_table_new(g_direct_hash, g_direct_equal);
    return n;
}

pattern *pattern_new(const tw_clock *clock)
{
    pattern *p = g_new0(pattern, 1);
    p->clock = *clock;
    p->known = g_hash_table_new_full(g_str_hash, g_str_equal, NULL, drop_name);
    p->others = make_name("others");
    p->names = g_ptr_array_new();
    return p;
}

void pattern_free(pattern *p)
{
    if (!p)
        return;
    g_hash_table_destroy(p->known);
    drop_name(p->others);
    (void)g_ptr_array_free(p->names, TRUE);
    g_free(p);
}

static kept_name *find_name(pattern *p, const char *name)
{
    kept_name *n = g_hash_table_lookup(p->known, name);
    if (n)
        return n;
    if (g_hash_table_size(p->known) >= NAMES_MOST)
        return p->others;
    n = make_name(name);
    (void)g_hash_table_insert(p->known, n->name, n);
    return n;
}

void pattern_add(pattern *p, const char *name, int64_t start_us)
{
    twi_civil t;
    if (!name[0])
        return;
    kept_name *n = find_name(p, name);
    const gpointer week = GINT_TO_POINTER((gint)week_of(&p->clock, start_us));
    twi_civil_split(start_us, p->clock.ops->offset_s(p->clock.ctx, start_us), &t);
    n->count++;
    n->by_hour[t.hour]++;
    const guint had = GPOINTER_TO_UINT(g_hash_table_lookup(n->by_week, week));
    (void)g_hash_table_insert(n->by_week, week, GUINT_TO_POINTER(had + 1));
}

/* ---- what is shown of it ----------------------------------------------------------- */

static gint by_count(gconstpointer a, gconstpointer b)
{
    const kept_name *x = *(const kept_name *const *)a, *y = *(const kept_name *const *)b;
    return x->count != y->count ? (x->count > y->count ? -1 : 1)
                                : strcmp(x->name, y->name);
}

static void span_weeks(const kept_name *n, int64_t *first, int64_t *last)
{
    GHashTableIter at;
    gpointer week = NULL;
    g_hash_table_iter_init(&at, n->by_week);
    while (g_hash_table_iter_next(&at, &week, NULL)) {
        *first = MIN(*first, GPOINTER_TO_INT(week));
        *last = MAX(*last, GPOINTER_TO_INT(week));
    }
}

/* The newest weeks, where there are too many. */
static void choose_weeks(pattern *p)
{
    int64_t last = G_MININT32;
    p->first_week = G_MAXINT32;
    for (guint i = 0; i < p->names->len; i++)
        span_weeks(p->names->pdata[i], &p->first_week, &last);
    p->first_week = MAX(p->first_week, last - WEEKS_MOST + 1);
    p->weeks = p->names->len > 0 ? (int)(last - p->first_week + 1) : 0;
}

static void add_row(pattern *p, int row, const kept_name *n)
{
    GHashTableIter at;
    gpointer week = NULL, count = NULL;
    for (int h = 0; h < HOURS; h++)
        p->by_hour[row][h] += n->by_hour[h];
    g_hash_table_iter_init(&at, n->by_week);
    while (g_hash_table_iter_next(&at, &week, &count)) {
        const int64_t place = GPOINTER_TO_INT(week) - p->first_week;
        if (place >= 0)
            p->by_week[row][place] += GPOINTER_TO_UINT(count);
    }
}

static void sum_up(pattern *p)
{
    GHashTableIter at;
    gpointer n = NULL;
    g_hash_table_iter_init(&at, p->known);
    while (g_hash_table_iter_next(&at, NULL, &n))
        g_ptr_array_add(p->names, n);
    g_ptr_array_sort(p->names, by_count);
    if (p->others->count > 0)
        g_ptr_array_add(p->names, p->others);
    choose_weeks(p);
    for (guint i = 0; i < p->names->len; i++)
        add_row(p, i < SHOWN ? (int)i : OTHERS, p->names->pdata[i]);
}

static int rows(const pattern *p)
{
    return (int)MIN(p->names->len, (guint)ROWS);
}

static const char *title(const pattern *p, int row)
{
    return row < SHOWN ? ((const kept_name *)p->names->pdata[row])->name : "others";
}

/* ---- the table -------------------------------------------------------------------- */

static void print_table(const pattern *p)
{
    int width = 6;
    for (int i = 0; i < rows(p); i++)
        width = MAX(width, (int)g_utf8_strlen(title(p, i), -1));
    (void)printf("%-*s", width, "hour");
    for (int h = 0; h < HOURS; h++)
        (void)printf(" %3d", h);
    (void)printf("   all\n");
    for (int i = 0; i < rows(p); i++) {
        guint all = 0;
        (void)printf("%-*s",
                     width + (int)strlen(title(p, i)) -
                         (int)g_utf8_strlen(title(p, i), -1),
                     title(p, i));
        for (int h = 0; h < HOURS; h++) {
            all += p->by_hour[i][h];
            if (p->by_hour[i][h] > 0)
                (void)printf(" %3u", p->by_hour[i][h]);
            else
                (void)printf("   .");
        }
        (void)printf(" %5u\n", all);
    }
}

/* ---- the plot --------------------------------------------------------------------- */

static const char *const COLOURS[ROWS] = {"#8f5212", "#4f7a3a", "#3f6a8a", "#a63d2f",
                                          "#7a5f9a", "#c79a2e", "#8a8578"};

/* One line a place along the axis, one column a name. */
static char *data_of(const pattern *p)
{
    GString *data = g_string_new(NULL);
    for (int h = 0; h < HOURS; h++) {
        g_string_append_printf(data, "%d", h);
        for (int i = 0; i < rows(p); i++)
            g_string_append_printf(data, " %u", p->by_hour[i][h]);
        (void)g_string_append_c(data, '\n');
    }
    (void)g_string_append(data, "\n\n");
    for (int w = 0; w < p->weeks; w++) {
        twi_civil t;
        twi_civil_split(MONDAY_US + (p->first_week + w) * WEEK_US, 0, &t);
        g_string_append_printf(data, "%04d-%02u-%02u", t.year, t.month, t.day);
        for (int i = 0; i < rows(p); i++)
            g_string_append_printf(data, " %u", p->by_week[i][w]);
        (void)g_string_append_c(data, '\n');
    }
    return g_string_free(data, FALSE);
}

/* Boxes upon each other. */
static void add_plot(const pattern *p, GString *script, int index, const char *labels)
{
    (void)g_string_append(script, "plot ");
    for (int i = 0; i < rows(p); i++) {
        g_autofree char *name = cli_plot_quoted(title(p, i));
        g_string_append_printf(script,
                               "%s$data index %d using %d:xtic(%s) title %s "
                               "lc rgb '%s'",
                               i > 0 ? ", " : "", index, i + 2, labels, name, COLOURS[i]);
    }
    (void)g_string_append(script, "\n");
}

static int draw(const pattern *p, const char *path)
{
    const gboolean text = strcmp(path, "-") == 0;
    GString *script = cli_plot_begin(path);
    g_autofree char *data = data_of(p);
    const int every = p->weeks / 12 + 1;
    g_autofree char *weeks =
        g_strdup_printf("int(column(0)) %% %d == 0 ? strcol(1) : ''", every);
    (void)g_string_append(
        script, "set style data histograms\nset style histogram rowstacked\n"
                "set style fill solid 0.9 noborder\nset boxwidth 0.85\nset key outside "
                "right top reverse Left\nset ytics nomirror\nset xtics nomirror\n"
                "set yrange [0:*]\nset border 3\n");
    if (!text)
        (void)g_string_append(script, "set multiplot layout 2,1\n");
    (void)g_string_append(script,
                          "set title 'Sightings by the hour at which they began'\n"
                          "set xlabel 'hour of the day'\n");
    add_plot(p, script, 0, "1");
    if (!text) {
        (void)g_string_append(script, "set title 'Sightings by week'\n"
                                      "set xlabel 'week that begins on this Monday'\n"
                                      "set xtics rotate by -30\n");
        add_plot(p, script, 1, weeks);
        (void)g_string_append(script, "unset multiplot\n");
    }
    return cli_exit(
        cli_plot_end(script, data, "hour or week, then a column for each name", path));
}

int pattern_show(pattern *p, const char *path)
{
    sum_up(p);
    if (p->names->len == 0)
        return cli_say(CLI_FAILED, "none of these sightings has a name: tawny sightings "
                                   "--name NAME 12");
    print_table(p);
    return draw(p, path);
}
