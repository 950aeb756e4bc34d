//! Screens that attach to the broadcast and misbehave: they take nothing, press anything, have no size, and say what no screen says.

use std::path::PathBuf;
use std::time::Duration;

use rand::RngExt;
use rand_pcg::Pcg64Mcg;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::UnixStream;
use tokio::time::{sleep, timeout};

use crate::gang::Gang;

/// Keys that no broadcast ends by, nor is a rehearsal begun by: those would be no attack but a wish.
const KEYS: [&str; 34] = [
    "a", "b", "c", "d", "h", "i", "k", "m", "n", "s", "t", "u", "v", "w", "x", "z", "?", "/", "+", "-", "<", ">", "0",
    "1", "2", "3", "4", "6", "Up", "Down", "PageDown", "Esc", "Home", "C-l",
];

pub(crate) async fn run(path: PathBuf, mut noise: Pcg64Mcg, gang: Gang) {
    let mut staying = Vec::new();
    loop {
        sleep(Duration::from_millis(noise.random_range(20..200))).await;
        if staying.len() > 6 {
            staying.drain(..noise.random_range(1..staying.len()));
        }
        let Ok(mut stream) = UnixStream::connect(&path).await else { continue };
        let size = [noise.random_range(0..700_u16), noise.random_range(0..300_u16)];
        let version = ["0.1.0", "9.0.0", ""][noise.random_range(0..3)];
        let protocol = [1, 1, 1, 2, 4_000_000_000_u64][noise.random_range(0..5)];
        let hello = format!(
            "{{\"attach\":{{\"protocol\":{protocol},\"version\":\"{version}\",\"size\":{size:?},\"colours\":\"full\",\
             \"mouse\":true,\"began\":false}}}}\n"
        );
        let _ = timeout(Duration::from_millis(200), stream.write_all(hello.as_bytes())).await;
        let say = match noise.random_range(0..8) {
            0 => {
                gang.did("screen: takes nothing");
                String::new()
            }
            1 => {
                gang.did("screen: presses anything");
                (0..200).map(|_| format!("{{\"key\":\"{}\"}}\n", KEYS[noise.random_range(0..KEYS.len())])).collect()
            }
            2 => {
                gang.did("screen: a mouse from elsewhere");
                let what = ["press", "wheel-up", "wheel-down"];
                (0..100)
                    .map(|n| {
                        format!("{{\"mouse\":{{\"what\":\"{}\",\"column\":{},\"row\":65535}}}}\n", what[n % 3], n * 655)
                    })
                    .collect()
            }
            3 => {
                gang.did("screen: another size each time");
                (0..200)
                    .map(|_| format!("{{\"size\":[{},{}]}}\n", noise.random::<u16>(), noise.random::<u16>()))
                    .collect()
            }
            4 => {
                gang.did("screen: pastes a book");
                format!("{{\"key\":\"w\"}}\n{{\"paste\":\"{}\"}}\n", "\\u001b[2J moth ".repeat(4000)).repeat(20)
            }
            5 => {
                gang.did("screen: keys that there are none of");
                "{\"key\":\"\"}\n{\"key\":\"C-\"}\n{\"key\":\"F99\"}\n{\"key\":\"\u{202e}\u{1f98b}\"}\n".repeat(20)
            }
            6 => {
                gang.did("screen: attaches once more");
                hello.repeat(20)
            }
            _ => {
                gang.did("screen: a line without end");
                "{\"paste\":\"".to_owned() + &"x".repeat(300_000)
            }
        };
        let _ = timeout(Duration::from_millis(300), stream.write_all(say.as_bytes())).await;
        match noise.random_range(0..3) {
            0 => {
                let _ = timeout(Duration::from_millis(50), stream.read(&mut [0; 4096])).await;
            }
            // Stays, and reads nothing.
            _ => staying.push(stream),
        }
    }
}
