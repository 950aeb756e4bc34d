//! Messages: what chunks carry (sections 5.4 and 6).

use bytes::Bytes;

/// A stream timestamp in whole milliseconds, modulo 2³² (section 5.3.1.3): it wraps after 49.7 days.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default)]
pub struct StreamTime(pub u32);

impl StreamTime {
    /// Milliseconds from `earlier` to this, across the wrap; negative if this is the earlier one.
    #[must_use]
    pub fn ms_since(self, earlier: Self) -> i64 {
        i64::from(self.0.wrapping_sub(earlier.0).cast_signed())
    }
}

/// What a message is, by its type number.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum MessageKind {
    /// 1: the sender's new chunk size.
    SetChunkSize,
    /// 2: a partly sent message is given up.
    Abort,
    /// 3: bytes received so far.
    Acknowledgement,
    /// 4: events such as ping and stream begin.
    UserControl,
    /// 5: how many bytes may be sent without an acknowledgement.
    WindowAckSize,
    /// 6: the peer's output limit.
    SetPeerBandwidth,
    /// 8: one audio frame or header.
    Audio,
    /// 9: one video frame or header.
    Video,
    /// 18: metadata in AMF0.
    Data,
    /// 20: a command in AMF0.
    Command,
    /// 22: several messages of a stream in one.
    Aggregate,
    /// Any other number; passed over.
    Other(u8),
}

impl MessageKind {
    /// The kind for a type number.
    #[must_use]
    pub fn from_number(number: u8) -> Self {
        match number {
            1 => Self::SetChunkSize,
            2 => Self::Abort,
            3 => Self::Acknowledgement,
            4 => Self::UserControl,
            5 => Self::WindowAckSize,
            6 => Self::SetPeerBandwidth,
            8 => Self::Audio,
            9 => Self::Video,
            18 => Self::Data,
            20 => Self::Command,
            22 => Self::Aggregate,
            other => Self::Other(other),
        }
    }

    /// The type number on the wire.
    #[must_use]
    pub fn number(self) -> u8 {
        match self {
            Self::SetChunkSize => 1,
            Self::Abort => 2,
            Self::Acknowledgement => 3,
            Self::UserControl => 4,
            Self::WindowAckSize => 5,
            Self::SetPeerBandwidth => 6,
            Self::Audio => 8,
            Self::Video => 9,
            Self::Data => 18,
            Self::Command => 20,
            Self::Aggregate => 22,
            Self::Other(number) => number,
        }
    }
}

/// One whole message.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Message {
    /// What it is.
    pub kind: MessageKind,
    /// When it belongs, on the stream's own clock.
    pub time: StreamTime,
    /// The message stream it belongs to; 0 is the connection itself.
    pub stream_id: u32,
    /// The bytes after all headers.
    pub payload: Bytes,
}

impl Message {
    /// A message of the connection itself: stream 0, time 0.
    #[must_use]
    pub fn control(kind: MessageKind, payload: impl Into<Bytes>) -> Self {
        Self { kind, time: StreamTime(0), stream_id: 0, payload: payload.into() }
    }

    /// The payload's first four bytes as a number, as protocol control messages carry it.
    #[must_use]
    pub fn leading_u32(&self) -> Option<u32> {
        Some(u32::from_be_bytes(self.payload.get(..4)?.try_into().ok()?))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_number_is_its_kinds_number() {
        for number in 0..=255 {
            assert_eq!(MessageKind::from_number(number).number(), number);
        }
    }

    #[test]
    fn time_differs_across_the_wrap() {
        assert_eq!(StreamTime(3).ms_since(StreamTime(u32::MAX - 6)), 10);
        assert_eq!(StreamTime(u32::MAX - 6).ms_since(StreamTime(3)), -10);
    }
}
