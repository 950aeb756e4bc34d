//! A packet: one piece of a broadcast, in no protocol's terms.
//!
//! What comes in at the door is made into packets by an adapter, and what goes to a server is made of packets by another
//! ([`crate::rtmp`] has both for RTMP): between them nobody knows a protocol.

mod metadata;
pub mod sighting;

use bytes::Bytes;

/// What a packet is to who carries it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Role {
    /// Needed by the server before frames, sent again on every new connection; not a frame.
    Header(HeaderSlot),
    /// Passed through in its place, not a frame.
    Note,
    /// One frame of sound.
    Audio,
    /// A frame that needs no other.
    Keyframe,
    /// A frame that needs earlier ones.
    Inter,
    /// A frame that no other needs.
    Disposable,
}

/// Which header; a newer one takes an older one's place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum HeaderSlot {
    /// The stream's metadata.
    Metadata,
    /// The video decoder's configuration.
    Video,
    /// The audio decoder's configuration.
    Audio,
}

impl Role {
    /// Whether it is a frame, of picture or sound.
    #[must_use]
    pub fn is_frame(self) -> bool {
        self.is_video_frame() || self == Self::Audio
    }

    /// Whether it is a picture.
    #[must_use]
    pub fn is_video_frame(self) -> bool {
        matches!(self, Self::Keyframe | Self::Inter | Self::Disposable)
    }

    /// Whether it is a picture that needs another.
    #[must_use]
    pub fn depends(self) -> bool {
        matches!(self, Self::Inter | Self::Disposable)
    }
}

/// What a packet's payload is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum Medium {
    /// Pictures.
    Video,
    /// Sound.
    Audio,
    /// Words about the stream.
    Data,
}

/// One piece of a broadcast.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Packet {
    /// What it is.
    pub role: Role,
    /// What its payload is of.
    pub medium: Medium,
    /// The track it is for, if it is for one of several; `None` for the main one.
    pub track: Option<u8>,
    /// When it belongs: milliseconds modulo 2³² on the stream's own clock.
    pub time_ms: u32,
    /// The coded picture, sound or words, as the body of an FLV tag (FLV specification 10.1, annex E, with the extended headers
    /// of Enhanced RTMP): it names its codec, and all of them can be put into it. It is passed on unchanged.
    pub payload: Bytes,
}
