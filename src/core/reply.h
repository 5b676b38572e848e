/* What a server's reply means: whether to try again later, never with
 * this, or not before somebody has changed something, and what that is. Pure: no I/O,
 * clock or heap. */
#ifndef TWI_REPLY_H
#define TWI_REPLY_H

#include <stddef.h>
#include <stdint.h>

#include "tawny/error.h"

/* What became of something that was to be sent. */
typedef enum twi_verdict {
    TWI_DELIVERED,
    TWI_LATER, /* the same may work later */
    TWI_NEVER, /* this will never work, something else may */
    TWI_HALT   /* nothing will work there until something is changed */
} twi_verdict;

typedef enum twi_protocol {
    TWI_PROTOCOL_SMTP,
    TWI_PROTOCOL_FTP,
    TWI_PROTOCOL_SFTP,
    TWI_PROTOCOL_HTTP,
    TWI_PROTOCOL_S3,
    TWI_PROTOCOL_MQTT,
    TWI_PROTOCOL_FILE
} twi_protocol;

/* Why it did not work. docs/sending.md lists them with what to do. */
typedef enum twi_fault {
    TWI_FAULT_NONE,
    TWI_FAULT_HOST,        /* its name is not known */
    TWI_FAULT_CONNECT,     /* nobody answers */
    TWI_FAULT_TIMEOUT,     /* no sign in time */
    TWI_FAULT_BROKEN,      /* the connection broke */
    TWI_FAULT_CERTIFICATE, /* is not trusted */
    TWI_FAULT_CERT_NAME,   /* is another's */
    TWI_FAULT_CLOCK,       /* ours is wrong, so nothing can be verified */
    TWI_FAULT_NO_TLS,      /* it does not encrypt */
    TWI_FAULT_TLS,         /* no agreement on how to */
    TWI_FAULT_TRUST_FILE,  /* cannot be read */
    TWI_FAULT_HOST_KEY,    /* is not the known one */
    TWI_FAULT_SECRET,      /* cannot be had */
    TWI_FAULT_LOGIN,       /* is refused */
    TWI_FAULT_FOLDER,      /* is missing, or may not be written */
    TWI_FAULT_FULL,        /* no room there */
    TWI_FAULT_TOO_LARGE,
    TWI_FAULT_SENDER,    /* is refused */
    TWI_FAULT_RECIPIENT, /* is refused */
    TWI_FAULT_MAILBOX,   /* is full */
    TWI_FAULT_BUSY,      /* try later, it says */
    TWI_FAULT_REFUSED,   /* this very thing */
    TWI_FAULT_MOVED,
    TWI_FAULT_METHOD, /* it cannot do what is asked */
    TWI_FAULT_GONE,   /* our own file is no more there */
    TWI_FAULT_URL,    /* cannot be read */
    TWI_FAULT_OTHER,
    TWI_FAULT_COUNT
} twi_fault;

/* A reply's numbers. */
typedef struct twi_reply {
    uint16_t code;        /* three digits; 0: none */
    uint16_t enhanced[3]; /* of mail, RFC 3463: 5.2.2; all 0: none */
    const char *text;     /* what follows; in the line */
} twi_reply;

/** Read a line of a server: "552 5.2.2 mailbox full", "HTTP/1.1 507 ...".
 * @param line  Ended by 0; anything may stand in it. */
twi_reply twi_reply_read(const char *line);

/** What a reply of a server means that did not take what it was given. */
twi_fault twi_reply_fault(twi_protocol protocol, const twi_reply *reply);

/** Whether it can work later, for a fault other than TWI_FAULT_NONE. */
twi_verdict twi_fault_verdict(twi_fault fault);

/** @return what is wrong and what to do, in one sentence; static. */
const char *twi_fault_text(twi_fault fault);

/**
 * A server's line as it may be shown: what is no printable ASCII becomes a blank.
 * @param out  Caller's, capacity bytes, >= 1; cut where it is too long. @return out. */
const char *twi_reply_shown(const char *line, size_t bytes, char *out, size_t capacity);

#endif
