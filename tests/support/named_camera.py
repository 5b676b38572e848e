"""Streams that are named on the local network, by the zeroconf library's own responder
(DNS-SD over multicast DNS).

    named_camera.py ADDRESS NAME PORT PATH [HOST]

HOST: the address of the host that has the stream, if it is another."""
import signal
import socket
import sys

from zeroconf import IPVersion, ServiceInfo, Zeroconf

address, name, port, path = sys.argv[1:5]
host = sys.argv[5] if len(sys.argv) > 5 else address
zc = Zeroconf(interfaces=[address], ip_version=IPVersion.V4Only)
zc.register_service(ServiceInfo("_rtsp._tcp.local.", name + "._rtsp._tcp.local.", port=int(port),
                                properties={"path": path} if path else {}, server="box-%s.local." % host.split(".")[3],
                                addresses=[socket.inet_aton(host)]))
print("ready", flush=True)
signal.pause()
