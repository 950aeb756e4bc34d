//! What a broadcaster says, byte by byte, for whoever means to say it at the wrong time; and what nobody should say.

use bytes::BytesMut;
use moth_destination::{Address, StreamKey};
use moth_rtmp::message::{Message, MessageKind, StreamTime};
use moth_rtmp::session::{Publisher, Receiver, ReceiverEvent};

/// On chunk stream 5, a message of no length and kind 18 (data), for message stream 1; each byte after it is one more.
pub const EMPTY_MESSAGE: [u8; 12] = [5, 0, 0, 0, 0, 0, 0, 18, 1, 0, 0, 0];
/// A byte that repeats the message before it: one more empty message on the same chunk stream.
pub const ONE_MORE: u8 = 0xc5;
/// A ping request: chunk stream 2, type 4, six bytes (RTMP 1.0, section 7.1.7).
pub const PING: [u8; 18] = [2, 0, 0, 0, 0, 0, 6, 4, 0, 0, 0, 0, 0, 6, 1, 2, 3, 4];

/// A broadcaster's words, each as it would be said at once.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Words {
    /// Up to what asks to publish; each is said once the one before was answered, and all at once does as well.
    pub introduction: Vec<Vec<u8>>,
    /// A picture that needs no other.
    pub keyframe: Vec<u8>,
    /// The message that ends a stream.
    pub end: Vec<u8>,
}

impl Words {
    /// Said to an application of this name. No name that an address cannot have is any use: nothing is said then.
    #[must_use]
    pub fn to(app: &str) -> Self {
        let mut words = Self { introduction: Vec::new(), keyframe: Vec::new(), end: Vec::new() };
        let (Ok(address), Ok(name)) = (Address::new("127.0.0.1", 1935, app), StreamKey::new("camera")) else {
            return words;
        };
        let (mut publisher, mut server) = (Publisher::new(address, name), Receiver::default());
        while !publisher.is_ready() {
            let said = publisher.take_output();
            server.feed(&said);
            words.introduction.push(said.to_vec());
            while let Ok(Some(event)) = server.poll() {
                if matches!(event, ReceiverEvent::PublishRequested { .. }) {
                    server.accept();
                }
            }
            publisher.feed(&server.take_output());
            if publisher.poll().is_err() {
                break;
            }
        }
        let mut payload = BytesMut::from(&[0x17, 1, 0, 0, 0, 0, 0, 0, 1, 0x65][..]);
        payload.resize(400, 7);
        let (kind, time) = (MessageKind::Video, StreamTime(40));
        publisher.send(&Message { kind, time, stream_id: 1, payload: payload.freeze() });
        words.keyframe = publisher.take_output().to_vec();
        publisher.finish();
        words.end = publisher.take_output().to_vec();
        words
    }

    /// The introduction in one.
    #[must_use]
    pub fn at_once(&self) -> Vec<u8> {
        self.introduction.concat()
    }
}
