//! Clients of the feed, of HTTP and of the local socket; and orders that have the moth's own programs run.

use std::path::PathBuf;
use std::process::Stdio;
use std::time::Duration;

use rand::RngExt;
use rand_pcg::Pcg64Mcg;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::net::{TcpStream, UnixStream};
use tokio::time::{sleep, timeout};

use crate::gang::Gang;

/// Says something, and stays or leaves.
async fn visit<S: AsyncRead + AsyncWrite + Unpin>(
    mut stream: S,
    say: &[u8],
    stay: bool,
    staying: &mut Vec<S>,
    noise: &mut Pcg64Mcg,
) {
    let _ = timeout(Duration::from_millis(200), stream.write_all(say)).await;
    if staying.len() > 60 {
        staying.drain(..noise.random_range(1..staying.len()));
    }
    if stay {
        staying.push(stream);
    } else {
        let _ = timeout(Duration::from_millis(20), stream.read(&mut [0; 4096])).await;
    }
}

pub(crate) async fn feed(port: u16, mut noise: Pcg64Mcg, gang: Gang) {
    let mut staying = Vec::new();
    loop {
        sleep(Duration::from_millis(noise.random_range(2..60))).await;
        let Ok(stream) = TcpStream::connect(("127.0.0.1", port)).await else { continue };
        let say = match noise.random_range(0..9) {
            0 => {
                gang.did("feed: says nothing");
                Vec::new()
            }
            1 => {
                gang.did("feed: garbage");
                (0..noise.random_range(1..9000)).map(|_| noise.random()).collect()
            }
            2 => {
                gang.did("feed: a web page");
                b"POST / HTTP/1.1\r\nHost: localhost\r\nContent-Length: 20\r\n\r\n{\"lagged\":99999}\n".to_vec()
            }
            3 => {
                gang.did("feed: a line without end");
                vec![b'{'; 200_000]
            }
            4 => {
                gang.did("feed: numbers that cannot be");
                b"{\"skipped\":18446744073709551615,\"encoded\":0}\n{\"encode_ms\":-1e308}\n{\"fps\":0}\n".repeat(50)
            }
            5 => {
                gang.did("feed: without end");
                b"{\"rendered\":10,\"lagged\":0,\"encoded\":10,\"skipped\":0}\n".repeat(4000)
            }
            6 => {
                gang.did("feed: takes everything and answers nothing");
                b"{\"takes\":[\"bitrate\",\"preset\",\"size\",\"rate\"]}\n".to_vec()
            }
            7 => {
                gang.did("feed: answers that nobody asked for");
                b"{\"done\":0}\n{\"failed\":1,\"why\":\"no\"}\n{\"done\":99}\n".repeat(20)
            }
            _ => {
                gang.did("feed: brackets in brackets");
                [vec![b'['; 4000], vec![b'\n']].concat()
            }
        };
        let stay = noise.random_range(0..3) > 0;
        visit(stream, &say, stay, &mut staying, &mut noise).await;
    }
}

pub(crate) async fn http(port: u16, mut noise: Pcg64Mcg, gang: Gang) {
    let mut staying = Vec::new();
    loop {
        sleep(Duration::from_millis(noise.random_range(2..60))).await;
        let Ok(stream) = TcpStream::connect(("127.0.0.1", port)).await else { continue };
        let say = match noise.random_range(0..7) {
            0 => {
                gang.did("http: says nothing");
                Vec::new()
            }
            1 => {
                gang.did("http: stops in a header");
                b"GET /metrics HTTP/1.1\r\nHost: loc".to_vec()
            }
            2 => {
                gang.did("http: headers without end");
                [&b"GET / HTTP/1.1\r\n"[..], &b"A: b\r\n".repeat(30_000)].concat()
            }
            3 => {
                gang.did("http: under another name");
                b"GET /snapshot HTTP/1.1\r\nHost: example.invalid\r\n\r\n".to_vec()
            }
            4 => {
                gang.did("http: many questions at once");
                b"GET /snapshot HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n".repeat(200)
            }
            5 => {
                gang.did("http: garbage");
                (0..noise.random_range(1..9000)).map(|_| noise.random()).collect()
            }
            _ => {
                gang.did("http: a body that does not come");
                b"POST /snapshot HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Length: 999999999\r\n\r\n".to_vec()
            }
        };
        let stay = noise.random_range(0..3) > 0;
        visit(stream, &say, stay, &mut staying, &mut noise).await;
    }
}

pub(crate) async fn socket(path: PathBuf, mut noise: Pcg64Mcg, gang: Gang) {
    let mut staying = Vec::new();
    loop {
        sleep(Duration::from_millis(noise.random_range(10..120))).await;
        let Ok(stream) = UnixStream::connect(&path).await else { continue };
        let say = match noise.random_range(0..4) {
            0 => {
                gang.did("socket: says nothing");
                Vec::new()
            }
            1 => {
                gang.did("socket: garbage");
                (0..noise.random_range(1..9000)).map(|_| noise.random()).collect()
            }
            2 => {
                gang.did("socket: a line without end");
                vec![b'x'; 300_000]
            }
            _ => {
                gang.did("socket: orders that are none");
                b"bitrate nothing\nserver\n{\"action\":[]}\n".repeat(30)
            }
        };
        let stay = noise.random_range(0..3) > 0;
        visit(stream, &say, stay, &mut staying, &mut noise).await;
    }
}

/// Orders, as a user gives them: the programs that the moth runs for them misbehave.
pub(crate) async fn programs(moth: PathBuf, socket: PathBuf, mut noise: Pcg64Mcg, gang: Gang) {
    loop {
        sleep(Duration::from_millis(noise.random_range(1000..3000))).await;
        let words = match noise.random_range(0..4) {
            0 => ["server", ["Aldmoor", "Brackwater"][noise.random_range(0..2)]].map(str::to_owned),
            // What the program does depends on it.
            _ => ["bitrate".to_owned(), format!("{}k", noise.random_range(400..800))],
        };
        gang.did("program: run by an order");
        let order = tokio::process::Command::new(&moth)
            .arg("tell")
            .arg("--socket")
            .arg(&socket)
            .args(words)
            .stdin(Stdio::null())
            .stdout(Stdio::null())
            .stderr(Stdio::null())
            .kill_on_drop(true)
            .status();
        let _ = timeout(Duration::from_secs(15), order).await;
    }
}
