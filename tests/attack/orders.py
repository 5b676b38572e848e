"""The socket of a station: clients that trickle, keys of the wrong kind, times that overflow."""
import glob, json, socket, threading, time
from station import Station, expect, finish

s = Station().start()
s.wait_for(lambda: glob.glob(s.folder + "/*.sock"), 20)
path = glob.glob(s.folder + "/*.sock")[0]


def say(text):
    c = socket.socket(socket.AF_UNIX)
    c.settimeout(10)
    c.connect(path)
    c.sendall(text.encode() + b"\n")
    got = b""
    while True:
        n = c.recv(65536)
        if not n:
            return got.decode()
        got += n


def arming():
    return {c["camera"]: c["arming"] for c in s.status() if c.get("type") == "camera"}


for bad in ('{"do":"disarm","camera":5}', '{"do":"disarm","camera":["kerb"]}', '{"do":"disarm","cam":"kerb"}',
            '{"do":5}', '{"do":"disarm","for_s":"2h"}', '{"do":"disarm","for_s":-1}', '{"do":"disarm","for_s":1e300}',
            '{"do":"disarm","for_us":9223372036854775807}', '{"do":"disarm","do":"arm"}', '["disarm"]', 'disarm', '',
            '{"do":"disarm","camera":"kerb","for_s":true}'):
    answer = say(bad)
    expect("refused: " + bad, '"error"' in answer, answer)
time.sleep(1.5)
expect("no camera was disarmed by any of them", not [a for a in arming().values() if "disarmed" in a], arming())
expect("a good one is taken", '"done"' in say('{"do":"disarm","camera":"kerb","for_s":31536000}'))
expect("... for that camera alone", s.wait_for(lambda: "order" in arming()["kerb"] and "order" not in arming()["mere"], 10), arming())
out = s.run("disarm", "mere", "--for", "2h")
expect("disarm says what it did", out.stdout == "mere: disarmed for 2h\n", out.stdout)
expect("... and the log has it", s.wait_for(lambda: "disarmed for 2 h, by order" in s.said(), 10), s.said())

# Many who send a byte every second, and one who does not read.
clients = []
for _ in range(3):
    c = socket.socket(socket.AF_UNIX)
    c.connect(path)
    clients.append(c)


def trickle(c):
    try:
        for _ in range(60):
            c.sendall(b" ")
            time.sleep(1)
    except OSError:
        pass


for c in clients:
    threading.Thread(target=trickle, args=(c,), daemon=True).start()
began = time.time()
expect("status answers beside clients that trickle", s.wait_for(lambda: s.status(), 15))
began = time.time()
s.stop(seconds=30)
expect("it ends within 10 s all the same", time.time() - began < 10, time.time() - began)
s.clean()
finish()
