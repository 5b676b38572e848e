/* What a server's reply means: whether to try again later, never with
 * this, or not before somebody has changed something, and what that is. Pure: no I/O,
 * clock or heap. */
#ifndef TW_REPLY_H
#define TW_REPLY_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/status.h"

/* What became of something that was to be sent. */
typedef enum tw_verdict {
    TW_DELIVERED,
    TW_LATER, /* the same may work later */
    TW_NEVER, /* this will never work, something else may */
    TW_HALT   /* nothing will work there until something is changed */
} tw_verdict;

typedef enum tw_protocol {
    TW_PROTOCOL_SMTP,
    TW_PROTOCOL_FTP,
    TW_PROTOCOL_SFTP,
    TW_PROTOCOL_HTTP,
    TW_PROTOCOL_S3,
    TW_PROTOCOL_MQTT,
    TW_PROTOCOL_FILE
} tw_protocol;

/* Why it did not work. docs/sending.md lists them with what to do. */
typedef enum tw_fault {
    TW_FAULT_NONE,
    TW_FAULT_HOST,        /* its name is not known */
    TW_FAULT_CONNECT,     /* nobody answers */
    TW_FAULT_TIMEOUT,     /* no sign in time */
    TW_FAULT_BROKEN,      /* the connection broke */
    TW_FAULT_CERTIFICATE, /* is not trusted */
    TW_FAULT_CERT_NAME,   /* is another's */
    TW_FAULT_CLOCK,       /* ours is wrong, so nothing can be verified */
    TW_FAULT_NO_TLS,      /* it does not encrypt */
    TW_FAULT_TLS,         /* no agreement on how to */
    TW_FAULT_TRUST_FILE,  /* cannot be read */
    TW_FAULT_HOST_KEY,    /* is not the known one */
    TW_FAULT_SECRET,      /* cannot be had */
    TW_FAULT_LOGIN,       /* is refused */
    TW_FAULT_FOLDER,      /* is missing, or may not be written */
    TW_FAULT_FULL,        /* no room there */
    TW_FAULT_TOO_LARGE,
    TW_FAULT_SENDER,    /* is refused */
    TW_FAULT_RECIPIENT, /* is refused */
    TW_FAULT_MAILBOX,   /* is full */
    TW_FAULT_BUSY,      /* try later, it says */
    TW_FAULT_REFUSED,   /* this very thing */
    TW_FAULT_MOVED,
    TW_FAULT_METHOD, /* it cannot do what is asked */
    TW_FAULT_GONE,   /* our own file is no more there */
    TW_FAULT_URL,    /* cannot be read */
    TW_FAULT_OTHER,
    TW_FAULT_COUNT
} tw_fault;

/* A reply's numbers. */
typedef struct tw_reply {
    uint16_t code;        /* three digits; 0: none */
    uint16_t enhanced[3]; /* of mail, RFC 3463: 5.2.2; all 0: none */
    const char *text;     /* what follows; in the line */
} tw_reply;

/** Read a line of a server: "552 5.2.2 mailbox full", "HTTP/1.1 507 ...".
 * @param line  Ended by 0; anything may stand in it. */
tw_reply tw_reply_read(const char *line);

/** What a reply of a server means that did not take what it was given. */
tw_fault tw_reply_fault(tw_protocol protocol, const tw_reply *reply);

/** Whether it can work later, for a fault other than TW_FAULT_NONE. */
tw_verdict tw_fault_verdict(tw_fault fault);

/** @return what is wrong and what to do, in one sentence; static. */
const char *tw_fault_text(tw_fault fault);

/**
 * A server's line as it may be shown: what is no printable ASCII becomes a blank.
 * @param out  Caller's, capacity bytes, >= 1; cut where it is too long. @return out. */
const char *tw_reply_shown(const char *line, size_t bytes, char *out, size_t capacity);

#endif
