"""A card that is full, or cannot be written, when the station starts; a small one that fills
up; a catalogue whose schema is damaged; a store with thousands of files and no catalogue; a
folder that is somebody else's. As root: it mounts small file systems."""
import os, shutil, sqlite3, subprocess, sys, time
from station import Station, expect, finish

CONFIG = """[station]
name = hollin
store = captures
keep_free = 256 kB
[cameras]
loop = yes
post_event = 2 s
settle = 1 s
stills = every 1 s
[camera kerb]
source = sim:kerb,size=320x180,seed=2
"""


def files(folder):
    return sorted(f for _, _, names in os.walk(folder) for f in names if f.endswith((".jpg", ".mp4")))


def mounted(size):
    s = Station(settings=CONFIG, accounts=())
    s.store = s.folder + "/captures"
    os.makedirs(s.store)
    subprocess.run(["mount", "-t", "tmpfs", "-o", "size=" + size, "none", s.store], check=True)
    return s


if os.getuid() != 0:
    print("not root: mounting is left out")
else:
    # Filled by others while it was off.
    s = mounted("3m")
    try:
        s.start(page=False)
        expect("a card of 3 MB gets captures", s.wait_for(lambda: len(files(s.store)) > 8))
        s.stop()
        subprocess.run("cat /dev/zero > %s/filler" % s.store, shell=True, stderr=subprocess.DEVNULL)
        before = files(s.store)
        at = len(s.said())
        s.start(page=False)
        expect("full at the start: room is made", s.wait_for(lambda: "dropped" in s.said()[at:]), s.said()[at:])
        expect("... and it goes on storing",
               s.wait_for(lambda: any(f not in before for f in files(s.store))), s.said()[at:])
        s.stop()
        os.unlink(s.store + "/filler")
        # Read-only, and then not.
        subprocess.run(["mount", "-o", "remount,ro", s.store], check=True)
        at = len(s.said())
        s.start(page=False)
        expect("read-only at the start: it is told", s.wait_for(lambda: "Read-only" in s.said()[at:]), s.said()[at:])
        time.sleep(2)
        expect("... and it watches all the same", s.child.poll() is None, s.said()[at:])
        before = files(s.store)
        subprocess.run(["mount", "-o", "remount,rw", s.store], check=True)
        expect("... and stores again when it can",
               s.wait_for(lambda: any(f not in before for f in files(s.store))), s.said()[at:])
        s.stop()
    finally:
        subprocess.run(["umount", "-l", s.store])
    s.clean()

    # A small card that fills with clips: room is made before a clip needs it.
    s = mounted("6m")
    open(s.file, "w").write(CONFIG.replace("256 kB", "1 MB").replace("stills = every 1 s", "continuous = yes\nsegment = 5 s\nclip_video = mjpeg"))
    try:
        s.start(page=False)
        expect("room is made on a card of 6 MB", s.wait_for(lambda: s.said().count("dropped") > 4, 90), s.said()[-2000:])
        s.stop()
        expect("nothing was lost for want of room", "No space" not in s.said() and "not stored" not in s.said(), s.said()[-3000:])
    finally:
        subprocess.run(["umount", "-l", s.store])
    s.clean()

# A schema that is damaged in its text.
s = Station(settings=CONFIG, accounts=())
s.store = s.folder + "/captures"
s.start(page=False)
s.wait_for(lambda: len(files(s.store)) > 3)
s.stop()
c = sqlite3.connect(s.store + "/catalogue.db")
c.execute("PRAGMA wal_checkpoint(TRUNCATE)")
c.execute("PRAGMA writable_schema=ON")
c.execute("update sqlite_master set sql = replace(sql, 'start_us', 'start_vs') where name = 'capture'")
c.commit()
c.close()
before = files(s.store)
s.start(page=False)
expect("a damaged schema is made anew", s.wait_for(lambda: "files were taken into the catalogue" in s.said()), s.said()[-1500:])
s.stop()
out = s.run("sightings", "--json")
expect("... and the tool reads it", out.returncode == 0 and "kerb" in out.stdout, out.stderr)
at = len(s.said())
s.start(page=False)
time.sleep(2)
s.stop()
expect("... once", "damaged" not in s.said()[at:], s.said()[at:])

# Ten thousand files, and the catalogue lost: cameras first, files in batches.
one = [f for f in files(s.store) if f.endswith(".jpg")][0]
path = subprocess.run(["find", s.store, "-name", one], capture_output=True, text=True).stdout.strip()
day = os.path.dirname(path)
for i in range(10000):
    shutil.copyfile(path, "%s/kerb-20260101T%02d%02d%02d.%03d+0000-%d-still.jpg" % (
        day, i // 3600 % 24, i // 60 % 60, i % 60, i % 1000, i + 1))
for name in os.listdir(s.store):
    if name.startswith("catalogue.db"):
        os.unlink(s.store + "/" + name)
at, began = len(s.said()), time.time()
s.start(page=False)
expect("cameras watch at once", s.wait_for(lambda: "watching" in s.said()[at:], 30) and time.time() - began < 15, time.time() - began)
expect("10,000 files are taken in within a minute",
       s.wait_for(lambda: "files were taken into the catalogue" in s.said()[at:], 60), time.time() - began)
s.stop()
s.clean()

# A folder of others.
s = Station(settings=CONFIG.replace("store = captures", "store = home\nnames = IMG_%Y%m%d_%H%M%S"), accounts=())
home = s.folder + "/home"
os.makedirs(home + "/a/b")
theirs = ("download.part", "a/film.mp4.part", "a/b/film.mkv.part", "IMG_20200101_101112.jpg",
          "IMG_20200101_101113.jpg.part", "notes.txt", "catalogue.db")
for name in theirs:
    open(home + "/" + name, "w").write("theirs" * 50)
s.start(page=False)
expect("a folder of others is refused", s.wait_for(lambda: s.child.poll() is not None, 20))
expect("... in one clear line", "holds other things" in s.said() and "choose an empty one" in s.said(), s.said())
expect("... untouched", sorted(n for n in theirs if os.path.exists(home + "/" + n)) == sorted(theirs)
       and len(os.listdir(home)) == 6, os.listdir(home))
# Marked by hand: all that is no capture by its name stays.
open(home + "/.tawny-store", "w").close()
open(s.file, "w").write(CONFIG.replace("store = captures", "store = home"))
os.unlink(home + "/catalogue.db")
s.start(page=False)
s.wait_for(lambda: len(files(home)) > 4)
s.stop()
left = [n for n in theirs if os.path.exists(home + "/" + n)]
expect("what is no capture by its name is never touched", len(left) == len(theirs), left)
s.clean()
finish()
