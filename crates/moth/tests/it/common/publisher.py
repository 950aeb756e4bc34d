"""A broadcaster made of PyAV: a test picture of 320x180 at 30 frames/s with a tone, in real time.

    publisher.py URL VIDEO_ENCODER AUDIO_ENCODER SECONDS
"""

import sys
import time

import av
from av.video.frame import PictureType

OPTIONS = {
    "libx264": {"preset": "ultrafast", "bf": "2", "g": "30"},
    "libx265": {"preset": "ultrafast", "x265-params": "bframes=2:keyint=30:log-level=none"},
    "libsvtav1": {"preset": "12", "g": "30"},
}

to, video_encoder, audio_encoder, seconds = sys.argv[1:5]
picture = av.open("testsrc2=size=320x180:rate=30", format="lavfi")
tone = av.open("sine=frequency=440:sample_rate=48000", format="lavfi")
out = av.open(to, "w", format="flv")
video = out.add_stream(video_encoder, rate=30, options=OPTIONS[video_encoder])
video.width, video.height, video.pix_fmt, video.bit_rate = 320, 180, "yuv420p", 400_000
video.gop_size, video.max_b_frames = 30, 2
audio = out.add_stream(audio_encoder, rate=48000)
audio.bit_rate = 96_000
resampler = av.AudioResampler(format=audio.format, layout=audio.layout, rate=48000, frame_size=audio.frame_size or 960)
sounds = tone.decode(audio=0)
began, heard = time.monotonic(), 0.0
for n, frame in enumerate(picture.decode(video=0)):
    if n == int(seconds) * 30:
        break
    # The picture's own kind would make each a keyframe.
    frame.pict_type = PictureType.NONE
    out.mux(video.encode(frame))
    while heard <= (n + 1) / 30:
        sound = next(sounds)
        heard += sound.samples / 48000
        for part in resampler.resample(sound):
            out.mux(audio.encode(part))
    time.sleep(max(0.0, began + (n + 1) / 30 - time.monotonic()))
out.mux(video.encode())
out.mux(audio.encode())
out.close()
