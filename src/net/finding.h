/* What the finding module does: cameras of the local network that tell of themselves, by
 * WS-Discovery (OASIS; SOAP over UDP) and by DNS-SD over multicast DNS (RFC 6763, RFC
 * 6762), and the streams that a camera tells by ONVIF's device and media services. IPv4
 * alone. Nothing is said beyond the link: multicast does not pass a router, and
 * requests go to hosts of the link, past any route and any proxy. */
#ifndef TWI_FINDING_H
#define TWI_FINDING_H

#include <stdatomic.h>
#include <stdbool.h>
#include <stddef.h>

#include "tawny/error.h"

enum {
    TWI_FINDING_ABI = 1,
    TWI_FOUND_MOST = 64,   /* cameras */
    TWI_FOUND_STREAMS = 8, /* of one */
    TWI_FOUND_WAIT_MS = 3000,
    TWI_FOUND_NAME = 96,
    TWI_FOUND_URL = 512,
    TWI_FOUND_ADDRESS = 16, /* "192.0.2.7", the final 0 included */
    TWI_FOUND_SECTION = 33,
    TWI_FOUND_LOGIN = 3 * TWI_FOUND_URL
};

/* A stream that a camera tells of. */
typedef struct twi_found_stream {
    char url[TWI_FOUND_URL];   /* printable ASCII without blanks; no user or password */
    char name[TWI_FOUND_NAME]; /* UTF-8; "": not told */
    char codec[16];            /* "H264", as it is told; "": not told */
    unsigned width, height;    /* 0: not told */
    unsigned fps;              /* at most; 0: not told */
} twi_found_stream;

typedef struct twi_found_camera {
    char address[TWI_FOUND_ADDRESS]; /* that it answered from */
    char name[TWI_FOUND_NAME];       /* UTF-8 */
    char at[TWI_FOUND_URL]; /* where it can be asked for its streams; "": nowhere */
    bool probed;            /* it answered by WS-Discovery */
    bool named;             /* it answered by DNS-SD */
    size_t stream_count;
    twi_found_stream streams[TWI_FOUND_STREAMS]; /* the largest first */
    char why[TW_ERROR_MAX]; /* why no streams are told, or not all; "" */
} twi_found_camera;

typedef struct twi_seeking {
    const char *only; /* the address of the one that is wanted, which is asked for its
                         streams as well; NULL: all, none of which is asked */
    const char *user; /* for only; NULL: without */
    const char *password;
    int wait_ms;             /* for answers; usually TWI_FOUND_WAIT_MS */
    const atomic_bool *stop; /* gives up when it is set; may be NULL */
} twi_seeking;

/* What came. */
typedef struct twi_finds {
    twi_found_camera all[TWI_FOUND_MOST];
    size_t count;
    size_t links;   /* networks that were asked */
    size_t dropped; /* answers that made no sense, were of other hosts, or too many */
} twi_finds;

typedef struct twi_finding {
    int abi; /* TWI_FINDING_ABI */
    /** Ask, and wait for answers. Any thread; may take wait_ms, and with only set up to
     * half a minute more.
     * @return TW_OK, also where nobody answers; TW_EINVAL: only is no address of a host;
     * TW_ENOENT: there is no network, or only is not on one of ours; TW_EIO. */
    tw_status (*seek)(const twi_seeking *how, twi_finds *out, tw_error *err);
} twi_finding;

/** The stream that the detector can look at while the largest is kept.
 * @return NULL: there is no smaller one, or none of 320 pixels and more. */
const twi_found_stream *twi_found_second(const twi_found_camera *camera);

/** A name for its section in the settings: "Pond box 3" -> "pond-box-3". */
void twi_found_section(const twi_found_camera *camera, char out[TWI_FOUND_SECTION]);

/** An URL of a stream with user and password in it, as sources have them. */
void twi_found_login(const char *url, const char *user, const char *password,
                     char out[TWI_FOUND_LOGIN]);

/** What the module exports. */
extern const twi_finding twi_finding_table;

/** As twi_codecs_load. */
const twi_finding *twi_finding_load(tw_error *err);

#endif
