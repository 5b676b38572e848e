"""Writes down where a host sends: for each packet from an address that comes in at an
interface, its destination and its time to live.

    link_listener.py INTERFACE ADDRESS"""
import socket
import struct
import sys

interface, address = sys.argv[1], socket.inet_aton(sys.argv[2])
s = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
s.bind((interface, 0))
print("ready", flush=True)
said = set()
while True:
    data = s.recv(65536)
    kind = struct.unpack("!H", data[12:14])[0]
    if kind == 0x0800 and data[26:30] == address:
        line = "to %s ttl %d" % (socket.inet_ntoa(data[30:34]), data[22])
    elif kind == 0x0806 and data[28:32] == address:
        line = "seeks " + socket.inet_ntoa(data[38:42])
    else:
        continue
    if line not in said:
        said.add(line)
        print(line, flush=True)
