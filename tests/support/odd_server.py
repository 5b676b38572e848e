#!/usr/bin/python3
"""A server that misbehaves on demand.

odd_server.py http FOLDER ACT...: each request gets the next act; the last one goes on. An act
is a status code (503), one with a header (429:Retry-After=7), "stall" (no answer), "reset"
(the connection is torn in the middle of the body), "garbage". What was asked is kept in FOLDER
as N.request: the head, and the body behind it.
odd_server.py smtp FOLDER ACT...: each connection gets the next act: STEP=REPLY such as
"RCPT=550 5.1.1 no such user" (steps are GREETING, EHLO, AUTH, MAIL, RCPT, DATA, END), "fine",
"stall", "reset" (after DATA), "flood" (an endless reply). Mail that was taken is kept as N.eml.
odd_server.py proxy PORT FILE: passes bytes to PORT of loopback and back as long as FILE is
not there; while it is, connections are torn.
Each prints its port."""
import os
import socket
import struct
import sys
import threading
import time

ACTS = []
LOCK = threading.Lock()
COUNT = [0]


def next_act():
    with LOCK:
        act = ACTS[min(COUNT[0], len(ACTS) - 1)]
        COUNT[0] += 1
        return act, COUNT[0] - 1


def tear(connection):
    """Close so that the other side sees a reset."""
    connection.setsockopt(socket.SOL_SOCKET, socket.SO_LINGER, struct.pack("ii", 1, 0))
    connection.close()


def keep(folder, name, data):
    with open(os.path.join(folder, name), "wb") as out:
        out.write(data)


def read_head(connection):
    data = b""
    while b"\r\n\r\n" not in data and len(data) < 65536:
        piece = connection.recv(4096)
        if not piece:
            return None, b""
        data += piece
    head, _, rest = data.partition(b"\r\n\r\n")
    return head, rest


def serve_http(connection, folder):
    while True:
        head, body = read_head(connection)
        if head is None:
            return
        length = 0
        for line in head.split(b"\r\n"):
            if line.lower().startswith(b"content-length:"):
                length = int(line.split(b":")[1])
        act, number = next_act()
        if act == "reset":
            tear(connection)
            return
        while len(body) < length:
            body += connection.recv(65536)
        if b"chunked" in head.lower():
            while not body.endswith(b"0\r\n\r\n"):
                body += connection.recv(65536)
        keep(folder, "%04d.request" % number, head + b"\r\n\r\n" + body)
        if act == "stall":
            time.sleep(3600)
        if act == "garbage":
            connection.sendall(b"\x00\xff\x1b[31m not http at all\r\n\r\n")
            return
        if act == "short":
            connection.sendall(b"HTTP/1.1 200 fine\r\nContent-Length: 1000\r\n\r\nnot all of it")
            return
        code, _, header = act.partition(":")
        name, _, value = header.partition("=")
        extra = "%s: %s\r\n" % (name, value) if header else ""
        connection.sendall(("HTTP/1.1 %s it says so\r\n%sContent-Length: 0\r\n\r\n" % (code, extra)).encode())


def serve_smtp(connection, folder):
    act, number = next_act()
    if act == "stall":
        time.sleep(3600)
    step, _, reply = act.partition("=")
    if act == "flood":
        try:
            while True:
                connection.sendall(b"220-" + b"x" * 4000 + b"\r\n")
        except OSError:
            return

    def say(at, fine):
        text = reply if step == at else fine
        connection.sendall(text.encode() + b"\r\n")
        return text

    lines = connection.makefile("rb")
    say("GREETING", "220 odd")
    data = b""
    for line in lines:
        word = line[:4].upper()
        if word == b"EHLO":
            connection.sendall(b"250-odd\r\n250-AUTH PLAIN LOGIN\r\n")
            say("EHLO", "250 SIZE 1000000")
        elif word == b"AUTH":
            if len(line.split()) < 3:
                connection.sendall(b"334 \r\n")
                lines.readline()
            say("AUTH", "235 2.7.0 welcome")
        elif word == b"MAIL":
            say("MAIL", "250 fine")
        elif word == b"RCPT":
            say("RCPT", "250 fine")
        elif word == b"DATA":
            if not say("DATA", "354 go on").startswith("3"):
                continue
            if act == "reset":
                tear(connection)
                return
            for piece in lines:
                if piece == b".\r\n":
                    break
                data += piece
            if say("END", "250 2.0.0 kept").startswith("2"):
                keep(folder, "%04d.eml" % number, data)
        elif word == b"QUIT":
            connection.sendall(b"221 bye\r\n")
            return
        else:
            connection.sendall(b"250 fine\r\n")


def pump(a, b, gate):
    try:
        while not os.path.exists(gate):
            a.settimeout(0.2)
            try:
                data = a.recv(65536)
            except socket.timeout:
                continue
            if not data:
                break
            b.sendall(data)
    except OSError:
        pass
    for s in (a, b):
        try:
            tear(s) if os.path.exists(gate) else s.shutdown(socket.SHUT_WR)
        except OSError:
            pass


def serve_proxy(connection, port, gate):
    if os.path.exists(gate):
        tear(connection)
        return
    other = socket.create_connection(("127.0.0.1", port))
    threading.Thread(target=pump, args=(connection, other, gate), daemon=True).start()
    pump(other, connection, gate)


def main():
    kind, folder = sys.argv[1], sys.argv[2]
    ACTS.extend(sys.argv[3:])
    server = socket.socket()
    server.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    server.bind(("127.0.0.1", 0))
    server.listen(64)
    print(server.getsockname()[1], flush=True)

    def serve(connection):
        try:
            if kind == "proxy":
                serve_proxy(connection, int(folder), sys.argv[3])
            else:
                (serve_http if kind == "http" else serve_smtp)(connection, folder)
        except OSError:
            pass
        if kind != "proxy":
            connection.close()

    while True:
        connection, _ = server.accept()
        threading.Thread(target=serve, args=(connection,), daemon=True).start()


main()
