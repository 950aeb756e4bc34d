//! Aggregate messages (type 22): several messages of a stream in one (RTMP 1.0, section 7.1.6). Each is an FLV tag (FLV
//! specification, version 10.1, annex E.4.1) followed by its size once more.

use bytes::Buf;

use crate::message::{Message, MessageKind, StreamTime};

/// A tag's type, size, time, the time's highest byte and its stream number.
const TAG_HEADER: usize = 11;
/// The size that follows a tag.
const BACK_POINTER: usize = 4;

/// What an aggregate holds, message by message.
#[derive(Debug, Default)]
pub struct Unpacked {
    /// What is left of it, and what its messages' times are moved by.
    rest: Option<(Message, Option<u32>)>,
}

impl Unpacked {
    /// Of an aggregate message.
    #[must_use]
    pub fn of(message: Message) -> Self {
        Self { rest: Some((message, None)) }
    }
}

impl Iterator for Unpacked {
    type Item = Message;

    /// The next one; what is cut short, or of no kind that a stream has, ends it.
    fn next(&mut self) -> Option<Message> {
        let (whole, moved) = self.rest.as_mut()?;
        let rest = &mut whole.payload;
        if rest.len() < TAG_HEADER {
            self.rest = None;
            return None;
        }
        let kind = MessageKind::from_number(rest[0]);
        let size = u32::from_be_bytes([0, rest[1], rest[2], rest[3]]) as usize;
        let time = u32::from_be_bytes([rest[7], rest[4], rest[5], rest[6]]);
        let is_of_a_stream = matches!(kind, MessageKind::Audio | MessageKind::Video | MessageKind::Data);
        if rest.len() < TAG_HEADER + size || !is_of_a_stream {
            self.rest = None;
            return None;
        }
        // The first one's time is the aggregate's; the others are as far from it as in the aggregate.
        let moved = *moved.get_or_insert(whole.time.0.wrapping_sub(time));
        rest.advance(TAG_HEADER);
        let payload = rest.split_to(size);
        rest.advance(BACK_POINTER.min(rest.len()));
        Some(Message { kind, time: StreamTime(time.wrapping_add(moved)), stream_id: whole.stream_id, payload })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use bytes::Bytes;

    fn tag(kind: u8, time: u32, payload: &[u8]) -> Vec<u8> {
        let size = u32::try_from(payload.len()).unwrap().to_be_bytes();
        let at = time.to_be_bytes();
        let mut tag = vec![kind, size[1], size[2], size[3], at[1], at[2], at[3], at[0], 0, 0, 0];
        tag.extend_from_slice(payload);
        tag.extend((11 + u32::try_from(payload.len()).unwrap()).to_be_bytes());
        tag
    }

    fn unpacked(body: Vec<u8>) -> Vec<(MessageKind, u32, Bytes)> {
        let whole =
            Message { kind: MessageKind::Aggregate, time: StreamTime(70_000), stream_id: 1, payload: body.into() };
        Unpacked::of(whole).map(|message| (message.kind, message.time.0, message.payload)).collect()
    }

    #[test]
    fn a_last_one_of_nothing_but_its_header_is_one() {
        let whole = tag(8, 5000, b"");
        assert_eq!(unpacked(whole[..TAG_HEADER].to_vec()), [(MessageKind::Audio, 70_000, Bytes::new())]);
        assert_eq!(unpacked(whole[..TAG_HEADER - 1].to_vec()), []);
    }

    #[test]
    fn its_messages_keep_their_distances_from_the_first() {
        let body = [tag(9, 5000, &[0x17, 1, 2]), tag(8, 5021, &[0xaf, 1]), tag(18, 5040, b"")].concat();
        let (video, audio) = (Bytes::from_static(&[0x17, 1, 2]), Bytes::from_static(&[0xaf, 1]));
        let expected = vec![
            (MessageKind::Video, 70_000, video.clone()),
            (MessageKind::Audio, 70_021, audio),
            (MessageKind::Data, 70_040, Bytes::new()),
        ];
        assert_eq!(unpacked(body.clone()), expected);
        // Cut short, what is whole is taken; a command has no business in it.
        assert_eq!(unpacked(body[..25].to_vec()).len(), 1);
        assert!(unpacked([tag(20, 0, &[2]), body].concat()).is_empty());
    }

    proptest::proptest! {
        #[test]
        fn whatever_it_holds_it_comes_to_an_end(body in proptest::collection::vec(proptest::num::u8::ANY, 0..400)) {
            let most = body.len() / TAG_HEADER;
            proptest::prop_assert!(unpacked(body).len() <= most);
        }
    }
}
