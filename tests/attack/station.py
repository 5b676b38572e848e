"""What the attacks share: a station of their own on loopback, raw HTTP, and a verdict.

Each attack is a program: attack.py TOOL. It prints a line for each thing that it tries and
exits with 1 if any of them worked."""
import json, os, re, shutil, signal, socket, subprocess, sys, tempfile, time

SETTINGS = """[station]
name = hollin
store = captures
listen = 127.0.0.1:0
accounts_file = accounts
keep_free = 0
[cameras]
loop = yes
post_event = 2 s
[camera kerb]
source = sim:kerb,size=320x180
send_to = shed
[camera mere]
source = sim:mere,size=320x180,seed=3
[destination shed]
url = file:SHED
"""
ACCOUNTS = (("ann", "run", "annspassword"), ("bob", "look", "bobspassword"))
failures = []


def expect(what, held, said=""):
    """Say what was tried and whether the product held."""
    print("%s  %s%s" % ("held  " if held else "BROKEN", what, "" if held else ": %s" % (said,)))
    sys.stdout.flush()
    if not held:
        failures.append(what)


def finish():
    print("%d broken" % len(failures))
    sys.exit(1 if failures else 0)


class Station:
    def __init__(self, settings=SETTINGS, accounts=ACCOUNTS, env=None, tool=None):
        self.tool = os.path.abspath(tool or sys.argv[1])
        self.folder = tempfile.mkdtemp(prefix="tawny-attack-")
        self.env = dict(os.environ, XDG_RUNTIME_DIR=self.folder, **(env or {}))
        os.makedirs(self.folder + "/shed", exist_ok=True)
        self.file = self.folder + "/station.ini"
        open(self.file, "w").write(settings.replace("SHED", self.folder + "/shed"))
        self.port = 0
        self.child = None
        for name, may, password in accounts:
            self.account("add", name, "--may", may, password=password)

    def account(self, *args, password=""):
        return subprocess.run([self.tool, "account", *args], cwd=self.folder, env=self.env,
                              input=password.encode(), capture_output=True)

    def start(self, page=True):
        log = open(self.folder + "/log", "ab")
        at = log.tell()
        self.child = subprocess.Popen([self.tool, "watch"], cwd=self.folder, env=self.env,
                                      stdout=log, stderr=log, stdin=subprocess.DEVNULL)
        end = time.time() + 60
        while page and time.time() < end:
            m = re.findall(rb"https?://[^:/]+:(\d+)/", open(self.folder + "/log", "rb").read()[at:])
            if m:
                self.port = int(m[0])
                return self
            if self.child.poll() is not None:
                raise RuntimeError("it ended: " + self.said()[-3000:])
            time.sleep(0.05)
        if page:
            raise RuntimeError("no page: " + self.said()[-3000:])
        return self

    def said(self):
        return open(self.folder + "/log", errors="replace").read()

    def run(self, *args, **kw):
        return subprocess.run([self.tool, *args], cwd=self.folder, env=self.env,
                              capture_output=True, text=True, **kw)

    def wait_for(self, what, seconds=60):
        """Until what() is true. @return whether it came to be."""
        end = time.time() + seconds
        while time.time() < end:
            if what():
                return True
            time.sleep(0.1)
        return bool(what())

    def status(self):
        return [json.loads(l) for l in self.run("status", "--json").stdout.splitlines()]

    def stop(self, seconds=60, codes=(0,)):
        """End it, and hold it to ending well."""
        if self.child.poll() is None:
            self.child.send_signal(signal.SIGTERM)
        try:
            code = self.child.wait(seconds)
        except subprocess.TimeoutExpired:
            self.child.kill()
            code = "had to be killed"
        expect("the station ends well", code in codes, (code, self.said()[-2000:]))
        return code

    def clean(self):
        shutil.rmtree(self.folder, ignore_errors=True)

    def rss_mb(self, key="VmRSS"):
        for line in open("/proc/%d/status" % self.child.pid):
            if line.startswith(key):
                return int(line.split()[1]) // 1024
        return 0

    # ---- HTTP
    def raw(self, data, seconds=20, source=None, most=1 << 22):
        s = socket.socket()
        s.settimeout(seconds)
        got = b""
        try:
            if source:
                s.bind((source, 0))
            s.connect(("127.0.0.1", self.port))
            s.sendall(data)
            while len(got) < most:
                n = s.recv(65536)
                if not n:
                    break
                got += n
        except OSError:
            pass
        s.close()
        return got

    def ask(self, method, path, body=None, headers=None, seconds=20, source=None):
        h = {"Host": "127.0.0.1:%d" % self.port, "Connection": "close"}
        h.update(headers or {})
        data = body if isinstance(body, bytes) else json.dumps(body).encode() if body is not None else b""
        if method == "POST":
            h.setdefault("Content-Length", str(len(data)))
        text = "%s %s HTTP/1.1\r\n" % (method, path)
        text += "".join("%s: %s\r\n" % kv for kv in h.items() if kv[1] is not None) + "\r\n"
        head, _, rest = self.raw(text.encode("latin-1") + data, seconds, source).partition(b"\r\n\r\n")
        m = re.match(rb"HTTP/1.1 (\d+)", head)
        return int(m[1]) if m else 0, head.decode("latin-1"), rest

    def log_in(self, name="ann", password="annspassword", source=None):
        """@return the code, and headers that a change needs."""
        st, head, body = self.ask("POST", "/api/login", {"name": name, "password": password}, source=source)
        m = re.search(r"Set-Cookie: tawny=([^;]*)", head)
        change = json.loads(body).get("change", "") if st == 200 else ""
        return st, {"Cookie": "tawny=%s" % (m[1] if m else ""), "X-Tawny-Change": change}

    def change(self, who, *changes, write=True):
        """@return the code and the text. Changes are (head, name, key, value)."""
        st, _, body = self.ask("POST", "/api/settings", {
            "changes": [dict(zip(("head", "name", "key", "value"), c)) for c in changes], "write": write}, who)
        return st, body.decode("utf-8", "replace")
