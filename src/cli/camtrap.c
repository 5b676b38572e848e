/* Export as Camtrap DP 1.0 (Camera Trap Data Package, TDWG 2023): a deployment for each
 * camera, the media of its sightings, and an observation for each sighting: what somebody
 * or a program has said that it shows; blank, where it was marked as nothing; else
 * unclassified. Beside stills of what has a name lies a sidecar of XMP that says so. */
#include "camtrap.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <jansson.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "camtrap_tables.h"
#include "output.h"
#include "../core/naming.h"
#include "../settings/sections.h"

/* By this, readers of the standard know which version of it they have. */
#define PROFILE                                                                          \
    "https://raw.githubusercontent.com/tdwg/camtrap-dp/1.0/camtrap-dp-profile.json"

/* One camera's stay at its place. */
typedef struct deployment {
    char *camera;
    int64_t latitude, longitude; /* millionths of a degree */
    int64_t start_us, end_us;
    gboolean unsure; /* some times may be wrong */
} deployment;

typedef struct package {
    const camtrap_source *source;
    const char *folder;
    GPtrArray *deployments;
    FILE *media;
    gboolean timed; /* there are media by the clock */
    int code;
} package;

/* ---- tables ---------------------------------------------------------------------- */

/* "2027-03-13T20:30:14Z" */
static const char *stamp(int64_t wall_us, char buffer[40])
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

static FILE *open_table(package *p, const camtrap_table *table)
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

static void close_table(package *p, FILE *out, const camtrap_table *table)
{
    const gboolean failed = out && ferror(out);
    if (out && (fclose(out) != 0 || failed))
        p->code = cli_say(CLI_FAILED, "%s/%s.csv: %s", p->folder,
                          camtrap_table_name(table), g_strerror(errno));
}

/* ---- deployments ----------------------------------------------------------------- */

static void free_deployment(gpointer data)
{
    deployment *d = data;
    g_free(d->camera);
    g_free(d);
}

/* The deployment of a camera, made when it is first asked for. @return NULL: it is not
 * known where the camera stands; told. */
static deployment *find_deployment(package *p, const char *camera)
{
    twi_camera_settings settings;
    for (guint i = 0; i < p->deployments->len; i++) {
        deployment *d = p->deployments->pdata[i];
        if (strcmp(d->camera, camera) == 0)
            return d;
    }
    if (twi_settings_camera(p->source->settings, camera, &settings) != TW_OK ||
        settings.latitude == TWI_NOWHERE || settings.longitude == TWI_NOWHERE) {
        p->code =
            cli_say(CLI_FAILED,
                    "it is not known where camera %s stands: write its latitude and "
                    "longitude into the settings, or --set %s.latitude=...",
                    camera, camera);
        return NULL;
    }
    deployment *d = g_new0(deployment, 1);
    d->camera = g_strdup(camera);
    d->latitude = settings.latitude;
    d->longitude = settings.longitude;
    d->start_us = INT64_MAX;
    g_ptr_array_add(p->deployments, d);
    return d;
}

static void extend(deployment *d, int64_t start_us, int64_t end_us, gboolean unsure)
{
    d->start_us = MIN(d->start_us, start_us);
    d->end_us = MAX(d->end_us, MAX(start_us, end_us));
    d->unsure = d->unsure || unsure;
}

static void write_deployments(package *p)
{
    FILE *out = open_table(p, &CAMTRAP_DEPLOYMENTS);
    for (guint i = 0; out && i < p->deployments->len; i++) {
        const deployment *d = p->deployments->pdata[i];
        char start[40], end[40], latitude[40], longitude[40];
        camtrap_put_row(
            out, &CAMTRAP_DEPLOYMENTS,
            (const camtrap_cell[]){{"deploymentID", d->camera},
                                   {"latitude", degrees(d->latitude, latitude)},
                                   {"longitude", degrees(d->longitude, longitude)},
                                   {"deploymentStart", stamp(d->start_us, start)},
                                   {"deploymentEnd", stamp(d->end_us, end)},
                                   {"cameraID", d->camera},
                                   {"timestampIssues", d->unsure ? "true" : "false"},
                                   {NULL, NULL}});
    }
    close_table(p, out, &CAMTRAP_DEPLOYMENTS);
}

/* ---- media ----------------------------------------------------------------------- */

/* The file below the package: a link where both are on one file system, else a copy. */
static gboolean bring(package *p, const char *file)
{
    g_autofree char *from = g_build_filename(p->source->store, file, NULL);
    g_autofree char *to = g_build_filename(p->folder, file, NULL);
    g_autofree char *above = g_path_get_dirname(to);
    g_autofree char *bytes = NULL;
    gsize size = 0;
    if (g_mkdir_with_parents(above, 0777) == 0 &&
        (link(from, to) == 0 || errno == EEXIST))
        return TRUE;
    if (g_file_get_contents(from, &bytes, &size, NULL) &&
        g_file_set_contents(to, bytes, (gssize)size, NULL))
        return TRUE;
    p->code = cli_say(CLI_FAILED, "%s cannot be brought to %s", from, to);
    return FALSE;
}

/* Captioned copies show nothing that the clean ones do not; continuous recording is no
 * capture method of the standard. */
static gboolean is_media(twi_kind kind)
{
    return kind == TWI_KIND_STILL || kind == TWI_KIND_CLIP ||
           kind == TWI_KIND_TIMED_STILL || kind == TWI_KIND_TIMED_CLIP;
}

static void write_medium(package *p, const tw_capture_record *c, gboolean starred)
{
    char id[32], time[40];
    const twi_kind kind = twi_kind_find(c->kind);
    const gboolean video = twi_kind_is_video(kind);
    g_autofree char *name = g_path_get_basename(c->file);
    (void)g_snprintf(id, sizeof id, "m%lld", (long long)c->id);
    camtrap_put_row(p->media, &CAMTRAP_MEDIA,
                    (const camtrap_cell[]){
                        {"mediaID", id},
                        {"deploymentID", c->camera},
                        {"captureMethod",
                         twi_kind_of_sighting(kind) ? "activityDetection" : "timeLapse"},
                        {"timestamp", stamp(c->start_us, time)},
                        {"filePath", c->file},
                        {"filePublic", "false"},
                        {"fileName", name},
                        {"fileMediatype", video ? "video/mp4" : "image/jpeg"},
                        {"favorite", starred ? "true" : "false"},
                        {NULL, NULL}});
}

/* The name by the standard terms of those who keep pictures (Dublin Core) and of those
 * who keep records (Darwin Core), beside the still that stays as it is. */
static void write_sidecar(package *p, const char *file, const tw_sighting_record *r)
{
    static const char FORM[] =
        "<?xpacket begin='\xEF\xBB\xBF' id='W5M0MpCehiHzreSzNTczkc9d'?>\n"
        "<x:xmpmeta xmlns:x='adobe:ns:meta/'>\n"
        "<rdf:RDF xmlns:rdf='http://www.w3.org/1999/02/22-rdf-syntax-ns#'>\n"
        "<rdf:Description rdf:about='' xmlns:dc='http://purl.org/dc/elements/1.1/' "
        "xmlns:dwc='http://rs.tdwg.org/dwc/terms/' "
        "xmlns:xmp='http://ns.adobe.com/xap/1.0/'>\n"
        "<dc:subject><rdf:Bag><rdf:li>%s</rdf:li></rdf:Bag></dc:subject>\n"
        "<dc:description><rdf:Alt><rdf:li xml:lang='x-default'>%s</rdf:li></rdf:Alt>"
        "</dc:description>\n"
        "<dwc:scientificName>%s</dwc:scientificName>\n"
        "<dwc:individualCount>%s</dwc:individualCount>\n"
        "<dwc:identifiedBy>%s</dwc:identifiedBy>\n"
        "<dwc:occurrenceRemarks>%s</dwc:occurrenceRemarks>\n"
        "<xmp:CreateDate>%s</xmp:CreateDate>\n"
        "</rdf:Description>\n</rdf:RDF>\n</x:xmpmeta>\n<?xpacket end='w'?>\n";
    char heads[16] = "", time[40];
    g_autofree char *path = g_strdup_printf("%s/%s.xmp", p->folder, file);
    if (r->count > 0)
        (void)g_snprintf(heads, sizeof heads, "%u", (unsigned)r->count);
    g_autofree char *text = g_markup_printf_escaped(
        FORM, r->name, r->note[0] ? r->note : r->name, r->name, heads,
        r->named_by[0] ? r->named_by : "human", r->note, stamp(r->start_us, time));
    if (!g_file_set_contents(path, text, -1, NULL))
        p->code = cli_say(CLI_FAILED, "%s cannot be written", path);
}

typedef struct taking {
    package *p;
    gboolean starred;
    const tw_sighting_record *of; /* NULL: of none */
    gboolean timed;               /* those of no sighting, instead of those of one */
} taking;

static bool take_capture(void *ctx, const tw_capture_record *c)
{
    taking *t = ctx;
    package *p = t->p;
    const twi_kind kind = twi_kind_find(c->kind);
    if (!is_media(kind) || (t->timed && twi_kind_of_sighting(kind)))
        return true;
    deployment *d = find_deployment(p, c->camera);
    if (!d || !bring(p, c->file))
        return false;
    extend(d, c->start_us, c->start_us, c->unsure);
    p->timed = p->timed || t->timed;
    write_medium(p, c, t->starred);
    if (t->of && t->of->name[0] && kind == TWI_KIND_STILL)
        write_sidecar(p, c->file, t->of);
    return true;
}

static void write_media(package *p)
{
    tw_error err = {0};
    tw_status st = TW_OK;
    const GArray *records = p->source->records;
    p->media = open_table(p, &CAMTRAP_MEDIA);
    for (guint i = 0; p->media && p->code == CLI_DONE && st == TW_OK && i < records->len;
         i++) {
        const tw_sighting_record *r = &g_array_index(records, tw_sighting_record, i);
        taking one = {p, r->starred, r, FALSE};
        st = tw_catalogue_captures(p->source->catalogue, r->id, take_capture, &one, &err);
    }
    taking timed = {p, FALSE, NULL, TRUE};
    if (p->media && p->code == CLI_DONE && st == TW_OK)
        st = tw_catalogue_captures(p->source->catalogue, 0, take_capture, &timed, &err);
    if (st != TW_OK)
        p->code = cli_say(CLI_FAILED, "%s", err.text);
    close_table(p, p->media, &CAMTRAP_MEDIA);
}

/* ---- observations ---------------------------------------------------------------- */

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

static void write_observation(FILE *out, const tw_sighting_record *r)
{
    char id[32], event[32], start[40], end[40];
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
        (void)stamp(r->named_us, said);
    (void)g_snprintf(id, sizeof id, "o%lld", (long long)r->id);
    (void)g_snprintf(event, sizeof event, "s%lld", (long long)r->id);
    camtrap_put_row(
        out, &CAMTRAP_OBSERVATIONS,
        (const camtrap_cell[]){{"observationID", id},
                               {"deploymentID", r->camera},
                               {"eventID", event},
                               {"eventStart", stamp(r->start_us, start)},
                               {"eventEnd", stamp(MAX(r->start_us, r->end_us), end)},
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

static void write_observations(package *p)
{
    const GArray *records = p->source->records;
    FILE *out = open_table(p, &CAMTRAP_OBSERVATIONS);
    for (guint i = 0; out && p->code == CLI_DONE && i < records->len; i++) {
        const tw_sighting_record *r = &g_array_index(records, tw_sighting_record, i);
        deployment *d = find_deployment(p, r->camera);
        if (!d)
            break;
        extend(d, r->start_us, r->end_us, r->unsure);
        write_observation(out, r);
    }
    close_table(p, out, &CAMTRAP_OBSERVATIONS);
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

static void write_json(package *p, const char *name, json_t *o)
{
    g_autofree char *path = g_build_filename(p->folder, name, NULL);
    if (!o || json_dump_file(o, path, JSON_INDENT(2) | JSON_REAL_PRECISION(9)) != 0)
        p->code = cli_say(CLI_FAILED, "%s cannot be written", path);
    json_decref(o);
}

static json_t *write_schemas(package *p)
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

static json_t *describe_space(const package *p)
{
    json_t *points = json_array();
    for (guint i = 0; i < p->deployments->len; i++) {
        const deployment *d = p->deployments->pdata[i];
        (void)json_array_append_new(points, json_pack("[ff]", (double)d->longitude / 1e6,
                                                      (double)d->latitude / 1e6));
    }
    return json_pack("{ss so}", "type", "MultiPoint", "coordinates", points);
}

static json_t *describe_time(const package *p)
{
    char start[40], end[40];
    int64_t from = INT64_MAX, until = 0;
    for (guint i = 0; i < p->deployments->len; i++) {
        const deployment *d = p->deployments->pdata[i];
        from = MIN(from, d->start_us);
        until = MAX(until, d->end_us);
    }
    (void)stamp(from, start);
    (void)stamp(until, end);
    start[10] = end[10] = '\0'; /* days */
    return json_pack("{ss ss}", "start", start, "end", end);
}

static json_t *describe_project(const package *p, const char *title)
{
    json_t *methods = json_pack("[s]", "activityDetection");
    if (p->timed)
        (void)json_array_append_new(methods, json_string("timeLapse"));
    return json_pack("{ss ss so sb s[s]}", "title", title, "samplingDesign",
                     "opportunistic", "captureMethod", methods, "individualAnimals", 0,
                     "observationLevel", "event");
}

/* Each name once. */
static json_t *describe_names(const package *p)
{
    const GArray *records = p->source->records;
    g_autoptr(GHashTable) seen = g_hash_table_new(g_str_hash, g_str_equal);
    json_t *names = json_array();
    for (guint i = 0; i < records->len; i++) {
        const tw_sighting_record *r = &g_array_index(records, tw_sighting_record, i);
        if (r->name[0] && r->mark != TW_MARK_NOTHING &&
            g_hash_table_add(seen, (gpointer)r->name))
            (void)json_array_append_new(names,
                                        json_pack("{ss}", "scientificName", r->name));
    }
    return names;
}

static void write_package(package *p)
{
    char created[40];
    twi_station_settings station;
    twi_settings_station(p->source->settings, &station);
    const tw_clock clock = tw_linux_clock();
    write_json(p, "datapackage.json",
               json_pack("{so ss ss s[{ss ss}] so so so so}", "resources",
                         write_schemas(p), "profile", PROFILE, "created",
                         stamp(clock.ops->wall_us(clock.ctx), created), "contributors",
                         "title", station.name, "role", "contributor", "project",
                         describe_project(p, station.name), "spatial", describe_space(p),
                         "temporal", describe_time(p), "taxonomic", describe_names(p)));
}

/* Before anything is written: half an export is of no use. */
static void check_places(package *p)
{
    const GArray *records = p->source->records;
    for (guint i = 0; i < records->len && p->code == CLI_DONE; i++)
        (void)find_deployment(p, g_array_index(records, tw_sighting_record, i).camera);
}

int camtrap_export(const camtrap_source *source, const char *folder)
{
    package p = {.source = source, .folder = folder, .code = CLI_DONE};
    if (source->records->len == 0)
        return cli_say(CLI_FAILED, "there are no sightings to export");
    p.deployments = g_ptr_array_new_with_free_func(free_deployment);
    check_places(&p);
    if (p.code == CLI_DONE && g_mkdir_with_parents(folder, 0777) != 0)
        p.code = cli_say(CLI_FAILED, "%s: %s", folder, g_strerror(errno));
    if (p.code == CLI_DONE)
        write_media(&p);
    if (p.code == CLI_DONE)
        write_observations(&p);
    if (p.code == CLI_DONE)
        write_deployments(&p);
    if (p.code == CLI_DONE)
        write_package(&p);
    if (p.code == CLI_DONE)
        (void)printf("%u sighting%s of %u camera%s exported to %s\n",
                     source->records->len, out_s(source->records->len),
                     p.deployments->len, out_s(p.deployments->len), folder);
    (void)g_ptr_array_free(p.deployments, TRUE);
    return p.code;
}
