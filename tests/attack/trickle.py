"""Clients that send a byte every few seconds, on all connections: does the honest user get
in, does the camera keep its rate, does the station end when it is told to?"""
import socket, sys, threading, time
from station import Station, expect, finish

SECONDS = int(sys.argv[2]) if len(sys.argv) > 2 else 12
s = Station().start()
st, ann = s.log_in()
over = False
lost = [0]


def rates():
    """Frames a second of both cameras, once they are known."""
    for _ in range(600):
        fps = [c["fps"] for c in s.status() if c.get("type") == "camera"]
        if len(fps) == 2 and all(fps):
            return fps
        time.sleep(0.2)
    raise RuntimeError("no rates: %s" % s.status())


def slow(source, kind):
    while not over:
        try:
            c = socket.socket()
            c.bind((source, 0))
            c.settimeout(20)
            c.connect(("127.0.0.1", s.port))
            c.sendall(b"GET / HTTP/1.1\r\nHost: 127.0.0.1\r\nX: " if kind == "head" else
                      b"POST /api/login HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 900000\r\n\r\n{")
            while not over:
                time.sleep(2)
                c.sendall(b"a")
        except OSError:
            lost[0] += 1
            time.sleep(0.2)


time.sleep(6)  # rates are those of the last five seconds
before = rates()
for source in ("127.0.0.2", "127.0.0.3", "127.0.0.4"):
    for kind in ["head", "body"] * 12:
        threading.Thread(target=slow, args=(source, kind), daemon=True).start()
time.sleep(2)
good = fresh = tries = 0
worst = 0
end = time.time() + SECONDS
while time.time() < end:
    tries += 1
    began = time.time()
    good += s.ask("GET", "/api/me", None, ann, seconds=5)[0] == 200
    worst = max(worst, time.time() - began)
    fresh += s.log_in()[0] == 200
    time.sleep(0.3)
expect("who is logged in gets in (%d of %d)" % (good, tries), good == tries, lost)
expect("and so does one who logs in (%d of %d)" % (fresh, tries), fresh >= tries - 1, lost)
fps = rates()
expect("cameras keep their rate, %s before, %s now" % (before, fps),
       all(now > 0.6 * then for now, then in zip(fps, before)), fps)
began = time.time()
s.stop(seconds=30)
expect("it ends within 15 s", time.time() - began < 15, time.time() - began)
over = True
s.clean()
finish()
