//! Any bytes after an honest handshake: no panic, bounded memory, small answers.
#![no_main]

use bytes::BytesMut;
use libfuzzer_sys::fuzz_target;
use moth_rtmp::chunk::{ChunkReader, MAX_HELD_BYTES};
use moth_rtmp::handshake::Handshake;
use moth_rtmp::media::{AudioPart, VideoTag};
use moth_rtmp::session::{Receiver, ReceiverEvent};

fuzz_target!(|bytes: &[u8]| {
    let (mut reader, mut input) = (ChunkReader::default(), BytesMut::from(bytes));
    while let Ok(Some(message)) = reader.read(&mut input) {
        let _ = (VideoTag::parse(&message.payload), AudioPart::parse(&message.payload));
    }
    assert!(reader.held_bytes() <= MAX_HELD_BYTES.min(bytes.len()));

    let mut opening = BytesMut::new();
    let _opening = Handshake::client(&mut opening);
    let mut session = Receiver::default();
    session.feed(&opening);
    session.feed(&[0; 1536]);
    // In two pieces: where a split falls must not matter to what is safe.
    let (first, second) = bytes.split_at(bytes.len() / 2);
    for piece in [first, second] {
        session.feed(piece);
        loop {
            match session.poll() {
                Ok(Some(ReceiverEvent::PublishRequested { .. })) => session.accept(),
                Ok(Some(_)) => {}
                Ok(None) => break,
                Err(_) => return,
            }
        }
    }
    assert!(session.take_output().len() < 20_000 + 100 * bytes.len());
});
