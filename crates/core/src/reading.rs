//! Readings: one observation each. Everything the core knows came in as one of these.

use serde::{Deserialize, Serialize};

use crate::account::Accounts;
use crate::action::Action;
use crate::figure::Origin;
use crate::keeper::{Bounds, Mode};
use crate::machine_load::MachineLoad;
use crate::moment::Moment;
use crate::played_back::PlayedBack;
use crate::rate::Bitrate;
use crate::viewers::Freezes;

/// One observation: when, what, and how it is known.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Reading {
    /// When it was made. Readings come in order of this.
    pub at: Moment,
    /// How it is known.
    pub origin: Origin,
    /// What was seen.
    #[serde(flatten)]
    pub what: Observation,
}

/// What was seen.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "what", rename_all = "kebab-case")]
pub enum Observation {
    /// A video frame came in from the broadcaster.
    Video(VideoFrame),
    /// An audio frame came in.
    Audio(SoundFrame),
    /// What the broadcaster's metadata says of the stream.
    Stream(StreamFacts),
    /// What the broadcast was meant to be.
    Intended(Intended),
    /// A light look beyond this machine, made when in doubt.
    Probe(Probe),
    /// Where every frame is, and what waits.
    Relay {
        /// The frames' accounts.
        #[serde(flatten)]
        accounts: Accounts,
        /// The waiting frames.
        queue: QueueLevel,
        /// Bytes of the broadcast acknowledged (else written) so far, over all connections.
        sent_bytes: u64,
        /// Gaps in the pictures sent that viewers see as freezes.
        #[serde(default)]
        freezes: Freezes,
        /// Milliseconds since the last picture was sent, if that is such a gap.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        frozen_ms: Option<u64>,
    },
    /// The connection to the server, as the kernel (or the stand-in line) tells.
    Connection(ConnectionFigures),
    /// The connection to the server came or went.
    Link(LinkChange),
    /// A broadcaster came or left.
    Broadcaster {
        /// Whether one is there now.
        present: bool,
    },
    /// The load on a machine.
    Machine(Box<MachineLoad>),
    /// What the broadcaster counted.
    Counters(BroadcasterCounters),
    /// An action was carried out, or could not be.
    Acted {
        /// What was to be done.
        action: Action,
        /// Why it could not be done; `None` if it was.
        failed: Option<String>,
        /// What puts it back exactly, where whoever did it knows better than the core.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        back: Option<Action>,
    },
    /// The user was told what to change by hand: it is looked for on the wire.
    Told {
        /// What.
        action: Action,
    },
    /// What the moth may do by itself, and with what.
    Automatics(Automatics),
    /// The broadcast moved from one server to another.
    Moved {
        /// The server it left.
        from: String,
        /// The server it came to.
        to: String,
        /// Milliseconds between the last picture handed to the one and the first handed to the other.
        gap_ms: u64,
        /// Milliseconds of the stream's own time that neither got, beyond one frame's length.
        missing_ms: u64,
    },
    /// The broadcast was played back from its server.
    PlayedBack(PlayedBack),
    /// A picture was looked at.
    Picture(PictureChange),
    /// Pictures cannot be looked at, and why, in plain words.
    Unseen {
        /// Why not.
        why: String,
    },
    /// The broadcaster was restarted, and goes on where it stopped.
    Resumed {
        /// Milliseconds without a picture.
        gap_ms: u64,
    },
    /// Something worth a mark on the time axis.
    Remark {
        /// In plain words.
        text: String,
    },
}

impl Observation {
    /// An action was carried out, or could not be, and the core knows what would put it back.
    #[must_use]
    pub fn acted(action: Action, failed: Option<String>) -> Self {
        Self::Acted { action, failed, back: None }
    }
}

/// A video frame.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct VideoFrame {
    /// Its timestamp: milliseconds modulo 2³² on the stream's own clock.
    pub time_ms: u32,
    /// Its size on the wire, in bytes.
    pub bytes: u32,
    /// Whether it is a keyframe.
    pub keyframe: bool,
    /// How much of it is filler, in bytes; zero where the codec's units are not known.
    #[serde(skip_serializing_if = "is_zero")]
    pub filler_bytes: u32,
    /// How long after its timestamp it is shown, in milliseconds.
    #[serde(skip_serializing_if = "is_zero")]
    pub composition_ms: i32,
}

/// How much a picture differs from the one shown before it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct PictureChange {
    /// When it is shown: milliseconds modulo 2³² on the stream's own clock.
    pub time_ms: u32,
    /// The mean difference of its luma samples from those in the same place before, in hundredths of a level: 0 to 25 500.
    pub hundredths: u16,
    /// The mean difference of its blocks' means (16x16 samples) from those before, in thousandths of a level: up to 65 535.
    /// Noise and refinement are not in it, and it grows with the distance that things have moved by, for longer.
    pub coarse_thousandths: u16,
}

/// A frame of sound.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct SoundFrame {
    /// Its timestamp: milliseconds modulo 2³² on the stream's own clock.
    pub time_ms: u32,
    /// Its size, in bytes.
    pub bytes: u32,
}

/// Most frames have none: what is zero is not written.
fn is_zero<T: Default + PartialEq>(value: &T) -> bool {
    *value == T::default()
}

/// A video codec.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum VideoCodec {
    /// ITU-T H.264.
    H264,
    /// ITU-T H.265.
    Hevc,
    /// AV1: its frames are known by their size only.
    Av1,
    /// Another: known by its size only.
    Other,
}

impl VideoCodec {
    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::H264 => "H.264",
            Self::Hevc => "HEVC",
            Self::Av1 => "AV1",
            Self::Other => "another codec",
        }
    }
}

/// An audio codec.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum AudioCodec {
    /// MPEG-4 AAC.
    Aac,
    /// MPEG-1 layer 3.
    Mp3,
    /// Opus (RFC 6716).
    Opus,
    /// Another.
    Other,
}

impl AudioCodec {
    /// Its name.
    #[must_use]
    pub fn name(self) -> &'static str {
        match self {
            Self::Aac => "AAC",
            Self::Mp3 => "MP3",
            Self::Opus => "Opus",
            Self::Other => "another codec",
        }
    }
}

/// What the broadcast was meant to be: the setup, and what was measured of the line beforehand.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Intended {
    /// Picture width in pixels.
    pub width: Option<u32>,
    /// Picture height in lines.
    pub height: Option<u32>,
    /// Frames per second.
    pub fps: Option<f64>,
    /// Video bitrate.
    pub video_bitrate: Option<Bitrate>,
    /// Seconds from keyframe to keyframe, at most.
    pub keyframe_interval_s: Option<f64>,
    /// B-frames in a row, at most.
    pub b_frames: Option<u32>,
    /// What the line sustained when it was measured last.
    pub line: Option<Bitrate>,
    /// The codecs that the service says it takes; `None` if it names none.
    pub codecs: Option<Codecs>,
}

/// Video codecs that a service says it takes.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Codecs {
    /// ITU-T H.264.
    pub h264: bool,
    /// ITU-T H.265.
    pub hevc: bool,
    /// AV1.
    pub av1: bool,
}

impl Codecs {
    /// Whether a codec is among them.
    #[must_use]
    pub fn has(self, codec: VideoCodec) -> bool {
        match codec {
            VideoCodec::H264 => self.h264,
            VideoCodec::Hevc => self.hevc,
            VideoCodec::Av1 => self.av1,
            VideoCodec::Other => false,
        }
    }

    /// Their names.
    #[must_use]
    pub fn names(self) -> String {
        let all = [VideoCodec::H264, VideoCodec::Hevc, VideoCodec::Av1];
        let names: Vec<&str> = all.into_iter().filter(|codec| self.has(*codec)).map(VideoCodec::name).collect();
        names.join(", ")
    }
}

/// What the moth may do by itself, and with what.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Automatics {
    /// What the keeper may do.
    pub keeper: Mode,
    /// The keeper's bounds.
    pub bounds: Bounds,
    /// Whether the server may be changed by itself.
    pub failover: bool,
    /// How often within an hour, at most.
    pub failovers_an_hour: u32,
    /// Whether the broadcast is played back from its server once it is there.
    pub play_back: bool,
    /// Servers that were tested, and what they sustained.
    pub tested: Vec<Tested>,
}

/// A server that was tested.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Tested {
    /// Its name.
    pub server: String,
    /// What it sustained.
    pub sustained: Bitrate,
}

/// Where a probe went.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(tag = "to", rename_all = "kebab-case")]
pub enum ProbeTarget {
    /// The first router on the way out.
    Gateway,
    /// Another ingest server.
    Server {
        /// Its name.
        server: String,
    },
}

/// A handshake or an echo, given up as soon as it was answered.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Probe {
    /// Where it went.
    #[serde(flatten)]
    pub to: ProbeTarget,
    /// Its round trip in milliseconds; `None` if no answer came within a second.
    pub rtt_ms: Option<f64>,
}

/// What a broadcaster says of its stream.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct StreamFacts {
    /// Picture width in pixels.
    pub width: Option<u32>,
    /// Picture height in lines.
    pub height: Option<u32>,
    /// Frames per second.
    pub fps: Option<f64>,
    /// Intended video bitrate.
    pub video_bitrate: Option<Bitrate>,
    /// Intended audio bitrate.
    pub audio_bitrate: Option<Bitrate>,
    /// How the picture is coded.
    pub video_codec: Option<VideoCodec>,
    /// How the sound is coded.
    #[serde(default)]
    pub audio_codec: Option<AudioCodec>,
    /// Whether it takes a new bitrate while live.
    pub takes_bitrate: bool,
    /// Whether it takes another encoder preset while live.
    pub takes_preset: bool,
    /// Whether it takes another picture size while live.
    pub takes_size: bool,
    /// Whether it takes another frame rate while live.
    pub takes_rate: bool,
    /// Whether a change restarts its encoder.
    pub restarts: bool,
}

/// What waits in the moth.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
pub struct QueueLevel {
    /// How long the oldest frame not yet handed to the connection has waited, in milliseconds.
    pub ms: f64,
    /// Bytes not yet handed to the connection.
    pub bytes: u64,
    /// Over this many milliseconds frames are dropped.
    pub limit_ms: f64,
    /// Frames, among those dropped, that came before the broadcaster's first keyframe: nobody could have shown them.
    #[serde(default, skip_serializing_if = "is_zero")]
    pub before_keyframe: u64,
}

/// Figures of one connection. What the platform does not tell is `None`.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct ConnectionFigures {
    /// Smoothed round-trip time, in milliseconds.
    pub rtt_ms: Option<f64>,
    /// Shortest round trip of late, in milliseconds. The smoothed one also holds how long the other side waits before it
    /// acknowledges (up to 40 ms and more, RFC 1122, section 4.2.3.2); this one does not.
    pub min_rtt_ms: Option<f64>,
    /// How far the round trip wavers, in milliseconds: its mean deviation (RTTVAR of RFC 6298, section 2).
    pub rtt_var_ms: Option<f64>,
    /// Bytes given to the kernel and not yet sent.
    pub unsent_bytes: Option<u64>,
    /// Segments sent again, since the connection began.
    pub retransmits: Option<u64>,
    /// The kernel's newest estimate of the delivery rate.
    pub delivery_rate: Option<Bitrate>,
    /// Time spent with something to send, since the connection began, in microseconds.
    pub busy_us: Option<u64>,
    /// Part of that time held up by the receiver's window, in microseconds.
    pub receiver_limited_us: Option<u64>,
}

/// The connection to the server came or went.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(tag = "link", rename_all = "kebab-case")]
pub enum LinkChange {
    /// A connection is being made.
    Connecting {
        /// The server's name.
        server: String,
    },
    /// The server takes the broadcast.
    Up {
        /// The server's name.
        server: String,
    },
    /// The connection failed or ended.
    Down {
        /// The server's name.
        server: String,
        /// In plain words, the key taken out.
        why: String,
        /// The server answered and said no.
        refused: bool,
        /// Milliseconds until the next try.
        retry_ms: u64,
    },
    /// The broadcast is over and the connection was closed on purpose.
    Closed {
        /// The server's name.
        server: String,
    },
}

/// What a broadcaster counted since it began.
#[derive(Debug, Clone, Copy, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct BroadcasterCounters {
    /// Frames due so far.
    pub rendered: Option<u64>,
    /// Frames whose scene was not ready in time.
    pub lagged: Option<u64>,
    /// Frames encoded.
    pub encoded: Option<u64>,
    /// Frames never encoded because the encoder was not done with the last one.
    pub skipped: Option<u64>,
    /// Mean time to render a frame lately, in milliseconds.
    pub render_ms: Option<f64>,
    /// Mean time to encode a frame lately, in milliseconds.
    pub encode_ms: Option<f64>,
    /// Share of the GPU in use, from 0 to 1, as the broadcaster sees it.
    pub gpu: Option<f64>,
    /// Share of the encoder in use, from 0 to 1: over 1 it does not keep up.
    pub encoder: Option<f64>,
    /// Seconds of picture encoded in a second.
    pub speed: Option<f64>,
}
