/* What a server's reply means. */
#include "reply.h"

#include <stdbool.h>

static bool is_digit(char c)
{
    return c >= '0' && c <= '9';
}

/* Up to three digits. @return past them; NULL: there are none, or more. */
static const char *read_number(const char *s, uint16_t *out)
{
    uint16_t n = 0;
    int digits = 0;
    for (; is_digit(*s); s++, digits++) {
        if (digits == 3)
            return NULL;
        n = (uint16_t)(n * 10 + (*s - '0'));
    }
    *out = n;
    return digits > 0 ? s : NULL;
}

static const char *skip_blanks(const char *s)
{
    while (*s == ' ' || *s == '\t')
        s++;
    return s;
}

/* "5.2.2" @return past it; NULL: it is none. */
static const char *read_enhanced(const char *s, uint16_t out[3])
{
    uint16_t read[3] = {0, 0, 0};
    for (int i = 0; i < 3; i++) {
        s = read_number(s, &read[i]);
        if (!s || (i < 2 && *s++ != '.'))
            return NULL;
    }
    for (int i = 0; i < 3; i++)
        out[i] = read[i];
    return s;
}

twi_reply twi_reply_read(const char *line)
{
    static const char HTTP[] = "HTTP/";
    twi_reply r = {0};
    r.text = "";
    if (!line)
        return r;
    size_t i = 0;
    while (HTTP[i] && line[i] == HTTP[i])
        i++;
    const char *s = line;
    if (HTTP[i] == '\0')
        while (*s && *s != ' ')
            s++;
    s = skip_blanks(s);
    uint16_t code = 0;
    const char *past = read_number(s, &code);
    if (!past || past - s != 3 || code < 100 || (*past && *past != ' ' && *past != '-'))
        return r;
    r.code = code;
    s = skip_blanks(*past ? past + 1 : past);
    past = read_enhanced(s, r.enhanced);
    r.text = past ? skip_blanks(past) : s;
    return r;
}

/* ---- protocols ------------------------------------------------------------------- */

typedef struct meaning {
    uint16_t code;
    twi_fault fault;
} meaning;

/* @param list  Ended by code 0, whose fault is the answer where no other fits. */
static twi_fault find(const meaning *list, uint16_t code)
{
    while (list->code != 0 && list->code != code)
        list++;
    return list->fault;
}

/* RFC 5321, and RFC 3463 where the server says more. */
static twi_fault mail_fault(const twi_reply *r)
{
    static const meaning codes[] = {
        {530, TWI_FAULT_LOGIN},     {534, TWI_FAULT_LOGIN},
        {535, TWI_FAULT_LOGIN},     {538, TWI_FAULT_NO_TLS},
        {550, TWI_FAULT_RECIPIENT}, {551, TWI_FAULT_RECIPIENT},
        {553, TWI_FAULT_RECIPIENT}, {552, TWI_FAULT_TOO_LARGE},
        {555, TWI_FAULT_RECIPIENT}, {523, TWI_FAULT_TOO_LARGE},
        {0, TWI_FAULT_REFUSED}};
    const uint16_t subject = r->enhanced[1], detail = r->enhanced[2];
    const bool mailbox = subject == 2 && detail == 2;
    if (mailbox)
        return TWI_FAULT_MAILBOX;
    if (r->code >= 400 && r->code < 500)
        return r->code == 452 && subject != 5 ? TWI_FAULT_FULL : TWI_FAULT_BUSY;
    if ((subject == 2 || subject == 3) && detail == (subject == 2 ? 3 : 4))
        return TWI_FAULT_TOO_LARGE;
    if (subject == 1 && (detail == 7 || detail == 8))
        return TWI_FAULT_SENDER;
    if (subject == 1)
        return TWI_FAULT_RECIPIENT;
    if (subject == 7 && detail == 8)
        return TWI_FAULT_LOGIN;
    if (subject == 7 && r->code == 550)
        return TWI_FAULT_REFUSED; /* what it says, not to whom */
    return find(codes, r->code);
}

/* RFC 959. */
static twi_fault ftp_fault(const twi_reply *r)
{
    static const meaning codes[] = {
        {530, TWI_FAULT_LOGIN},  {532, TWI_FAULT_LOGIN},  {452, TWI_FAULT_FULL},
        {552, TWI_FAULT_FULL},   {553, TWI_FAULT_FOLDER}, {550, TWI_FAULT_FOLDER},
        {534, TWI_FAULT_NO_TLS}, {522, TWI_FAULT_TLS},    {500, TWI_FAULT_METHOD},
        {502, TWI_FAULT_METHOD}, {504, TWI_FAULT_METHOD}, {0, TWI_FAULT_OTHER}};
    if (r->code >= 400 && r->code < 500 && r->code != 452)
        return TWI_FAULT_BUSY;
    return find(codes, r->code);
}

/* RFC 9110; 507 of RFC 4918. */
static twi_fault http_fault(const twi_reply *r)
{
    static const meaning codes[] = {
        {401, TWI_FAULT_LOGIN},     {403, TWI_FAULT_FOLDER}, {407, TWI_FAULT_LOGIN},
        {404, TWI_FAULT_FOLDER},    {409, TWI_FAULT_FOLDER}, {410, TWI_FAULT_FOLDER},
        {405, TWI_FAULT_METHOD},    {501, TWI_FAULT_METHOD}, {411, TWI_FAULT_METHOD},
        {413, TWI_FAULT_TOO_LARGE}, {408, TWI_FAULT_BUSY},   {425, TWI_FAULT_BUSY},
        {429, TWI_FAULT_BUSY},      {507, TWI_FAULT_FULL},   {0, TWI_FAULT_OTHER}};
    const twi_fault fault = find(codes, r->code);
    if (fault != TWI_FAULT_OTHER)
        return fault;
    if (r->code >= 300 && r->code < 400)
        return TWI_FAULT_MOVED;
    if (r->code >= 400 && r->code < 500)
        return TWI_FAULT_REFUSED;
    return r->code >= 500 ? TWI_FAULT_BUSY : TWI_FAULT_OTHER;
}

twi_fault twi_reply_fault(twi_protocol protocol, const twi_reply *reply)
{
    if (!reply || reply->code == 0)
        return TWI_FAULT_OTHER;
    switch (protocol) {
    case TWI_PROTOCOL_SMTP: return mail_fault(reply);
    case TWI_PROTOCOL_FTP: return ftp_fault(reply);
    case TWI_PROTOCOL_HTTP: return http_fault(reply);
    case TWI_PROTOCOL_S3: /* it answers 403 where the signature is wrong */
        return reply->code == 403 ? TWI_FAULT_LOGIN : http_fault(reply);
    default: return TWI_FAULT_OTHER;
    }
}

/* ---- faults ---------------------------------------------------------------------- */

static const struct {
    twi_verdict verdict;
    const char *text;
} FAULTS[TWI_FAULT_COUNT] = {
    [TWI_FAULT_NONE] = {TWI_DELIVERED, "it is there"},
    [TWI_FAULT_HOST] = {TWI_LATER, "there is no such host, or no network: look at url"},
    [TWI_FAULT_CONNECT] = {TWI_LATER,
                           "nobody answers there: look at host and port in url, and "
                           "whether a firewall is between"},
    [TWI_FAULT_TIMEOUT] = {TWI_LATER, "no sign from it in time (timeout)"},
    [TWI_FAULT_BROKEN] = {TWI_LATER, "the connection broke"},
    [TWI_FAULT_CERTIFICATE] = {TWI_HALT, "its certificate is not trusted: if it is its "
                                         "own, name that by trust = FILE"},
    [TWI_FAULT_CERT_NAME] = {TWI_HALT, "its certificate is for another name: write url "
                                       "with the name that stands in it"},
    [TWI_FAULT_CLOCK] = {TWI_LATER, "the clock of this board is wrong, so that nothing "
                                    "can be verified: set it"},
    [TWI_FAULT_NO_TLS] = {TWI_HALT, "it does not encrypt: try another port, or write tls "
                                    "= none if nobody listens"},
    [TWI_FAULT_TLS] = {TWI_LATER, "no agreement on how to encrypt: is that the port for "
                                  "it?"},
    [TWI_FAULT_TRUST_FILE] = {TWI_HALT, "the certificates of trust cannot be read"},
    [TWI_FAULT_HOST_KEY] = {TWI_HALT,
                            "its host key is not among the known ones: if it is "
                            "right, add it to host_keys, as ssh-keyscan prints "
                            "it"},
    [TWI_FAULT_SECRET] = {TWI_HALT, "the secret cannot be had"},
    [TWI_FAULT_LOGIN] = {TWI_HALT, "it refuses the login: look at user and secret_file"},
    [TWI_FAULT_FOLDER] = {TWI_HALT, "the folder is missing there, or may not be written: "
                                    "look at the path in url, and at what the user may"},
    [TWI_FAULT_FULL] = {TWI_LATER, "there is no room left there"},
    [TWI_FAULT_TOO_LARGE] = {TWI_NEVER, "that is too large for it: send less (what, "
                                        "attach_below)"},
    [TWI_FAULT_SENDER] = {TWI_HALT, "it refuses the sender: look at from"},
    [TWI_FAULT_RECIPIENT] = {TWI_HALT, "it refuses the recipient: look at to"},
    [TWI_FAULT_MAILBOX] = {TWI_LATER, "the mailbox is full"},
    [TWI_FAULT_BUSY] = {TWI_LATER, "it asks to come back later"},
    [TWI_FAULT_REFUSED] = {TWI_NEVER, "it refuses this"},
    [TWI_FAULT_MOVED] = {TWI_HALT, "it has moved: write the new place as url"},
    [TWI_FAULT_METHOD] = {TWI_HALT, "it cannot do that: look at by"},
    [TWI_FAULT_GONE] = {TWI_NEVER, "the capture is no more in the store"},
    [TWI_FAULT_URL] = {TWI_HALT, "its url cannot be read"},
    [TWI_FAULT_OTHER] = {TWI_LATER, "it did not work"}};

twi_verdict twi_fault_verdict(twi_fault fault)
{
    return (unsigned)fault < TWI_FAULT_COUNT ? FAULTS[fault].verdict : TWI_LATER;
}

const char *twi_fault_text(twi_fault fault)
{
    return (unsigned)fault < TWI_FAULT_COUNT ? FAULTS[fault].text
                                             : FAULTS[TWI_FAULT_OTHER].text;
}

const char *twi_reply_shown(const char *line, size_t bytes, char *out, size_t capacity)
{
    size_t used = 0;
    for (size_t i = 0; i < bytes && line[i] && used + 1 < capacity; i++) {
        const bool plain = line[i] >= ' ' && line[i] <= '~';
        if (!plain && (used == 0 || out[used - 1] == ' '))
            continue;
        out[used++] = plain ? line[i] : ' ';
    }
    while (used > 0 && out[used - 1] == ' ')
        used--;
    out[used] = '\0';
    return out;
}
