/* What all exports to Camtrap DP 1.0 (Camera Trap Data Package, TDWG 2023) have in
 * common: a deployment for each camera, and an observation for each sighting: what
 * somebody or a program has said that it shows; blank, where it was marked as nothing;
 * else unclassified. */
#include "camtrap_package.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <jansson.h>
#include <string.h>

#include "common.h"
#include "output.h"
#include "../core/civil.h"

/* By this, readers of the standard know which version of it they have. */
#define PROFILE                                                                          \
    "https://raw.githubusercontent.com/tdwg/camtrap-dp/1.0/camtrap-dp-profile.json"

/* ---- tables ---------------------------------------------------------------------- */

const char *camtrap_stamp(int64_t wall_us, char buffer[40])
{
    twi_civil t;
    twi_civil_split(wall_us, 0, &t);
    (void)snprintf(buffer, 40, "%04d-%02u-%02uT%02u:%02u:%02uZ", (int)t.year, t.month,
                   t.day, t.hour, t.minute, t.second);
    return buffer;
}

static const char *degrees(int64_t millionths, char buffer[40])
{
    return g_ascii_formatd(buffer, 40, "%.6f", (double)millionths / 1e6);
}

FILE *camtrap_table_open(camtrap_package *p, const camtrap_table *table)
{
    g_autofree char *name = g_strdup_printf("%s.csv", camtrap_table_name(table));
    g_autofree char *path = g_build_filename(p->folder, name, NULL);
    FILE *out = g_fopen(path, "wb");
    if (out)
        camtrap_put_head(out, table);
    else
        p->code = cli_say(CLI_FAILED, "%s: %s", path, g_strerror(errno));
    return out;
}

void camtrap_table_close(camtrap_package *p, FILE *out, const camtrap_table *table)
{
    const gboolean failed = out && ferror(out);
    if (out && (fclose(out) != 0 || failed))
        p->code = cli_say(CLI_FAILED, "%s/%s.csv: %s", p->folder,
                          camtrap_table_name(table), g_strerror(errno));
}

/* ---- stays ----------------------------------------------------------------------- */

static void free_stay(gpointer data)
{
    camtrap_stay *d = data;
    g_free(d->id);
    g_free(d);
}

void camtrap_package_begin(camtrap_package *p, const char *folder)
{
    *p = (camtrap_package){.folder = folder, .code = CLI_DONE};
    p->stays = g_ptr_array_new_with_free_func(free_stay);
    p->stay_of = g_hash_table_new(g_str_hash, g_str_equal);
    p->names = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
}

void camtrap_package_make(camtrap_package *p)
{
    if (g_mkdir_with_parents(p->folder, 0777) != 0)
        p->code = cli_say(CLI_FAILED, "%s: %s", p->folder, g_strerror(errno));
}

void camtrap_package_clear(camtrap_package *p)
{
    g_hash_table_destroy(p->names);
    g_hash_table_destroy(p->stay_of);
    (void)g_ptr_array_free(p->stays, TRUE);
}

camtrap_stay *camtrap_stay_find(const camtrap_package *p, const char *id)
{
    return g_hash_table_lookup(p->stay_of, id);
}

camtrap_stay *camtrap_stay_add(camtrap_package *p, const char *id, int64_t latitude,
                               int64_t longitude)
{
    camtrap_stay *d = g_new0(camtrap_stay, 1);
    d->id = g_strdup(id);
    d->latitude = latitude;
    d->longitude = longitude;
    d->start_us = INT64_MAX;
    g_ptr_array_add(p->stays, d);
    (void)g_hash_table_insert(p->stay_of, d->id, d);
    return d;
}

void camtrap_stay_extend(camtrap_stay *d, int64_t start_us, int64_t end_us,
                         gboolean unsure)
{
    d->start_us = MIN(d->start_us, start_us);
    d->end_us = MAX(d->end_us, MAX(start_us, end_us));
    d->unsure = d->unsure || unsure;
}

/* Is there something of it? */
static gboolean is_used(const camtrap_stay *d)
{
    return d->start_us != INT64_MAX;
}

static void write_deployments(camtrap_package *p)
{
    FILE *out = camtrap_table_open(p, &CAMTRAP_DEPLOYMENTS);
    for (guint i = 0; out && i < p->stays->len; i++) {
        const camtrap_stay *d = p->stays->pdata[i];
        if (!is_used(d))
            continue;
        char start[40], end[40], latitude[40], longitude[40];
        camtrap_put_row(
            out, &CAMTRAP_DEPLOYMENTS,
            (const camtrap_cell[]){{"deploymentID", d->id},
                                   {"latitude", degrees(d->latitude, latitude)},
                                   {"longitude", degrees(d->longitude, longitude)},
                                   {"deploymentStart", camtrap_stamp(d->start_us, start)},
                                   {"deploymentEnd", camtrap_stamp(d->end_us, end)},
                                   {"cameraID", d->id},
                                   {"timestampIssues", d->unsure ? "true" : "false"},
                                   {NULL, NULL}});
    }
    camtrap_table_close(p, out, &CAMTRAP_DEPLOYMENTS);
}

/* ---- rows ------------------------------------------------------------------------ */

void camtrap_put_medium(FILE *out, const camtrap_medium *m)
{
    char time[40];
    camtrap_put_row(
        out, &CAMTRAP_MEDIA,
        (const camtrap_cell[]){
            {"mediaID", m->id},
            {"deploymentID", m->stay},
            {"captureMethod", m->of_sighting ? "activityDetection" : "timeLapse"},
            {"timestamp", camtrap_stamp(m->start_us, time)},
            {"filePath", m->path},
            {"filePublic", "false"},
            {"fileName", m->name},
            {"fileMediatype", m->video ? "video/mp4" : "image/jpeg"},
            {"favorite", m->starred ? "true" : "false"},
            {NULL, NULL}});
}

/* Names that are no animals'. */
static const char *type_of(const tw_sighting_record *r)
{
    static const struct {
        const char *name, *type;
    } OTHERS[] = {{"Homo sapiens", "human"},
                  {"human", "human"},
                  {"person", "human"},
                  {"vehicle", "vehicle"},
                  {"unknown", "unknown"}};
    if (r->mark == TW_MARK_NOTHING)
        return "blank";
    for (gsize i = 0; i < G_N_ELEMENTS(OTHERS); i++)
        if (g_ascii_strcasecmp(r->name, OTHERS[i].name) == 0)
            return OTHERS[i].type;
    return r->name[0] ? "animal" : "unclassified";
}

void camtrap_put_observation(camtrap_package *p, FILE *out, const char *id,
                             const char *event, const char *stay,
                             const tw_sighting_record *r)
{
    char start[40], end[40];
    const gboolean blank = r->mark == TW_MARK_NOTHING, named = r->name[0] != '\0';
    const gboolean by_program = named && r->named_by[0] != '\0';
    char heads[16] = "", sure[24] = "", said[40] = "";
    g_autofree char *comments = r->note[0] && r->why[0]
                                    ? g_strdup_printf("%s; %s", r->note, r->why)
                                    : g_strdup(r->note[0] ? r->note : r->why);
    if (named && r->count > 0)
        (void)g_snprintf(heads, sizeof heads, "%u", (unsigned)r->count);
    if (by_program && r->sure_ppm > 0)
        (void)g_ascii_formatd(sure, sizeof sure, "%.6g", r->sure_ppm / 1e6);
    if (named)
        (void)camtrap_stamp(r->named_us, said);
    if (named && !blank)
        (void)g_hash_table_add(p->names, g_strdup(r->name));
    camtrap_put_row(out, &CAMTRAP_OBSERVATIONS,
                    (const camtrap_cell[]){
                        {"observationID", id},
                        {"deploymentID", stay},
                        {"eventID", event},
                        {"eventStart", camtrap_stamp(r->start_us, start)},
                        {"eventEnd", camtrap_stamp(MAX(r->start_us, r->end_us), end)},
                        {"observationLevel", "event"},
                        {"observationType", type_of(r)},
                        {"scientificName", blank ? "" : r->name},
                        {"count", blank ? "" : heads},
                        {"classificationMethod", blank        ? "human"
                                                 : by_program ? "machine"
                                                 : named      ? "human"
                                                              : ""},
                        {"classifiedBy", blank ? "" : r->named_by},
                        {"classificationTimestamp", blank ? "" : said},
                        {"classificationProbability", blank ? "" : sure},
                        {"observationComments", comments},
                        {NULL, NULL}});
}

/* ---- the package ----------------------------------------------------------------- */

/* The schema lies beside the table, so that nobody has to be asked for it. */
static json_t *describe_table(const camtrap_table *table, const char *schema)
{
    const char *name = camtrap_table_name(table);
    g_autofree char *path = g_strdup_printf("%s.csv", name);
    return json_pack("{ss ss ss ss ss ss ss}", "name", name, "path", path, "profile",
                     "tabular-data-resource", "format", "csv", "mediatype", "text/csv",
                     "encoding", "utf-8", "schema", schema);
}

static void write_json(camtrap_package *p, const char *name, json_t *o)
{
    g_autofree char *path = g_build_filename(p->folder, name, NULL);
    if (!o || json_dump_file(o, path, JSON_INDENT(2) | JSON_REAL_PRECISION(9)) != 0)
        p->code = cli_say(CLI_FAILED, "%s cannot be written", path);
    json_decref(o);
}

static json_t *write_schemas(camtrap_package *p)
{
    static const camtrap_table *const tables[] = {&CAMTRAP_DEPLOYMENTS, &CAMTRAP_MEDIA,
                                                  &CAMTRAP_OBSERVATIONS};
    json_t *resources = json_array();
    for (gsize i = 0; i < G_N_ELEMENTS(tables); i++) {
        g_autofree char *schema =
            g_strdup_printf("%s-table-schema.json", camtrap_table_name(tables[i]));
        write_json(p, schema, camtrap_schema(tables[i]));
        (void)json_array_append_new(resources, describe_table(tables[i], schema));
    }
    return resources;
}

static json_t *describe_space(const camtrap_package *p)
{
    json_t *points = json_array();
    for (guint i = 0; i < p->stays->len; i++) {
        const camtrap_stay *d = p->stays->pdata[i];
        if (!is_used(d))
            continue;
        (void)json_array_append_new(points, json_pack("[ff]", (double)d->longitude / 1e6,
                                                      (double)d->latitude / 1e6));
    }
    return json_pack("{ss so}", "type", "MultiPoint", "coordinates", points);
}

static json_t *describe_time(const camtrap_package *p)
{
    char start[40], end[40];
    int64_t from = INT64_MAX, until = 0;
    for (guint i = 0; i < p->stays->len; i++) {
        const camtrap_stay *d = p->stays->pdata[i];
        from = MIN(from, d->start_us);
        until = MAX(until, d->end_us);
    }
    (void)camtrap_stamp(from, start);
    (void)camtrap_stamp(until, end);
    start[10] = end[10] = '\0'; /* days */
    return json_pack("{ss ss}", "start", start, "end", end);
}

static json_t *describe_project(const camtrap_package *p, const char *title)
{
    json_t *methods = json_pack("[s]", "activityDetection");
    if (p->timed)
        (void)json_array_append_new(methods, json_string("timeLapse"));
    return json_pack("{ss ss so sb s[s]}", "title", title, "samplingDesign",
                     "opportunistic", "captureMethod", methods, "individualAnimals", 0,
                     "observationLevel", "event");
}

/* Each name once, in an order that does not depend on chance. */
static json_t *describe_names(const camtrap_package *p)
{
    json_t *names = json_array();
    g_autoptr(GList) all =
        g_list_sort(g_hash_table_get_keys(p->names), (GCompareFunc)strcmp);
    for (const GList *at = all; at; at = at->next)
        (void)json_array_append_new(names, json_pack("{ss}", "scientificName", at->data));
    return names;
}

static void describe(camtrap_package *p, const char *title)
{
    char created[40];
    const tw_clock clock = tw_linux_clock();
    write_json(p, "datapackage.json",
               json_pack("{so ss ss s[{ss ss}] so so so so}", "resources",
                         write_schemas(p), "profile", PROFILE, "created",
                         camtrap_stamp(clock.ops->wall_us(clock.ctx), created),
                         "contributors", "title", title, "role", "contributor", "project",
                         describe_project(p, title), "spatial", describe_space(p),
                         "temporal", describe_time(p), "taxonomic", describe_names(p)));
}

void camtrap_package_end(camtrap_package *p, const char *title)
{
    write_deployments(p);
    if (p->code == CLI_DONE)
        describe(p, title);
}
