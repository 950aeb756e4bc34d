//! A server that takes the broadcast for a while, and then anything.

use std::sync::Arc;
use std::time::Duration;

use moth_rtmp::session::{Receiver, ReceiverEvent, RefuseCode};
use rand::RngExt;
use rand_pcg::Pcg64Mcg;
use tokio::io::{AsyncReadExt, AsyncWriteExt};
use tokio::net::{TcpListener, TcpStream};
use tokio::sync::Semaphore;
use tokio::time::{Instant, sleep, timeout_at};

use crate::gang::Gang;
use crate::words::{EMPTY_MESSAGE, ONE_MORE, PING};

/// How a server's goodwill ends.
#[derive(Debug, Clone, Copy)]
enum End {
    Closes,
    Resets,
    Freezes,
    Garbage,
    Pings,
    TinyMessages,
    ReadsSlowly,
    SaysItIsOver,
}

pub(crate) async fn run(port: u16, mut noise: Pcg64Mcg, gang: Gang) {
    // Those it forgot about are not kept without end.
    let room = Arc::new(Semaphore::new(40));
    loop {
        let Ok(listener) = TcpListener::bind(("127.0.0.1", port)).await else {
            sleep(Duration::from_millis(100)).await;
            continue;
        };
        let open_until = Instant::now() + Duration::from_millis(noise.random_range(3000..15_000));
        while let Ok(Ok((stream, _))) = timeout_at(open_until, listener.accept()).await {
            let (draw, long) = (noise.random_range(0..100), Duration::from_millis(noise.random_range(300..6000)));
            let (gang, room) = (gang.clone(), room.clone());
            tokio::spawn(async move {
                let Ok(_place) = room.try_acquire() else { return };
                // A connection that breaks is what this is about.
                let _ = serve(stream, draw, long, &gang).await;
            });
        }
        drop(listener);
        gang.did("server: away");
        sleep(Duration::from_millis(noise.random_range(0..1500))).await;
    }
}

async fn serve(mut stream: TcpStream, draw: u32, long: Duration, gang: &Gang) -> std::io::Result<()> {
    let end = match draw {
        0..4 => {
            gang.did("server: says nothing");
            sleep(Duration::from_secs(10)).await;
            return Ok(());
        }
        4..8 => {
            gang.did("server: is none");
            return stream.write_all(&[draw.to_le_bytes()[0]; 5000]).await;
        }
        8..12 => {
            gang.did("server: half a handshake");
            stream.write_all(&[3; 700]).await?;
            sleep(long / 4).await;
            return Ok(());
        }
        12..16 => {
            gang.did("server: refuses");
            return takes(&mut stream, Instant::now() + long, true).await;
        }
        16..20 => {
            gang.did("server: a handshake, and a message without end");
            stream.write_all(&[&[3][..], &[0; 3072], &[6, 0, 0, 0, 0x7f, 0xff, 0xff, 9, 1, 0, 0, 0]].concat()).await?;
            stream.write_all(&[0xc6; 200_000]).await?;
            sleep(long / 4).await;
            return Ok(());
        }
        20..30 => End::Closes,
        30..45 => End::Resets,
        45..58 => End::Freezes,
        58..66 => End::Garbage,
        66..74 => End::Pings,
        74..82 => End::TinyMessages,
        82..92 => End::ReadsSlowly,
        _ => End::SaysItIsOver,
    };
    takes(&mut stream, Instant::now() + long, false).await?;
    match end {
        End::Closes => gang.did("server: closes"),
        End::Resets => {
            gang.did("server: resets");
            stream.set_zero_linger()?;
        }
        End::Freezes => {
            gang.did("server: freezes");
            sleep(Duration::from_secs(12)).await;
        }
        End::Garbage => {
            gang.did("server: garbage");
            stream.write_all(&[0xff; 3000]).await?;
            sleep(Duration::from_secs(1)).await;
        }
        End::Pings => {
            gang.did("server: pings and never reads");
            let pings = PING.repeat(4000);
            timeout_at(Instant::now() + Duration::from_secs(8), async {
                while stream.write_all(&pings).await.is_ok() {}
            })
            .await
            .ok();
        }
        End::TinyMessages => {
            gang.did("server: tiny messages");
            stream.write_all(&EMPTY_MESSAGE).await?;
            timeout_at(Instant::now() + Duration::from_secs(5), async {
                while stream.write_all(&[ONE_MORE; 16 << 10]).await.is_ok() {}
            })
            .await
            .ok();
        }
        End::ReadsSlowly => {
            gang.did("server: reads slowly");
            let by = Instant::now() + Duration::from_secs(8);
            let mut bytes = [0; 1500];
            while Instant::now() < by && stream.read(&mut bytes).await? > 0 {
                sleep(Duration::from_millis(60)).await;
            }
        }
        End::SaysItIsOver => {
            gang.did("server: says that it is over");
            // `close`, as a command on chunk stream 3.
            let close = b"\x02\x00\x05close\x00\x00\x00\x00\x00\x00\x00\x00\x00\x05";
            let length = u8::try_from(close.len()).unwrap_or_default();
            stream.write_all(&[&[3, 0, 0, 0, 0, 0, length, 20, 0, 0, 0, 0][..], close].concat()).await?;
            sleep(long / 4).await;
        }
    }
    Ok(())
}

/// Takes the broadcast, or refuses it, until then.
async fn takes(stream: &mut TcpStream, until: Instant, refuses: bool) -> std::io::Result<()> {
    let mut session = Receiver::default();
    let mut bytes = vec![0; 16 << 10];
    while let Ok(read) = timeout_at(until, stream.read(&mut bytes)).await {
        let read = read?;
        if read == 0 {
            return Ok(());
        }
        session.feed(&bytes[..read]);
        while let Ok(Some(event)) = session.poll() {
            if matches!(event, ReceiverEvent::PublishRequested { .. }) {
                if refuses {
                    session.refuse(RefuseCode::BadName, "go away");
                } else {
                    session.accept();
                }
            }
        }
        stream.write_all(&session.take_output()).await?;
    }
    Ok(())
}
