/* A camera end to end, in one thread: sightings against the scene's truth, captures on a
 * card, damaged frames, changing sizes, full cards. */
#include <stdlib.h>
#include <string.h>

#include "../../src/media/codecs.h"
#include "../support/support.h"
#include "../../src/core/naming.h"
#include "../../src/settings/sections.h"
#include "../../src/station/rehearse.h"
#include "../../src/station/footage.h"
#include "tawny/rehearse.h"
#include "tawny/draw.h"
#include "tawny/events.h"
#include "tawny/port.h"
#include "tawny/settings.h"

enum { MOST = 16 };

/* Small and slow, so that the sanitizers are done within minutes. */
#define KERB "sim:kerb,size=240x136"

/* What a rehearsal has told. */
typedef struct told {
    tw_sighting seen[MOST];
    size_t sightings, clips, stills, readings;
    size_t homeless; /* captures of no sighting */
    size_t captioned;
    size_t freed; /* times that room was made */
    problems problems;
    uint64_t digest; /* of all readings */
} told;

static void on_event(void *ctx, const tw_event *e)
{
    told *t = ctx;
    if (e->camera) /* else it concerns the station */
        assert_string_equal(e->camera, "kerb");
    else
        assert_true(e->kind == TW_EVENT_FREED || e->kind == TW_EVENT_PROBLEM);
    switch (e->kind) {
    case TW_EVENT_READING:
        t->readings++;
        t->digest = t->digest * 31 + e->reading->activity_ppm + e->reading->raw_ppm * 7U;
        break;
    case TW_EVENT_ENDED:
        assert_true(t->sightings < MOST);
        t->seen[t->sightings++] = *e->sighting;
        break;
    case TW_EVENT_STORED:
        t->clips += strcmp(e->file_kind, "clip") == 0;
        t->stills += strcmp(e->file_kind, "still") == 0;
        t->homeless += e->sighting == NULL;
        t->captioned += strncmp(e->file_kind, "captioned", 9) == 0;
        assert_true((e->sighting != NULL) ==
                    twi_kind_of_sighting(twi_kind_find(e->file_kind)));
        assert_true(e->bytes > 0);
        break;
    case TW_EVENT_FREED: t->freed++; break;
    case TW_EVENT_PROBLEM: collect_problem(&t->problems, e->text); break;
    default: break;
    }
}

typedef struct rehearsal {
    tw_settings *settings;
    twi_camera_settings camera;
    twi_station_settings station;
    told told;
    tw_rehearsal_result result;
    tw_error err;
} rehearsal;

/* Settings lines hold for the camera. */
static rehearsal *prepare(const char *source, const char *lines)
{
    rehearsal *r = calloc(1, sizeof *r);
    char text[1024];
    problems p = {0};
    assert_non_null(r);
    r->settings = tw_settings_new();
    (void)snprintf(text, sizeof text, "[camera kerb]\nsource = %s\n%s%s%s", source,
                   strstr(lines, "fps") ? "" : "fps = 5\n",
                   strstr(lines, "clip_video") ? "" : "clip_video = mjpeg\n", lines);
    (void)tw_settings_read_text(r->settings, "test", text, strlen(text), collect_problem,
                                &p);
    (void)tw_settings_check(r->settings, collect_problem, &p);
    if (p.count > 0)
        fail_msg("%s", p.text);
    assert_int_equal(twi_settings_camera(r->settings, "kerb", &r->camera), TW_OK);
    twi_settings_station(r->settings, &r->station);
    return r;
}

static tw_status run(rehearsal *r, const tw_card *card)
{
    const tw_platform platform = {
        .makers = TEST_MAKERS, .clock = tw_linux_clock(), .card = card};
    return twi_rehearse(&platform, &r->camera, &r->station, NULL, on_event, &r->told,
                        &r->result, &r->err);
}

static void done(rehearsal *r)
{
    tw_settings_free(r->settings);
    free(r);
}

/* Each subject is found, none is invented. */
static void check_truth(const told *t)
{
    const tw_sim_scene *scene = tw_sim_scene_find("kerb");
    assert_int_equal(t->sightings, scene->event_count);
    for (size_t i = 0; i < scene->event_count; i++) {
        const tw_sim_event *e = &scene->events[i];
        assert_true(t->seen[i].start_us >= e->start_us);
        assert_true(t->seen[i].start_us <= e->start_us + 1500000);
        assert_true(t->seen[i].end_us <= e->end_us + 1000000);
        assert_true(t->seen[i].end_us >= e->end_us - 2000000);
    }
}

static void test_sightings_match_the_truth_of_the_scene(void **state)
{
    (void)state;
    static const char *const sources[] = {KERB, KERB ",seed=9", "sim:kerb,size=320x180",
                                          KERB ",raw=yes"};
    for (size_t i = 0; i < sizeof sources / sizeof *sources; i++) {
        rehearsal *r = prepare(sources[i], "");
        assert_int_equal(run(r, NULL), TW_OK);
        check_truth(&r->told);
        assert_int_equal(r->result.frames, 750);
        assert_int_equal(r->told.readings, 750);
        assert_int_equal(r->result.sightings, 3);
        assert_int_equal(r->result.length_us, 150000000);
        assert_int_equal(r->told.problems.count, 0);
        done(r);
    }
}

/* Frames in between are not decoded where no other needs them, and key frames alone where
 * that is often enough; all are kept. */
static void test_frames_in_between_are_spared(void **state)
{
    (void)state;
    static const struct {
        const char *lines;
        uint64_t frames, least, most; /* decoded */
    } cases[] = {{"fps = auto\ncheck_every = 0 s\n", 100, 100, 100},
                 {"fps = auto\ncheck_every = 0.4 s\n", 25, 25, 75},
                 {"fps = auto\ncheck_every = 1 s\n", 10, 10, 20},
                 {"fps = auto\ncheck_every = 2 s\n", 5, 5, 20}};
    char *folder = make_folder();
    outcome o = run_program(folder, FFMPEG, "-v", "error", "-f", "lavfi", "-i",
                            "testsrc2=size=320x192:rate=10:duration=10", "-c:v",
                            "libx264", "-g", "10", "-keyint_min", "10", "-bf", "2",
                            "-b-pyramid", "none", "-sc_threshold", "0", "b.mp4", NULL);
    assert_string_equal(o.err, "");
    free_outcome(&o);
    char *path = join(folder, "b.mp4"), source[512];
    (void)snprintf(source, sizeof source, "file:%s", path);
    uint64_t bytes = 0;
    for (size_t i = 0; i < sizeof cases / sizeof *cases; i++) {
        rehearsal *r = prepare(source, cases[i].lines);
        assert_int_equal(run(r, NULL), TW_OK);
        assert_int_equal(r->result.frames, cases[i].frames);
        assert_in_range(r->result.decoded, cases[i].least, cases[i].most);
        bytes = bytes ? bytes : r->result.packet_bytes;
        assert_int_equal(r->result.packet_bytes, bytes);
        assert_int_equal(r->told.problems.count, 0);
        done(r);
    }
    free(path);
    remove_folder(folder);
}

/* What the detector was shown, by the tenth of a second. */
typedef struct shown {
    uint64_t picture[400]; /* 0: none */
    size_t count;
} shown;

static void note_picture(void *ctx, const tw_event *e)
{
    shown *s = ctx;
    if (e->kind == TW_EVENT_PROBLEM)
        fail_msg("%s", e->text);
    if (e->kind != TW_EVENT_READING)
        return;
    uint64_t hash = 14695981039346656037U;
    for (uint16_t y = 0; y < e->luma->height; y++)
        for (uint16_t x = 0; x < e->luma->width; x++)
            hash = (hash ^ e->luma->px[(size_t)y * e->luma->stride + x]) * 1099511628211;
    const int64_t at = (e->t_us + 50000) / 100000;
    assert_in_range(at, 0, 399);
    s->picture[at] = hash;
    s->count++;
}

static void show(const char *source, const char *lines, shown *out)
{
    rehearsal *r = prepare(source, lines);
    const tw_platform platform = {.makers = TEST_MAKERS, .clock = tw_linux_clock()};
    memset(out, 0, sizeof *out);
    assert_int_equal(twi_rehearse(&platform, &r->camera, &r->station, NULL, note_picture,
                                  out, &r->result, &r->err),
                     TW_OK);
    assert_int_equal(r->result.bad_frames, 0);
    done(r);
}

/* While it is disarmed few pictures are decoded. In the middle of a group a decoder knows
 * nothing that a picture is made from: it begins again with the next key frame. */
static void test_no_picture_from_the_middle_of_a_group(void **state)
{
    (void)state;
    char *folder = make_folder(), *path = join(folder, "g.mp4"), source[512];
    shown all, some;
    (void)setenv("TZ", "UTC", 1);
    outcome o =
        run_program(folder, FFMPEG, "-v", "error", "-f", "lavfi", "-i",
                    "testsrc2=size=320x192:rate=10:duration=20", "-c:v", "libx264", "-g",
                    "40", "-keyint_min", "40", "-sc_threshold", "0", "-metadata",
                    "creation_time=2027-03-13T20:30:50Z", "g.mp4", NULL);
    assert_string_equal(o.err, "");
    free_outcome(&o);
    (void)snprintf(source, sizeof source, "file:%s", path);
    show(source, "fps = auto\nhours = always\n", &all);
    show(source, "fps = auto\nhours = 20:31-23:00\n", &some);
    assert_int_equal(all.count, 200);
    for (size_t i = 0; i < 400; i++) {
        /* key frames while it is disarmed, and the few that a decoder needs before it
         * gives them; all from the first key frame on after that */
        const bool wanted = i < 120 ? i % 40 == 0 : i < 200, there = some.picture[i] != 0;
        const bool may = wanted || (i < 120 && i % 40 < 8);
        if ((wanted && !there) || (there && !may))
            fail_msg("at %zu tenths: a picture was%s looked at", i, wanted ? " not" : "");
        if (there && some.picture[i] != all.picture[i])
            fail_msg("at %zu tenths: another picture", i);
    }
    free(path);
    remove_folder(folder);
}

static void test_other_frame_rates(void **state)
{
    (void)state;
    static const char *const rates[] = {"fps = 10\n", "fps = 20\n"};
    for (size_t i = 0; i < 2; i++) {
        rehearsal *r = prepare(KERB, rates[i]);
        assert_int_equal(run(r, NULL), TW_OK);
        check_truth(&r->told);
        done(r);
    }
}

/* The one subject of a scene is found, and nothing else is. */
static void check_only_subject(const char *name, const char *rate)
{
    char source[64];
    (void)snprintf(source, sizeof source, "sim:%s,size=320x180,raw=yes", name);
    rehearsal *r = prepare(source, rate);
    const tw_sim_event *e = tw_sim_scene_find(name)->events;
    assert_int_equal(run(r, NULL), TW_OK);
    assert_true(r->told.sightings > 0);
    for (size_t i = 0; i < r->told.sightings; i++)
        assert_true(r->told.seen[i].start_us < e->end_us &&
                    r->told.seen[i].end_us > e->start_us);
    done(r);
}

static void test_what_falls_hides_no_subject(void **state)
{
    (void)state;
    check_only_subject("mere-rain", "fps = 5\n");
    check_only_subject("mere-rain", "fps = 10\n");
    check_only_subject("mere-snow", "fps = 10\n");
}

static void test_captures_are_complete_and_the_same_every_time(void **state)
{
    (void)state;
    tw_card cards[2];
    uint64_t digests[2];
    for (int i = 0; i < 2; i++) {
        rehearsal *r = prepare(KERB, "");
        assert_int_equal(tw_sim_card(NULL, &cards[i]), TW_OK);
        assert_int_equal(run(r, &cards[i]), TW_OK);
        assert_int_equal(r->told.clips, 3);
        assert_int_equal(r->told.stills, 3);
        digests[i] = r->told.digest;
        done(r);
    }
    assert_true(digests[0] == digests[1]);
    assert_int_equal(tw_sim_card_count(&cards[0]), 6);
    for (size_t i = 0; i < 6; i++) {
        const char *name[2];
        const uint8_t *data[2];
        size_t bytes[2];
        for (int k = 0; k < 2; k++)
            assert_int_equal(
                tw_sim_card_file(&cards[k], i, &name[k], &data[k], &bytes[k]), TW_OK);
        assert_string_equal(name[0], name[1]);
        assert_int_equal(bytes[0], bytes[1]);
        assert_memory_equal(data[0], data[1], bytes[0]);
        assert_null(strstr(name[0], ".part"));
    }
    for (int i = 0; i < 2; i++)
        cards[i].ops->destroy(cards[i].ctx);
}

/* Names, lengths and times of the captures of one sighting. */
static void test_a_clip_holds_pre_and_post_event_footage(void **state)
{
    (void)state;
    char *folder = make_folder();
    tw_card card;
    (void)setenv("TZ", "UTC", 1);
    rehearsal *r = prepare(KERB, "pre_event = 3 s\npost_event = 4 s\n");
    assert_int_equal(tw_linux_card(folder, &card, NULL), TW_OK);
    assert_int_equal(run(r, &card), TW_OK);
    char **files = list_files(folder);
    assert_int_equal(list_length(files), 6);
    const twi_codecs *codecs = twi_codecs_load(NULL);
    for (size_t i = 0; i < 3; i++) {
        const tw_sighting *s = &r->told.seen[i];
        twi_civil t;
        char name[128], *path = join(folder, files[2 * i]);
        twi_civil_split(INT64_C(1804969800000000) + s->clip_start_us, 0, &t);
        (void)snprintf(
            name, sizeof name,
            "2027-03-13/kerb/kerb-20270313T%02u%02u%02u.%03u+0000-%03zu-clip.mp4", t.hour,
            t.minute, t.second, (unsigned)(t.microsecond / 1000), i + 1);
        assert_string_equal(files[2 * i], name);
        twi_footage *footage = NULL;
        tw_stream stream;
        tw_packet packet;
        int64_t wall = 0, last = 0, frames = 0;
        assert_int_equal(codecs->footage_open(path, &footage, &stream, &wall, NULL),
                         TW_OK);
        for (; codecs->footage_next(footage, &packet, NULL) == TW_OK; frames++)
            last = packet.t_us;
        codecs->footage_close(footage);
        assert_int_equal(s->start_us - s->clip_start_us, 3000000);
        assert_int_equal(s->clip_end_us - s->end_us, 4000000);
        assert_int_equal(frames, (s->clip_end_us - s->clip_start_us) / 200000);
        assert_int_equal(last, s->clip_end_us - s->clip_start_us - 200000);
        free(path);
    }
    free_list(files);
    card.ops->destroy(card.ctx);
    remove_folder(folder);
    done(r);
}

static size_t count_stills(const char *lines)
{
    tw_card card;
    char all[256];
    (void)snprintf(all, sizeof all, "clips = no\n%s", lines);
    rehearsal *r = prepare(KERB, all);
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    assert_int_equal(run(r, &card), TW_OK);
    assert_int_equal(r->told.clips, 0);
    const size_t count = r->told.stills;
    assert_int_equal(tw_sim_card_count(&card), count);
    card.ops->destroy(card.ctx);
    done(r);
    return count;
}

static void test_stills_as_they_are_wanted(void **state)
{
    (void)state;
    assert_int_equal(count_stills("stills = none\n"), 0);
    assert_int_equal(count_stills("stills = first\n"), 3);
    assert_int_equal(count_stills("stills = best\n"), 3);
    /* 62 s of motion; what comes after it, for post_event, gives none */
    const size_t every = count_stills("stills = every 5 s\n");
    assert_in_range(every, 11, 15);
    assert_int_equal(count_stills("stills = first\nburst = 4\n"), 12);
    assert_int_equal(count_stills("stills = best\nburst = 4\n"), 3);
    /* a sighting's end may cut its last burst off */
    assert_in_range(count_stills("stills = every 5 s\nburst = 3\n"), 3 * every - 6,
                    3 * every);
}

/* ---- by the clock, whatever happens: the footage begins at 20:30:00, lasts 150 s ------
 */

enum { PICTURES = 750, SAMPLES_MAX = 2000 };

/* Packets of the videos on a card with so much in their names, in the order of names. */
typedef struct samples {
    uint32_t hash[SAMPLES_MAX];
    size_t count, files;
} samples;

static uint32_t hash_of(const uint8_t *data, size_t bytes)
{
    uint32_t hash = 2166136261U; /* FNV-1a */
    for (size_t i = 0; i < bytes; i++)
        hash = (hash ^ data[i]) * 16777619U;
    return hash;
}

static void take_samples(const char *folder, const uint8_t *data, size_t bytes,
                         samples *out)
{
    const twi_codecs *codecs = twi_codecs_load(NULL);
    char *path = join(folder, "one.mp4");
    twi_footage *clip = NULL;
    tw_stream stream;
    tw_packet packet;
    int64_t wall = 0;
    write_bytes(path, data, bytes);
    assert_int_equal(codecs->footage_open(path, &clip, &stream, &wall, NULL), TW_OK);
    while (codecs->footage_next(clip, &packet, NULL) == TW_OK) {
        assert_true(out->count < SAMPLES_MAX);
        out->hash[out->count++] = hash_of(packet.data, packet.size);
    }
    codecs->footage_close(clip);
    out->files++;
    free(path);
}

static int by_name(const void *a, const void *b)
{
    return strcmp(*(const char *const *)a, *(const char *const *)b);
}

static samples samples_of(const tw_card *card, const char *folder, const char *part)
{
    samples s = {.count = 0};
    const char *names[64], *name = NULL;
    const uint8_t *data = NULL;
    size_t bytes = 0, count = 0;
    for (size_t i = 0; tw_sim_card_file(card, i, &name, &data, &bytes) == TW_OK; i++)
        if (strstr(name, part) && count < 64)
            names[count++] = name;
    qsort(names, count, sizeof names[0], by_name);
    for (size_t k = 0; k < count; k++)
        for (size_t i = 0; tw_sim_card_file(card, i, &name, &data, &bytes) == TW_OK; i++)
            if (name == names[k])
                take_samples(folder, data, bytes, &s);
    return s;
}

/* The pictures that the camera gives. */
static samples camera_samples(void)
{
    samples s = {.count = 0};
    tw_stream stream;
    tw_frame frame;
    tw_camera camera = open_camera(KERB, 5, &stream);
    while (camera.ops->next(camera.ctx, &frame, NULL) == TW_OK)
        s.hash[s.count++] = hash_of(frame.packet.data, frame.packet.size);
    camera.ops->destroy(camera.ctx);
    return s;
}

static void check_segments(const tw_card *card, const char *folder, const samples *all)
{
    const samples s = samples_of(card, folder, "-segment.mp4");
    assert_int_equal(s.files, 4);          /* 40, 40, 40 and 30 s */
    assert_int_equal(s.count, all->count); /* no frame is lost or doubled */
    assert_memory_equal(s.hash, all->hash, all->count * sizeof all->hash[0]);
}

/* 10 s at each full minute but the first, which had begun before. */
static void check_timed_clips(const tw_card *card, const char *folder, const samples *all)
{
    const samples s = samples_of(card, folder, "-timed-clip.mp4");
    assert_int_equal(s.files, 2);
    assert_int_equal(s.count, 2 * 50);
    assert_memory_equal(s.hash, all->hash + 300, 50 * sizeof all->hash[0]);
    assert_memory_equal(s.hash + 50, all->hash + 600, 50 * sizeof all->hash[0]);
}

static void check_timed_stills(const tw_card *card)
{
    static const char *const expected[] = {"203030", "203100", "203130", "203200"};
    const char *name = NULL;
    const uint8_t *data = NULL;
    size_t bytes = 0, timed = 0;
    for (size_t i = 0; tw_sim_card_file(card, i, &name, &data, &bytes) == TW_OK; i++) {
        if (!strstr(name, "-timed-still.jpg"))
            continue;
        assert_non_null(strstr(name, expected[timed++]));
        assert_non_null(strstr(name, "-000-")); /* of no sighting */
    }
    assert_int_equal(timed, 4);
}

static void test_what_is_kept_by_the_clock(void **state)
{
    (void)state;
    tw_card card;
    char *folder = make_folder();
    (void)setenv("TZ", "UTC", 1);
    rehearsal *r = prepare(KERB, "stills = first\ntimed_still = 30 s\n"
                                 "timed_clip = 10 s every 1 min\ncontinuous = yes\n"
                                 "segment = 40 s\ncaption = %T {activity}\n"
                                 "caption_on = clips, stills\n");
    const samples all = camera_samples();
    assert_int_equal(all.count, PICTURES);
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    assert_int_equal(run(r, &card), TW_OK);
    assert_int_equal(r->told.problems.count, 0);
    check_truth(&r->told); /* the detector sees no caption */
    check_segments(&card, folder, &all);
    check_timed_clips(&card, folder, &all);
    check_timed_stills(&card);
    assert_int_equal(r->told.homeless, 4 + 2 + 4);
    assert_int_equal(r->told.stills, 3); /* clean ones, as ever */
    assert_int_equal(r->told.clips, 3);
    assert_int_equal(r->told.captioned, 6);
    const samples clean = samples_of(&card, folder, "-clip.mp4");
    const samples captioned = samples_of(&card, folder, "-captioned-clip.mp4");
    /* "-clip.mp4" is the end of all three kinds */
    assert_int_equal(clean.count, 2 * captioned.count + 2 * 50);
    card.ops->destroy(card.ctx);
    remove_folder(folder);
    done(r);
}

/* The footage begins at 20:30:00; its sightings at 14, 70 and 106 s or so. */
static size_t sightings_with(const char *lines)
{
    (void)setenv("TZ", "UTC", 1);
    rehearsal *r = prepare(KERB, lines);
    assert_int_equal(run(r, NULL), TW_OK);
    const size_t count = r->told.sightings;
    done(r);
    return count;
}

static void test_hours_and_delay(void **state)
{
    (void)state;
    assert_int_equal(sightings_with("hours = 20:31-23:00\n"), 2);
    assert_int_equal(sightings_with("hours = 08:00-20:31, sun 00:00-24:00\n"), 1);
    assert_int_equal(sightings_with("hours = dusk-dawn\nlatitude = 52\nlongitude = -1\n"),
                     3);
    assert_int_equal(sightings_with("arm_delay = 1 min\n"), 2);
    assert_int_equal(sightings_with("armed = no\nhours = always\n"), 0);
}

static void test_a_still_is_the_packet_as_it_came(void **state)
{
    (void)state;
    tw_card card;
    tw_stream stream;
    tw_frame frame;
    rehearsal *r = prepare(KERB, "clips = no\nstills = first\n");
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    assert_int_equal(run(r, &card), TW_OK);
    const char *name = NULL;
    const uint8_t *data = NULL;
    size_t bytes = 0;
    assert_int_equal(tw_sim_card_file(&card, 0, &name, &data, &bytes), TW_OK);
    tw_camera camera = open_camera(KERB, 5, &stream);
    do {
        assert_int_equal(camera.ops->next(camera.ctx, &frame, NULL), TW_OK);
    } while (frame.packet.t_us < r->told.seen[0].start_us);
    /* all but the start marker, behind our EXIF */
    assert_memory_equal(data + bytes - (frame.packet.size - 2), frame.packet.data + 2,
                        frame.packet.size - 2);
    camera.ops->destroy(camera.ctx);
    card.ops->destroy(card.ctx);
    done(r);
}

/* ---- damaged footage --------------------------------------------------------------- */

static char *pictures(size_t most, char *source, size_t capacity)
{
    char *folder = make_folder();
    assert_int_equal(write_pictures(folder, KERB, 5, most), most);
    (void)snprintf(source, capacity, "file:%s", folder);
    return folder;
}

static void damage(const char *folder, const char *name, size_t sink, const char *instead)
{
    char *path = join(folder, name);
    size_t bytes = 0;
    char *data = read_file(path, &bytes);
    if (instead)
        write_text(path, instead);
    else
        write_bytes(path, data, bytes * sink / 100);
    free(data);
    free(path);
}

static void test_damaged_frames_are_left_out_and_told(void **state)
{
    (void)state;
    char source[256], *folder = pictures(260, source, sizeof source);
    tw_card card;
    damage(folder, "00060.jpg", 60, NULL); /* cut short */
    damage(folder, "00100.jpg", 0, "no picture at all");
    damage(folder, "00101.jpg", 0, ""); /* empty */
    rehearsal *r = prepare(source, "fps = 5\n");
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    assert_int_equal(run(r, &card), TW_OK);
    assert_int_equal(r->result.frames, 257);
    assert_int_equal(r->result.bad_frames, 3);
    if (r->told.problems.count != 3)
        fail_msg("%s", r->told.problems.text);
    assert_has(r->told.problems.text,
               "frame 61 at 12.000 s left out: damaged JPEG (Premature end");
    assert_has(r->told.problems.text,
               "frame 101 at 20.000 s left out: damaged JPEG (Not a JPEG");
    assert_has(r->told.problems.text, "00101.jpg: the file is empty");
    assert_int_equal(r->told.sightings, 1); /* the toad is found all the same */
    assert_int_equal(r->told.clips, 1);
    card.ops->destroy(card.ctx);
    remove_folder(folder);
    done(r);
}

static void test_many_damaged_frames_are_counted_not_listed(void **state)
{
    (void)state;
    char source[256], *folder = pictures(60, source, sizeof source);
    for (int i = 20; i < 50; i++) {
        char name[32];
        (void)snprintf(name, sizeof name, "%05d.jpg", i);
        damage(folder, name, 50, NULL);
    }
    rehearsal *r = prepare(source, "fps = 5\n");
    assert_int_equal(run(r, NULL), TW_OK);
    assert_int_equal(r->result.bad_frames, 30);
    assert_int_equal(r->told.problems.count, 6); /* five and one that says so */
    assert_has(r->told.problems.text, "more damaged frames are only counted");
    remove_folder(folder);
    done(r);
}

static void test_nothing_but_damage_is_an_error(void **state)
{
    (void)state;
    char source[256], *folder = pictures(3, source, sizeof source);
    for (int i = 0; i < 3; i++) {
        char name[32];
        (void)snprintf(name, sizeof name, "%05d.jpg", i);
        damage(folder, name, 30, NULL);
    }
    rehearsal *r = prepare(source, "");
    assert_int_equal(run(r, NULL), TW_EDAMAGED);
    assert_has(r->err.text, "no frame could be read");
    remove_folder(folder);
    done(r);
}

static void test_a_size_that_changes_in_mid_stream(void **state)
{
    (void)state;
    char source[256], *folder = pictures(200, source, sizeof source);
    tw_stream stream;
    tw_frame frame;
    tw_card card;
    tw_camera other = open_camera("sim:kerb,size=320x180", 5, &stream);
    for (int i = 0; i < 350; i++) { /* from 20 s on, while the toad walks */
        char name[32];
        assert_int_equal(other.ops->next(other.ctx, &frame, NULL), TW_OK);
        if (i < 100)
            continue;
        (void)snprintf(name, sizeof name, "%05d.jpg", i);
        char *path = join(folder, name);
        write_bytes(path, frame.packet.data, frame.packet.size);
        free(path);
    }
    other.ops->destroy(other.ctx);
    rehearsal *r = prepare(source, "fps = 5\n");
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    assert_int_equal(run(r, &card), TW_OK);
    if (r->told.problems.count != 1)
        fail_msg("%s", r->told.problems.text);
    assert_has(r->told.problems.text, "the picture changed from 240 x 136 to 320 x 180 "
                                      "at 20.000 s: learning the place anew");
    assert_true(r->told.sightings >=
                2); /* ended at the change, found again after settling */
    assert_int_equal(r->told.seen[0].why, TW_END_FINISHED);
    assert_true(r->told.seen[0].clip_end_us < 20000000);
    /* Confirmed only after settling, and dated back to when it began to move. */
    assert_true(r->told.seen[1].start_us >= 28000000 - TW_DATED_BACK_US);
    assert_int_equal(r->told.clips,
                     r->told.sightings); /* each of one size, each complete */
    card.ops->destroy(card.ctx);
    remove_folder(folder);
    done(r);
}

/* ---- cards that fail --------------------------------------------------------------- */

/* Whatever call fails: the run goes to its end, what could not be stored is told, and no
 * half file is left but where removing it was what failed. */
static void test_every_failure_of_the_card_is_survived(void **state)
{
    (void)state;
    char source[256], *folder = pictures(260, source, sizeof source);
    bool past = false;
    size_t lost = 0;
    for (uint32_t fail = 6; !past; fail += fail < 20 ? 1 : 97) {
        const tw_sim_faults faults = {.fail_call = fail, .fail_with = TW_EIO};
        tw_card card;
        rehearsal *r = prepare(source, "fps = 5\n");
        assert_int_equal(tw_sim_card(&faults, &card), TW_OK);
        assert_int_equal(run(r, &card), TW_OK);
        past = tw_sim_card_calls(&card) < fail;
        assert_int_equal(r->told.clips + r->told.stills + r->told.problems.count, 2);
        if (r->told.problems.count > 0) /* else only a look at the room failed */
            assert_has(r->told.problems.text, "of sighting 1 not stored: cannot");
        lost += r->told.problems.count > 0;
        assert_int_equal(tw_sim_card_open(&card), 0);
        assert_int_equal(tw_sim_card_count(&card), r->told.clips + r->told.stills);
        card.ops->destroy(card.ctx);
        done(r);
    }
    assert_true(lost > 10);
    remove_folder(folder);
}

static void test_a_card_that_fills_up(void **state)
{
    (void)state;
    const tw_sim_faults faults = {.capacity = 200000};
    tw_card card;
    rehearsal *r = prepare(KERB, "");
    assert_int_equal(tw_sim_card(&faults, &card), TW_OK);
    assert_int_equal(run(r, &card), TW_OK);
    assert_has(r->told.problems.text, "clip of sighting 1 not stored: cannot write");
    assert_has(r->told.problems.text, "no space left");
    assert_int_equal(r->told.sightings, 3);
    /* What was stored went again, the oldest first, where the newest needed its room. */
    assert_true(r->told.freed > 0);
    assert_true(tw_sim_card_count(&card) < r->told.clips + r->told.stills);
    assert_true(tw_sim_card_count(&card) > 0);
    card.ops->destroy(card.ctx);
    done(r);
}

static void test_a_card_that_is_dead_from_the_start(void **state)
{
    (void)state;
    const tw_sim_faults faults = {.fail_call = 1, .fail_with = TW_EACCES, .dead = true};
    tw_card card;
    rehearsal *r = prepare(KERB, "");
    assert_int_equal(tw_sim_card(&faults, &card), TW_OK);
    assert_int_equal(run(r, &card), TW_EACCES);
    assert_has(r->err.text, "not allowed");
    card.ops->destroy(card.ctx);
    done(r);
}

/* ---- the rest ---------------------------------------------------------------------- */

static void test_long_sightings_are_split_without_losing_a_frame(void **state)
{
    (void)state;
    tw_card card;
    rehearsal *r = prepare(KERB, "longest = 10 s\npre_event = 2 s\npost_event = 3 s\n");
    assert_int_equal(tw_sim_card(NULL, &card), TW_OK);
    assert_int_equal(run(r, &card), TW_OK);
    assert_true(r->told.sightings > 5);
    for (size_t i = 1; i < r->told.sightings; i++) {
        if (r->told.seen[i].part == 1)
            continue;
        assert_int_equal(r->told.seen[i].number, r->told.seen[i - 1].number);
        assert_true(r->told.seen[i].clip_start_us == r->told.seen[i - 1].clip_end_us);
    }
    assert_int_equal(r->told.clips, r->told.sightings);
    card.ops->destroy(card.ctx);
    done(r);
}

static void test_zones_shut_out(void **state)
{
    (void)state;
    rehearsal *r = prepare(
        KERB, "[zone kerb/lane]\nkind = watched\narea = 0,68 100,68 100,100 0,100\n");
    assert_int_equal(run(r, NULL), TW_OK);
    for (size_t i = 0; i < r->told.sightings;
         i++) /* the first toad stays above the kerb */
        assert_true(r->told.seen[i].start_us > 50000000);
    assert_int_equal(r->told.sightings, 2);
    done(r);
    r = prepare(KERB, "[zone kerb/all]\narea = 0,0 100,0 100,100 0,100\n");
    assert_int_equal(run(r, NULL), TW_EINVAL);
    assert_has(r->err.text, "camera kerb: its zones leave nothing to watch");
    done(r);
}

static void test_stopping(void **state)
{
    (void)state;
    volatile int stop = 1;
    rehearsal *r = prepare(KERB, "");
    const tw_platform platform = {.makers = TEST_MAKERS, .clock = tw_linux_clock()};
    assert_int_equal(twi_rehearse(&platform, &r->camera, &r->station, &stop, NULL, NULL,
                                  &r->result, &r->err),
                     TW_ESTOPPED);
    done(r);
}

static void test_looking(void **state)
{
    (void)state;
    const tw_platform platform = {.makers = TEST_MAKERS, .clock = tw_linux_clock()};
    rehearsal *r = prepare("sim:kerb", "[zone kerb/sky]\narea = 0,0 100,0 100,20 0,20\n");
    uint8_t *data = NULL;
    size_t bytes = 0;
    tw_reading taken;
    tw_look_options options = {.after_us = 0};
    assert_int_equal(
        twi_look(&platform, &r->camera, &options, &data, &bytes, &taken, &r->err), TW_OK);
    assert_true(data[0] == 0xFF && data[1] == 0xD8);
    free(data);
    options = (tw_look_options){.after_us = 35000000, .overlay = true, .png = true};
    assert_int_equal(
        twi_look(&platform, &r->camera, &options, &data, &bytes, &taken, &r->err), TW_OK);
    assert_memory_equal(data, "\x89PNG", 4);
    assert_in_range(data[16] << 24 | data[17] << 16 | data[18] << 8 | data[19], 960,
                    1280);
    assert_true(taken.t_us == 35000000);
    assert_true(taken.activity_ppm > 2500);
    assert_null(taken.cells);
    free(data);
    done(r);
}

int main(void)
{
    const struct CMUnitTest tests[] = {
        cmocka_unit_test(test_sightings_match_the_truth_of_the_scene),
        cmocka_unit_test(test_other_frame_rates),
        cmocka_unit_test(test_what_falls_hides_no_subject),
        cmocka_unit_test(test_captures_are_complete_and_the_same_every_time),
        cmocka_unit_test(test_a_clip_holds_pre_and_post_event_footage),
        cmocka_unit_test(test_stills_as_they_are_wanted),
        cmocka_unit_test(test_what_is_kept_by_the_clock),
        cmocka_unit_test(test_hours_and_delay),
        cmocka_unit_test(test_a_still_is_the_packet_as_it_came),
        cmocka_unit_test(test_damaged_frames_are_left_out_and_told),
        cmocka_unit_test(test_many_damaged_frames_are_counted_not_listed),
        cmocka_unit_test(test_nothing_but_damage_is_an_error),
        cmocka_unit_test(test_a_size_that_changes_in_mid_stream),
        cmocka_unit_test(test_every_failure_of_the_card_is_survived),
        cmocka_unit_test(test_a_card_that_fills_up),
        cmocka_unit_test(test_a_card_that_is_dead_from_the_start),
        cmocka_unit_test(test_long_sightings_are_split_without_losing_a_frame),
        cmocka_unit_test(test_zones_shut_out),
        cmocka_unit_test(test_stopping),
        cmocka_unit_test(test_frames_in_between_are_spared),
        cmocka_unit_test(test_no_picture_from_the_middle_of_a_group),
        cmocka_unit_test(test_looking),
    };
    cmocka_set_test_filter(getenv("TAWNY_TEST_ONLY"));
    return cmocka_run_group_tests(tests, NULL, NULL);
}
