#!/usr/bin/python3
"""A mail server on loopback that keeps what it gets.

mail_server.py FOLDER [PORT [CERTIFICATE KEY [USER PASSWORD [implicit]]]]: prints its port, then
writes each message to FOLDER as N.eml, its envelope as X-From and X-To before it. With a
certificate it wants STARTTLS, or, implicit, is encrypted from the beginning; with a user it
wants a login. PORT 0 is any."""
import os
import signal
import ssl
import sys

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import AuthResult


class Keep:
    def __init__(self, folder):
        self.folder = folder

    async def handle_DATA(self, server, session, envelope):
        number = len([n for n in os.listdir(self.folder) if n.endswith(".eml")])
        path = os.path.join(self.folder, "%06d" % number)
        with open(path + ".part", "wb") as out:
            out.write(b"X-From: " + envelope.mail_from.encode() + b"\r\n")
            out.write(b"X-To: " + ",".join(envelope.rcpt_tos).encode() + b"\r\n")
            out.write(envelope.content)
            out.flush()
            os.fsync(out.fileno())
        os.rename(path + ".part", path + ".eml")
        return "250 2.0.0 kept as %06d" % number


def main():
    folder = sys.argv[1]
    port = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    options = {}
    if len(sys.argv) > 4:
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        context.load_cert_chain(sys.argv[3], sys.argv[4])
        if "implicit" in sys.argv:
            options.update(ssl_context=context, auth_require_tls=False)
        else:
            options.update(tls_context=context, require_starttls=True)
    if len(sys.argv) > 6:
        def check(server, session, envelope, mechanism, data):
            right = (data.login, data.password) == (sys.argv[5].encode(), sys.argv[6].encode())
            return AuthResult(success=right, handled=right)
        options.update(auth_required=True, authenticator=check)
    if port == 0:
        import socket
        s = socket.socket()
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
        s.close()
    controller = Controller(Keep(folder), hostname="127.0.0.1", port=port, data_size_limit=4000000, **options)
    controller.start()
    print(port, flush=True)
    signal.pause()


main()
