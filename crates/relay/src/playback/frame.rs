//! A frame, as far as it is needed to know it again.

use std::hash::{DefaultHasher, Hasher};

use moth_core::Moment;

use crate::packet::{Packet, Role};

/// A frame that was handed to a server, or came back from it: it is known again by what is in it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Frame {
    /// When it came in here, from the broadcaster or from the server.
    pub came: Moment,
    /// A picture; else sound.
    pub is_picture: bool,
    /// A picture that needs no other: servers begin with one.
    pub is_keyframe: bool,
    /// Its timestamp, in milliseconds modulo 2³².
    pub time_ms: u32,
    /// Two frames with the same content have the same print; two others hardly ever.
    pub print: u64,
}

impl Frame {
    /// Of a packet that came in then; `None` if it is no frame, or of one of several tracks: servers may put those into others.
    pub(crate) fn of(packet: &Packet, came: Moment) -> Option<Self> {
        if !packet.role.is_frame() || packet.track.is_some() {
            return None;
        }
        let mut hasher = DefaultHasher::new();
        hasher.write(&packet.payload);
        let is_picture = packet.role.is_video_frame();
        let is_keyframe = packet.role == Role::Keyframe;
        Some(Self { came, is_picture, is_keyframe, time_ms: packet.time_ms, print: hasher.finish() })
    }
}
