//! A clip: what a real encoder made of a picture, and beside it which of its frames truly showed the picture before again.

use std::fs;
use std::path::{Path, PathBuf};
use std::time::Duration;

use bytes::Bytes;
use moth_core::account::{Account, Accounts};
use moth_core::contradiction::Inspector;
use moth_core::figure::{Origin, Trust};
use moth_core::moment::Moment;
use moth_core::reading::{LinkChange, Observation, PictureChange, QueueLevel, Reading, StreamFacts, VideoFrame};
use moth_core::suspects::Fault;
use moth_core::viewers::Freezes;
use moth_core::{Core, Settings};
use moth_picture::Eye;
use moth_relay::packet::sighting::sighting;
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;
use serde::{Deserialize, Serialize};

/// The core is asked this often, as on the screen. Ours.
const LOOK: Duration = Duration::from_millis(200);
/// The bytes before the first tag, and those of a tag's header: FLV specification, version 10.1, annex E.2 and E.4.1.
const FILE_HEADER: usize = 13;
const TAG_HEADER: usize = 11;

/// What is true of a clip.
#[derive(Debug, Clone, Default, Deserialize)]
pub struct Truth {
    /// What is to be seen.
    pub kind: String,
    /// `a`, on which borders are set, or `b`, which is only judged.
    pub half: String,
    /// Who made it.
    pub encoder: String,
    /// `h264`, `hevc` or `av1`.
    pub codec: String,
    /// `in-time`, or how it is late.
    pub pattern: String,
    /// Frames per second.
    pub fps: f64,
    /// Frames of it.
    pub frames: u64,
    /// Whether it moves at the full rate, so that lateness can be seen at all.
    pub moves: bool,
    /// Frames that are the same as the one before without being late.
    pub same_by_itself: u64,
    /// The frames that are late, counted as they are shown.
    pub lagged: Vec<u64>,
}

/// What was said of a clip.
#[derive(Debug, Clone)]
pub struct Heard {
    /// What is true of it.
    pub truth: Truth,
    /// False verdicts, each counted once for as long as it stood.
    pub falsely: usize,
    /// When a verdict of rendering began that has no reason, in seconds.
    pub false_at_s: Option<f64>,
    /// When another false verdict began, and its fault.
    pub other_false: Option<(f64, Fault)>,
    /// Seconds from the first late frame to the verdict.
    pub wait_s: Option<f64>,
    /// What was counted at the end; `None` if it was not known.
    pub counted: Option<u64>,
    /// Repeats that were there until then.
    pub truly: u64,
    /// Whether what was counted was to be trusted all along.
    pub is_trusted: bool,
    /// The wire said that the picture repeats at a beat.
    pub is_slow_source: bool,
    /// What was said that its own numbers contradict.
    pub contradictions: Vec<String>,
}

/// Reads a clip's video messages, with their timestamps.
fn messages(path: &Path) -> Result<Vec<(u32, Bytes)>, std::io::Error> {
    let data = Bytes::from(fs::read(path)?);
    let (mut at, mut found) = (FILE_HEADER, Vec::new());
    while let Some(header) = data.get(at..at + TAG_HEADER) {
        let size = u32::from_be_bytes([0, header[1], header[2], header[3]]) as usize;
        let time_ms = u32::from_be_bytes([header[7], header[4], header[5], header[6]]);
        let (from, to) = (at + TAG_HEADER, at + TAG_HEADER + size);
        if to > data.len() {
            break;
        }
        if header[0] & 0x1f == 9 {
            found.push((time_ms, data.slice(from..to)));
        }
        at = to + 4;
    }
    Ok(found)
}

/// What the relay would note of a clip. Decoding takes most of the time there is, so this is kept beside the clip.
#[derive(Debug, Default, Serialize, Deserialize)]
struct Noted {
    stream: StreamFacts,
    unseen: Option<String>,
    /// Frames in the order they are sent, and what became known of pictures with each.
    frames: Vec<(VideoFrame, Option<PictureChange>)>,
}

type AnyError = Box<dyn std::error::Error + Send + Sync>;

fn noted(path: &Path) -> Result<Noted, AnyError> {
    let kept = path.with_extension("noted.json");
    let is_newer =
        |kept: &Path| Some(fs::metadata(kept).ok()?.modified().ok()? > fs::metadata(path).ok()?.modified().ok()?);
    if is_newer(&kept) == Some(true)
        && let Ok(noted) = serde_json::from_slice(&fs::read(&kept)?)
    {
        return Ok(noted);
    }
    let (mut noted, mut eye) = (Noted::default(), Eye::default());
    for (time_ms, payload) in messages(path)? {
        let seen = eye.take(time_ms, &payload);
        match sighting(time_ms, &payload) {
            Some(Observation::Video(frame)) => noted.frames.push((frame, seen.as_ref().copied().unwrap_or_default())),
            Some(Observation::Stream(facts)) => noted.stream = facts,
            _ => {}
        }
        noted.unseen = seen.err().map(|blind| blind.to_string()).or(noted.unseen);
    }
    fs::write(kept, serde_json::to_vec(&noted)?)?;
    Ok(noted)
}

/// By how much the first picture differs from the last, where a clip is shown again, in hundredths and thousandths of a level: a
/// cut. Ours.
const CUT: (u16, u16) = (5000, 45_000);

/// What is true of a clip.
///
/// # Errors
/// If nothing beside the clip says what happened in it, or that cannot be read.
pub fn truth(path: &Path) -> Result<Truth, AnyError> {
    Ok(serde_json::from_str(&fs::read_to_string(crate::case::clip_truth_path(path))?)?)
}

/// Judges a clip, as `moth watch` would without a feed; one in time is shown again and again for so many minutes.
///
/// # Errors
/// If the clip or its truth cannot be read.
pub fn heard(path: &Path, minutes: f64) -> Result<Heard, AnyError> {
    let truth = truth(path)?;
    let noted = noted(path)?;
    let length_ms = (truth.frames as f64 * 1000.0 / truth.fps) as u32;
    let times = if truth.lagged.is_empty() { (minutes * 60_000.0 / f64::from(length_ms)).ceil().max(1.0) } else { 1.0 };
    let mut show = Show::new(truth, StreamFacts { fps: None, ..noted.stream });
    if let Some(why) = noted.unseen.clone() {
        show.take(Moment::START, Observation::Unseen { why });
    }
    for round in 0..times as u32 {
        show.clip(&noted, round * length_ms);
    }
    Ok(show.heard)
}

/// Clips that are in time, in turn: one broadcast of so many hours, in which each is shown again and again for a while that is
/// drawn from a seed, as an evening goes from a talk to a film and to slides.
///
/// # Errors
/// If a clip or its truth cannot be read.
pub fn in_turn(paths: &[PathBuf], fps: f64, hours: f64, seed: u64) -> Result<Heard, AnyError> {
    let clips: Vec<Noted> = paths.iter().map(|path| noted(path)).collect::<Result<_, _>>()?;
    let truth = Truth { kind: "in turn".into(), pattern: "in-time".into(), fps, ..Truth::default() };
    let stream = clips.first().map(|noted| noted.stream).unwrap_or_default();
    let mut show = Show::new(truth, StreamFacts { fps: None, ..stream });
    let (mut noise, mut later) = (Pcg64Mcg::seed_from_u64(seed), 0);
    while f64::from(later) < hours * 3_600_000.0 && !clips.is_empty() {
        let noted = &clips[noise.random_range(0..clips.len())];
        for _ in 0..noise.random_range(1..20) {
            show.clip(noted, later);
            later += (noted.frames.len() as f64 * 1000.0 / fps) as u32;
        }
    }
    Ok(show.heard)
}

struct Show {
    core: Core,
    heard: Heard,
    looked: Moment,
    accounts: Account,
    inspector: Inspector,
    was_false: bool,
}

impl Show {
    fn new(truth: Truth, stream: StreamFacts) -> Self {
        let server = "Aldmoor".to_owned();
        let mut core = Core::new(Settings { servers: vec![server.clone()] });
        let stream = StreamFacts { fps: Some(truth.fps), ..stream };
        for what in [
            Observation::Broadcaster { present: true },
            Observation::Link(LinkChange::Up { server }),
            Observation::Stream(stream),
        ] {
            core.take(&Reading { at: Moment::START, origin: Origin::Measured, what });
        }
        let heard = Heard {
            truth,
            falsely: 0,
            false_at_s: None,
            other_false: None,
            wait_s: None,
            counted: None,
            truly: 0,
            is_trusted: true,
            is_slow_source: false,
            contradictions: Vec::new(),
        };
        Self {
            core,
            heard,
            looked: Moment::START,
            accounts: Account::default(),
            inspector: Inspector::default(),
            was_false: false,
        }
    }

    fn take(&mut self, at: Moment, what: Observation) {
        self.core.take(&Reading { at, origin: Origin::Measured, what });
    }

    /// A clip, later than it was made; it begins with a cut unless it is the first.
    fn clip(&mut self, noted: &Noted, later_ms: u32) {
        let mut is_cut = later_ms > 0;
        for (frame, change) in &noted.frames {
            let time_ms = frame.time_ms + later_ms;
            self.frame(VideoFrame { time_ms, ..*frame });
            if let Some(change) = change {
                let mut change = PictureChange { time_ms: change.time_ms + later_ms, ..*change };
                if std::mem::take(&mut is_cut) {
                    (change.hundredths, change.coarse_thousandths) = CUT;
                }
                self.take(Moment::from_ms(time_ms.into()), Observation::Picture(change));
            }
        }
    }

    fn frame(&mut self, frame: VideoFrame) {
        let at = Moment::from_ms(frame.time_ms.into());
        self.take(at, Observation::Video(frame));
        self.accounts.offer();
        self.accounts.deliver();
        if at.since(self.looked) < LOOK {
            return;
        }
        self.looked = at;
        let what = Observation::Relay {
            accounts: Accounts { video: self.accounts, audio: Account::default() },
            queue: QueueLevel { ms: 0.0, bytes: 0, limit_ms: 2000.0, ..QueueLevel::default() },
            sent_bytes: 0,
            freezes: Freezes::default(),
            frozen_ms: None,
        };
        self.take(at, what);
        let snapshot = self.core.snapshot(at);
        let (now, heard) = (at.seconds(), &mut self.heard);
        heard.contradictions.extend(self.inspector.look(&snapshot));
        let onset = heard.truth.lagged.first().map(|n| *n as f64 / heard.truth.fps);
        let is_false = snapshot.verdict.fault != Fault::None && onset.is_none_or(|onset| now < onset);
        heard.falsely += usize::from(is_false && !self.was_false);
        self.was_false = is_false;
        match snapshot.verdict.fault {
            Fault::Rendering if onset.is_some_and(|onset| now >= onset) => {
                heard.wait_s = heard.wait_s.or(onset.map(|onset| now - onset));
            }
            Fault::Rendering => heard.false_at_s = heard.false_at_s.or(Some(now)),
            Fault::None => {}
            fault => heard.other_false = heard.other_false.or(Some((now, fault))),
        }
        heard.is_slow_source |= snapshot.wire.source_fps.is_some();
        heard.counted = snapshot.lagged.value;
        // What the newest frames are is not judged yet.
        let until = (now - 0.3) * heard.truth.fps;
        heard.truly = heard.truth.lagged.iter().filter(|n| (**n as f64) < until).count() as u64;
        if now > 2.0 {
            heard.is_trusted &= snapshot.wire.repeated_trust == Some(Trust::Good);
        }
    }
}
