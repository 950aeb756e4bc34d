//! The chunk reader: any interleaving, any split, and ten thousand hostile inputs.

use bytes::{BufMut, Bytes, BytesMut};
use moth_rtmp::chunk::{ChunkError, ChunkReader, ChunkWriter, MAX_HELD_BYTES};
use moth_rtmp::message::{Message, MessageKind, StreamTime};
use moth_rtmp::session::Receiver;
use proptest::prelude::*;
use rand::{RngExt, SeedableRng};

fn any_message() -> impl Strategy<Value = Message> {
    let kind = prop_oneof![Just(MessageKind::Audio), Just(MessageKind::Video), Just(MessageKind::Data)];
    (kind, any::<u32>(), 0..3000_usize, any::<u8>()).prop_map(|(kind, time, length, fill)| Message {
        kind,
        time: StreamTime(time),
        stream_id: 1,
        payload: Bytes::from(vec![fill; length]),
    })
}

/// A message's chunks, each apart, every one beginning with a header of type 0 or 3.
fn chunks_of(stream: u8, message: &Message, chunk_bytes: usize) -> Vec<BytesMut> {
    let extended = message.time.0 >= 0x00ff_ffff;
    let mut pieces: Vec<&[u8]> = message.payload.chunks(chunk_bytes).collect();
    if pieces.is_empty() {
        pieces.push(&[]);
    }
    let chunk = |(i, piece): (usize, &&[u8])| {
        let mut out = BytesMut::new();
        out.put_u8(if i == 0 { stream } else { 0xc0 | stream });
        if i == 0 {
            out.put_uint(u64::from(message.time.0.min(0x00ff_ffff)), 3);
            out.put_uint(message.payload.len() as u64, 3);
            out.put_u8(message.kind.number());
            out.put_u32_le(message.stream_id);
        }
        if extended {
            out.put_u32(message.time.0);
        }
        out.put_slice(piece);
        out
    };
    pieces.iter().enumerate().map(chunk).collect()
}

fn read_all(reader: &mut ChunkReader, bytes: &[u8], splits: &[usize]) -> Result<Vec<Message>, ChunkError> {
    let (mut messages, mut input, mut rest) = (Vec::new(), BytesMut::new(), bytes);
    let mut splits = splits.iter().cycle();
    while !rest.is_empty() {
        let (piece, later) = rest.split_at((*splits.next().unwrap_or(&1)).clamp(1, rest.len()));
        input.extend_from_slice(piece);
        rest = later;
        while let Some(message) = reader.read(&mut input)? {
            messages.push(message);
        }
        assert!(input.len() < 18, "at most a header waits outside the reader, not {} bytes", input.len());
    }
    Ok(messages)
}

proptest! {
    #[test]
    fn messages_come_whole_out_of_any_interleaving_and_any_split(
        streams in prop::collection::vec(prop::collection::vec(any_message(), 0..4), 1..6),
        order in prop::collection::vec(any::<prop::sample::Index>(), 400),
        splits in prop::collection::vec(1..700_usize, 1..20),
    ) {
        let mut queues: Vec<Vec<BytesMut>> = streams.iter().enumerate()
            .map(|(i, messages)| messages.iter().flat_map(|m| chunks_of(u8::try_from(i).unwrap() + 3, m, 128)).rev().collect())
            .collect();
        let mut wire = BytesMut::new();
        let mut order = order.iter().cycle();
        loop {
            queues.retain(|q| !q.is_empty());
            if queues.is_empty() { break }
            let pick = order.next().unwrap().index(queues.len());
            wire.extend_from_slice(&queues[pick].pop().unwrap());
        }
        let got = read_all(&mut ChunkReader::default(), &wire, &splits).unwrap();
        // Each stream's messages come in its order; how streams mix is the sender's choice.
        prop_assert_eq!(got.len(), streams.iter().map(Vec::len).sum::<usize>());
        for messages in &streams {
            let mut rest = got.iter();
            for message in messages {
                prop_assert!(rest.any(|m| m == message));
            }
        }
    }

    #[test]
    fn what_the_writer_writes_the_reader_reads(
        messages in prop::collection::vec((any_message(), 2..64_u8), 0..20),
        chunk_bytes in 1..5000_u32,
        splits in prop::collection::vec(1..3000_usize, 1..20),
    ) {
        let (mut writer, mut wire) = (ChunkWriter::default(), BytesMut::new());
        writer.set_chunk_bytes(chunk_bytes, &mut wire);
        for (message, stream) in &messages {
            writer.write(*stream, message, &mut wire);
        }
        let got = read_all(&mut ChunkReader::default(), &wire, &splits).unwrap();
        prop_assert_eq!(&got[1..], messages.into_iter().map(|(m, _)| m).collect::<Vec<_>>());
    }
}

/// Truncated, huge lengths, unknown types, wrong AMF, noise, and honest openings gone bad.
#[test]
fn ten_thousand_hostile_inputs_give_errors_and_little_memory() {
    let mut rng = rand_pcg::Pcg64Mcg::seed_from_u64(0x6d6f_7468);
    let honest = {
        let mut bytes = BytesMut::new();
        let _opening = moth_rtmp::handshake::Handshake::client(&mut bytes);
        bytes.extend_from_slice(&[7; 1536]);
        bytes
    };
    let mut refused = 0;
    for case in 0..10_000 {
        let mut body = BytesMut::new();
        for _ in 0..rng.random_range(1..12) {
            match rng.random_range(0..5) {
                0 => (0..rng.random_range(0..300)).for_each(|_| body.put_u8(rng.random())),
                1 => {
                    // A header with a huge length and any type.
                    body.put_u8(rng.random_range(0..64));
                    body.put_uint(rng.random_range(0..0x0100_0000), 3);
                    body.put_uint(rng.random_range(0x00f0_0000..0x0100_0000), 3);
                    body.put_u8(rng.random());
                    body.put_u32_le(rng.random());
                    body.put_bytes(0, rng.random_range(0..400));
                }
                2 => {
                    // A command of broken AMF.
                    let payload: Bytes = (0..rng.random_range(0..100)).map(|_| rng.random_range(0..14_u8)).collect();
                    let message = Message { kind: MessageKind::Command, time: StreamTime(0), stream_id: 0, payload };
                    ChunkWriter::default().write(3, &message, &mut body);
                }
                3 => {
                    let payload: Bytes = (0..rng.random_range(0..6)).map(|_| rng.random::<u8>()).collect();
                    let message = Message {
                        kind: MessageKind::from_number(rng.random_range(0..8)),
                        time: StreamTime(rng.random()),
                        stream_id: 0,
                        payload,
                    };
                    ChunkWriter::default().write(2, &message, &mut body);
                }
                _ => body.put_bytes(0xc0 | rng.random_range(0..64_u8), rng.random_range(1..50)),
            }
        }
        body.truncate(rng.random_range(0..=body.len()));

        let (mut reader, mut input) = (ChunkReader::default(), body.clone());
        while let Ok(Some(_)) = reader.read(&mut input) {}
        assert!(reader.held_bytes() <= MAX_HELD_BYTES.min(body.len()), "case {case}");

        let mut session = Receiver::default();
        session.feed(&honest);
        session.feed(&body);
        let outcome = loop {
            match session.poll() {
                Ok(Some(_)) => {}
                Ok(None) => break Ok(()),
                Err(error) => break Err(error),
            }
        };
        if let Err(error) = outcome {
            refused += 1;
            assert!(!error.to_string().is_empty());
        }
        assert!(session.take_output().len() < 100_000, "case {case}: a small input has a small answer");
    }
    assert!(refused > 5_000, "most of these cannot be read, and that is said: {refused}");
}

#[test]
fn endless_unfinished_messages_are_cut_off() {
    let mut reader = ChunkReader::default();
    let mut input = BytesMut::new();
    ChunkWriter::default().set_chunk_bytes(4 << 20, &mut input);
    for stream in 3..20_u8 {
        input.put_u8(stream);
        input.put_uint(0, 3);
        input.put_uint(8 << 20, 3);
        input.put_u8(9);
        input.put_u32_le(1);
        input.put_bytes(0, 4 << 20);
    }
    let error = loop {
        match reader.read(&mut input) {
            Ok(Some(_)) => {}
            Ok(None) => panic!("17 × 4 MB were held"),
            Err(error) => break error,
        }
    };
    assert_eq!(error, ChunkError::TooMuchHeld);
}

#[test]
fn an_abort_forgets_the_part_that_came() {
    let (mut reader, mut wire) = (ChunkReader::default(), BytesMut::new());
    let long = Message { kind: MessageKind::Video, time: StreamTime(5), stream_id: 1, payload: vec![1; 300].into() };
    wire.extend_from_slice(&chunks_of(6, &long, 128)[0]);
    let mut half = ChunkReader::default();
    assert_eq!(read_all(&mut half, &wire, &[50]).unwrap(), []);
    assert_eq!(half.held_bytes(), 128);
    ChunkWriter::default().write(2, &Message::control(MessageKind::Abort, vec![0, 0, 0, 6]), &mut wire);
    let short = Message { payload: vec![2; 10].into(), ..long };
    wire.extend_from_slice(&chunks_of(6, &short, 128)[0]);
    let got = read_all(&mut reader, &wire, &[50]).unwrap();
    assert_eq!(got[1], short);
    assert_eq!(reader.held_bytes(), 0);
}

#[test]
fn a_header_of_type_three_begins_a_message_with_the_last_delta() {
    let mut wire = BytesMut::new();
    let message =
        |time| Message { kind: MessageKind::Audio, time: StreamTime(time), stream_id: 1, payload: vec![0; 4].into() };
    wire.extend_from_slice(&chunks_of(4, &message(1000), 128)[0]);
    wire.put_slice(&[0x84, 0, 0, 23, 0, 0, 0, 0]); // type 2: 23 ms on
    wire.put_slice(&[0xc4, 0, 0, 0, 0]); // type 3: 23 ms on again
    let got = read_all(&mut ChunkReader::default(), &wire, &[3]).unwrap();
    assert_eq!(got, [message(1000), message(1023), message(1046)]);
}

#[test]
fn a_chunk_stream_is_the_same_in_two_bytes_and_in_three() {
    let mut wire = BytesMut::new();
    wire.put_slice(&[0x00, 36, 0, 0, 9, 0, 0, 200, 9, 1, 0, 0, 0]); // number 64 + 36
    wire.put_bytes(7, 128);
    wire.put_slice(&[0xc1, 36, 0]);
    wire.put_bytes(7, 72);
    wire.put_slice(&[0x01, 200, 3, 0, 0, 9, 0, 0, 1, 8, 1, 0, 0, 0, 5]); // number 64 + 200 + 3 * 256
    let got = read_all(&mut ChunkReader::default(), &wire, &[7]).unwrap();
    assert_eq!(got.iter().map(|message| message.payload.len()).collect::<Vec<_>>(), [200, 1]);
    // Of the second nothing came in the other number's name.
    let mut other = BytesMut::from(&wire[..]);
    other.put_slice(&[0xc1, 200, 2]);
    assert!(read_all(&mut ChunkReader::default(), &other, &[7]).is_err());
}

#[test]
fn a_header_says_no_more_than_what_changed() {
    let mut writer = ChunkWriter::default();
    let mut header_bytes = |kind, time, stream_id, length: usize| {
        let mut wire = BytesMut::new();
        let message = Message { kind, time: StreamTime(time), stream_id, payload: vec![1; length].into() };
        writer.write(6, &message, &mut wire);
        wire.len() - length
    };
    let (video, audio) = (MessageKind::Video, MessageKind::Audio);
    assert_eq!(header_bytes(video, 1000, 1, 50), 12, "the first says all");
    assert_eq!(header_bytes(video, 1020, 1, 50), 4, "only how much later");
    assert_eq!(header_bytes(video, 1040, 1, 60), 8, "and another length");
    assert_eq!(header_bytes(audio, 1040, 1, 60), 8, "or kind");
    assert_eq!(header_bytes(audio, 1060, 2, 60), 12, "of another stream all");
    assert_eq!(header_bytes(audio, 1000, 2, 60), 12, "and where time goes back");
    assert_eq!(header_bytes(audio, 1000 + 0xff_ffff, 2, 60), 8, "a long way on has four bytes of its own");
}

#[test]
fn what_breaks_the_rules_is_named() {
    let error = |bytes: &[u8]| ChunkReader::default().read(&mut BytesMut::from(bytes)).unwrap_err();
    assert_eq!(error(&[0xc5]), ChunkError::NoHeader(5));
    assert_eq!(error(&[0x05, 0, 0, 0, 0xff, 0xff, 0xff, 9, 1, 0, 0, 0]), ChunkError::TooLong(0x00ff_ffff));
    assert_eq!(error(&[0x02, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0, 0, 0]), ChunkError::ChunkSize(0));
    assert_eq!(error(&[0x02, 0, 0, 0, 0, 0, 1, 1, 0, 0, 0, 0, 9]), ChunkError::ShortControl(1));
}
