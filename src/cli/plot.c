/* Plots by gnuplot: a script with its data, in a folder that is removed afterwards. */
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <sys/ioctl.h>
#include <unistd.h>

#include "footage.h"
#include "../core/naming.h"
#include "../settings/sections.h"

enum { COLUMNS = 100, LINES = 40, LONG_S = 900 /* from here on in minutes */ };

/* ---- for every plot -------------------------------------------------------------- */

/* In single quotes nothing but the quote itself means anything to gnuplot. */
char *cli_plot_quoted(const char *text)
{
    GString *s = g_string_new("'");
    for (; *text; text++) {
        if (*text == '\'')
            (void)g_string_append(s, "''");
        else
            (void)g_string_append_c(s, (guchar)*text < ' ' ? '?' : *text);
    }
    (void)g_string_append_c(s, '\'');
    return g_string_free(s, FALSE);
}

static gboolean is_text(const char *path)
{
    return strcmp(path, "-") == 0;
}

GString *cli_plot_begin(const char *path)
{
    GString *script = g_string_new(NULL);
    struct winsize size = {0};
    if (is_text(path)) {
        const gboolean known = ioctl(STDOUT_FILENO, TIOCGWINSZ, &size) == 0;
        const int columns = known && size.ws_col > 40 ? size.ws_col : COLUMNS;
        const int lines = known && size.ws_row > 24 ? size.ws_row - 2 : LINES;
        g_string_append_printf(script, "set terminal dumb noenhanced %d %d\n", columns,
                               lines);
        return script;
    }
    g_autofree char *output = cli_plot_quoted(path);
    g_string_append_printf(
        script,
        "set terminal %s size 1280,800 background rgb '#f6f1e7' font 'DejaVu Sans,11' "
        "noenhanced linewidth 1.4\nset output %s\n",
        g_str_has_suffix(path, ".svg") ? "svg" : "pngcairo", output);
    return script;
}

gboolean cli_plot_name_fits(const char *path)
{
    if (is_text(path) || g_str_has_suffix(path, ".png") || g_str_has_suffix(path, ".svg"))
        return TRUE;
    (void)cli_say(CLI_USAGE, "--plot %s: the name must end in .png or .svg, or be -",
                  path);
    return FALSE;
}

static tw_status keep_data(const char *data, const char *what, const char *path)
{
    g_autofree char *kept = g_strdup_printf("%s.dat", is_text(path) ? "plot" : path);
    const gboolean written = g_file_set_contents(kept, data, -1, NULL);
    (void)cli_say(CLI_FAILED,
                  "no plot without gnuplot: install gnuplot-nox (the data is in %s: %s)",
                  written ? kept : "no file, it cannot be written", what);
    return TW_ENOTSUP;
}

static tw_status run_gnuplot(const char *script, const char *data, const char *what,
                             const char *path)
{
    char *arguments[] = {(char *)"gnuplot", (char *)script, NULL};
    g_autofree char *errors = NULL;
    GError *error = NULL;
    int code = 0;
    const GSpawnFlags flags = G_SPAWN_SEARCH_PATH | G_SPAWN_CHILD_INHERITS_STDIN;
    if (!g_spawn_sync(NULL, arguments, NULL,
                      is_text(path) ? flags : flags | G_SPAWN_STDOUT_TO_DEV_NULL, NULL,
                      NULL, NULL, &errors, &code, &error)) {
        g_error_free(error);
        return keep_data(data, what, path);
    }
    if (code == 0)
        return TW_OK;
    (void)cli_say(CLI_FAILED, "%s cannot be plotted: %s", path, g_strstrip(errors));
    return TW_EIO;
}

tw_status cli_plot_end(GString *script, const char *data, const char *what,
                       const char *path)
{
    tw_status st = TW_EIO;
    g_autofree char *folder = g_dir_make_tmp("tawny-plot-XXXXXX", NULL);
    g_autofree char *file = folder ? g_build_filename(folder, "script", NULL) : NULL;
    g_autofree char *whole =
        g_strdup_printf("$data << END\n%sEND\n%s", data, script->str);
    (void)fflush(stdout); /* what gnuplot prints comes after what was printed so far */
    if (file && g_file_set_contents(file, whole, -1, NULL))
        st = run_gnuplot(file, data, what, path);
    else
        (void)cli_say(CLI_FAILED, "cannot write temporary files for a plot");
    if (file) {
        (void)g_unlink(file);
        (void)g_rmdir(folder);
    }
    (void)g_string_free(script, TRUE);
    return st;
}

/* ---- a rehearsal ----------------------------------------------------------------- */

/* A plot on its way. The time axis is in seconds or minutes from the first frame; where a
 * file's name tells when that was, it is local time in seconds since 1970. */
typedef struct plot {
    const cli_footage *footage;
    const twi_camera_settings *camera;
    GString *script;
    double unit;     /* seconds in one unit of the time axis */
    gboolean dated;  /* the time on the wall is known, ... */
    twi_civil begun; /* ... of the first frame */
    double begun_s;
    gboolean text;
    int objects;
} plot;

static double at(const plot *p, int64_t t_us)
{
    return p->begun_s + (double)t_us / 1e6 / p->unit;
}

/* The end of a path with as many parts as a pattern of names has; NULL: it has fewer. */
static const char *below_store(const char *path, const char *names)
{
    size_t parts = 1;
    for (const char *c = names; *c; c++)
        parts += *c == '/';
    for (const char *c = path + strlen(path); c > path; c--)
        if (c[-1] == '/' && --parts == 0)
            return c;
    return parts == 1 ? path : NULL;
}

/* A file that has been renamed, or one of others, tells no time. */
static void find_wall_time(plot *p)
{
    twi_name_parts parts;
    const char *names = p->footage->names;
    const char *name = names ? below_store(p->footage->name, names) : NULL;
    if (!name || twi_name_read(names, name, &parts) != TW_OK)
        return;
    p->dated = TRUE;
    p->unit = 1;
    p->begun = parts.time;
    p->begun.offset_s = 0; /* its own local time is what is shown */
    p->begun_s = (double)twi_civil_join(&p->begun) / 1e6;
}

/* Round steps, at most eight on the axis. */
static int step_of(double length_s)
{
    static const int steps[] = {1,   2,   5,    10,   15,   30,    60,    120,  300,
                                600, 900, 1800, 3600, 7200, 10800, 21600, 43200};
    for (size_t i = 0; i < G_N_ELEMENTS(steps); i++)
        if (length_s / steps[i] <= 8)
            return steps[i];
    return 86400;
}

static void set_time(plot *p)
{
    const double length_s = (double)p->footage->length_us / 1e6;
    const int step = step_of(length_s);
    g_string_append_printf(p->script, "set xrange [%.4f:%.4f]\n", at(p, 0),
                           at(p, p->footage->length_us > 0 ? p->footage->length_us : 1));
    if (p->dated)
        g_string_append_printf(p->script,
                               "set xtics %.0f,%d\nset xtics format '%s' time\n",
                               (double)((int64_t)(p->begun_s / step) * step), step,
                               step < 60 ? "%H:%M:%S" : "%H:%M");
}

static void set_time_label(plot *p)
{
    g_autofree char *label =
        p->dated ? g_strdup_printf("%04d-%02d-%02d, local time", p->begun.year,
                                   p->begun.month, p->begun.day)
                 : g_strdup(p->unit > 1 ? "minutes" : "seconds");
    g_string_append_printf(p->script, "set xlabel '%s' tc rgb '#2a241c'\n", label);
}

static void add_band(plot *p, double from, double to, double low, double high,
                     const char *style)
{
    if (p->text) /* rectangles hide the curve there */
        return;
    g_string_append_printf(p->script,
                           "set object %d rect from %.4f, graph %.3f to %.4f, graph "
                           "%.3f behind %s\n",
                           ++p->objects, from, low, to, high, style);
}

static void add_label(plot *p, const char *text, const char *where, const char *colour)
{
    g_autofree char *label = cli_plot_quoted(text);
    g_string_append_printf(p->script, "set label %s at %s tc rgb '%s'\n", label, where,
                           colour);
}

static void add_sightings(plot *p)
{
    for (guint i = 0; i < p->footage->sightings->len; i++) {
        const tw_sighting *s = &g_array_index(p->footage->sightings, tw_sighting, i);
        const double from = at(p, s->start_us - p->footage->zero_us);
        const double to = at(p, s->end_us - p->footage->zero_us);
        g_autofree char *name = g_strdup_printf("%u", s->number);
        g_autofree char *where =
            g_strdup_printf("%.4f, graph %.3f center", (from + to) / 2, 0.93);
        add_band(p, from, to, 0, 1,
                 "fc rgb '#c98a12' fs transparent solid 0.25 noborder");
        add_label(p, name, where, "#8a5a00");
    }
}

static void add_truth(plot *p)
{
    for (size_t i = 0; i < p->footage->event_count; i++) {
        const twi_truth_event *e = &p->footage->events[i];
        const double from = at(p, e->when.start_us), to = at(p, e->when.end_us);
        g_autofree char *where =
            g_strdup_printf("%.4f, graph 1.025 center", (from + to) / 2);
        add_band(p, from, to, 0.985, 1.0, "fc rgb '#2a241c' fs solid 0.8 noborder");
        add_label(p, p->footage->what[i], where, "#2a241c");
    }
}

static void add_limit(plot *p, const char *name, int64_t ppm, const char *colour,
                      double place)
{
    g_autofree char *text = g_strdup_printf("%s %.2f %%", name, (double)ppm / 1e4);
    g_autofree char *where =
        g_strdup_printf("graph %.3f, first %.5f %s offset 0,0.6", place,
                        (double)ppm / 1e4, place > 0.5 ? "right" : "left");
    g_string_append_printf(p->script,
                           "set arrow from graph 0, first %.5f to graph 1, first %.5f "
                           "nohead lc rgb '%s' dt 2\n",
                           (double)ppm / 1e4, (double)ppm / 1e4, colour);
    add_label(p, text, where, colour);
}

/* The axes that both panels share. Small things are seen on a square-root axis. */
static void set_axes(plot *p)
{
    (void)g_string_append(p->script,
                          "set border 3 lc rgb '#2a241c'\nset tics nomirror tc rgb "
                          "'#2a241c'\n"
                          "set nonlinear y via sqrt(y) inverse y*y\nunset key\n");
    set_time(p);
    if (!p->text)
        (void)g_string_append(p->script, "set lmargin at screen 0.075\n"
                                         "set rmargin at screen 0.975\n");
}

/* Round steps that are far enough apart to be read, up to the top of an axis. */
static void set_range(plot *p, double top)
{
    static const double steps[] = {0.01, 0.02, 0.05, 0.1, 0.2, 0.5, 1,
                                   2,    5,    10,   20,  50,  100};
    g_string_append_printf(p->script, "set yrange [0:%.5f]\nset ytics (0", top);
    for (size_t i = 0; i < G_N_ELEMENTS(steps); i++)
        if (steps[i] >= top / 100 && steps[i] <= top)
            g_string_append_printf(p->script, ",%g", steps[i]);
    (void)g_string_append(p->script, ")\n");
}

/* The highest points of both panels, in percent. */
static void find_tops(const plot *p, double *activity, double *taken)
{
    uint32_t high = (uint32_t)p->camera->start_ppm * 2, most = 1000;
    for (guint i = 0; i < p->footage->moments->len; i++) {
        const cli_moment *m = &g_array_index(p->footage->moments, cli_moment, i);
        const uint32_t guards = MAX(MAX(m->light_ppm, m->sway_ppm), m->shake_ppm);
        high = MAX(high, m->activity_ppm);
        most = MAX(most, MAX(guards, MAX(m->travel_ppm, m->size_ppm)));
    }
    *activity = high * 1.3 / 1e4;
    *taken = most * 1.05 / 1e4;
}

static void add_activity(plot *p, double top)
{
    g_autofree char *title =
        g_strdup_printf("camera %s, %s", p->camera->name, p->footage->name);
    g_autofree char *quoted_title = cli_plot_quoted(title);
    g_string_append_printf(p->script,
                           "set multiplot\nset title %s tc rgb '#2a241c' offset 0,%s\n"
                           "set ylabel 'activity, %%' tc rgb '#2a241c'\n%s",
                           quoted_title, p->footage->event_count > 0 ? "1.2" : "0.3",
                           p->text ? "set size 1,0.6\nset origin 0,0.4\n"
                                   : "set tmargin at screen 0.90\nset bmargin at "
                                     "screen 0.44\n");
    set_range(p, top);
    add_sightings(p);
    add_truth(p);
    add_limit(p, "start_at", p->camera->start_ppm, "#8a5a00", 0.995);
    if (p->camera->stay_ppm != p->camera->start_ppm)
        add_limit(p, "stay_at", p->camera->stay_ppm, "#4a6320", 0.005);
    g_string_append_printf(
        p->script, "plot $data using 1:2 with lines lc rgb '#2a241c' title 'activity'\n");
}

static void add_guards(plot *p, double top)
{
    static const struct {
        const char *title, *colour;
        int dash;
    } lines[] = {{"light guard", "#7a5fa0", 1},
                 {"sway guard", "#4f6472", 2},
                 {"shake guard", "#a8641f", 3},
                 {"has not travelled", "#c98a12", 4},
                 {"size", "#a3352b", 5}};
    set_time_label(p);
    g_string_append_printf(
        p->script,
        "unset title\nunset label\nunset arrow\n"
        "set ylabel 'taken away, %%' tc rgb '#2a241c'\n%s",
        p->text ? "set size 1,0.4\nset origin 0,0\n"
                : "set tmargin at screen 0.35\nset bmargin at screen 0.08\n"
                  "set key horizontal at screen 0.975,0.395 right tc rgb '#2a241c'\n");
    if (p->text)
        (void)g_string_append(p->script, "set key outside bottom center horizontal\n");
    set_range(p, top);
    for (int i = 1; i <= p->objects; i++)
        g_string_append_printf(p->script, "unset object %d\n", i);
    for (size_t i = 0; i < G_N_ELEMENTS(lines); i++)
        g_string_append_printf(p->script,
                               "%s$data using 1:%zu with lines lc rgb '%s' dt %d title "
                               "'%s'",
                               i == 0 ? "plot " : ", ", i + 3, lines[i].colour,
                               lines[i].dash, lines[i].title);
    (void)g_string_append(p->script, "\nunset multiplot\n");
}

static char *data_of(const plot *p)
{
    GString *data = g_string_new(NULL);
    for (guint i = 0; i < p->footage->moments->len; i++) {
        const cli_moment *m = &g_array_index(p->footage->moments, cli_moment, i);
        g_string_append_printf(data, "%.4f %.4f %.4f %.4f %.4f %.4f %.4f\n",
                               at(p, m->t_us), m->activity_ppm / 1e4, m->light_ppm / 1e4,
                               m->sway_ppm / 1e4, m->shake_ppm / 1e4, m->travel_ppm / 1e4,
                               m->size_ppm / 1e4);
    }
    return g_string_free(data, FALSE);
}

tw_status cli_plot(const cli_footage *footage, const twi_camera_settings *camera,
                   const char *path)
{
    plot p = {.footage = footage,
              .camera = camera,
              .script = cli_plot_begin(path),
              .unit = footage->length_us > LONG_S * INT64_C(1000000) ? 60 : 1,
              .text = is_text(path)};
    double activity = 0, taken = 0;
    find_wall_time(&p);
    g_autofree char *data = data_of(&p);
    find_tops(&p, &activity, &taken);
    set_axes(&p);
    add_activity(&p, activity);
    add_guards(&p, taken);
    return cli_plot_end(p.script, data,
                        "time, activity, light, sway, shake, travel, size", path);
}
