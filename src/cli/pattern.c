/* The activity pattern of what was named: sightings by hour of the day and by week. */
#include "pattern.h"

#include <stdio.h>
#include <string.h>

#include "footage.h"
#include "output.h"
#include "../core/naming.h"
#include "tawny/catalogue.h"

enum { HOURS = 24, SHOWN = 6, OTHERS = SHOWN, ROWS = SHOWN + 1, WEEKS_MOST = 520 };

#define WEEK_US (INT64_C(7) * 24 * 3600 * 1000000)
#define MONDAY_US (INT64_C(4) * 24 * 3600 * 1000000) /* 1970-01-05 */

typedef struct pattern {
    GPtrArray *names;   /* those that came most first; the last row is of others */
    GHashTable *counts; /* by name */
    guint by_hour[ROWS][HOURS];
    guint by_week[ROWS][WEEKS_MOST];
    int64_t first_week; /* since the first Monday of 1970 */
    int weeks;
    guint total;
} pattern;

static int64_t local_us(const tw_clock *clock, int64_t wall_us)
{
    return wall_us + (int64_t)clock->ops->offset_s(clock->ctx, wall_us) * 1000000;
}

static int64_t week_of(const tw_clock *clock, int64_t wall_us)
{
    const int64_t since = local_us(clock, wall_us) - MONDAY_US;
    return since >= 0 ? since / WEEK_US : (since - WEEK_US + 1) / WEEK_US;
}

static gint by_count(gconstpointer a, gconstpointer b, gpointer counts)
{
    const char *one = *(const char *const *)a, *other = *(const char *const *)b;
    const guint x = GPOINTER_TO_UINT(g_hash_table_lookup(counts, one)),
                y = GPOINTER_TO_UINT(g_hash_table_lookup(counts, other));
    return x != y ? (x > y ? -1 : 1) : strcmp(one, other);
}

/* Which names there are, and from which week to which. */
static void gather(pattern *p, const GArray *records, const tw_clock *clock)
{
    int64_t last = G_MININT64;
    p->first_week = G_MAXINT64;
    for (guint i = 0; i < records->len; i++) {
        const tw_sighting_record *r = &g_array_index(records, tw_sighting_record, i);
        if (!r->name[0])
            continue;
        const guint had = GPOINTER_TO_UINT(g_hash_table_lookup(p->counts, r->name));
        if (had == 0)
            g_ptr_array_add(p->names, (gpointer)r->name);
        (void)g_hash_table_insert(p->counts, (gpointer)r->name,
                                  GUINT_TO_POINTER(had + 1));
        const int64_t week = week_of(clock, r->start_us);
        p->first_week = MIN(p->first_week, week);
        last = MAX(last, week);
        p->total++;
    }
    g_ptr_array_sort_with_data(p->names, by_count, p->counts);
    if (p->total > 0) /* the newest weeks, where there are too many */
        p->first_week = MAX(p->first_week, last - WEEKS_MOST + 1);
    p->weeks = p->total > 0 ? (int)(last - p->first_week + 1) : 0;
}

static int row_of(const pattern *p, const char *name)
{
    for (guint i = 0; i < p->names->len && i < SHOWN; i++)
        if (strcmp(p->names->pdata[i], name) == 0)
            return (int)i;
    return OTHERS;
}

static void count(pattern *p, const GArray *records, const tw_clock *clock)
{
    for (guint i = 0; i < records->len; i++) {
        const tw_sighting_record *r = &g_array_index(records, tw_sighting_record, i);
        twi_civil t;
        if (!r->name[0])
            continue;
        const int row = row_of(p, r->name);
        const int64_t week = week_of(clock, r->start_us) - p->first_week;
        twi_civil_split(r->start_us, clock->ops->offset_s(clock->ctx, r->start_us), &t);
        p->by_hour[row][t.hour]++;
        if (week >= 0)
            p->by_week[row][week]++;
    }
}

static int rows(const pattern *p)
{
    return (int)MIN(p->names->len, (guint)ROWS);
}

static const char *title(const pattern *p, int row)
{
    return row < SHOWN ? p->names->pdata[row] : "others";
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

int pattern_show(const GArray *records, const tw_clock *clock, const char *path)
{
    if (!cli_plot_name_fits(path))
        return CLI_USAGE;
    pattern *p = g_new0(pattern, 1);
    int code = CLI_DONE;
    p->names = g_ptr_array_new();
    p->counts = g_hash_table_new(g_str_hash, g_str_equal);
    gather(p, records, clock);
    count(p, records, clock);
    if (p->total == 0) {
        code = cli_say(CLI_FAILED, "none of these sightings has a name: tawny sightings "
                                   "--name NAME 12");
    } else {
        print_table(p);
        code = draw(p, path);
    }
    g_hash_table_destroy(p->counts);
    (void)g_ptr_array_free(p->names, TRUE);
    g_free(p);
    return code;
}
