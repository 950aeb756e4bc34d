//! Publishers that are none; and one that is honest.

use std::time::Duration;

use rand::RngExt;
use rand_pcg::Pcg64Mcg;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::TcpStream;
use tokio::time::{Instant, sleep, timeout};

use crate::gang::Gang;
use crate::words::{EMPTY_MESSAGE, ONE_MORE, PING, Words};

/// One after another, some of which stay.
pub(crate) async fn run(port: u16, mut noise: Pcg64Mcg, gang: Gang) {
    let (asks, wrong) = (Words::to("moth").at_once(), Words::to("elsewhere").at_once());
    let mut staying: Vec<TcpStream> = Vec::new();
    loop {
        sleep(Duration::from_millis(noise.random_range(2..80))).await;
        if staying.len() > 12 {
            staying.drain(..noise.random_range(1..staying.len()));
        }
        let Ok(mut stream) = TcpStream::connect(("127.0.0.1", port)).await else { continue };
        let mut handshake = asks.get(..1537 + 1536).unwrap_or_default().to_vec();
        let say = match noise.random_range(0..13) {
            0 => {
                gang.did("publisher: says nothing");
                Vec::new()
            }
            1 => {
                gang.did("publisher: garbage");
                (0..noise.random_range(1..9000)).map(|_| noise.random()).collect()
            }
            2 => {
                gang.did("publisher: stops in its introduction");
                wrong[..noise.random_range(0..wrong.len())].to_vec()
            }
            3 => {
                gang.did("publisher: flipped bits");
                let mut flipped = wrong.clone();
                for _ in 0..noise.random_range(1..9) {
                    let at = noise.random_range(1537..flipped.len());
                    flipped[at] ^= 1 << noise.random_range(0..8);
                }
                flipped
            }
            4 => {
                gang.did("publisher: another application");
                wrong.clone()
            }
            5 if !gang.keeps_truce() => {
                gang.did("publisher: while another is on air");
                asks.clone()
            }
            6 => {
                gang.did("publisher: tiny messages");
                handshake.extend(EMPTY_MESSAGE);
                handshake.extend([ONE_MORE; 60_000]);
                handshake
            }
            7 => {
                gang.did("publisher: pings and never reads");
                handshake.extend(PING.repeat(8000));
                handshake
            }
            8 => {
                gang.did("publisher: a chunk size of one, and many streams");
                handshake.extend([2, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0, 0, 0, 1]);
                for stream in 3..63 {
                    handshake.extend([stream, 0, 0, 0, 0x7f, 0xff, 0xff, 9, 1, 0, 0, 0, 0]);
                }
                handshake
            }
            9 => {
                gang.did("publisher: a large message before it publishes");
                handshake.extend([2, 0, 0, 0, 0, 0, 4, 1, 0, 0, 0, 0, 0x7f, 0xff, 0xff, 0xff]);
                handshake.extend([6, 0, 0, 0, 0x70, 0, 0, 9, 1, 0, 0, 0]);
                handshake.extend(vec![0; 3 << 20]);
                handshake
            }
            10 => {
                gang.did("publisher: a command in a command in a command");
                handshake.extend([3, 0, 0, 0, 0, 0x80, 0, 20, 0, 0, 0, 0]);
                handshake.extend([3, 0, 1, b'a'].repeat(8000));
                handshake
            }
            11 => {
                gang.did("publisher: speaks HTTP");
                b"GET / HTTP/1.1\r\nHost: localhost\r\n\r\n".to_vec()
            }
            _ => {
                gang.did("publisher: speaks TLS");
                [&[22, 3, 1, 2, 0, 1, 0, 1, 0xfc, 3, 3][..], &[7; 400]].concat()
            }
        };
        // It may be sent away meanwhile, or not be read.
        let _ = timeout(Duration::from_millis(300), stream.write_all(&say)).await;
        match noise.random_range(0..4) {
            0 => drop(stream),
            1 => {
                let _ = stream.set_zero_linger();
            }
            _ => staying.push(stream),
        }
    }
}

/// Gets on air like any broadcaster, and leaves: how long it waited.
pub(crate) async fn comes_on_air(port: u16, within: Duration) -> Result<Duration, String> {
    let began = Instant::now();
    let get_in = async {
        let mut stream = TcpStream::connect(("127.0.0.1", port)).await.map_err(|error| error.to_string())?;
        stream.write_all(&Words::to("moth").at_once()).await.map_err(|error| error.to_string())?;
        let (mut heard, mut bytes) = (Vec::new(), [0; 4096]);
        loop {
            let read = stream.read(&mut bytes).await.map_err(|error| error.to_string())?;
            heard.extend_from_slice(&bytes[..read]);
            let says = |text: &[u8]| heard.windows(text.len()).any(|window| window == text);
            if says(b"NetStream.Publish.Start") {
                return Ok(());
            }
            if read == 0 {
                return Err(format!("it was told: {}", String::from_utf8_lossy(&heard)));
            }
        }
    };
    match timeout(within, get_in).await {
        Ok(Ok(())) => Ok(began.elapsed()),
        Ok(Err(why)) => Err(format!("a new broadcaster does not get on air: {why}")),
        Err(_) => Err(format!("a new broadcaster is not on air after {within:?}")),
    }
}
