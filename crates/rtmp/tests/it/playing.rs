//! A player and what a server says to it, byte by byte.

use bytes::{Bytes, BytesMut};
use moth_destination::StreamKey;
use moth_rtmp::amf0::{Value, object};
use moth_rtmp::chunk::ChunkWriter;
use moth_rtmp::handshake::Handshake;
use moth_rtmp::message::{Message, MessageKind, StreamTime};
use moth_rtmp::session::{Player, PlayerEvent, SessionError, Stage};
use proptest::prelude::*;

const KEY: &str = "comet-5150";

/// A server that has shaken hands, and what it says.
struct Server {
    writer: ChunkWriter,
    says: BytesMut,
}

impl Server {
    fn greeting(player: &mut Player) -> Self {
        let (mut heard, mut says) = (player.take_output(), BytesMut::new());
        let mut handshake = Handshake::server();
        handshake.advance(&mut heard, &mut says).unwrap();
        Self { writer: ChunkWriter::default(), says }
    }

    fn say(&mut self, kind: MessageKind, time_ms: u32, payload: Bytes) {
        let message = Message { kind, time: StreamTime(time_ms), stream_id: 1, payload };
        self.writer.write(if kind == MessageKind::Command { 3 } else { 6 }, &message, &mut self.says);
    }

    fn command(&mut self, values: &[Value]) {
        let mut payload = BytesMut::new();
        values.iter().for_each(|value| value.encode(&mut payload));
        self.say(MessageKind::Command, 0, payload.freeze());
    }

    fn result(&mut self, transaction: f64, value: Value) {
        self.command(&["_result".into(), transaction.into(), Value::Null, value]);
    }

    fn status(&mut self, level: &str, code: &str, description: &str) {
        let information = object([("level", level.into()), ("code", code.into()), ("description", description.into())]);
        self.command(&["onStatus".into(), 0.0.into(), Value::Null, information]);
    }
}

fn player() -> Player {
    Player::new("rtmp://aldmoor.nocturne.example/live".parse().unwrap(), StreamKey::new(KEY).unwrap())
}

/// Feeds a player in pieces of this size; what happened.
fn fed(player: &mut Player, says: &[u8], step: usize) -> Result<Vec<PlayerEvent>, SessionError> {
    let mut seen = Vec::new();
    for piece in says.chunks(step) {
        player.feed(piece);
        while let Some(event) = player.poll()? {
            seen.push(event);
        }
    }
    Ok(seen)
}

/// Up to the server's number for the stream.
fn asked(player: &mut Player) -> Server {
    let mut server = Server::greeting(player);
    server.result(1.0, Value::Null);
    server.result(2.0, 1.0.into());
    server
}

#[test]
fn it_asks_for_what_is_published_under_the_key_and_takes_what_comes_however_it_is_split() {
    for step in [1, 13, 4096] {
        let mut player = player();
        assert_eq!(player.stage(), Stage::Handshake);
        let mut server = asked(&mut player);
        // Some begin to send before they say that they do.
        server.say(MessageKind::Audio, 100, vec![0xaf, 1, 7].into());
        server.status("status", "NetStream.Play.Reset", "");
        server.status("status", "NetStream.Play.Start", "");
        server.say(MessageKind::Video, 120, vec![0x17, 1, 0, 0, 0, 9].into());
        let tag = |kind: u8, time: u8| [kind, 0, 0, 1, 0, 0, time, 0, 0, 0, 0, 0x27, 0, 0, 0, 12];
        server.say(MessageKind::Aggregate, 140, [tag(9, 0), tag(9, 20)].concat().into());
        server.status("status", "NetStream.Play.UnpublishNotify", "");
        let mut seen = fed(&mut player, &server.says, step).unwrap();
        assert_eq!(seen.pop(), Some(PlayerEvent::Ended));
        assert_eq!(seen.iter().filter(|event| **event == PlayerEvent::Begins).count(), 1);
        let times: Vec<u32> = seen
            .iter()
            .filter_map(|event| match event {
                PlayerEvent::Media(message) => Some(message.time.0),
                _ => None,
            })
            .collect();
        assert_eq!(times, [100, 120, 140, 160]);
        assert_eq!(player.stage(), Stage::Taken);
        let asked = player.take_output();
        let says = |text: &str| asked.windows(text.len()).any(|window| window == text.as_bytes());
        assert!(says("connect") && says("play") && says(KEY) && !says("publish"));
    }
}

#[test]
fn a_refusal_says_why_and_never_quotes_the_key() {
    let mut player = player();
    let mut server = asked(&mut player);
    server.status("error", "NetStream.Play.StreamNotFound", "there is no comet-5150 here");
    let error = fed(&mut player, &server.says, 4096).unwrap_err().to_string();
    assert_eq!(error, "refused by the server: there is no [stream key] here (NetStream.Play.StreamNotFound)");
    assert_eq!(player.stage(), Stage::Broadcast);
}

#[test]
fn a_server_without_the_application_or_without_a_number_is_told_apart() {
    let mut first = player();
    let mut server = Server::greeting(&mut first);
    server.command(&[
        "_error".into(),
        1.0.into(),
        Value::Null,
        object([("code", "NetConnection.Connect.Rejected".into())]),
    ]);
    let refused = fed(&mut first, &server.says, 4096);
    assert!(matches!(refused, Err(SessionError::Refused { code, .. }) if code == "NetConnection.Connect.Rejected"));
    let mut second = player();
    let mut server = Server::greeting(&mut second);
    server.result(1.0, Value::Null);
    server.result(2.0, (-1.0).into());
    let nonsense = fed(&mut second, &server.says, 4096);
    assert!(matches!(nonsense, Err(SessionError::Protocol(why)) if why.contains("stream number")));
}

#[test]
fn what_nobody_asked_for_is_passed_over_and_nothing_is_heard_after_the_end() {
    let mut player = player();
    let mut server = Server::greeting(&mut player);
    server.say(MessageKind::Video, 1, vec![0x17, 1].into());
    server.status("status", "NetStream.Play.Start", "");
    assert_eq!(fed(&mut player, &server.says, 4096), Ok(Vec::new()));
    player.finish();
    server.says.clear();
    server.say(MessageKind::Video, 2, vec![0x17, 1].into());
    assert_eq!(fed(&mut player, &server.says, 4096), Ok(Vec::new()));
}

proptest! {
    #[test]
    fn garbage_ends_it_or_is_waited_out(garbage in prop::collection::vec(any::<u8>(), 0..4000), step in 1_usize..600) {
        let mut player = player();
        let mut server = asked(&mut player);
        server.says.extend_from_slice(&garbage);
        match fed(&mut player, &server.says, step) {
            Ok(seen) => prop_assert!(seen.len() <= garbage.len()),
            Err(error) => prop_assert!(!error.to_string().contains(KEY)),
        }
    }
}
