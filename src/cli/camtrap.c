/* Export of one station as Camtrap DP 1.0: the media of its sightings come along. Beside
 * stills of what has a name lies a sidecar of XMP that says so. */
#include "camtrap.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "camtrap_package.h"
#include "output.h"
#include "../core/naming.h"
#include "../settings/sections.h"

typedef struct exporting {
    camtrap_package package;
    const camtrap_source *source;
    FILE *media;
} exporting;

/* The stay of a camera, made when it is first asked for. @return NULL: it is not known
 * where the camera stands; told. */
static camtrap_stay *find_stay(exporting *x, const char *camera)
{
    twi_camera_settings settings;
    camtrap_stay *known = camtrap_stay_find(&x->package, camera);
    if (known)
        return known;
    if (twi_settings_camera(x->source->settings, camera, &settings) != TW_OK ||
        settings.latitude == TWI_NOWHERE || settings.longitude == TWI_NOWHERE) {
        x->package.code =
            cli_say(CLI_FAILED,
                    "it is not known where camera %s stands: write its latitude and "
                    "longitude into the settings, or --set %s.latitude=...",
                    camera, camera);
        return NULL;
    }
    return camtrap_stay_add(&x->package, camera, settings.latitude, settings.longitude);
}

/* ---- media ----------------------------------------------------------------------- */

/* The file below the package: a link where both are on one file system, else a copy. */
static gboolean bring(exporting *x, const char *file)
{
    g_autofree char *from = g_build_filename(x->source->store, file, NULL);
    g_autofree char *to = g_build_filename(x->package.folder, file, NULL);
    g_autofree char *above = g_path_get_dirname(to);
    g_autofree char *bytes = NULL;
    gsize size = 0;
    if (g_mkdir_with_parents(above, 0777) == 0 &&
        (link(from, to) == 0 || errno == EEXIST))
        return TRUE;
    if (g_file_get_contents(from, &bytes, &size, NULL) &&
        g_file_set_contents(to, bytes, (gssize)size, NULL))
        return TRUE;
    x->package.code = cli_say(CLI_FAILED, "%s cannot be brought to %s", from, to);
    return FALSE;
}

/* Captioned copies show nothing that the clean ones do not; continuous recording is no
 * capture method of the standard. */
static gboolean is_media(twi_kind kind)
{
    return kind == TWI_KIND_STILL || kind == TWI_KIND_CLIP ||
           kind == TWI_KIND_TIMED_STILL || kind == TWI_KIND_TIMED_CLIP;
}

static void write_medium(const exporting *x, const tw_capture_record *c, gboolean starred)
{
    char id[32];
    const twi_kind kind = twi_kind_find(c->kind);
    g_autofree char *name = g_path_get_basename(c->file);
    (void)g_snprintf(id, sizeof id, "m%lld", (long long)c->id);
    camtrap_put_medium(x->media,
                       &(const camtrap_medium){.id = id,
                                               .stay = c->camera,
                                               .path = c->file,
                                               .name = name,
                                               .of_sighting = twi_kind_of_sighting(kind),
                                               .video = twi_kind_is_video(kind),
                                               .starred = starred,
                                               .start_us = c->start_us});
}

/* The name by the standard terms of those who keep pictures (Dublin Core) and of those
 * who keep records (Darwin Core), beside the still that stays as it is. */
static void write_sidecar(exporting *x, const char *file, const tw_sighting_record *r)
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
    g_autofree char *path = g_strdup_printf("%s/%s.xmp", x->package.folder, file);
    if (r->count > 0)
        (void)g_snprintf(heads, sizeof heads, "%u", (unsigned)r->count);
    g_autofree char *text =
        g_markup_printf_escaped(FORM, r->name, r->note[0] ? r->note : r->name, r->name,
                                heads, r->named_by[0] ? r->named_by : "human", r->note,
                                camtrap_stamp(r->start_us, time));
    if (!g_file_set_contents(path, text, -1, NULL))
        x->package.code = cli_say(CLI_FAILED, "%s cannot be written", path);
}

typedef struct taking {
    exporting *x;
    gboolean starred;
    const tw_sighting_record *of; /* NULL: of none */
    gboolean timed;               /* those of no sighting, instead of those of one */
} taking;

static bool take_capture(void *ctx, const tw_capture_record *c)
{
    taking *t = ctx;
    exporting *x = t->x;
    const twi_kind kind = twi_kind_find(c->kind);
    if (!is_media(kind) || (t->timed && twi_kind_of_sighting(kind)))
        return true;
    camtrap_stay *d = find_stay(x, c->camera);
    if (!d || !bring(x, c->file))
        return false;
    camtrap_stay_extend(d, c->start_us, c->start_us, c->unsure);
    x->package.timed = x->package.timed || t->timed;
    write_medium(x, c, t->starred);
    if (t->of && t->of->name[0] && kind == TWI_KIND_STILL)
        write_sidecar(x, c->file, t->of);
    return true;
}

static void write_media(exporting *x)
{
    tw_error err = {0};
    tw_status st = TW_OK;
    const GArray *records = x->source->records;
    x->media = camtrap_table_open(&x->package, &CAMTRAP_MEDIA);
    for (guint i = 0;
         x->media && x->package.code == CLI_DONE && st == TW_OK && i < records->len;
         i++) {
        const tw_sighting_record *r = &g_array_index(records, tw_sighting_record, i);
        taking one = {x, r->starred, r, FALSE};
        st = tw_catalogue_captures(x->source->catalogue, r->id, take_capture, &one, &err);
    }
    taking timed = {x, FALSE, NULL, TRUE};
    if (x->media && x->package.code == CLI_DONE && st == TW_OK)
        st = tw_catalogue_captures(x->source->catalogue, 0, take_capture, &timed, &err);
    if (st != TW_OK)
        x->package.code = cli_say(CLI_FAILED, "%s", err.text);
    camtrap_table_close(&x->package, x->media, &CAMTRAP_MEDIA);
}

static void write_observations(exporting *x)
{
    const GArray *records = x->source->records;
    FILE *out = camtrap_table_open(&x->package, &CAMTRAP_OBSERVATIONS);
    for (guint i = 0; out && x->package.code == CLI_DONE && i < records->len; i++) {
        const tw_sighting_record *r = &g_array_index(records, tw_sighting_record, i);
        char id[32], event[32];
        camtrap_stay *d = find_stay(x, r->camera);
        if (!d)
            break;
        camtrap_stay_extend(d, r->start_us, r->end_us, r->unsure);
        (void)g_snprintf(id, sizeof id, "o%lld", (long long)r->id);
        (void)g_snprintf(event, sizeof event, "s%lld", (long long)r->id);
        camtrap_put_observation(&x->package, out, id, event, d->id, r);
    }
    camtrap_table_close(&x->package, out, &CAMTRAP_OBSERVATIONS);
}

/* Before anything is written: half an export is of no use. */
static void check_places(exporting *x)
{
    const GArray *records = x->source->records;
    for (guint i = 0; i < records->len && x->package.code == CLI_DONE; i++)
        (void)find_stay(x, g_array_index(records, tw_sighting_record, i).camera);
}

int camtrap_export(const camtrap_source *source, const char *folder)
{
    exporting x = {.source = source};
    camtrap_package *p = &x.package;
    twi_station_settings station;
    if (source->records->len == 0)
        return cli_say(CLI_FAILED, "there are no sightings to export");
    camtrap_package_begin(p, folder);
    twi_settings_station(source->settings, &station);
    check_places(&x);
    if (p->code == CLI_DONE)
        camtrap_package_make(p);
    if (p->code == CLI_DONE)
        write_media(&x);
    if (p->code == CLI_DONE)
        write_observations(&x);
    if (p->code == CLI_DONE)
        camtrap_package_end(p, station.name);
    if (p->code == CLI_DONE)
        (void)printf("%u sighting%s of %u camera%s exported to %s\n",
                     source->records->len, out_s(source->records->len), p->stays->len,
                     out_s(p->stays->len), folder);
    const int code = p->code;
    camtrap_package_clear(p);
    return code;
}
