"""Guessing passwords, many at a time; who is shut out by it, and what ends a session."""
import socket, threading, time
from station import Station, expect, finish

s = Station().start()


def guess(source, name="ann", password="guess000000"):
    st, _, _ = s.ask("POST", "/api/login", {"name": name, "password": password}, source=source, seconds=120)
    return st


def volley(sources, each):
    """All at once. @return how many of each answer, and the most memory that was taken."""
    out, lock, over, peak = [], threading.Lock(), [False], [0]

    def look():
        while not over[0]:
            peak[0] = max(peak[0], s.rss_mb())
            time.sleep(0.01)

    def one(source):
        st = guess(source)
        with lock:
            out.append(st)
    watcher = threading.Thread(target=look)
    watcher.start()
    threads = [threading.Thread(target=one, args=(x,)) for x in sources for _ in range(each)]
    [t.start() for t in threads]
    [t.join() for t in threads]
    over[0] = True
    watcher.join()
    return {k: out.count(k) for k in set(out)}, peak[0]


# One hash takes 64 MB. At first one login, so that what is loaded once is loaded.
expect("the honest user gets in", s.log_in()[0] == 200)
rest = s.rss_mb()
codes, peak = volley(["127.0.0.%d" % i for i in range(3, 7)], 15)
expect("60 at once take the memory of one", peak - rest < 140, (codes, rest, peak))
expect("most of them are sent away", codes.get(429, 0) >= 40, codes)
expect("none is let in", 200 not in codes, codes)
codes, _ = volley(["127.0.1.1"], 20)
expect("parallel guesses do not go round the delay", codes.get(401, 0) <= 3, codes)
st = s.log_in(source="127.0.2.1")[0]
expect("the honest user gets in from elsewhere all the same", st == 200, st)

# Somebody who is let in is not shut out by who guesses beside him.
st, ann = s.log_in(source="127.0.3.1")
for _ in range(4):
    guess("127.0.3.1")
st, head, body = s.ask("POST", "/api/login", {"name": "ann", "password": "annspassword"}, ann, source="127.0.3.1")
expect("a session lets its own user log in again", st == 200, st)

# Sessions.
st, ann = s.log_in(source="127.0.4.1")
for i in range(65):
    s.log_in("bob", "bobspassword", source="127.0.4.2")
expect("65 logins of one end nobody else's session", s.ask("GET", "/api/status", None, ann)[0] == 200)
s.account("add", "ann", "--may", "run", password="anotherpassword")
expect("another password ends the sessions of the old one", s.ask("GET", "/api/status", None, ann)[0] == 401)
st, ann = s.log_in("ann", "anotherpassword", source="127.0.4.3")
expect("the new one is let in", st == 200, st)
stream = socket.create_connection(("127.0.0.1", s.port))
stream.settimeout(30)
stream.sendall(("GET /live/kerb HTTP/1.1\r\nHost: x\r\nConnection: close\r\nCookie: %s\r\n\r\n" % ann["Cookie"]).encode())
expect("a live picture comes", b"image/jpeg" in stream.recv(4096) + stream.recv(65536))
s.account("remove", "ann")
began = time.time()
while time.time() - began < 15 and stream.recv(65536):
    pass
expect("a removed account's live picture ends", time.time() - began < 14)
expect("a removed account's sessions end", s.ask("GET", "/api/status", None, ann)[0] == 401)
s.account("remove", "bob")
for headers in ({}, {"Host": "localhost"}, {"Host": "localhost", "X-Forwarded-For": "192.0.2.7"}):
    st = s.ask("GET", "/api/status", None, headers)[0]
    expect("after the last account is gone nobody is let in %s" % headers, st == 401, st)
s.stop()
s.clean()
finish()
