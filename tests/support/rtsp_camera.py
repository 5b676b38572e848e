"""A camera that streams a test picture by RTSP: rtsp_camera.py h264|mjpeg [opus|mulaw]
prints its URL. With sound, a tone."""
import sys

import gi

gi.require_version("Gst", "1.0")
gi.require_version("GstRtspServer", "1.0")
from gi.repository import GLib, Gst, GstRtspServer  # noqa: E402

SOURCE = "videotestsrc is-live=true pattern=ball ! video/x-raw,width=320,height=180,framerate=15/1"
ENCODED = {
    "h264": "x264enc tune=zerolatency speed-preset=ultrafast key-int-max=15 threads=1 "
            "! rtph264pay name=pay0 pt=96 config-interval=1",
    "mjpeg": "videoconvert ! video/x-raw,format=I420 ! jpegenc ! rtpjpegpay name=pay0 pt=26",
}
SOUND = {
    "opus": "audio/x-raw,rate=48000,channels=1 ! opusenc ! rtpopuspay name=pay1 pt=97",
    "mulaw": "audio/x-raw,rate=8000,channels=1 ! mulawenc ! rtppcmupay name=pay1 pt=0",
}
Gst.init(None)
server = GstRtspServer.RTSPServer.new()
server.set_address("127.0.0.1")
server.set_service("0")
factory = GstRtspServer.RTSPMediaFactory.new()
sound = " audiotestsrc is-live=true ! audioconvert ! audioresample ! " + SOUND[sys.argv[2]] if len(sys.argv) > 2 else ""
factory.set_launch("( %s ! %s%s )" % (SOURCE, ENCODED[sys.argv[1]], sound))
factory.set_shared(True)
server.get_mount_points().add_factory("/cam", factory)
server.attach(None)
print("rtsp://127.0.0.1:%d/cam" % server.get_bound_port(), flush=True)
GLib.MainLoop().run()
