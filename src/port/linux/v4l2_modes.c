/* What a V4L2 device can do, which of it is taken, and its controls. */
#include <ctype.h>
#include <dirent.h>
#include <errno.h>
#include <fcntl.h>
#include <linux/videodev2.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/ioctl.h>
#include <sys/mman.h>
#include <unistd.h>

#include "tawny/port_linux.h"
#include "v4l2.h"
#include "devices.h"

enum {
    AGAIN_MAX = 100,
    FORMATS_MAX = 64,
    SIZES_MAX = 64,
    RATES_MAX = 32,
    CONTROLS_MAX = 256
};

/* ---- the kernel ------------------------------------------------------------------ */

static int kernel_open(void *ctx, const char *path, int flags)
{
    (void)ctx;
    return open(path, flags);
}

static int kernel_close(void *ctx, int fd)
{
    (void)ctx;
    return close(fd);
}

static int kernel_ioctl(void *ctx, int fd, unsigned long request, void *argument)
{
    (void)ctx;
    return ioctl(fd, request, argument);
}

static void *kernel_map(void *ctx, size_t bytes, int fd, off_t offset)
{
    (void)ctx;
    void *memory = mmap(NULL, bytes, PROT_READ | PROT_WRITE, MAP_SHARED, fd, offset);
    return memory == MAP_FAILED ? NULL : memory;
}

static int kernel_unmap(void *ctx, void *memory, size_t bytes)
{
    (void)ctx;
    return munmap(memory, bytes);
}

static int kernel_poll(void *ctx, struct pollfd *fds, nfds_t count, int timeout_ms)
{
    (void)ctx;
    return poll(fds, count, timeout_ms);
}

const twi_v4l2_calls *twi_v4l2_kernel(void)
{
    static const twi_v4l2_calls calls = {kernel_open, kernel_close, kernel_ioctl,
                                         kernel_map,  kernel_unmap, kernel_poll,
                                         NULL};
    return &calls;
}

int twi_v4l2_ask(const twi_v4l2_calls *calls, int fd, unsigned long request,
                 void *argument)
{
    int code = -1;
    for (int i = 0; i < AGAIN_MAX; i++) {
        code = calls->ioctl(calls->ctx, fd, request, argument);
        if (code == 0 || errno != EINTR)
            break;
    }
    return code;
}

/* ---- modes ----------------------------------------------------------------------- */

const char *twi_v4l2_fourcc(uint32_t fourcc, char out[5])
{
    for (int i = 0; i < 4; i++) {
        const char c = (char)(fourcc >> 8 * i);
        out[i] = isprint((unsigned char)c) ? c : '?';
    }
    out[4] = '\0';
    return out;
}

/* What a format costs to keep and to look at, grey after all colours; 0: it cannot be
 * used. */
static uint32_t cost_of(uint32_t fourcc)
{
    static const uint32_t usable[] = {
        V4L2_PIX_FMT_MJPEG, V4L2_PIX_FMT_JPEG,  V4L2_PIX_FMT_H264, V4L2_PIX_FMT_NV12,
        V4L2_PIX_FMT_YUYV,  V4L2_PIX_FMT_RGB24, V4L2_PIX_FMT_GREY};
    for (uint32_t i = 0; i < sizeof usable / sizeof *usable; i++)
        if (usable[i] == fourcc)
            return i + 1;
    return 0;
}

typedef struct listing {
    const twi_v4l2_calls *calls;
    int fd;
    twi_v4l2_mode *out;
    size_t count;
} listing;

static void add(listing *l, twi_v4l2_mode mode, uint32_t num, uint32_t den)
{
    mode.fps_num = num;
    mode.fps_den = den > 0 ? den : 1;
    if (l->count < TWI_V4L2_MODES_MAX)
        l->out[l->count++] = mode;
}

static void list_rates(listing *l, const twi_v4l2_mode *mode)
{
    struct v4l2_frmivalenum rate = {
        .pixel_format = mode->fourcc, .width = mode->width, .height = mode->height};
    for (; rate.index < RATES_MAX; rate.index++) {
        if (twi_v4l2_ask(l->calls, l->fd, VIDIOC_ENUM_FRAMEINTERVALS, &rate) != 0)
            break;
        if (rate.type != V4L2_FRMIVAL_TYPE_DISCRETE) { /* any; the shortest is the best */
            add(l, *mode, rate.stepwise.min.denominator, rate.stepwise.min.numerator);
            return;
        }
        add(l, *mode, rate.discrete.denominator, rate.discrete.numerator);
    }
    if (rate.index == 0) /* it does not say */
        add(l, *mode, 0, 1);
}

/* Of sizes that it can have step by step, those that people ask for. */
static void list_steps(listing *l, twi_v4l2_mode mode,
                       const struct v4l2_frmsize_stepwise *steps)
{
    static const uint32_t usual[][2] = {{320, 240}, {640, 360},  {640, 480},
                                        {800, 600}, {1280, 720}, {1920, 1080}};
    for (size_t i = 0; i < sizeof usual / sizeof *usual; i++) {
        mode.width = usual[i][0];
        mode.height = usual[i][1];
        if (mode.width >= steps->min_width && mode.width <= steps->max_width &&
            mode.height >= steps->min_height && mode.height <= steps->max_height)
            list_rates(l, &mode);
    }
    mode.width = steps->max_width;
    mode.height = steps->max_height;
    list_rates(l, &mode);
}

static void list_sizes(listing *l, uint32_t fourcc)
{
    struct v4l2_frmsizeenum size = {.pixel_format = fourcc};
    twi_v4l2_mode mode = {.fourcc = fourcc};
    for (; size.index < SIZES_MAX; size.index++) {
        if (twi_v4l2_ask(l->calls, l->fd, VIDIOC_ENUM_FRAMESIZES, &size) != 0)
            break;
        if (size.type != V4L2_FRMSIZE_TYPE_DISCRETE) {
            list_steps(l, mode, &size.stepwise);
            return;
        }
        mode.width = size.discrete.width;
        mode.height = size.discrete.height;
        list_rates(l, &mode);
    }
    if (size.index == 0) /* an old driver: it is asked by setting one */
        add(l, mode, 0, 1);
}

size_t twi_v4l2_modes(const twi_v4l2_calls *calls, int fd, twi_v4l2_mode *out)
{
    listing l = {calls, fd, out, 0};
    struct v4l2_fmtdesc format = {.type = V4L2_BUF_TYPE_VIDEO_CAPTURE};
    for (; format.index < FORMATS_MAX; format.index++) {
        if (twi_v4l2_ask(calls, fd, VIDIOC_ENUM_FMT, &format) != 0)
            break;
        if (cost_of(format.pixelformat) > 0) /* else they could fill all of out */
            list_sizes(&l, format.pixelformat);
    }
    return l.count;
}

/* ---- choosing -------------------------------------------------------------------- */

static bool is_compressed(uint32_t fourcc)
{
    return fourcc == V4L2_PIX_FMT_MJPEG || fourcc == V4L2_PIX_FMT_JPEG ||
           fourcc == V4L2_PIX_FMT_H264;
}

/* How far a size is from the wish; one that it does not say is as good as any. */
static uint64_t distance(const twi_v4l2_mode *m, const twi_v4l2_wish *wish)
{
    const int64_t width = wish->width > 0 ? wish->width : 1280,
                  height = wish->height > 0 ? wish->height : 720;
    if (m->width == 0)
        return 0;
    const int64_t dx = (int64_t)m->width - width, dy = (int64_t)m->height - height;
    return (uint64_t)((dx < 0 ? -dx : dx) + (dy < 0 ? -dy : dy));
}

/* Frames a second too few count ten times those too many. */
static uint64_t rate_off(const twi_v4l2_mode *m, const twi_v4l2_wish *wish)
{
    if (m->fps_num == 0)
        return 0;
    const int64_t milli = (int64_t)m->fps_num * 1000 / m->fps_den;
    const int64_t off = milli - (int64_t)wish->fps * 1000;
    return (uint64_t)(off < 0 ? -off * 10 : off);
}

/* @return whether a is the better one. */
static bool better(const twi_v4l2_mode *a, const twi_v4l2_mode *b,
                   const twi_v4l2_wish *wish)
{
    if (is_compressed(a->fourcc) != is_compressed(b->fourcc))
        return is_compressed(a->fourcc);
    if (distance(a, wish) != distance(b, wish))
        return distance(a, wish) < distance(b, wish);
    if (rate_off(a, wish) != rate_off(b, wish))
        return rate_off(a, wish) < rate_off(b, wish);
    return cost_of(a->fourcc) < cost_of(b->fourcc);
}

size_t twi_v4l2_choose(const twi_v4l2_mode *modes, size_t count,
                       const twi_v4l2_wish *wish)
{
    size_t best = count;
    for (size_t i = 0; i < count; i++) {
        if (cost_of(modes[i].fourcc) == 0 ||
            (wish->fourcc != 0 && modes[i].fourcc != wish->fourcc))
            continue;
        if (best == count || better(&modes[i], &modes[best], wish))
            best = i;
    }
    return best;
}

/* ---- controls -------------------------------------------------------------------- */

/* "Exposure Time, Absolute" is asked for as exposure_time_absolute. */
static void plain_name(const char *name, char out[64])
{
    size_t n = 0;
    for (; *name && n < 63; name++) {
        if (isalnum((unsigned char)*name))
            out[n++] = (char)tolower((unsigned char)*name);
        else if (n > 0 && out[n - 1] != '_')
            out[n++] = '_';
    }
    while (n > 0 && out[n - 1] == '_')
        n--;
    out[n] = '\0';
}

/* Find a control. @param known Gets the names of all, for messages. */
static bool find_control(const twi_v4l2_calls *calls, int fd, const char *wanted,
                         struct v4l2_queryctrl *out, char *known, size_t capacity)
{
    struct v4l2_queryctrl query = {.id = V4L2_CTRL_FLAG_NEXT_CTRL};
    known[0] = '\0';
    for (int i = 0; i < CONTROLS_MAX; i++) {
        char name[64];
        if (twi_v4l2_ask(calls, fd, VIDIOC_QUERYCTRL, &query) != 0)
            return false;
        plain_name((const char *)query.name, name);
        if (strcmp(name, wanted) == 0 && !(query.flags & V4L2_CTRL_FLAG_DISABLED)) {
            *out = query;
            return true;
        }
        const size_t n = strlen(known);
        if (query.type != V4L2_CTRL_TYPE_CTRL_CLASS)
            (void)snprintf(known + n, capacity - n, "%s%s", n > 0 ? ", " : "", name);
        query.id |= V4L2_CTRL_FLAG_NEXT_CTRL;
    }
    return false;
}

static tw_status set_control(const twi_v4l2_calls *calls, int fd, const char *device,
                             const char *name, const char *value, tw_error *err)
{
    struct v4l2_queryctrl query;
    char known[160], *end = NULL;
    errno = 0;
    const long number = strtol(value, &end, 0);
    if (end == value || *end != '\0' || errno != 0)
        return tw_fail(err, TW_EINVAL, "%s: controls: %s = %s is no number", device, name,
                       value);
    if (!find_control(calls, fd, name, &query, known, sizeof known))
        return tw_fail(err, TW_ENOENT, "%s has no control %s, but %s", device, name,
                       known[0] ? known : "none at all");
    if (number < query.minimum || number > query.maximum)
        return tw_fail(err, TW_EINVAL, "%s: controls: %s = %ld is not within %d to %d",
                       device, name, number, query.minimum, query.maximum);
    struct v4l2_control control = {.id = query.id, .value = (int32_t)number};
    if (twi_v4l2_ask(calls, fd, VIDIOC_S_CTRL, &control) != 0)
        return tw_fail(err, TW_EIO, "%s: controls: %s = %ld: %s", device, name, number,
                       strerror(errno));
    return TW_OK;
}

static char *trimmed(char *s)
{
    while (*s == ' ')
        s++;
    for (size_t n = strlen(s); n > 0 && s[n - 1] == ' '; n--)
        s[n - 1] = '\0';
    return s;
}

tw_status twi_v4l2_set_controls(const twi_v4l2_calls *calls, int fd, const char *device,
                                const char *controls, tw_error *err)
{
    char text[1024], *rest = NULL;
    if (snprintf(text, sizeof text, "%s", controls) >= (int)sizeof text)
        return tw_fail(err, TW_EINVAL, "%s: controls: too long", device);
    for (char *one = strtok_r(text, ",", &rest); one; one = strtok_r(NULL, ",", &rest)) {
        char *value = strchr(one, '=');
        if (!value)
            return tw_fail(err, TW_EINVAL, "%s: controls: %s: expected name=value",
                           device, trimmed(one));
        *value++ = '\0';
        const tw_status st =
            set_control(calls, fd, device, trimmed(one), trimmed(value), err);
        if (st != TW_OK)
            return st;
    }
    return TW_OK;
}

/* ---- devices --------------------------------------------------------------------- */

enum { DEVICES_MAX = 64, WORDS = TWI_V4L2_WORDS };

/* One more of a list. @return false: it has no room, and the list says that it goes on.
 */
static bool add_item(char out[WORDS], const char *item)
{
    static const char more[] = ", ...";
    const size_t n = strlen(out), taken = n + (n > 0 ? 2 : 0) + strlen(item);
    const bool fits = taken + sizeof more <= WORDS;
    (void)snprintf(out + n, WORDS - n, "%s%s", fits && n > 0 ? ", " : "",
                   fits ? item : more);
    return fits;
}

/* "MJPG 640x480@30, ..." */
static void word_modes(const twi_v4l2_mode *modes, size_t count, char out[WORDS])
{
    char letters[5], item[64];
    bool fits = true;
    out[0] = '\0';
    for (size_t i = 0; fits && i < count; i++) {
        const bool same = i > 0 && modes[i].fourcc == modes[i - 1].fourcc;
        (void)snprintf(item, sizeof item, "%s%s%ux%u@%u",
                       same ? "" : twi_v4l2_fourcc(modes[i].fourcc, letters),
                       same ? "" : " ", modes[i].width, modes[i].height,
                       modes[i].fps_num / modes[i].fps_den);
        fits = add_item(out, item);
    }
}

/* "gain 1 to 100 (now 16)"; the bits of a mask are no number below 0. */
static void word_control(const twi_v4l2_calls *calls, int fd,
                         const struct v4l2_queryctrl *query, char out[160])
{
    char name[64];
    struct v4l2_control now = {.id = query->id};
    plain_name((const char *)query->name, name);
    const bool mask = query->type == V4L2_CTRL_TYPE_BITMASK;
    const int n =
        mask ? snprintf(out, 160, "%s 0 to 0x%x", name, (unsigned)query->maximum)
             : snprintf(out, 160, "%s %d to %d", name, query->minimum, query->maximum);
    if (n > 0 && n < 160 && twi_v4l2_ask(calls, fd, VIDIOC_G_CTRL, &now) == 0)
        (void)snprintf(out + n, 160 - (size_t)n, mask ? " (now 0x%x)" : " (now %d)",
                       (unsigned)now.value);
}

static void word_controls(const twi_v4l2_calls *calls, int fd, char out[WORDS])
{
    struct v4l2_queryctrl query = {.id = V4L2_CTRL_FLAG_NEXT_CTRL};
    bool fits = true;
    out[0] = '\0';
    for (int i = 0; fits && i < CONTROLS_MAX; i++, query.id |= V4L2_CTRL_FLAG_NEXT_CTRL) {
        char item[160];
        if (twi_v4l2_ask(calls, fd, VIDIOC_QUERYCTRL, &query) != 0)
            return;
        if (query.type == V4L2_CTRL_TYPE_CTRL_CLASS ||
            (query.flags & V4L2_CTRL_FLAG_DISABLED))
            continue;
        word_control(calls, fd, &query, item);
        fits = add_item(out, item);
    }
}

/* Which mode is picked without a wish, and why. */
static void word_choice(const twi_v4l2_mode *m, char out[160])
{
    char letters[5];
    (void)snprintf(out, 160, "%s %ux%u@%u: %s, and nearest to 1280 x 720",
                   twi_v4l2_fourcc(m->fourcc, letters), m->width, m->height,
                   m->fps_num / m->fps_den,
                   is_compressed(m->fourcc) ? "compressed, so cheap to keep"
                                            : "nothing is compressed");
}

/* @return NULL: it can be one. */
static const char *why_no_camera(const struct v4l2_capability *about, size_t modes)
{
    const uint32_t can = about->capabilities & V4L2_CAP_DEVICE_CAPS ? about->device_caps
                                                                    : about->capabilities;
    if (!(can & V4L2_CAP_VIDEO_CAPTURE))
        return "it captures no video";
    if (!(can & V4L2_CAP_STREAMING))
        return "it cannot stream";
    return modes > 0 ? NULL : "it has no format that can be used";
}

bool twi_v4l2_describe(const twi_v4l2_calls *calls, const char *path, twi_v4l2_about *out)
{
    struct v4l2_capability about;
    memset(&about, 0, sizeof about);
    memset(out, 0, sizeof *out);
    const int fd = calls->open(calls->ctx, path, O_RDWR | O_NONBLOCK | O_CLOEXEC);
    if (fd < 0 && errno == ENOENT)
        return false;
    (void)snprintf(out->name, sizeof out->name, "%s",
                   fd < 0 ? strerror(errno) : "no video device");
    twi_v4l2_mode *modes = calloc(TWI_V4L2_MODES_MAX, sizeof *modes);
    if (modes && fd >= 0 && twi_v4l2_ask(calls, fd, VIDIOC_QUERYCAP, &about) == 0) {
        const twi_v4l2_wish any = {.fps = 10};
        const size_t count = twi_v4l2_modes(calls, fd, modes);
        const size_t best = twi_v4l2_choose(modes, count, &any);
        (void)snprintf(out->name, sizeof out->name, "%s", (const char *)about.card);
        word_modes(modes, count, out->modes);
        const char *why = why_no_camera(&about, count);
        out->usable = !why && best < count;
        if (out->usable) {
            word_choice(&modes[best], out->choice);
            word_controls(calls, fd, out->controls);
        }
        (void)snprintf(out->why_not, sizeof out->why_not, "%s", why ? why : "");
    }
    free(modes);
    if (fd >= 0)
        (void)calls->close(calls->ctx, fd);
    return true;
}

void twi_v4l2_stable(const char *folder, const char *path, char *out, size_t capacity)
{
    const char *name = strrchr(path, '/');
    DIR *dir = opendir(folder);
    out[0] = '\0';
    for (struct dirent *e = dir ? readdir(dir) : NULL; e && !out[0]; e = readdir(dir)) {
        char target[256];
        const ssize_t length =
            readlinkat(dirfd(dir), e->d_name, target, sizeof target - 1);
        if (length <= 0)
            continue;
        target[length] = '\0'; /* "../../video0" */
        const char *last = strrchr(target, '/');
        if (strcmp(last ? last + 1 : target, name ? name + 1 : path) == 0)
            (void)snprintf(out, capacity, "%s/%s", folder, e->d_name);
    }
    if (dir)
        (void)closedir(dir);
}

size_t twi_linux_devices(void (*visit)(void *ctx, const twi_linux_device *device),
                         void *ctx)
{
    size_t count = 0;
    for (int i = 0; i < DEVICES_MAX; i++) {
        char path[32], source[48], link[320], stable[328] = "";
        twi_v4l2_about about;
        (void)snprintf(path, sizeof path, "/dev/video%d", i);
        (void)snprintf(source, sizeof source, "v4l2:%s", path);
        if (!twi_v4l2_describe(twi_v4l2_kernel(), path, &about))
            continue;
        count++;
        twi_v4l2_stable("/dev/v4l/by-id", path, link, sizeof link);
        if (!link[0]) /* without a serial number it is the socket that has a name */
            twi_v4l2_stable("/dev/v4l/by-path", path, link, sizeof link);
        if (link[0])
            (void)snprintf(stable, sizeof stable, "v4l2:%s", link);
        const twi_linux_device device = {.source = source,
                                         .stable = stable,
                                         .name = about.name,
                                         .modes = about.modes,
                                         .controls = about.controls,
                                         .why_not = about.why_not,
                                         .choice = about.choice,
                                         .usable = about.usable};
        if (visit)
            visit(ctx, &device);
    }
    return count;
}
