//! A publisher and a receiver talk to each other, byte by byte.

use bytes::{Bytes, BytesMut};
use moth_destination::{Address, StreamKey};
use moth_rtmp::amf0::{Value, object};
use moth_rtmp::message::{Message, MessageKind, StreamTime};
use moth_rtmp::session::{Publisher, PublisherEvent, Receiver, ReceiverEvent, RefuseCode, SessionError, Stage};

struct Pair {
    publisher: Publisher,
    receiver: Receiver,
    step_bytes: usize,
    to_publisher: BytesMut,
    to_receiver: BytesMut,
}

#[derive(Default)]
struct Seen {
    publisher: Vec<PublisherEvent>,
    receiver: Vec<ReceiverEvent>,
}

impl Pair {
    fn new(step_bytes: usize) -> Self {
        let address: Address = "rtmp://aldmoor.nocturne.example/live".parse().unwrap();
        Self {
            publisher: Publisher::new(address, StreamKey::new("comet-5150").unwrap()),
            receiver: Receiver::default(),
            step_bytes,
            to_publisher: BytesMut::new(),
            to_receiver: BytesMut::new(),
        }
    }

    /// Carries bytes both ways until neither side has anything to say.
    fn run(&mut self) -> Result<Seen, SessionError> {
        let mut seen = Seen::default();
        loop {
            self.to_receiver.extend_from_slice(&self.publisher.take_output());
            self.to_publisher.extend_from_slice(&self.receiver.take_output());
            if self.to_publisher.is_empty() && self.to_receiver.is_empty() {
                return Ok(seen);
            }
            let piece = self.to_receiver.split_to(self.step_bytes.min(self.to_receiver.len()));
            self.receiver.feed(&piece);
            while let Some(event) = self.receiver.poll()? {
                seen.receiver.push(event);
            }
            let piece = self.to_publisher.split_to(self.step_bytes.min(self.to_publisher.len()));
            self.publisher.feed(&piece);
            while let Some(event) = self.publisher.poll()? {
                seen.publisher.push(event);
            }
        }
    }

    fn publishing(step_bytes: usize) -> Self {
        let mut pair = Self::new(step_bytes);
        let seen = pair.run().unwrap();
        let [ReceiverEvent::PublishRequested { app, key }] = &seen.receiver[..] else { panic!("{:?}", seen.receiver) };
        assert_eq!((app.as_str(), key.as_ref().unwrap().expose()), ("live", "comet-5150"));
        pair.receiver.accept();
        assert_eq!(pair.run().unwrap().publisher, [PublisherEvent::Ready]);
        pair
    }
}

fn video(time_ms: u32, bytes: usize) -> Message {
    let payload: Bytes = (0..bytes).map(|i| (i % 251) as u8).collect();
    Message { kind: MessageKind::Video, time: StreamTime(time_ms), stream_id: 1, payload }
}

#[test]
fn what_is_published_arrives_byte_for_byte_however_it_is_split() {
    for step_bytes in [1, 13, 4096, 1 << 20] {
        let mut pair = Pair::publishing(step_bytes);
        let sent = [video(0, 9000), video(17, 1), video(33, 0), video(0x0100_0010, 5000), video(0x0100_0021, 5000)];
        for message in &sent {
            pair.publisher.send(message);
        }
        let seen = pair.run().unwrap();
        let arrived: Vec<_> =
            seen.receiver.into_iter().map(|e| if let ReceiverEvent::Media(m) = e { m } else { panic!() }).collect();
        assert_eq!(arrived, sent);
        pair.publisher.finish();
        assert!(matches!(pair.run().unwrap().receiver[..], [ReceiverEvent::Ended]));
    }
}

#[test]
fn a_refusal_says_why_and_never_quotes_the_key() {
    let mut pair = Pair::new(500);
    pair.run().unwrap();
    // Nor in pieces, which would come together on a screen that shows no control characters.
    pair.receiver.refuse(RefuseCode::BadName, "comet\u{1}-51\u{7f}50 is taken by another, and not comet-5150");
    let error = pair.run().err().unwrap();
    assert_eq!(
        error.to_string(),
        "refused by the server: [stream key] is taken by another, and not [stream key] (NetStream.Publish.BadName)"
    );
}

#[test]
fn what_comes_in_an_aggregate_message_is_media_like_any_other() {
    let mut pair = Pair::publishing(4096);
    let tag = |kind: u8, time: u8, payload: u8| [kind, 0, 0, 1, 0, 0, time, 0, 0, 0, 0, payload, 0, 0, 0, 12];
    let body = [tag(9, 10, 0x17), tag(8, 31, 0xaf)].concat();
    let time = StreamTime(4000);
    pair.publisher.send(&Message { kind: MessageKind::Aggregate, time, stream_id: 1, payload: body.into() });
    pair.publisher.send(&video(4100, 100));
    pair.receiver.feed(&pair.publisher.take_output());
    let mut times = Vec::new();
    while let Some(event) = pair.receiver.poll().unwrap() {
        let ReceiverEvent::Media(message) = event else { panic!("{event:?}") };
        times.push((message.kind, message.time.0));
    }
    assert_eq!(times, [(MessageKind::Video, 4000), (MessageKind::Audio, 4021), (MessageKind::Video, 4100)]);
}

#[test]
fn an_acknowledgement_follows_each_window() {
    let mut pair = Pair::publishing(4096);
    let window = Message::control(MessageKind::WindowAckSize, 10_000_u32.to_be_bytes().to_vec());
    let mut chunks = BytesMut::new();
    moth_rtmp::chunk::ChunkWriter::default().write(2, &window, &mut chunks);
    pair.receiver.feed(&chunks);
    pair.publisher.send(&video(0, 25_000));
    pair.receiver.feed(&pair.publisher.take_output());
    assert!(matches!(pair.receiver.poll(), Ok(Some(ReceiverEvent::Media(_)))));
    let answer = pair.receiver.take_output();
    let count = u32::from_be_bytes(answer[answer.len() - 4..].try_into().unwrap());
    assert!(count > 25_000, "the last thing said is how much came: {count}");
}

#[test]
fn commands_out_of_turn_are_errors() {
    let mut receiver = Receiver::default();
    let mut hello = BytesMut::new();
    let _opening = moth_rtmp::handshake::Handshake::client(&mut hello);
    hello.extend_from_slice(&[0; 1536]);
    let mut payload = BytesMut::new();
    moth_rtmp::amf0::Value::from("publish").encode(&mut payload);
    let message = Message { kind: MessageKind::Command, time: StreamTime(0), stream_id: 0, payload: payload.freeze() };
    moth_rtmp::chunk::ChunkWriter::default().write(3, &message, &mut hello);
    receiver.feed(&hello);
    assert!(matches!(receiver.poll(), Err(SessionError::Protocol(why)) if why.contains("publish")));
}

/// A message as it is on the wire, on a chunk stream of its own.
fn chunks(id: u8, kind: MessageKind, payload: Bytes) -> BytesMut {
    let mut chunks = BytesMut::new();
    let message = Message { kind, time: StreamTime(7), stream_id: 1, payload };
    moth_rtmp::chunk::ChunkWriter::default().write(id, &message, &mut chunks);
    chunks
}

#[test]
fn both_sides_say_how_far_they_are() {
    let mut pair = Pair::new(4096);
    assert_eq!((pair.receiver.stage(), pair.publisher.stage()), (Stage::Handshake, Stage::Handshake));
    // Half a greeting is none.
    let greeting = pair.publisher.take_output();
    pair.receiver.feed(&greeting[..800]);
    assert!(matches!(pair.receiver.poll(), Ok(None)));
    assert_eq!(pair.receiver.stage(), Stage::Handshake);
    pair.receiver.feed(&greeting[800..]);
    assert!(matches!(pair.receiver.poll(), Ok(None)));
    assert_eq!(pair.receiver.stage(), Stage::Handshake, "it has not heard the rest of the greeting");
    pair.run().unwrap();
    assert_eq!((pair.receiver.stage(), pair.publisher.stage()), (Stage::Broadcast, Stage::Broadcast));
    pair.receiver.accept();
    pair.run().unwrap();
    assert_eq!((pair.receiver.stage(), pair.publisher.stage()), (Stage::Taken, Stage::Taken));
}

#[test]
fn bytes_that_were_read_into_its_room_count_as_those_that_were_fed() {
    let mut pair = Pair::publishing(4096);
    let before = pair.receiver.received_messages();
    pair.publisher.send(&video(0, 300));
    let output = pair.publisher.take_output();
    pair.receiver.room().extend_from_slice(&output);
    pair.receiver.received(output.len());
    assert!(matches!(pair.receiver.poll(), Ok(Some(ReceiverEvent::Media(message))) if message.payload.len() == 300));
    assert_eq!(pair.receiver.received_messages(), before + 1);
    // Every message in an aggregate is one, and so is that.
    let tag = |kind: u8| [&[kind, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 9][..], &[0, 0, 0, 12]].concat();
    let aggregate = [tag(8), tag(9), tag(8)].concat();
    pair.receiver.feed(&chunks(9, MessageKind::Aggregate, aggregate.into()));
    let kinds: Vec<MessageKind> = std::iter::from_fn(|| pair.receiver.poll().unwrap())
        .map(|event| match event {
            ReceiverEvent::Media(message) => message.kind,
            event => panic!("{event:?}"),
        })
        .collect();
    assert_eq!(kinds, [MessageKind::Audio, MessageKind::Video, MessageKind::Audio]);
    assert_eq!(pair.receiver.received_messages(), before + 1 + 4);
    // They are acknowledged, too.
    let _ = pair.receiver.take_output();
    pair.receiver.feed(&chunks(2, MessageKind::WindowAckSize, 10_000_u32.to_be_bytes().to_vec().into()));
    pair.publisher.send(&video(40, 25_000));
    let output = pair.publisher.take_output();
    pair.receiver.room().extend_from_slice(&output);
    pair.receiver.received(output.len());
    assert!(matches!(pair.receiver.poll(), Ok(Some(ReceiverEvent::Media(_)))));
    assert!(!pair.receiver.take_output().is_empty());
}

#[test]
fn what_is_sent_before_it_may_is_passed_over_and_what_follows_a_refusal_is_not_heard() {
    let early = |kind| {
        let mut pair = Pair::new(4096);
        pair.run().unwrap();
        // It asked to publish, and nobody has answered yet.
        pair.receiver.feed(&chunks(9, kind, vec![0; 40].into()));
        assert!(matches!(pair.receiver.poll(), Ok(None)), "{kind:?}");
        pair
    };
    for kind in [MessageKind::Video, MessageKind::Audio, MessageKind::Data, MessageKind::Aggregate] {
        let mut refused = early(kind);
        refused.receiver.refuse(RefuseCode::Rejected, "no");
        assert!(matches!(refused.receiver.poll(), Ok(None)), "{kind:?}");
    }
    // One that is only connected publishes nothing either.
    let mut pair = Pair::publishing(4096);
    pair.publisher.finish();
    assert!(matches!(pair.run().unwrap().receiver[..], [ReceiverEvent::Ended]));
    for kind in [MessageKind::Video, MessageKind::Audio, MessageKind::Data] {
        pair.receiver.feed(&chunks(9, kind, vec![0; 40].into()));
        assert!(matches!(pair.receiver.poll(), Ok(None)), "{kind:?}");
    }
    let tag = [&[9, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0, 9][..], &[0, 0, 0, 12]].concat();
    pair.receiver.feed(&chunks(9, MessageKind::Aggregate, tag.into()));
    assert!(matches!(pair.receiver.poll(), Ok(None)));
}

/// What a server says in a command.
fn command(values: &[Value]) -> BytesMut {
    let mut payload = BytesMut::new();
    values.iter().for_each(|value| value.encode(&mut payload));
    chunks(3, MessageKind::Command, payload.freeze())
}

/// A publisher whose server has taken the handshake and `connect`, and what comes of what that says next.
fn told(sayings: &[&[Value]]) -> (Publisher, Vec<Result<Option<PublisherEvent>, SessionError>>) {
    let address: Address = "rtmp://aldmoor.nocturne.example/live".parse().unwrap();
    let mut publisher = Publisher::new(address, StreamKey::new("comet-5150").unwrap());
    let greeting = publisher.take_output();
    // The server's own greeting, and the echo of the publisher's.
    publisher.feed(&[&[3][..], &[0; 1536], &greeting[1..1537]].concat());
    assert_eq!(publisher.poll(), Ok(None));
    let begun: [&[Value]; 1] = [&["_result".into(), 1.0.into(), Value::Null, Value::Null]];
    let came = begun.iter().chain(sayings).map(|values| {
        publisher.feed(&command(values));
        publisher.poll()
    });
    let came = came.collect();
    (publisher, came)
}

fn status(level: &str, code: &str) -> Vec<Value> {
    let information = object([("level", level.into()), ("code", code.into()), ("description", "so it is".into())]);
    vec!["onStatus".into(), 0.0.into(), Value::Null, information]
}

/// It gives the stream the number 3.
fn created() -> [Value; 4] {
    ["_result".into(), 4.0.into(), Value::Null, 3.0.into()]
}

#[test]
fn a_server_that_does_not_know_what_is_asked_besides_takes_the_broadcast_all_the_same() {
    let error = |transaction: f64| ["_error".into(), transaction.into(), Value::Null, status("error", "No")[3].clone()];
    let start = status("status", "NetStream.Publish.Start");
    let (mut publisher, came) = told(&[&error(2.0), &error(3.0), &created(), &start]);
    assert_eq!(came[1..4], [const { Ok(None) }; 3]);
    assert_eq!(came[4], Ok(Some(PublisherEvent::Ready)));
    assert!(publisher.is_ready());
    assert_eq!(publisher.received_messages(), 5);
    // What is sent goes by the number that the server gave, each medium on a chunk stream of its own.
    let _ = publisher.take_output();
    for (kind, id) in [(MessageKind::Audio, 4), (MessageKind::Video, 6), (MessageKind::Data, 5)] {
        publisher.send(&Message { kind, time: StreamTime(0), stream_id: 1, payload: vec![7].into() });
        let output = publisher.take_output();
        assert_eq!((output[0] & 0x3f, &output[8..12]), (id, &[3, 0, 0, 0][..]), "{kind:?}");
    }
    // Any other error is a refusal.
    let refused = told(&[&error(4.0)]).1.pop().unwrap();
    assert!(matches!(refused, Err(SessionError::Refused { code, .. }) if code == "No"));
}

#[test]
fn a_server_that_ends_the_stream_is_left_and_one_that_agrees_to_its_end_is_not() {
    let start = status("status", "NetStream.Publish.Start");
    let begun: [&[Value]; 2] = [&created(), &start];
    let close: &[Value] = &["close".into(), 0.0.into(), Value::Null];
    let closed = told(&[&begun[..], &[close]].concat()).1.pop().unwrap();
    assert!(matches!(closed, Err(SessionError::Protocol(why)) if why.contains("closed")));
    let over = status("status", "NetStream.Unpublish.Success");
    let ended = told(&[&begun[..], &[&over]].concat()).1.pop().unwrap();
    assert!(matches!(ended, Err(SessionError::Refused { .. })));
    let other = status("status", "NetStream.Data.Start");
    let (mut publisher, came) = told(&[&begun[..], &[&other]].concat());
    assert_eq!(came.last(), Some(&Ok(None)), "a word of no consequence");
    publisher.finish();
    assert!(!publisher.is_ready());
    publisher.feed(&command(&over));
    assert_eq!(publisher.poll(), Ok(None));
}

#[test]
fn a_ping_is_answered_with_what_it_brought() {
    let (mut publisher, _) = told(&[]);
    let mut ping = |payload: &'static [u8]| {
        let _ = publisher.take_output();
        publisher.feed(&chunks(2, MessageKind::UserControl, payload.into()));
        assert_eq!(publisher.poll(), Ok(None));
        publisher.take_output()
    };
    let answer = ping(&[0, 6, 1, 2, 3, 4]);
    assert_eq!(answer[answer.len() - 6..], [0, 7, 1, 2, 3, 4]);
    for other in [&[0, 6, 1, 2][..], &[0, 0, 0, 0, 0, 1], &[0], &[]] {
        assert!(ping(other).is_empty(), "{other:?} asks for nothing");
    }
}
