"""An account that may change settings tries to come by the machine: by files that are read,
programs that are started, secrets that go elsewhere, folders of others."""
import os, signal, time
from station import ACCOUNTS, SETTINGS, Station, expect, finish

MORE = """footage = FOLDER/footage
[destination mail]
url = smtp://toads@127.0.0.1:9
secret_file = secret
to = a@b.example
from = c@b.example
[destination web]
url = http://127.0.0.1:9/in
secret_env = LANE_SECRET
headers = Authorization: Bearer {secret}
[hook ring]
on = began
run = /bin/true
"""
s = Station(env={"LANE_SECRET": "env-secret-value"})
text = SETTINGS.replace("SHED", s.folder + "/shed").replace(
    "[cameras]", MORE.split("[destination")[0].replace("FOLDER", s.folder) + "[cameras]")
text += "[destination" + MORE.split("[destination", 1)[1]
open(s.file, "w").write(text)
for name, content in (("secret", "the-mail-password\n"), ("private", "a private line\nsecond: hunter3\n"),
                      ("app.conf", "db_password = hunter4\n[mysql]\n")):
    open(s.folder + "/" + name, "w").write(content)
    os.chmod(s.folder + "/" + name, 0o600)
open(s.folder + "/notes.txt", "w").write("The code of the gate is 4711\n" * 10)
os.makedirs(s.folder + "/drop")
os.makedirs(s.folder + "/footage/night")
os.symlink(s.folder + "/notes.txt", s.folder + "/footage/link.txt")
s.start()
st, ann = s.log_in()
before = open(s.file).read()


def refused(what, *changes):
    st, said = s.change(ann, *changes)
    leaks = [w for w in ("hunter", "private line", "4711", "db_password") if w in said]
    expect("refused: " + what, st in (400, 403) and not leaks and open(s.file).read() == before, (st, said))
    if open(s.file).read() != before:
        open(s.file, "w").write(before)


for key in ("include", "include ", " include", "include\t", "Include", "include=", "[include]", ""):
    for path in (s.folder + "/app.conf", s.folder + "/private", "drop/*.ini"):
        refused("%r = %s" % (key, path), ("station", "", key, path))
refused("a head with a blank", ("hook ring", "", "run", "/bin/sh"))
refused("a name with a blank", ("hook", " ring", "run", "/bin/sh"))
refused("a hook", ("hook", "x", "run", "/bin/sh"))
refused("a program for a sensor", ("sensor", "x", "run", "/bin/sh"))
refused("a file for a sensor", ("sensor", "x", "file", "/etc/shadow"))
refused("another program", ("hook", "ring", "run", "/bin/sh -c id"))
refused("a hook away", ("hook", "ring", None, None))
refused("a hook renamed", ("hook", "ring", None, "x"))
for key, value in (("accounts_file", "/tmp/x"), ("certificate", s.folder + "/private"), ("store", s.folder),
                   ("certificate_key", s.folder + "/private"), ("names", "IMG_%Y%m%d"), ("footage", "/")):
    refused("station's " + key, ("station", "", key, value))
for key, value in (("url", "http://127.0.0.1:7/evil"), ("headers", "X-Got: {secret}"), ("tls", "none"),
                   ("trust", s.folder + "/private"), ("secret_env", "HOME"), ("user", "eve")):
    refused("web's " + key, ("destination", "web", key, value))
refused("another's secret", ("destination", "evil", "url", "http://127.0.0.1:7/in"),
        ("destination", "evil", "secret_file", s.folder + "/secret"))
refused("a variable", ("destination", "evil", "url", "http://127.0.0.1:7/in"),
        ("destination", "evil", "secret_env", "LANE_SECRET"))
refused("a key file", ("destination", "evil", "url", "sftp://x@127.0.0.1:7/in"),
        ("destination", "evil", "key_file", s.folder + "/private"))
refused("the destination that has the secret renamed", ("destination", "web", None, "evil"))
refused("a folder of this machine", ("destination", "etc", "url", "file:/etc"))
for source in ("file:%s/notes.txt" % s.folder, "file:/etc/passwd", "inbox:" + s.folder, "file:/",
               "file:%s/footage/link.txt" % s.folder, "file:%s/footage/../notes.txt" % s.folder):
    refused("source " + source, ("camera", "mere", "source", source))
    refused("second stream " + source, ("camera", "mere", "detect_source", source))
    refused("by a profile " + source, ("profile", "p", "source", source), ("camera", "mere", "use", "p"))
refused("a mask elsewhere", ("camera", "mere", "mask", s.folder + "/secret"))

st, said = s.change(ann, ("camera", "mere", "source", "file:%s/footage/night" % s.folder), write=False)
expect("footage below the station's folder may be chosen", st == 200, (st, said))
st, said = s.change(ann, ("camera", "mere", "start_at", "2 %"), write=False)
expect("a limit may be changed", st == 200, (st, said))
st, said = s.change(ann, ("destination", "mail", "to", "c@d.example"), write=False)
expect("who gets a mail may be changed", st == 200, (st, said))

# A settings file that has a mistake already excuses nothing.
open(s.file, "w").write(before.replace("[camera mere]", "[camera mere]\nthis line is a slip of the pen"))
st, said = s.change(ann, ("station", "", "include ", s.folder + "/app.conf"))
expect("a known mistake excuses no new file", st in (400, 403) and "hunter" not in said, (st, said))
open(s.file, "w").write(before)
st, _, body = s.ask("POST", "/api/settings/file",
                    {"text": "\ufeff include = %s/private\n" % s.folder + before, "write": True}, ann)
expect("a restored file includes nothing", st in (400, 403) and b"hunter" not in body, (st, body[:200]))

# A pattern that matches nothing yet, and a file that is dropped later.
open(s.folder + "/drop/x.ini", "w").write(
    "[hook zz]\non = began, still, clip, ended\nrun = /usr/bin/touch %s/OWNED\n" % s.folder)
s.child.send_signal(signal.SIGHUP)
s.run("trigger", "kerb")
time.sleep(4)
expect("no dropped program ran", not os.path.exists(s.folder + "/OWNED"))

# Texts are no pictures, whoever names them.
s.stop()
open(s.file, "w").write(before.replace("sim:mere,size=320x180,seed=3", "file:%s/notes.txt" % s.folder))
s.start()
st, ann = s.log_in()
time.sleep(3)
st, head, body = s.ask("GET", "/picture/mere", None, ann)
expect("a text is no picture", st != 200 and not body.startswith(b"\xff\xd8"), (st, len(body)))
s.stop(codes=(1,))  # a camera whose footage is none has failed
s.clean()
finish()
