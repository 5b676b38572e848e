#!/usr/bin/python3
"""A stand-in for object storage: PUT and GET of objects, signed by signature version 4.

object_store.py FOLDER [PORT [SKEW]]: prints its port. An object is kept under its path in
FOLDER only if the signature, worked out here by the published algorithm with key id "key"
and secret "secret", and the hash of the body are right; else 403. SKEW seconds are added to
its clock: more than 15 minutes and it answers RequestTimeTooSkewed."""
import datetime
import hashlib
import hmac
import http.server
import os
import sys
import urllib.parse

FOLDER = sys.argv[1]
SKEW = int(sys.argv[3]) if len(sys.argv) > 3 else 0
SECRET = b"secret"


def sign(key, text):
    return hmac.new(key, text.encode(), hashlib.sha256).digest()


def expected(method, path, query, headers, names, stamp, scope, payload):
    """The signature of a request: canonical request, string to sign, derived key."""
    canonical = "\n".join([method, path, query] +
                          ["%s:%s" % (n, " ".join(headers[n].split())) for n in names] +
                          ["", ";".join(names), payload])
    text = "\n".join(["AWS4-HMAC-SHA256", stamp, scope, hashlib.sha256(canonical.encode()).hexdigest()])
    key = b"AWS4" + SECRET
    for part in scope.split("/"):
        key = sign(key, part)
    return hmac.new(key, text.encode(), hashlib.sha256).hexdigest()


class Store(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def answer(self, code, name=""):
        body = b"<Error><Code>%s</Code></Error>" % name.encode() if name else b""
        self.send_response(code)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def refusal(self, method, body):
        """Why a request is refused, as code and name; None: it is not."""
        headers = {k.lower(): v for k, v in self.headers.items()}
        path, _, query = self.path.partition("?")
        try:
            kind, rest = headers["authorization"].split(" ", 1)
            fields = dict(f.strip().split("=", 1) for f in rest.split(","))
            key, scope = fields["Credential"].split("/", 1)
            names = fields["SignedHeaders"].split(";")
            stamp = headers["x-amz-date"]
            payload = headers["x-amz-content-sha256"]
            wanted = expected(method, path, query, headers, names, stamp, scope, payload)
        except (KeyError, ValueError):
            return (403, "AccessDenied")
        at = datetime.datetime.strptime(stamp, "%Y%m%dT%H%M%SZ")
        now = datetime.datetime.utcnow() + datetime.timedelta(seconds=SKEW)
        if abs((now - at).total_seconds()) > 900:
            return (403, "RequestTimeTooSkewed")
        if kind != "AWS4-HMAC-SHA256" or key != "key" or "x-amz-content-sha256" not in names \
                or "host" not in names or not hmac.compare_digest(wanted, fields["Signature"]):
            return (403, "SignatureDoesNotMatch")
        if hashlib.sha256(body).hexdigest() != payload:
            return (400, "XAmzContentSHA256Mismatch")
        return None

    def file(self):
        path = urllib.parse.unquote(self.path.partition("?")[0])
        return os.path.join(FOLDER, os.path.normpath(path).lstrip("/"))

    def do_GET(self):
        refusal = self.refusal("GET", b"")
        if refusal:
            return self.answer(*refusal)
        try:
            with open(self.file(), "rb") as it:
                body = it.read()
        except OSError:
            return self.answer(404, "NoSuchKey")
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        return self.wfile.write(body)

    def do_PUT(self):
        body = self.rfile.read(int(self.headers["Content-Length"]))
        refusal = self.refusal("PUT", body)
        if refusal:
            return self.answer(*refusal)
        file = self.file()
        os.makedirs(os.path.dirname(file), exist_ok=True)
        with open(file, "wb") as out:
            out.write(body)
        return self.answer(200)

    def log_message(self, *_):
        pass


server = http.server.ThreadingHTTPServer(("127.0.0.1", int(sys.argv[2]) if len(sys.argv) > 2 else 0), Store)
print(server.server_address[1], flush=True)
server.serve_forever()
