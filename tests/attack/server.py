"""Servers that lose an answer, never end one, or announce what nobody could take: nothing is
lost, nothing stops for good, and memory is bounded."""
import http.server, os, re, socket, socketserver, struct, threading, time
from station import SETTINGS, Station, expect, finish

files, log = {}, []
mode = {"lose": 1, "endless": False, "folder": False}


class Dav(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def end(self, code, length=0):
        log.append((self.command, self.path[-30:], code))
        self.send_response(code)
        self.send_header("Content-Length", str(length))
        self.end_headers()

    def do_HEAD(self):
        self.end(200, len(files[self.path])) if self.path in files else self.end(404)

    def do_PUT(self):
        files[self.path] = self.rfile.read(int(self.headers.get("Content-Length") or 0))
        if not mode["endless"]:
            return self.end(201)
        log.append(("PUT", self.path[-30:], "201 without an end"))
        self.send_response(201)
        self.end_headers()
        while mode["endless"]:
            self.wfile.write(b"x" * (4096 if mode["endless"] == "fast" else 1))
            time.sleep(0 if mode["endless"] == "fast" else 0.2)

    def do_MKCOL(self):
        self.end(201)

    def do_MOVE(self):
        to = "/" + self.headers["Destination"].split("://", 1)[-1].split("/", 1)[1]
        if self.path not in files:
            return self.end(404)
        if mode["lose"] == "gone":  # somebody has taken the part away
            mode["lose"] = 0
            del files[self.path]
            return self.end(404)
        files[to] = files.pop(self.path)
        if mode["lose"]:
            mode["lose"] -= 1
            log.append(("MOVE", self.path[-30:], "done, no answer"))
            self.close_connection = True
            return
        self.end(201)

    def log_message(self, *a):
        pass

    def handle(self):
        try:
            super().handle()
        except OSError:
            pass


server = socketserver.ThreadingTCPServer(("127.0.0.1", 0), Dav)
server.daemon_threads = True
threading.Thread(target=server.serve_forever, daemon=True).start()
web = SETTINGS.replace("listen = 127.0.0.1:0", "listen = none").replace(
    "url = file:SHED", "url = http://127.0.0.1:%d/in\nwhat = timed\ntimeout = 3 s" % server.server_address[1]).replace(
    "send_to = shed", "send_to = shed\ntimed_still = 1 s")


def whole():
    return [f for f in files if not f.endswith(".part")]


s = Station(settings=web, accounts=())
s.start(page=False)
expect("an answer to MOVE that was lost stops nothing", s.wait_for(lambda: len(whole()) > 4, 40), log[-8:])
expect("... and the destination has not stopped", "stopped" not in s.run("outbox").stdout, s.run("outbox").stdout)
n = len(whole())
mode["lose"] = "gone"
expect("a part that is gone is put again", s.wait_for(lambda: len(whole()) > n + 3, 40), log[-8:])
expect("no capture is left behind", mode["lose"] == 0)
for how in ("fast", "slow"):
    mode["endless"] = how
    at = len(log)
    expect("an answer without an end (%s) holds nothing up" % how,
           s.wait_for(lambda: len([x for x in log[at:] if x[0] == "MOVE"]) > 1, 60), log[-6:])
mode["endless"] = False
s.stop()
s.clean()

# A broker that announces 256 MB.
def broker(listener):
    while True:
        c, _ = listener.accept()
        try:
            c.recv(4096)
            c.sendall(b"\x20\x02\x00\x00")
            c.recv(4096)
            c.sendall(b"\x30" + b"\xff\xff\xff\x7f")
            for _ in range(600):
                c.sendall(b"a" * 65536)
                time.sleep(0.005)
            sent.append("all")
        except OSError:
            sent.append("refused")


sent = []
listener = socket.create_server(("127.0.0.1", 0))
threading.Thread(target=broker, args=(listener,), daemon=True).start()
s = Station(settings=SETTINGS.replace("listen = 127.0.0.1:0", "listen = none").replace(
    "url = file:SHED", "url = mqtt://127.0.0.1:%d/hollin\norders = yes" % listener.getsockname()[1]), accounts=())
s.start(page=False)
expect("a broker that announces 256 MB is left", s.wait_for(lambda: sent, 30), sent)
expect("... before it has sent much", sent[:1] == ["refused"], sent)
expect("... and the station is there", s.child.poll() is None)
s.stop()
s.clean()
finish()
