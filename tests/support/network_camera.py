"""A camera of the network that tells of itself: WS-Discovery, and ONVIF's device and media
services over HTTP.

    network_camera.py ADDRESS NAME USER PASSWORD [KIND]

KIND "plain": as it should be, its clock three hours ahead. Others do one thing wrong:
"liar" tells addresses of other hosts, "loud" answers with what is no answer, again and
again, "bomb" answers with XML that grows, "ugly" tells names and streams with what may not
be shown. Prints "ready", then a line for each request."""
import base64
import datetime
import hashlib
import http.server
import io
import random
import re
import socket
import struct
import sys
import threading
import urllib.parse
import xml.etree.ElementTree as ET

ADDRESS, NAME, USER, PASSWORD = sys.argv[1:5]
KIND = sys.argv[5] if len(sys.argv) > 5 else "plain"
PORT = 8081
AHEAD = datetime.timedelta(hours=3)
SOAP = "http://www.w3.org/2003/05/soap-envelope"
SECEXT = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-secext-1.0.xsd"
UTILITY = "http://docs.oasis-open.org/wss/2004/01/oasis-200401-wss-wssecurity-utility-1.0.xsd"
SCHEMA = "http://www.onvif.org/ver10/schema"
DEVICE, MEDIA = "http://www.onvif.org/ver10/device/wsdl", "http://www.onvif.org/ver10/media/wsdl"
BY = {"http://schemas.xmlsoap.org/ws/2005/04/discovery": "http://schemas.xmlsoap.org/ws/2004/08/addressing",
      "http://docs.oasis-open.org/ws-dd/ns/discovery/2009/01": "http://www.w3.org/2005/08/addressing"}
seen = set()


def say(*words):
    print(*words, flush=True)


# ---- WS-Discovery

def probe_of(data):
    """(discovery, addressing, MessageID, name of the type, its namespace) of a Probe."""
    root = ET.fromstring(data)
    for discovery, addressing in BY.items():
        probe = root.find("{%s}Body/{%s}Probe" % (SOAP, discovery))
        if probe is None:
            continue
        head = root.find("{%s}Header" % SOAP)
        if head.findtext("{%s}Action" % addressing) != discovery + "/Probe":
            raise ValueError("a Probe with another Action")
        kind = probe.findtext("{%s}Types" % discovery)
        prefix, name = kind.split(":")
        space = [s for _, (p, s) in ET.iterparse(io.BytesIO(data), ["start-ns"]) if p == prefix]
        return discovery, addressing, head.findtext("{%s}MessageID" % addressing), name, space[0]
    return None


def matches(discovery, addressing, relates, name=NAME, at="http://%s:%d/onvif/device" % (ADDRESS, PORT)):
    return ('<?xml version="1.0"?><e:Envelope xmlns:e="%s" xmlns:w="%s" xmlns:d="%s" '
            'xmlns:dn="http://www.onvif.org/ver10/network/wsdl"><e:Header><w:MessageID>urn:uuid:%s</w:MessageID>'
            '<w:RelatesTo>%s</w:RelatesTo><w:Action>%s/ProbeMatches</w:Action></e:Header><e:Body><d:ProbeMatches>'
            '<d:ProbeMatch><w:EndpointReference><w:Address>urn:uuid:1419d68a-1dd2-11b2-a105-%012x</w:Address>'
            '</w:EndpointReference><d:Types>dn:NetworkVideoTransmitter</d:Types>'
            '<d:Scopes>onvif://www.onvif.org/type/video_encoder onvif://www.onvif.org/hardware/B3 '
            'onvif://www.onvif.org/name/%s</d:Scopes><d:XAddrs>%s</d:XAddrs>'
            '<d:MetadataVersion>1</d:MetadataVersion></d:ProbeMatch></d:ProbeMatches></e:Body></e:Envelope>'
            % (SOAP, addressing, discovery, "11111111-2222-4333-8444-555555555555", relates, discovery,
               int(ADDRESS.split(".")[3]), urllib.parse.quote(name, safe="%[]"), at)).encode()


def odd_answers(discovery, addressing, relates):
    good = matches(discovery, addressing, relates)
    if KIND == "liar":
        return [matches(discovery, addressing, relates, at="http://192.0.2.99:80/onvif/device http://example.com/x")]
    if KIND == "loud":
        return [b"", b"<", good[:len(good) // 2], b"\x00" * 1400, b"A" * 8000, good.replace(b"ProbeMatch", b"Prob"),
                matches(discovery, addressing, "urn:uuid:00000000-0000-4000-8000-000000000000")] * 30
    if KIND == "bomb":
        grown = b'<!DOCTYPE l [<!ENTITY a "aaaaaaaaaa">' + b"".join(
            b'<!ENTITY %c "%s">' % (c + 1, b"&%c;" % c * 10) for c in range(97, 106)) + b"]>"
        return [good.replace(b'<?xml version="1.0"?>', b'<?xml version="1.0"?>' + grown).replace(NAME.encode(), b"&j;"),
                b"<a>" * 2900]
    if KIND == "ugly":
        return [matches(discovery, addressing, relates, name="%1b[31mred%0a[station]%0aname=x%e2%80%ae")]
    return [good]


def answer(out, peer, asked):
    """After a while by chance, so that not all speak at once: the standard's APP_MAX_DELAY."""
    for one in odd_answers(*asked[:3]):
        out.sendto(one, peer)


def answer_probes():
    s = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    s.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
    s.bind(("239.255.255.250", 3702))
    s.setsockopt(socket.IPPROTO_IP, socket.IP_ADD_MEMBERSHIP,
                 struct.pack("4s4s", socket.inet_aton("239.255.255.250"), socket.inet_aton(ADDRESS)))
    out = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    out.bind((ADDRESS, 0))
    say("ready")
    while True:
        data, peer = s.recvfrom(65536)
        try:
            asked = probe_of(data)
        except Exception as e:  # what the test will see
            say("wrong probe", repr(e))
            continue
        if not asked or asked[3:] != ("NetworkVideoTransmitter", "http://www.onvif.org/ver10/network/wsdl"):
            continue
        say("probe", peer[0])
        threading.Timer(random.random() * 0.5, answer, (out, peer, asked)).start()


# ---- services

def may(envelope):
    """Whether a request has a token that is right, and new (WS-Security, digest)."""
    token = envelope.find(".//{%s}UsernameToken" % SECEXT)
    if token is None:
        return False
    nonce = token.findtext("{%s}Nonce" % SECEXT)
    created = token.findtext("{%s}Created" % UTILITY)
    want = base64.b64encode(hashlib.sha1(base64.b64decode(nonce) + created.encode() + PASSWORD.encode()).digest()).decode()
    at = datetime.datetime.strptime(created, "%Y-%m-%dT%H:%M:%S" + (".%fZ" if "." in created else "Z"))
    off = abs((datetime.datetime.utcnow() + AHEAD - at).total_seconds())
    fresh = nonce not in seen
    seen.add(nonce)
    return token.findtext("{%s}Username" % SECEXT) == USER and \
        token.findtext("{%s}Password" % SECEXT) == want and fresh and off < 60


def clock(_):
    t = datetime.datetime.utcnow() + AHEAD
    return ("<d:GetSystemDateAndTimeResponse><d:SystemDateAndTime><x:UTCDateTime><x:Time><x:Hour>%d</x:Hour>"
            "<x:Minute>%d</x:Minute><x:Second>%d</x:Second></x:Time><x:Date><x:Year>%d</x:Year><x:Month>%d</x:Month>"
            "<x:Day>%d</x:Day></x:Date></x:UTCDateTime></d:SystemDateAndTime></d:GetSystemDateAndTimeResponse>"
            % (t.hour, t.minute, t.second, t.year, t.month, t.day))


def capabilities(_):
    host = "192.0.2.99" if KIND == "liar" else ADDRESS
    return ("<d:GetCapabilitiesResponse><d:Capabilities><x:Media><x:XAddr>http://%s:%d/onvif/media</x:XAddr></x:Media>"
            "</d:Capabilities></d:GetCapabilitiesResponse>" % (host, PORT))


def services(_):
    return ("<d:GetServicesResponse>" + "".join(
        "<d:Service><d:Namespace>%s</d:Namespace><d:XAddr>http://%s:%d/onvif/%s</d:XAddr><d:Version><x:Major>2</x:Major>"
        "<x:Minor>0</x:Minor></d:Version></d:Service>" % (space, ADDRESS, PORT, name)
        for space, name in ((DEVICE, "device"), (MEDIA, "media"))) + "</d:GetServicesResponse>")


def profiles(_):
    one = ('<m:Profiles token="%s" fixed="true"><x:Name>%s</x:Name><x:VideoEncoderConfiguration token="v%s">'
           "<x:Name>v</x:Name><x:Encoding>H264</x:Encoding><x:Resolution><x:Width>%d</x:Width><x:Height>%d</x:Height>"
           "</x:Resolution><x:RateControl><x:FrameRateLimit>%d</x:FrameRateLimit></x:RateControl>"
           "</x:VideoEncoderConfiguration></m:Profiles>")
    return "<m:GetProfilesResponse>" + one % ("small", "small", "s", 640, 360, 12) + \
        one % ("tiny&amp;1", "tiny", "t", 160, 90, 5) + one % ("main", "main", "m", 1920, 1080, 25) + "</m:GetProfilesResponse>"


def stream(body):
    token = body.findtext(".//{%s}ProfileToken" % MEDIA)
    path = {"small": "small", "tiny&1": "tiny", "main": "main?channel=1&amp;subtype=0"}[token]
    uri = "rtsp://%s:8554/%s" % (ADDRESS, path)
    if KIND == "ugly":
        uri = {"small": "rtsp://%s/a&#10;[station]&#10;name=x" % ADDRESS, "tiny&1": "javascript:alert(1)",
               "main": "rtsp://eve:secret@%s/main" % ADDRESS}[token]
    return ("<m:GetStreamUriResponse><m:MediaUri><x:Uri>%s</x:Uri></m:MediaUri></m:GetStreamUriResponse>" % uri)


ANSWERS = {"{%s}GetSystemDateAndTime" % DEVICE: (clock, True), "{%s}GetCapabilities" % DEVICE: (capabilities, False),
           "{%s}GetServices" % DEVICE: (services, False), "{%s}GetProfiles" % MEDIA: (profiles, False),
           "{%s}GetStreamUri" % MEDIA: (stream, False)}


def http_digest(header):
    """Whether a request has the digest of HTTP (RFC 7616, MD5)."""
    said = dict(re.findall(r'(\w+)="?([^",]*)"?', header))
    if not header.startswith("Digest ") or said.get("username") != USER:
        return False
    h = lambda t: hashlib.md5(t.encode()).hexdigest()
    return said["response"] == h(":".join((h("%s:box:%s" % (USER, PASSWORD)), said["nonce"], said["nc"], said["cnonce"],
                                           said["qop"], h("POST:" + said["uri"]))))


class Services(http.server.BaseHTTPRequestHandler):
    protocol_version = "HTTP/1.1"

    def do_POST(self):
        data = self.rfile.read(int(self.headers["Content-Length"]))
        envelope = ET.fromstring(data)
        body = list(envelope.find("{%s}Body" % SOAP))[0]
        answer, open_to_all = ANSWERS.get(body.tag, (None, False))
        good = open_to_all or may(envelope)
        say("asked", body.tag.split("}")[1], "good" if good else "refused",
            "basic" if "Authorization" in self.headers and "Basic" in self.headers["Authorization"] else "")
        if PASSWORD.encode() in data:
            say("the password came over the network")
        if KIND == "http" and not http_digest(self.headers.get("Authorization", "")):
            self.send_response(401)
            self.send_header("WWW-Authenticate", 'Digest realm="box", nonce="dcd98b7102dd", qop="auth"')
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        if not answer or not good:
            text, status = ("<e:Fault><e:Code><e:Value>e:Sender</e:Value><e:Subcode><e:Value>t:%s</e:Value></e:Subcode>"
                            '</e:Code><e:Reason><e:Text xml:lang="en">%s</e:Text></e:Reason></e:Fault>'
                            % (("NotAuthorized", "Sender not authorized") if answer else
                               ("ActionNotSupported", "Optional action not implemented"))), 400
        else:
            text, status = answer(body), 200
        out = ('<?xml version="1.0" encoding="UTF-8"?><e:Envelope xmlns:e="%s" xmlns:d="%s" xmlns:m="%s" xmlns:x="%s" '
               'xmlns:t="http://www.onvif.org/ver10/error"><e:Body>%s</e:Body></e:Envelope>'
               % (SOAP, DEVICE, MEDIA, SCHEMA, text)).encode()
        self.send_response(status)
        self.send_header("Content-Type", "application/soap+xml; charset=utf-8")
        self.send_header("Content-Length", str(len(out)))
        self.end_headers()
        self.wfile.write(out)

    def log_message(self, *_):
        pass


threading.Thread(target=http.server.ThreadingHTTPServer((ADDRESS, PORT), Services).serve_forever, daemon=True).start()
answer_probes()
