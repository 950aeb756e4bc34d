//! Whatever a broadcaster sends as pictures: the eye sees it, or says that it is blind to it.
//!
//! The decoder is in C++ and not written here: the program looks in a process of its own, which may end.
#![no_main]

use libfuzzer_sys::fuzz_target;
use moth_picture::Eye;

/// A decoder configuration: Baseline profile, 128x64.
const HEADER: [u8; 28] = [
    0x17, 0, 0, 0, 0, 1, 66, 0, 42, 0xff, 0xe1, 0, 8, 0x67, 66, 0, 42, 0xda, 0x08, 0x26, 0x40, 1, 0, 4, 0x68, 0xce,
    0x38, 0x80,
];

fuzz_target!(|bytes: &[u8]| {
    let mut eye = Eye::default();
    let _ = eye.take(0, &HEADER);
    // Messages, each behind its length.
    let (mut rest, mut time_ms) = (bytes, 0_u32);
    while let [length, more @ ..] = rest {
        let (message, behind) = more.split_at(usize::from(*length).min(more.len()));
        let _ = eye.take(time_ms, message);
        let mut framed = vec![if length % 2 == 0 { 0x17 } else { 0x27 }, 1, 0, 0, 0];
        framed.extend((message.len() as u32).to_be_bytes());
        framed.extend_from_slice(message);
        let _ = eye.take(time_ms.wrapping_add(8), &framed);
        (rest, time_ms) = (behind, time_ms.wrapping_add(17));
    }
});
