//! Looks at the broadcast's pictures, in a process of its own: decoding is done by C++ on bytes from outside, and whatever becomes
//! of it, the broadcast goes on.
//!
//! The process is this program again (`moth look`). It gets video messages on its standard input, and says on its standard output,
//! as JSON lines, what it saw. It stands back behind everybody else, and works no more than a part of the time; what it cannot look
//! at in time it leaves out, from keyframe to keyframe.

use std::collections::VecDeque;
use std::future::pending;
use std::io::{self, BufReader, Read, Write};
use std::path::PathBuf;
use std::process::Stdio;
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use bytes::Bytes;
use moth_core::figure::Origin;
use moth_core::reading::{Observation, PictureChange};
use moth_picture::Eye;
use moth_relay::{Onlooker, Recorder};
use moth_rtmp::media::{VideoPart, VideoTag};
use serde::{Deserialize, Serialize};
use tokio::io::{AsyncBufReadExt, AsyncWriteExt};
use tokio::process::{Child, Command};
use tokio::sync::mpsc;
use tokio::time::sleep;

/// Messages that may wait to be looked at: about four seconds. Ours.
const MOST_WAITING: usize = 240;
/// The share of all cores that looking may take, and of one core that it always may. Ours.
const SHARE_OF_ALL: f64 = 0.1;
const SHARE_OF_ONE: f64 = 0.25;
/// What was not used of that can be saved up for so long. Ours.
const SAVED: Duration = Duration::from_secs(4);
/// A process that ended starts again after this pause. Ours.
const AGAIN: Duration = Duration::from_secs(5);
/// One that ended so often within [`ENDS_OVER`] starts again only once the first of these ends is so long ago. Ours.
const MOST_ENDS: usize = 5;
const ENDS_OVER: Duration = Duration::from_secs(300);
/// A longer message is no picture. Ours.
const LONGEST: u32 = 32 << 20;

/// What the process says.
#[derive(Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
enum Said {
    Picture(PictureChange),
    Unseen(String),
}

struct Message {
    time_ms: u32,
    payload: Bytes,
}

/// Hands pictures over to the process, as far as it can take them.
pub(crate) struct ProcessOnlooker {
    messages: mpsc::Sender<Message>,
    state: Mutex<State>,
}

#[derive(Default)]
struct State {
    /// The stream's header: it is told again where something was left out, and then the next keyframe is a beginning.
    header: Option<Bytes>,
    /// Something was left out.
    is_broken: bool,
}

/// The process, and what goes to it.
pub(crate) struct Process {
    messages: mpsc::Receiver<Message>,
    recorder: Recorder,
}

impl ProcessOnlooker {
    /// Hands over, and what must run for it.
    pub(crate) fn new(recorder: Recorder) -> (Self, Process) {
        let (messages, taken) = mpsc::channel(MOST_WAITING);
        (Self { messages, state: Mutex::default() }, Process { messages: taken, recorder })
    }
}

impl Onlooker for ProcessOnlooker {
    fn video(&self, time_ms: u32, payload: &Bytes, _recorder: &Recorder) {
        let part = VideoTag::parse(payload).part;
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let send = |payload: &Bytes| self.messages.try_send(Message { time_ms, payload: payload.clone() }).is_ok();
        match part {
            VideoPart::Header => {
                state.header = Some(payload.clone());
                state.is_broken = !send(payload);
            }
            VideoPart::Keyframe if state.is_broken => {
                let Some(header) = &state.header else { return };
                state.is_broken = !(send(header) && send(payload));
            }
            part if part.is_frame() && !state.is_broken => state.is_broken = !send(payload),
            _ => {}
        }
    }
}

/// Looks at nothing, and says so of each broadcast.
pub(crate) struct NoOnlooker;

impl Onlooker for NoOnlooker {
    fn video(&self, _time_ms: u32, payload: &Bytes, recorder: &Recorder) {
        if VideoTag::parse(payload).part == VideoPart::Header {
            let why = "nobody looks at the pictures (--no-look)".to_owned();
            recorder.note(Origin::Measured, Observation::Unseen { why });
        }
    }
}

impl Process {
    /// Runs the process for as long as there are pictures, and starts it again if it ends.
    pub(crate) async fn run(mut self) {
        let mut ends = VecDeque::new();
        loop {
            match self.once().await {
                // The relay has ended, and with it the broadcast.
                Ok(()) => pending().await,
                Err(error) => tracing::warn!(%error, "the picture reader ended"),
            }
            let pause = pause_after(&mut ends, Instant::now());
            if pause > AGAIN {
                let why =
                    format!("the picture reader ended {MOST_ENDS} times and rests for some minutes; the log says why");
                self.recorder.note(Origin::Measured, Observation::Unseen { why });
            }
            sleep(pause).await;
            // What waited meanwhile has no beginning any more.
            while self.messages.try_recv().is_ok() {}
        }
    }

    async fn once(&mut self) -> io::Result<()> {
        let mut child = begin()?;
        let (Some(mut to), Some(from)) = (child.stdin.take(), child.stdout.take()) else {
            return Err(io::Error::other("it has no standard streams"));
        };
        let mut lines = tokio::io::BufReader::new(from).lines();
        let recorder = &self.recorder;
        let hear = async {
            while let Some(line) = lines.next_line().await? {
                let what = match serde_json::from_str(&line).map_err(io::Error::other)? {
                    Said::Picture(change) => Observation::Picture(change),
                    Said::Unseen(why) => Observation::Unseen { why },
                };
                recorder.note(Origin::Measured, what);
            }
            Err(io::Error::from(io::ErrorKind::UnexpectedEof))
        };
        let messages = &mut self.messages;
        let tell = async {
            while let Some(Message { time_ms, payload }) = messages.recv().await {
                let length = u32::try_from(payload.len()).unwrap_or(u32::MAX);
                to.write_all(&[time_ms.to_be_bytes(), length.to_be_bytes()].concat()).await?;
                to.write_all(&payload).await?;
            }
            Ok(())
        };
        tokio::select! { heard = hear => heard, told = tell => told }
    }
}

/// How long to wait after another end, of which the last ones were at these times.
fn pause_after(ends: &mut VecDeque<Instant>, now: Instant) -> Duration {
    ends.push_back(now);
    if ends.len() < MOST_ENDS {
        return AGAIN;
    }
    let first = ends.pop_front().unwrap_or(now);
    (first + ENDS_OVER).saturating_duration_since(now).max(AGAIN)
}

/// The program that runs now, also where another one took the place of its file. Then only the kernel's link leads to it (proc(5)).
fn this_program() -> io::Result<PathBuf> {
    let program = std::env::current_exe()?;
    if program.exists() || !cfg!(target_os = "linux") { Ok(program) } else { Ok("/proc/self/exe".into()) }
}

fn begin() -> io::Result<Child> {
    // It needs nothing of the environment, where a key may be.
    Command::new(this_program()?)
        .arg("look")
        .env_clear()
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::null())
        .kill_on_drop(true)
        .spawn()
}

/// `moth look`: looks at the pictures that come in on standard input until it ends.
pub(crate) fn look() -> io::Result<()> {
    // Where that cannot be had it works all the same: the other limits are its own.
    let _ = moth_host::stand_back();
    look_at(&mut BufReader::with_capacity(1 << 20, io::stdin().lock()), &mut io::stdout().lock())
}

fn look_at(from: &mut impl Read, to: &mut impl Write) -> io::Result<()> {
    let (mut eye, mut allowance) = (Eye::default(), Allowance::new());
    let (mut payload, mut rests) = (Vec::new(), false);
    while let Some((time_ms, length)) = next(from)? {
        payload.resize(length, 0);
        from.read_exact(&mut payload)?;
        let part = VideoTag::parse(&payload).part;
        if part == VideoPart::Keyframe {
            let rested = std::mem::replace(&mut rests, !allowance.has_some());
            if rested != rests {
                eye.interrupt();
            }
        }
        if rests && part.is_frame() {
            continue;
        }
        let said = match eye.take(time_ms, &payload) {
            Ok(Some(change)) => Said::Picture(change),
            Ok(None) => continue,
            Err(blind) => Said::Unseen(blind.to_string()),
        };
        serde_json::to_writer(&mut *to, &said).map_err(io::Error::other)?;
        to.write_all(b"\n")?;
        to.flush()?;
    }
    Ok(())
}

/// The next message's timestamp and length; `None` at the end.
fn next(from: &mut impl Read) -> io::Result<Option<(u32, usize)>> {
    let mut head = [0; 8];
    match from.read_exact(&mut head) {
        Err(error) if error.kind() == io::ErrorKind::UnexpectedEof => return Ok(None),
        read => read?,
    }
    let [a, b, c, d, e, f, g, h] = head;
    let length = u32::from_be_bytes([e, f, g, h]);
    if length > LONGEST {
        return Err(io::Error::other(format!("a message of {length} bytes")));
    }
    Ok(Some((u32::from_be_bytes([a, b, c, d]), length as usize)))
}

/// How much of the processor's time may be used.
struct Allowance {
    /// Seconds that may be used in a second.
    share: f64,
    since: Instant,
    used: Duration,
    /// Seconds that may yet be used; below zero, that were used too much.
    left_s: f64,
}

impl Allowance {
    fn new() -> Self {
        let cores = std::thread::available_parallelism().map_or(1.0, |cores| cores.get() as f64);
        let share = (cores * SHARE_OF_ALL).max(SHARE_OF_ONE);
        Self { share, since: Instant::now(), used: moth_host::worked(), left_s: share * SAVED.as_secs_f64() }
    }

    /// Whether another group of pictures may be looked at.
    fn has_some(&mut self) -> bool {
        let (now, used) = (Instant::now(), moth_host::worked());
        self.left_s += self.share * (now - self.since).as_secs_f64() - used.saturating_sub(self.used).as_secs_f64();
        self.left_s = self.left_s.min(self.share * SAVED.as_secs_f64());
        (self.since, self.used) = (now, used);
        self.left_s >= 0.0
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const HEADER: [u8; 5] = [0x17, 0, 0, 0, 0];
    const KEYFRAME: [u8; 5] = [0x17, 1, 0, 0, 0];
    const INTER: [u8; 5] = [0x27, 1, 0, 0, 0];

    fn told(messages: &[(u32, &[u8])]) -> Vec<u8> {
        let mut out = Vec::new();
        for (time_ms, payload) in messages {
            out.extend(time_ms.to_be_bytes());
            out.extend((payload.len() as u32).to_be_bytes());
            out.extend(*payload);
        }
        out
    }

    fn said(input: &[u8]) -> (bool, String) {
        let mut said = Vec::new();
        let went_well = look_at(&mut &*input, &mut said).is_ok();
        (went_well, String::from_utf8(said).unwrap())
    }

    #[test]
    fn a_reader_that_ends_again_and_again_rests_until_the_first_of_five_ends_is_five_minutes_ago() {
        let (mut ends, began) = (VecDeque::new(), Instant::now());
        let mut after = |seconds: u64| pause_after(&mut ends, began + Duration::from_secs(seconds)).as_secs();
        assert_eq!([0, 10, 20, 30].map(&mut after), [5; 4]);
        assert_eq!(after(40), 260);
        assert_eq!(after(300), 10, "the second was 290 s ago");
        assert_eq!(after(1000), 5, "and one that was well for long starts again soon");
    }

    #[test]
    fn what_cannot_be_looked_at_is_said_once_for_each_header() {
        let hevc = [0x90, b'h', b'v', b'c', b'1', 1, 2, 3];
        let frame = [0x91, b'h', b'v', b'c', b'1', 0, 0, 0, 1, 2, 3];
        let (went_well, said) = said(&told(&[(0, &hevc), (0, &frame), (17, &frame)]));
        assert!(went_well);
        assert_eq!(said, "{\"unseen\":\"the codec is none that can be looked at\"}\n");
    }

    #[test]
    fn garbage_on_its_input_ends_it_and_nothing_else() {
        assert_eq!(said(&[]), (true, String::new()));
        // Cut off in the middle, and a length that nobody would send.
        assert!(!said(&told(&[(0, &KEYFRAME)])[..10]).0);
        assert!(!said(&[0xff; 64]).0);
    }

    #[tokio::test]
    async fn what_there_is_no_room_for_is_left_out_up_to_the_next_keyframe() {
        let (recorder, _readings) = Recorder::new();
        let (onlooker, mut process) = ProcessOnlooker::new(recorder.clone());
        let show =
            |payload: &'static [u8], time_ms: u32| onlooker.video(time_ms, &Bytes::from_static(payload), &recorder);
        show(&HEADER, 0);
        show(&KEYFRAME, 0);
        (1..MOST_WAITING as u32 + 50).for_each(|n| show(&INTER, n));
        let taken = std::iter::from_fn(|| process.messages.try_recv().ok()).count();
        assert_eq!(taken, MOST_WAITING);
        // There is room again, but nothing that could be understood without what was left out.
        show(&INTER, 300);
        assert!(process.messages.try_recv().is_err());
        show(&KEYFRAME, 301);
        show(&INTER, 302);
        let again: Vec<Bytes> = std::iter::from_fn(|| process.messages.try_recv().ok()).map(|m| m.payload).collect();
        assert_eq!(again, [&HEADER[..], &KEYFRAME[..], &INTER[..]]);
    }
}
