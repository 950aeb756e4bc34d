//! What the relay costs per GB and adds per frame, beside nginx's relay of the same stream in the same run.
//!
//! `cargo bench --bench relay_beside_nginx`. One publisher and one sink, both in this process, with a relay
//! between them: the moth, nginx (its RTMP module's `push`), or nothing. Ratios count, not seconds.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

// A bench uses a part of what the tests use.
#[allow(dead_code, unused_imports)]
#[path = "../tests/it/common/mod.rs"]
mod common;

use std::fs;
use std::io::{ErrorKind, Read, Write};
use std::net::{TcpListener, TcpStream};
use std::process::Command;
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use bytes::{BufMut, BytesMut};
use common::{Moth, Running, free_port, have, wait_for};
use moth_destination::{Address, StreamKey};
use moth_rtmp::message::{Message, MessageKind, StreamTime};
use moth_rtmp::session::{Publisher, Receiver, ReceiverEvent};

const ROUNDS: usize = 3;

fn main() {
    // `cargo test --benches` and nextest start it too: then it only says that it is there.
    if !std::env::args().any(|a| a == "--bench") {
        println!("run it with cargo bench");
        return;
    }
    if !have(&["nginx"]) {
        return;
    }
    let began = Instant::now();
    println!(
        "frames: 8 Mb/s at 60 frames/s for what a relay adds; 400 Mb/s for what it costs; {ROUNDS} rounds in turn\n"
    );
    println!("{:<8}{:>16}{:>18}{:>16}{:>16}", "relay", "CPU s per GB", "core at 8 Mb/s", "adds, median", "adds, p99");
    let (mut moth_cost, mut nginx_cost) = (Vec::new(), Vec::new());
    let (mut moth_share, mut nginx_share) = (Vec::new(), Vec::new());
    let (mut direct, mut moth_delay, mut nginx_delay) = (Vec::new(), Vec::new(), Vec::new());
    for _ in 0..ROUNDS {
        let sink = Sink::open();
        direct.extend(sink.pass(sink.port, 60, 17_000, 300, began));

        let sink = Sink::open();
        let moth = Moth::reading_pictures(Command::new("env"), &[&format!("rtmp://127.0.0.1:{}/live", sink.port)], &[]);
        let (delays, used) = share(moth.id(), || sink.pass(moth.port, 60, 17_000, 600, began));
        moth_delay.extend(delays);
        moth_share.push(used);
        moth_cost.push(sink.cost(moth.port, moth.id(), began));

        let sink = Sink::open();
        let (nginx, _dir, port) = nginx_relay(sink.port);
        let (delays, used) = share(nginx.0.id(), || sink.pass(port, 60, 17_000, 600, began));
        nginx_delay.extend(delays);
        nginx_share.push(used);
        nginx_cost.push(sink.cost(port, nginx.0.id(), began));
    }
    let (base50, base99) = (at(&mut direct, 0.5), at(&mut direct, 0.99));
    let row = |name: &str, cost: &mut Vec<f64>, share: &mut Vec<f64>, delay: &mut Vec<f64>| {
        let (median, worst) = (at(delay, 0.5) - base50, at(delay, 0.99) - base99);
        let (cost, share) = (at(cost, 0.5), at(share, 0.5));
        println!("{name:<8}{cost:>16.2}{share:>16.2} %{median:>13.3} ms{worst:>13.3} ms");
        (cost, share)
    };
    let moth = row("moth", &mut moth_cost, &mut moth_share, &mut moth_delay);
    let nginx = row("nginx", &mut nginx_cost, &mut nginx_share, &mut nginx_delay);
    println!(
        "\nmoth / nginx: {:.2} of the CPU per GB, {:.2} of the core at 8 Mb/s",
        moth.0 / nginx.0,
        moth.1 / nginx.1
    );
}

fn at(values: &mut [f64], share: f64) -> f64 {
    values.sort_by(f64::total_cmp);
    values[((values.len() - 1) as f64 * share) as usize]
}

fn nginx_relay(to: u16) -> (Running, tempfile::TempDir, u16) {
    let dir = tempfile::tempdir().unwrap();
    let (at, port) = (dir.path().display(), free_port());
    let module = "/usr/lib/nginx/modules/ngx_rtmp_module.so";
    let config = format!(
        "load_module {module};\ndaemon off; master_process off; pid {at}/pid; error_log {at}/error.log;\n\
         events {{ worker_connections 64; }}\nrtmp {{ access_log off; server {{ listen 127.0.0.1:{port}; chunk_size 4096; max_message 8M;\n\
         application moth {{ live on; push rtmp://127.0.0.1:{to}/live; }} }} }}\n"
    );
    fs::write(dir.path().join("nginx.conf"), config).unwrap();
    let path = format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap());
    let child = Command::new("nginx").env("PATH", path).arg("-c").arg(dir.path().join("nginx.conf")).spawn().unwrap();
    wait_for("nginx", Duration::from_secs(10), || TcpStream::connect(("127.0.0.1", port)).ok());
    (Running(child), dir, port)
}

/// CPU seconds a process has used, all its threads together (the kernel's `schedstat`, in nanoseconds).
fn cpu_seconds(pid: u32) -> f64 {
    let threads = fs::read_dir(format!("/proc/{pid}/task")).unwrap();
    let used = |entry: std::io::Result<fs::DirEntry>| {
        let text = fs::read_to_string(entry.ok()?.path().join("schedstat")).ok()?;
        text.split(' ').next()?.parse::<f64>().ok()
    };
    threads.filter_map(used).sum::<f64>() / 1e9
}

/// Runs something, and gives the share of a core that a process used meanwhile, in percent.
fn share<T>(pid: u32, run: impl FnOnce() -> T) -> (T, f64) {
    let (before, began) = (cpu_seconds(pid), Instant::now());
    let value = run();
    (value, (cpu_seconds(pid) - before) / began.elapsed().as_secs_f64() * 100.0)
}

/// A server that notes when each frame came, by the moment written into the frame.
struct Sink {
    port: u16,
    delays_ms: mpsc::Receiver<f64>,
}

impl Sink {
    fn open() -> Self {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let port = listener.local_addr().unwrap().port();
        let (note, delays_ms) = mpsc::channel();
        thread::spawn(move || {
            for stream in listener.incoming() {
                let note = note.clone();
                thread::spawn(move || serve(stream.unwrap(), &note));
            }
        });
        Self { port, delays_ms }
    }

    /// Publishes frames through `port`, paced, and gives each one's delay in milliseconds.
    fn pass(&self, port: u16, fps: u32, bytes: usize, count: u32, began: Instant) -> Vec<f64> {
        publish(port, fps, bytes, count, began);
        // The first second holds the connection's own beginning.
        let all: Vec<f64> = (0..count).map(|_| self.delays_ms.recv_timeout(Duration::from_secs(10)).unwrap()).collect();
        all[60.min(all.len() / 4)..].to_vec()
    }

    /// CPU seconds per GB that the process between uses.
    fn cost(&self, port: u16, pid: u32, began: Instant) -> f64 {
        let (fps, bytes, count) = (500, 100_000, 2500);
        let before = cpu_seconds(pid);
        let delays = self.pass(port, fps, bytes, count, began);
        assert!(!delays.is_empty());
        (cpu_seconds(pid) - before) / (bytes as f64 * f64::from(count) / 1e9)
    }
}

static START: std::sync::OnceLock<Instant> = std::sync::OnceLock::new();

fn serve(mut stream: TcpStream, note: &mpsc::Sender<f64>) {
    stream.set_nodelay(true).unwrap();
    let mut session = Receiver::default();
    let mut input = vec![0; 1 << 18];
    loop {
        while let Some(event) = session.poll().unwrap() {
            match event {
                ReceiverEvent::PublishRequested { .. } => session.accept(),
                ReceiverEvent::Media(message) if message.kind == MessageKind::Video && message.payload.len() > 100 => {
                    let sent_us = u64::from_be_bytes(message.payload[10..18].try_into().unwrap());
                    let now_us = START.get().unwrap().elapsed().as_micros() as u64;
                    let _ = note.send(now_us.saturating_sub(sent_us) as f64 / 1000.0);
                }
                _ => {}
            }
        }
        if stream.write_all(&session.take_output()).is_err() {
            return;
        }
        match stream.read(&mut input) {
            Ok(0) | Err(_) => return,
            Ok(count) => session.feed(&input[..count]),
        }
    }
}

fn publish(port: u16, fps: u32, bytes: usize, count: u32, began: Instant) {
    let start = *START.get_or_init(|| began);
    let mut stream = TcpStream::connect(("127.0.0.1", port)).unwrap();
    stream.set_nodelay(true).unwrap();
    let address: Address = format!("rtmp://127.0.0.1:{port}/moth").parse().unwrap();
    let mut session = Publisher::new(address, StreamKey::new("bench").unwrap());
    let mut input = vec![0; 1 << 16];
    while !session.is_ready() {
        stream.write_all(&session.take_output()).unwrap();
        let n = stream.read(&mut input).unwrap();
        session.feed(&input[..n]);
        session.poll().unwrap();
    }
    let header = Message {
        kind: MessageKind::Video,
        time: StreamTime(0),
        stream_id: 1,
        payload: vec![0x17, 0, 0, 0, 0, 1, 100, 0, 42, 0xff, 0xe1, 0, 4, 0x67, 100, 0, 42, 1, 0, 2, 0x68, 0xee].into(),
    };
    session.send(&header);
    stream.write_all(&session.take_output()).unwrap();
    // A relay connects onwards only now; frames sent before it has would be counted as its delay.
    thread::sleep(Duration::from_millis(500));
    stream.set_nonblocking(true).unwrap();
    let first = Instant::now();
    for n in 0..count {
        let due = first + Duration::from_secs(1) * n / fps;
        thread::sleep(due.saturating_duration_since(Instant::now()));
        let mut payload = BytesMut::with_capacity(bytes);
        let key = n % (fps * 2) == 0;
        payload.put_slice(&[if key { 0x17 } else { 0x27 }, 1, 0, 0, 0]);
        payload.put_u32((bytes - 9) as u32);
        payload.put_u8(if key { 0x65 } else { 0x41 });
        payload.put_u64(start.elapsed().as_micros() as u64);
        payload.resize(bytes, 0x5a);
        let time = StreamTime(n * 1000 / fps);
        session.send(&Message { kind: MessageKind::Video, time, stream_id: 1, payload: payload.freeze() });
        let out = session.take_output();
        let mut rest = &out[..];
        while !rest.is_empty() {
            match stream.write(rest) {
                Ok(n) => rest = &rest[n..],
                Err(e) if e.kind() == ErrorKind::WouldBlock => thread::sleep(Duration::from_micros(100)),
                Err(e) => panic!("{e}"),
            }
        }
        while matches!(stream.read(&mut input), Ok(n) if n > 0) {}
    }
    stream.set_nonblocking(false).unwrap();
    session.finish();
    stream.write_all(&session.take_output()).unwrap();
    thread::sleep(Duration::from_millis(300));
}
