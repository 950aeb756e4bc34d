//! RTMP's pair of adapters: [`door`] takes a broadcaster's session, [`server`] keeps one with a server, and [`viewer`] asks one
//! for what it plays. Nothing else in the relay
//! knows the protocol; another would be a folder beside this one.

pub(crate) mod door;
pub(crate) mod server;
pub(crate) mod viewer;

use moth_rtmp::media::{AudioPart, VideoPart, VideoTag, track};
use moth_rtmp::message::{Message, MessageKind, StreamTime};

use crate::packet::{HeaderSlot, Medium, Packet, Role};

/// What an RTMP message is to who carries it.
#[must_use]
pub fn role(message: &Message) -> Role {
    match message.kind {
        MessageKind::Video => match VideoTag::parse(&message.payload).part {
            VideoPart::Header => Role::Header(HeaderSlot::Video),
            VideoPart::Keyframe => Role::Keyframe,
            VideoPart::Inter => Role::Inter,
            VideoPart::Disposable => Role::Disposable,
            VideoPart::Note => Role::Note,
        },
        MessageKind::Audio => match AudioPart::parse(&message.payload) {
            AudioPart::Header => Role::Header(HeaderSlot::Audio),
            AudioPart::Frame => Role::Audio,
            AudioPart::Note => Role::Note,
        },
        MessageKind::Data => {
            // Only what begins with @setDataFrame or onMetaData is the stream's own; cue points pass through.
            let named = |name: &str| message.payload.get(3..3 + name.len()) == Some(name.as_bytes());
            if named("@setDataFrame") || named("onMetaData") { Role::Header(HeaderSlot::Metadata) } else { Role::Note }
        }
        _ => Role::Note,
    }
}

/// The packet that an RTMP message of a broadcast is.
#[must_use]
pub fn packet(message: Message) -> Packet {
    let medium = match message.kind {
        MessageKind::Video => Medium::Video,
        MessageKind::Audio => Medium::Audio,
        _ => Medium::Data,
    };
    Packet {
        role: role(&message),
        medium,
        track: track(message.kind, &message.payload),
        time_ms: message.time.0,
        payload: message.payload,
    }
}

/// The RTMP message that a packet is; the session gives it its stream's number.
#[must_use]
pub fn message(packet: &Packet) -> Message {
    let kind = match packet.medium {
        Medium::Video => MessageKind::Video,
        Medium::Audio => MessageKind::Audio,
        Medium::Data => MessageKind::Data,
    };
    Message { kind, time: StreamTime(packet.time_ms), stream_id: 1, payload: packet.payload.clone() }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_comes_in_goes_out_as_it_came() {
        let payloads: [(MessageKind, &[u8], Role, Option<u8>); 7] = [
            (MessageKind::Video, &[0x17, 0, 0, 0, 0, 1], Role::Header(HeaderSlot::Video), None),
            (MessageKind::Video, &[0x17, 1, 0, 0, 0, 0, 0, 0, 1, 0x65], Role::Keyframe, None),
            (MessageKind::Video, b"\x96\x00avc1\x02", Role::Header(HeaderSlot::Video), Some(2)),
            (MessageKind::Audio, &[0xaf, 0, 0x11], Role::Header(HeaderSlot::Audio), None),
            (MessageKind::Audio, &[0xaf, 1, 7], Role::Audio, None),
            (MessageKind::Data, b"\x02\x00\x0aonMetaData\x05", Role::Header(HeaderSlot::Metadata), None),
            (MessageKind::Data, b"\x02\x00\x0aonCuePoint\x05", Role::Note, None),
        ];
        for (kind, payload, role, track) in payloads {
            let came = Message { kind, time: StreamTime(70), stream_id: 1, payload: payload.into() };
            let packet = packet(came.clone());
            assert_eq!((packet.role, packet.track, packet.time_ms), (role, track, 70), "{payload:?}");
            assert_eq!(message(&packet), came);
        }
    }
}
