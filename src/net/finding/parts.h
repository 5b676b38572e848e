/* What the parts of the finding module share. */
#ifndef TWI_FINDING_PARTS_H
#define TWI_FINDING_PARTS_H

#include <libxml/tree.h>
#include <netinet/in.h>
#include <stdint.h>

#include "../finding.h"

enum {
    FIND_LINKS = 8,      /* networks that are asked, at most */
    FIND_DATAGRAM = 9000 /* bytes of an answer, at most */
};

/* ---- links.c: networks that this machine is on */

typedef struct find_link {
    struct in_addr own, mask;
} find_link;

/** @return TW_OK: at least one that can multicast and is not loopback; TW_ENOENT. */
tw_status find_links(find_link out[FIND_LINKS], size_t *count, tw_error *err);
/** @return whether a host is on a link, and may be one. */
bool find_is_on(const find_link *link, struct in_addr host);
/** A socket that speaks to hosts of a link alone. @return -1: none. */
int find_socket(const find_link *link, int ttl);
/** @return whether all of it was sent. */
bool find_send(int fd, const char *group, uint16_t port, const void *data, size_t bytes);

/* ---- words.c: what comes from outside, as it may be shown */

/** Copy text; what is no printable character becomes '?', what is no UTF-8 too; blanks at
 * both ends go. Cut at a whole character. */
void find_text(const char *text, char *out, size_t room);
/** Copy an address if it is an URL of one of the schemes ("rtsp rtsps"), printable ASCII
 * without blanks and quotes, and fits. User and password in it are left out.
 * @return whether it is. */
bool find_url(const char *text, const char *schemes, char out[TWI_FOUND_URL]);
/** @return whether an URL's host is this address. */
bool find_url_is_at(const char *url, const char *address);
/** Put an address in the place of an URL's host. @return whether it fits. */
bool find_url_move(char url[TWI_FOUND_URL], const char *address);

/* ---- xml.c */

/** @return NULL: it is no XML, or has a document type (which no SOAP has). */
xmlDoc *find_xml(const char *data, size_t bytes);
/** The first element of a name below a node, in the order of the document. The
 * namespaces differ from device to device: names alone count. @return NULL: none. */
const xmlNode *find_below(const xmlNode *node, const char *name);
/** The next element of the same name beside a node. @return NULL: none. */
const xmlNode *find_beside(const xmlNode *node);
/** Text in the first element of a name below a node; "" where there is none. */
void find_text_below(const xmlNode *node, const char *name, char *out, size_t room);
/** A number likewise; 0: none, or not within 0 to 100000. */
unsigned find_number_below(const xmlNode *node, const char *name);

/* ---- probe.c: WS-Discovery */

/* What is looked for: a type, with its namespace. */
typedef struct find_type {
    const char *prefix, *space, *name;
} find_type;

enum {
    FIND_PROBE_PORT = 3702,
    FIND_ID = 46, /* "urn:uuid:...", the final 0 included */
    FIND_PROBE_BYTES = 1024
};
#define FIND_PROBE_GROUP "239.255.255.250"

/** A new name for a message. */
void find_id(char out[FIND_ID]);
/** Write a Probe. @param oasis  By the names of 2009 (1.1), else of 2005.
 * @return bytes. */
size_t find_probe_write(const find_type *type, bool oasis, const char *id,
                        char out[FIND_PROBE_BYTES]);
/** Read ProbeMatches.
 * @param ids  Those of our probes: answers to others are none.
 * @param visit  Told of each that is a camera; borrowed.
 * @return whether it is an answer to one of them. */
bool find_probe_read(const char *data, size_t bytes, char ids[][FIND_ID], size_t id_count,
                     const char *from,
                     void (*visit)(void *ctx, const twi_found_camera *camera), void *ctx);

/* ---- services.c: DNS-SD over multicast DNS */

enum { FIND_DNS_PORT = 5353, FIND_DNS_BYTES = 512, FIND_SERVICES = TWI_FOUND_MOST };
#define FIND_DNS_GROUP "224.0.0.251"

/* A service that was named. Names as DNS writes them. */
typedef struct find_service {
    char instance[256]; /* "Pond._rtsp._tcp.local" */
    char host[256];     /* "pond.local"; "": not told yet */
    char path[TWI_FOUND_URL];
    char address[TWI_FOUND_ADDRESS]; /* of the host; "": not told yet */
    uint16_t port;
    bool told; /* where it is: host and port */
} find_service;

typedef struct find_services {
    find_service all[FIND_SERVICES];
    size_t count;
} find_services;

/** Write a question. @param type  Of ns_type: ns_t_ptr...
 * @return bytes; 0: no such name. */
size_t find_question(uint16_t id, const char *name, int type,
                     uint8_t out[FIND_DNS_BYTES]);
/** Take in an answer. @return whether it is one to the question id. */
bool find_answer(find_services *s, const uint8_t *data, size_t bytes, uint16_t id,
                 const find_link *link);
/** @return whether it is known where it is; then camera says so. */
bool find_service_camera(const find_service *s, twi_found_camera *camera);

/* ---- streams.c: what a camera tells of its streams */

/** Ask a camera, at camera->at, and put its streams into it, or why not. */
void find_streams(twi_found_camera *camera, const twi_seeking *how);
/** Read what GetProfiles was answered with, but for where they are.
 * @param tokens  Names by which the device knows them.
 * @return how many. */
size_t find_profiles_read(const char *data, size_t bytes,
                          twi_found_stream out[TWI_FOUND_STREAMS],
                          char tokens[TWI_FOUND_STREAMS][TWI_FOUND_NAME]);
/** A UsernameToken (WS-Security 1.1, digest) as the header of an envelope.
 * @return whether it could be made, and fits. */
bool find_token(const char *user, const char *password, const uint8_t nonce[16],
                const char *created, char *out, size_t room);

#endif
