#!/usr/bin/env python3
"""A broadcaster made of GStreamer that speaks the moth's feed: it says what it counts, and takes changes while it is live.

    python3 examples/gstreamer_broadcaster.py                      a test picture
    python3 examples/gstreamer_broadcaster.py --source film.mkv    a file, over and over
    python3 examples/gstreamer_broadcaster.py --source /dev/video0 a capture device

It needs GStreamer with x264enc and rtmp2sink, and its Python bindings (Debian: python3-gi gstreamer1.0-plugins-{base,good,bad,ugly}
gir1.2-gst-plugins-base-1.0).

What of the feed (docs/feed.md) it does, and how:

- bitrate: x264enc takes another one between two frames, and nothing else happens.
- size, rate: other caps before the encoder, which begins anew with a keyframe.
- preset: x264enc takes that only while it stands still. What waits before it is held, it is emptied, set, and goes on.
- rendered, lagged: pictures that were due, and those in whose place videorate showed the last one again.
- skipped: pictures that waited before the encoder and were let go, as it was not done. encode_ms: what it took lately.

When the moth is away the broadcast is begun again each half second; the feed as well.
"""

import argparse
import json
import os
import socket
import sys
import threading
import time
from collections import deque

import gi

gi.require_version("Gst", "1.0")
from gi.repository import GLib, Gst  # noqa: E402

PRESETS = ["ultrafast", "superfast", "veryfast", "faster", "fast", "medium", "slow", "slower"]
# Pictures that may wait before the encoder; then the oldest is let go.
WAITING = 3
SAYS_EACH_S = 0.25
AGAIN_AFTER_S = 0.5


def options():
    parser = argparse.ArgumentParser(description=__doc__.split("\n")[0])
    parser.add_argument("--to", default="rtmp://127.0.0.1:19350/moth/gstreamer", help="where to publish to (default: %(default)s)")
    parser.add_argument("--feed", default="127.0.0.1:19351", help="the moth's feed (default: %(default)s)")
    parser.add_argument("--source", default="test", help="`test`, a file, or a capture device (default: %(default)s)")
    parser.add_argument("--size", default="1280x720", help="the picture, in pixels (default: %(default)s)")
    parser.add_argument("--rate", type=int, default=30, help="frames/s (default: %(default)s)")
    parser.add_argument("--bitrate", type=int, default=4000, help="video, in kb/s (default: %(default)s)")
    parser.add_argument("--audio", type=int, default=128, help="audio, in kb/s (default: %(default)s)")
    parser.add_argument("--preset", default="veryfast", choices=PRESETS, help="(default: %(default)s)")
    return parser.parse_args()


def pipeline(words):
    """Builds a pipeline, or says which part of GStreamer is missing."""
    try:
        return Gst.parse_launch(words)
    except GLib.Error as error:
        sys.exit(f"GStreamer cannot build the pipeline: {error.message}. examples/README.md lists the packages it needs.")


class Counters:
    """What is counted since the program began; several threads count."""

    def __init__(self):
        self.lock = threading.Lock()
        self.came, self.went, self.encoded, self.lagged = 0, 0, 0, 0
        self.began = {}
        self.encode_ms = deque(maxlen=60)

    def say(self, waiting):
        with self.lock:
            mean = sum(self.encode_ms) / len(self.encode_ms) if self.encode_ms else None
            told = {
                "rendered": self.came,
                "lagged": self.lagged,
                "encoded": self.encoded,
                "skipped": max(0, self.came - self.went - waiting),
            }
        if mean is not None:
            told["encode_ms"] = round(mean, 3)
        return told


class Broadcaster:
    def __init__(self, chosen):
        self.chosen = chosen
        self.width, self.height = (int(part) for part in chosen.size.split("x"))
        self.rate, self.bitrate, self.preset = chosen.rate, chosen.bitrate, chosen.preset
        self.counters = Counters()
        self.loop = GLib.MainLoop()
        self.pipeline = None
        self.changing = False

    # The pipeline.

    def caps(self):
        text = f"video/x-raw,format=I420,width={self.width},height={self.height},framerate={self.rate}/1,pixel-aspect-ratio=1/1"
        return Gst.Caps.from_string(text)

    def sources(self):
        """Where picture and sound come from, in GStreamer's words."""
        source = self.chosen.source
        tone = "audiotestsrc is-live=true wave=sine volume=0.1"
        if source == "test":
            # Rings that move: an encoder has something to do.
            return "videotestsrc is-live=true pattern=zone-plate kx2=20 ky2=20 kt=3 ! timeoverlay", tone, ""
        if source.startswith("/dev/"):
            return f"v4l2src device={source} ! decodebin", tone, ""
        if not os.path.exists(source):
            sys.exit(f"there is no file {source}")
        uri = Gst.filename_to_uri(os.path.abspath(source))
        # Files are read as fast as they can be: what is shown decides.
        film = f'uridecodebin uri="{uri}" name=film '
        return "film. ! queue ! identity sync=true", "film. ! queue ! identity sync=true", film

    def build(self):
        picture, sound, before = self.sources()
        self.pipeline = pipeline(
            f"{before} flvmux name=mux streamable=true ! queue ! rtmp2sink name=sink async-connect=false "
            f"{picture} ! videoconvert ! videoscale ! videorate name=rate skip-to-first=true ! capsfilter name=caps "
            f"! queue name=waiting leaky=downstream max-size-buffers={WAITING} max-size-bytes=0 max-size-time=0 "
            "! x264enc name=encoder tune=zerolatency vbv-buf-capacity=1000 "
            "! video/x-h264,profile=main ! h264parse name=parsed ! queue ! mux.video "
            f"{sound} ! audioconvert ! audioresample ! audio/x-raw,rate=48000,channels=2 "
            f"! voaacenc bitrate={self.chosen.audio * 1000} ! aacparse ! queue ! mux.audio"
        )
        part = self.pipeline.get_by_name
        part("sink").set_property("location", self.chosen.to)
        self.caps_filter, self.encoder, self.waiting, self.videorate = part("caps"), part("encoder"), part("waiting"), part("rate")
        self.caps_filter.set_property("caps", self.caps())
        self.set_encoder()
        probe = Gst.PadProbeType.BUFFER
        self.waiting.get_static_pad("sink").add_probe(probe, self.picture_came)
        self.encoder.get_static_pad("sink").add_probe(probe, self.picture_went)
        self.encoder.get_static_pad("src").add_probe(probe, self.picture_encoded)
        self.repeated = 0
        bus = self.pipeline.get_bus()
        bus.add_signal_watch()
        bus.connect("message", self.heard)

    def set_encoder(self):
        self.encoder.set_property("bitrate", self.bitrate)
        self.encoder.set_property("speed-preset", self.preset)
        self.encoder.set_property("key-int-max", 2 * self.rate)

    def begin(self):
        self.build()
        self.changing = False
        self.pipeline.set_state(Gst.State.PLAYING)
        return False

    def begin_again(self, why):
        print(f"{why}; it is begun again", file=sys.stderr)
        pipeline, self.pipeline = self.pipeline, None
        pipeline.get_bus().remove_signal_watch()
        pipeline.set_state(Gst.State.NULL)
        # What waited in it is no picture that was skipped.
        with self.counters.lock:
            self.counters.went = self.counters.came
            self.counters.began.clear()
        GLib.timeout_add(int(AGAIN_AFTER_S * 1000), self.begin)

    def heard(self, _bus, message):
        if self.pipeline is None:
            return
        if message.type == Gst.MessageType.ERROR:
            self.begin_again(message.parse_error()[0].message)
        elif message.type == Gst.MessageType.EOS:
            self.begin_again("the film is over")

    # What is counted. These are called by GStreamer's own threads.

    def picture_came(self, _pad, _info):
        repeated = self.videorate.get_property("duplicate")
        with self.counters.lock:
            self.counters.came += 1
            self.counters.lagged += max(0, repeated - self.repeated)
        self.repeated = repeated
        return Gst.PadProbeReturn.OK

    def picture_went(self, _pad, info):
        with self.counters.lock:
            self.counters.went += 1
            self.counters.began[info.get_buffer().pts] = time.monotonic()
        return Gst.PadProbeReturn.OK

    def picture_encoded(self, _pad, info):
        with self.counters.lock:
            self.counters.encoded += 1
            began = self.counters.began.pop(info.get_buffer().pts, None)
            if began is not None:
                self.counters.encode_ms.append((time.monotonic() - began) * 1000)
        return Gst.PadProbeReturn.OK

    def told(self):
        pipeline = self.pipeline
        waiting = self.waiting.get_property("current-level-buffers") if pipeline else 0
        return self.counters.say(waiting)

    # What is changed. These are called in the main loop.

    def change(self, asked, answer):
        """Does what the feed asks; `answer` is called once with what went wrong, or with None."""
        if self.pipeline is None or self.changing:
            return answer("it is being begun" if self.pipeline is None else "another change goes on")
        what = asked["set"]
        if what == "bitrate":
            self.bitrate = max(1, round(asked["video_bps"] / 1000))
            self.encoder.set_property("bitrate", self.bitrate)
            return answer(None)
        if what == "size":
            self.width, self.height = asked["width"], asked["height"]
            self.caps_filter.set_property("caps", self.caps())
            return answer(None)
        if what == "preset":
            step = -1 if asked["step"] == "lighter" else 1
            place = PRESETS.index(self.preset) + step
            if not 0 <= place < len(PRESETS):
                return answer(f"there is none {asked['step']} than {self.preset}")
            self.preset = PRESETS[place]
            return self.rebuild(answer)
        if what == "rate":
            if abs(asked["fps"] - round(asked["fps"])) > 0.01:
                return answer("only whole frame rates can be set")
            self.rate = round(asked["fps"])
            self.caps_filter.set_property("caps", self.caps())
            # A keyframe each two seconds of another rate.
            return self.rebuild(answer)
        return answer(f"{what} cannot be changed")

    def rebuild(self, answer):
        """Holds what waits, empties the encoder, sets it, and goes on."""
        self.changing = True
        held = self.waiting.get_static_pad("src")
        left = self.encoder.get_static_pad("src")

        def emptied(pad, info):
            if info.get_event().type != Gst.EventType.EOS:
                return Gst.PadProbeReturn.OK
            pad.remove_probe(info.id)
            GLib.idle_add(go_on)
            return Gst.PadProbeReturn.DROP

        def stopped(_pad, _info):
            # On a thread of its own, as the encoder answers on this one.
            self.encoder.get_static_pad("sink").send_event(Gst.Event.new_eos())
            return Gst.PadProbeReturn.OK

        def go_on():
            self.encoder.set_state(Gst.State.READY)
            self.set_encoder()
            self.encoder.sync_state_with_parent()
            held.remove_probe(self.hold)
            self.changing = False
            answer(None)
            return False

        left.add_probe(Gst.PadProbeType.EVENT_DOWNSTREAM, emptied)
        self.hold = held.add_probe(Gst.PadProbeType.BLOCK_DOWNSTREAM, stopped)
        return None


class Feed(threading.Thread):
    """Says what is counted, four times a second, and hears what is asked."""

    def __init__(self, broadcaster, address):
        super().__init__(daemon=True)
        self.broadcaster = broadcaster
        host, _, port = address.rpartition(":")
        self.address = (host, int(port))

    def run(self):
        while True:
            try:
                with socket.create_connection(self.address, timeout=5) as connection:
                    connection.settimeout(None)
                    self.serve(connection)
            except OSError:
                pass
            time.sleep(AGAIN_AFTER_S)

    def serve(self, connection):
        lock = threading.Lock()

        def say(**line):
            with lock:
                connection.sendall((json.dumps(line) + "\n").encode())

        threading.Thread(target=self.hear, args=(connection, say), daemon=True).start()
        b = self.broadcaster
        say(takes=["bitrate", "preset", "size", "rate"])
        while True:
            say(width=b.width, height=b.height, fps=b.rate, **b.told())
            time.sleep(SAYS_EACH_S)

    def hear(self, connection, say):
        try:
            for line in connection.makefile():
                asked = json.loads(line)
                if "set" not in asked:
                    print(f"the moth says: {line.strip()}", file=sys.stderr)
                    continue
                GLib.idle_add(self.do, asked, say)
        except (OSError, ValueError):
            pass

    def do(self, asked, say):
        number = asked["request"]

        def answer(why):
            try:
                say(done=number) if why is None else say(failed=number, why=why)
            except OSError:
                pass

        self.broadcaster.change(asked, answer)
        return False


def main():
    Gst.init(None)
    chosen = options()
    broadcaster = Broadcaster(chosen)
    broadcaster.begin()
    Feed(broadcaster, chosen.feed).start()
    try:
        broadcaster.loop.run()
    except KeyboardInterrupt:
        pass
    if broadcaster.pipeline:
        broadcaster.pipeline.set_state(Gst.State.NULL)


if __name__ == "__main__":
    main()
