"""A camera that sends JPEG pictures in a multipart stream over HTTP, and its faults.

http_camera.py PICTURE FAULT: prints its URL, then serves each connection: good pictures, ten a
second, and after twenty of them the fault: none, close, stall, half, garbage. A second
connection has no fault. With "auth" it asks for the user toad and the password wa:rt@y.
Below /one there is a single picture for each request: the third one is the fault (half, garbage,
busy, stall), all others are good.
"""
import base64
import http.server
import socketserver
import sys
import time

picture = open(sys.argv[1], "rb").read()
fault = sys.argv[2]
connections = 0
ones = 0


class Camera(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.0"

    def log_message(self, *args):
        pass

    def part(self, data, claimed=None):
        self.wfile.write(b"--frame\r\nContent-Type: image/jpeg\r\nContent-Length: %d\r\n\r\n"
                         % (claimed or len(data)))
        self.wfile.write(data)
        self.wfile.write(b"\r\n")
        self.wfile.flush()

    def fail(self):
        if fault == "close":
            return
        if fault == "stall":
            time.sleep(3600)
        if fault == "half":
            self.part(picture[: len(picture) // 2], len(picture))
        if fault == "garbage":
            self.wfile.write(b"\x00\xff garbage \r\n" * 2000)

    def one(self):
        global ones
        ones += 1
        bad = ones == 3
        if bad and fault == "busy":
            return self.send_error(503)
        data = b"<html>no picture here</html>" if bad and fault == "garbage" else picture
        self.send_response(200)
        self.send_header("Content-Type", "image/jpeg")
        self.send_header("Content-Length", str(len(data)))
        self.end_headers()
        if bad and fault == "stall":
            time.sleep(3600)
        self.wfile.write(data[: len(data) // 2] if bad and fault == "half" else data)

    def do_GET(self):
        global connections
        wanted = "Basic " + base64.b64encode(b"toad:wa:rt@y").decode()
        if fault == "auth" and self.headers.get("Authorization") != wanted:
            self.send_response(401)
            self.send_header("WWW-Authenticate", 'Basic realm="pond"')
            self.end_headers()
            return
        if self.path.startswith("/one"):
            return self.one()
        connections += 1
        first = connections == 1
        self.send_response(200)
        self.send_header("Content-Type", 'multipart/x-mixed-replace; boundary="frame"')
        self.end_headers()
        try:
            for i in range(100000):
                if i == 20 and first and fault not in ("none", "auth"):
                    return self.fail()
                self.part(picture)
                time.sleep(0.1)
        except (BrokenPipeError, ConnectionResetError):
            pass  # whoever watched has gone


class Server(socketserver.ThreadingMixIn, http.server.HTTPServer):
    daemon_threads = True
    allow_reuse_address = True


server = Server(("127.0.0.1", 0), Camera)
print("http://127.0.0.1:%d/" % server.server_address[1], flush=True)
try:
    server.serve_forever()
except (KeyboardInterrupt, BrokenPipeError):
    pass
