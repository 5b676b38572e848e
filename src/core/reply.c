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

tw_reply tw_reply_read(const char *line)
{
    static const char HTTP[] = "HTTP/";
    tw_reply r = {0};
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
    tw_fault fault;
} meaning;

/* @param list  Ended by code 0, whose fault is the answer where no other fits. */
static tw_fault find(const meaning *list, uint16_t code)
{
    while (list->code != 0 && list->code != code)
        list++;
    return list->fault;
}

/* RFC 5321, and RFC 3463 where the server says more. */
static tw_fault mail_fault(const tw_reply *r)
{
    static const meaning codes[] = {
        {530, TW_FAULT_LOGIN},     {534, TW_FAULT_LOGIN},     {535, TW_FAULT_LOGIN},
        {538, TW_FAULT_NO_TLS},    {550, TW_FAULT_RECIPIENT}, {551, TW_FAULT_RECIPIENT},
        {553, TW_FAULT_RECIPIENT}, {552, TW_FAULT_TOO_LARGE}, {555, TW_FAULT_RECIPIENT},
        {523, TW_FAULT_TOO_LARGE}, {0, TW_FAULT_REFUSED}};
    const uint16_t subject = r->enhanced[1], detail = r->enhanced[2];
    const bool mailbox = subject == 2 && detail == 2;
    if (mailbox)
        return TW_FAULT_MAILBOX;
    if (r->code >= 400 && r->code < 500)
        return r->code == 452 && subject != 5 ? TW_FAULT_FULL : TW_FAULT_BUSY;
    if ((subject == 2 || subject == 3) && detail == (subject == 2 ? 3 : 4))
        return TW_FAULT_TOO_LARGE;
    if (subject == 1 && (detail == 7 || detail == 8))
        return TW_FAULT_SENDER;
    if (subject == 1)
        return TW_FAULT_RECIPIENT;
    if (subject == 7 && detail == 8)
        return TW_FAULT_LOGIN;
    if (subject == 7 && r->code == 550)
        return TW_FAULT_REFUSED; /* what it says, not to whom */
    return find(codes, r->code);
}

/* RFC 959. */
static tw_fault ftp_fault(const tw_reply *r)
{
    static const meaning codes[] = {
        {530, TW_FAULT_LOGIN},  {532, TW_FAULT_LOGIN},  {452, TW_FAULT_FULL},
        {552, TW_FAULT_FULL},   {553, TW_FAULT_FOLDER}, {550, TW_FAULT_FOLDER},
        {534, TW_FAULT_NO_TLS}, {522, TW_FAULT_TLS},    {500, TW_FAULT_METHOD},
        {502, TW_FAULT_METHOD}, {504, TW_FAULT_METHOD}, {0, TW_FAULT_OTHER}};
    if (r->code >= 400 && r->code < 500 && r->code != 452)
        return TW_FAULT_BUSY;
    return find(codes, r->code);
}

/* RFC 9110; 507 of RFC 4918. */
static tw_fault http_fault(const tw_reply *r)
{
    static const meaning codes[] = {
        {401, TW_FAULT_LOGIN},     {403, TW_FAULT_FOLDER}, {407, TW_FAULT_LOGIN},
        {404, TW_FAULT_FOLDER},    {409, TW_FAULT_FOLDER}, {410, TW_FAULT_FOLDER},
        {405, TW_FAULT_METHOD},    {501, TW_FAULT_METHOD}, {411, TW_FAULT_METHOD},
        {413, TW_FAULT_TOO_LARGE}, {408, TW_FAULT_BUSY},   {425, TW_FAULT_BUSY},
        {429, TW_FAULT_BUSY},      {507, TW_FAULT_FULL},   {0, TW_FAULT_OTHER}};
    const tw_fault fault = find(codes, r->code);
    if (fault != TW_FAULT_OTHER)
        return fault;
    if (r->code >= 300 && r->code < 400)
        return TW_FAULT_MOVED;
    if (r->code >= 400 && r->code < 500)
        return TW_FAULT_REFUSED;
    return r->code >= 500 ? TW_FAULT_BUSY : TW_FAULT_OTHER;
}

tw_fault tw_reply_fault(tw_protocol protocol, const tw_reply *reply)
{
    if (!reply || reply->code == 0)
        return TW_FAULT_OTHER;
    switch (protocol) {
    case TW_PROTOCOL_SMTP: return mail_fault(reply);
    case TW_PROTOCOL_FTP: return ftp_fault(reply);
    case TW_PROTOCOL_HTTP: return http_fault(reply);
    case TW_PROTOCOL_S3: /* it answers 403 where the signature is wrong */
        return reply->code == 403 ? TW_FAULT_LOGIN : http_fault(reply);
    default: return TW_FAULT_OTHER;
    }
}

/* ---- faults ---------------------------------------------------------------------- */

static const struct {
    tw_verdict verdict;
    const char *text;
} FAULTS[TW_FAULT_COUNT] = {
    [TW_FAULT_NONE] = {TW_DELIVERED, "it is there"},
    [TW_FAULT_HOST] = {TW_LATER, "there is no such host, or no network: look at url"},
    [TW_FAULT_CONNECT] = {TW_LATER,
                          "nobody answers there: look at host and port in url, and "
                          "whether a firewall is between"},
    [TW_FAULT_TIMEOUT] = {TW_LATER, "no sign from it in time (timeout)"},
    [TW_FAULT_BROKEN] = {TW_LATER, "the connection broke"},
    [TW_FAULT_CERTIFICATE] = {TW_HALT, "its certificate is not trusted: if it is its "
                                       "own, name that by trust = FILE"},
    [TW_FAULT_CERT_NAME] = {TW_HALT, "its certificate is for another name: write url "
                                     "with the name that stands in it"},
    [TW_FAULT_CLOCK] = {TW_LATER, "the clock of this board is wrong, so that nothing "
                                  "can be verified: set it"},
    [TW_FAULT_NO_TLS] = {TW_HALT, "it does not encrypt: try another port, or write tls "
                                  "= none if nobody listens"},
    [TW_FAULT_TLS] = {TW_LATER, "no agreement on how to encrypt: is that the port for "
                                "it?"},
    [TW_FAULT_TRUST_FILE] = {TW_HALT, "the certificates of trust cannot be read"},
    [TW_FAULT_HOST_KEY] = {TW_HALT, "its host key is not among the known ones: if it is "
                                    "right, add it to host_keys, as ssh-keyscan prints "
                                    "it"},
    [TW_FAULT_SECRET] = {TW_HALT, "the secret cannot be had"},
    [TW_FAULT_LOGIN] = {TW_HALT, "it refuses the login: look at user and secret_file"},
    [TW_FAULT_FOLDER] = {TW_HALT, "the folder is missing there, or may not be written: "
                                  "look at the path in url, and at what the user may"},
    [TW_FAULT_FULL] = {TW_LATER, "there is no room left there"},
    [TW_FAULT_TOO_LARGE] = {TW_NEVER, "that is too large for it: send less (what, "
                                      "attach_below)"},
    [TW_FAULT_SENDER] = {TW_HALT, "it refuses the sender: look at from"},
    [TW_FAULT_RECIPIENT] = {TW_HALT, "it refuses the recipient: look at to"},
    [TW_FAULT_MAILBOX] = {TW_LATER, "the mailbox is full"},
    [TW_FAULT_BUSY] = {TW_LATER, "it asks to come back later"},
    [TW_FAULT_REFUSED] = {TW_NEVER, "it refuses this"},
    [TW_FAULT_MOVED] = {TW_HALT, "it has moved: write the new place as url"},
    [TW_FAULT_METHOD] = {TW_HALT, "it cannot do that: look at by"},
    [TW_FAULT_GONE] = {TW_NEVER, "the capture is no more in the store"},
    [TW_FAULT_URL] = {TW_HALT, "its url cannot be read"},
    [TW_FAULT_OTHER] = {TW_LATER, "it did not work"}};

tw_verdict tw_fault_verdict(tw_fault fault)
{
    return (unsigned)fault < TW_FAULT_COUNT ? FAULTS[fault].verdict : TW_LATER;
}

const char *tw_fault_text(tw_fault fault)
{
    return (unsigned)fault < TW_FAULT_COUNT ? FAULTS[fault].text
                                            : FAULTS[TW_FAULT_OTHER].text;
}

const char *tw_reply_shown(const char *line, size_t bytes, char *out, size_t capacity)
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
