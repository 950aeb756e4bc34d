//! The stand-in broadcaster: renders, encodes and publishes frames that are made up but well formed.

use std::io;
use std::time::Duration;

use bytes::{BufMut, BytesMut};
use moth_core::figure::Origin;
use moth_core::rate::Bitrate;
use moth_core::reading::{BroadcasterCounters, Observation, StreamFacts};
use moth_destination::{Address, StreamKey};
use moth_relay::Recorder;
use moth_rtmp::amf0::{self, Value};
use moth_rtmp::message::{Message, MessageKind, StreamTime};
use moth_rtmp::session::Publisher;
use tokio::io::{AsyncRead, AsyncReadExt, AsyncWrite, AsyncWriteExt};
use tokio::sync::watch;
use tokio::time::{Instant, sleep_until, timeout_at};

use crate::conditions::{BroadcasterConditions, Conditions};
use crate::noise::Noise;
use crate::small_picture::{self, SmallPictures};

/// Seconds between keyframes, as services commonly ask.
const KEYFRAME_S: u64 = 2;
/// A keyframe weighs this many inter frames, a disposable one this share of one. Ours.
const KEYFRAME_WEIGHT: f64 = 7.0;
const DISPOSABLE_WEIGHT: f64 = 0.6;
/// Samples in an AAC frame, and samples per second.
const AAC_SAMPLES: u64 = 1024;
const SAMPLE_RATE: u64 = 48_000;
/// A frame of sound that carries none (measured: an AAC encoder's of digital silence).
const MUTED_FRAME: usize = 6;
/// A repeat is this small on the wire, in bytes (measured on 720p60 at 4.5 Mb/s).
const REPEAT_BYTES: (f64, f64) = (42.0, 670.0);
/// What a frame of a still picture weighs at most, in bytes (measured: 41–133).
const STILL_BYTES: f64 = 133.0;
/// Units of filler, and of information that decoders may pass over (ITU-T H.264, table 7-1).
const FILLER: u8 = 12;
const INFORMATION: u8 = 6;
/// One lighter preset takes this share of the time. Ours.
const LIGHTER: f64 = 0.6;
/// How often it tells what it counted. Ours.
const REPORT_EACH: Duration = Duration::from_millis(250);
/// Ordinary noise: one frame in so many is late for no reason anyone could name. Ours.
const STRAY_ONE_IN: f64 = 15_000.0;

/// What it can be told while it broadcasts.
#[derive(Debug, Clone)]
pub struct BroadcasterControl {
    orders: watch::Sender<Orders>,
    counted: watch::Receiver<BroadcasterCounters>,
}

#[derive(Debug, Clone, Copy, PartialEq)]
struct Orders {
    video: Bitrate,
    /// Steps towards lighter presets; below zero, towards heavier ones.
    lighter: i32,
    /// The size that is sent, if it is not the evening's.
    size: Option<(u32, u32)>,
}

impl Orders {
    /// What the evening asks of it, as it was told to do it.
    fn applied_to(self, now: BroadcasterConditions) -> BroadcasterConditions {
        let (width, height) = self.size.unwrap_or((now.width, now.height));
        let pixels = |width: u32, height: u32| f64::from(width) * f64::from(height);
        // Both drawing and encoding take time by the pixel.
        let share = pixels(width, height) / pixels(now.width, now.height).max(1.0);
        let encode_ms = now.encode_ms * share * LIGHTER.powi(self.lighter);
        BroadcasterConditions { width, height, encode_ms, render_ms: now.render_ms * share, ..now }
    }
}

impl BroadcasterControl {
    /// A new video bitrate, from the next frame on.
    pub fn set_bitrate(&self, video: Bitrate) {
        self.orders.send_modify(|orders| orders.video = video);
    }

    /// What it counted so far, whether or not it tells.
    #[must_use]
    pub fn counted(&self) -> BroadcasterCounters {
        *self.counted.borrow()
    }

    /// So many steps to lighter encoder presets; back to heavier ones, if negative.
    pub fn lighten_preset(&self, steps: i32) {
        self.orders.send_modify(|orders| orders.lighter += steps);
    }

    /// Another picture size, in pixels and lines.
    pub fn set_size(&self, width: u32, height: u32) {
        self.orders.send_modify(|orders| orders.size = Some((width, height)));
    }
}

/// The stand-in broadcaster.
pub struct StandInBroadcaster {
    conditions: watch::Receiver<Conditions>,
    orders: watch::Receiver<Orders>,
    recorder: Recorder,
    noise: Noise,
    /// What it counts, told or not.
    truly: watch::Sender<BroadcasterCounters>,
}

impl StandInBroadcaster {
    pub(crate) fn new(
        conditions: watch::Receiver<Conditions>,
        recorder: Recorder,
        seed: u64,
    ) -> (Self, BroadcasterControl) {
        let video = Bitrate::from_kbps(conditions.borrow().broadcaster.video_kbps);
        let (orders, to_follow) = watch::channel(Orders { video, lighter: 0, size: None });
        let (truly, counted) = watch::channel(BroadcasterCounters::default());
        let broadcaster =
            Self { conditions, orders: to_follow, recorder, noise: Noise::new(seed, "broadcaster"), truly };
        (broadcaster, BroadcasterControl { orders, counted })
    }

    /// Publishes until the connection ends.
    ///
    /// # Errors
    /// What the connection says, or the other side's refusal.
    pub async fn run(mut self, mut stream: impl AsyncRead + AsyncWrite + Unpin, address: Address) -> io::Result<()> {
        let key = StreamKey::new("local").map_err(io::Error::other)?;
        let mut session = Publisher::new(address, key);
        let mut input = vec![0; 4096];
        while !session.is_ready() {
            stream.write_all(&session.take_output()).await?;
            let count = stream.read(&mut input).await?;
            if count == 0 {
                return Err(io::ErrorKind::UnexpectedEof.into());
            }
            session.feed(&input[..count]);
            session.poll().map_err(io::Error::other)?;
        }
        let setup = self.conditions.borrow().broadcaster;
        self.recorder.note(
            Origin::Reported,
            Observation::Stream(StreamFacts {
                takes_bitrate: true,
                takes_preset: true,
                takes_size: true,
                ..StreamFacts::default()
            }),
        );
        let mut sent_size = (setup.width, setup.height);
        for header in headers(&setup) {
            session.send(&header);
        }
        let mut show = Show::new(setup.fps);
        let start = Instant::now();
        let mut report_at = start + REPORT_EACH;
        loop {
            let due = start + show.next_due();
            // Between frames it reads, as a real one does; what the moth acknowledges it has no use for.
            while let Ok(count) = timeout_at(due, stream.read(&mut input)).await {
                let count = count?;
                if count == 0 {
                    return Ok(());
                }
                session.feed(&input[..count]);
                while session.poll().map_err(io::Error::other)?.is_some() {}
            }
            sleep_until(due).await;
            self.truly.send_replace(show.counters);
            let (now, orders) = (self.conditions.borrow().broadcaster, *self.orders.borrow());
            let now = orders.applied_to(now);
            if (now.width, now.height) != sent_size {
                sent_size = (now.width, now.height);
                for header in headers(&now) {
                    session.send(&header);
                }
            }
            for message in show.advance(&mut self.noise, &now, orders.video) {
                session.send(&message);
            }
            let output = session.take_output();
            if !output.is_empty() {
                stream.write_all(&output).await?;
            }
            if Instant::now() >= report_at {
                report_at += REPORT_EACH;
                if now.reports {
                    self.recorder.note(Origin::Reported, Observation::Counters(show.report()));
                }
            }
        }
    }
}

/// Rendering and encoding, frame by frame. Times are milliseconds since the start.
struct Show {
    fps: u64,
    slot: u64,
    /// Pictures that an encoder which waits has taken.
    waited_for: u64,
    audio_frames: u64,
    /// How far the sound's clock has run ahead, in milliseconds.
    sound_ahead_ms: f64,
    in_group: u64,
    next_is_disposable: bool,
    renderer_free_ms: f64,
    encoder_free_ms: f64,
    /// Bytes owed to (or by) the bitrate.
    debt_bytes: f64,
    pictures: SmallPictures,
    counters: BroadcasterCounters,
    rendered_ms: f64,
    encoded_ms: f64,
}

impl Show {
    fn new(fps: u32) -> Self {
        Self {
            fps: fps.into(),
            slot: 0,
            waited_for: 0,
            audio_frames: 0,
            sound_ahead_ms: 0.0,
            in_group: 0,
            next_is_disposable: false,
            renderer_free_ms: 0.0,
            encoder_free_ms: 0.0,
            debt_bytes: 0.0,
            pictures: SmallPictures::new(),
            counters: BroadcasterCounters {
                rendered: Some(0),
                lagged: Some(0),
                encoded: Some(0),
                skipped: Some(0),
                ..BroadcasterCounters::default()
            },
            rendered_ms: 0.0,
            encoded_ms: 0.0,
        }
    }

    fn next_due(&self) -> Duration {
        Duration::from_nanos(self.slot * 1_000_000_000 / self.fps)
    }

    fn report(&self) -> BroadcasterCounters {
        BroadcasterCounters { render_ms: Some(self.rendered_ms), encode_ms: Some(self.encoded_ms), ..self.counters }
    }

    /// One frame interval: what is published in it.
    fn advance(&mut self, noise: &mut Noise, now_is: &BroadcasterConditions, video: Bitrate) -> Vec<Message> {
        let interval = 1000.0 / self.fps as f64;
        let now = self.slot as f64 * interval;
        if now_is.paused {
            self.slot += 1;
            return Vec::new();
        }
        let mut out = self.audio_until(now, now_is, noise);
        if now_is.waits {
            out.extend(self.wait_for(now, now_is, video, noise));
            self.slot += 1;
            return out;
        }
        let time_ms = (self.slot * 1000 + self.fps / 2) / self.fps;
        self.slot += 1;
        count(&mut self.counters.rendered);

        // Rendering: a scene not ready in time means the last picture again.
        let stray = noise.chance(1.0 / STRAY_ONE_IN);
        let is_repeat = self.renderer_free_ms > now || stray;
        if is_repeat {
            count(&mut self.counters.lagged);
        } else {
            let took = noise.about(now_is.render_ms, 0.12).max(0.5);
            smooth(&mut self.rendered_ms, took);
            // A renderer that is late by less than a frame catches up; it is never idle on purpose.
            self.renderer_free_ms = self.renderer_free_ms.max(now - interval) + took;
        }

        // Encoding: a picture that comes while the last two are still in work is never encoded.
        let stray = noise.chance(1.0 / STRAY_ONE_IN);
        if self.encoder_free_ms > now + interval || stray {
            count(&mut self.counters.skipped);
            return out;
        }
        let took = self.encoding(now_is, is_repeat, noise);
        // Once a second it waits for whoever writes.
        let stalls = now_is.stall_ms > 0.0 && self.slot.is_multiple_of(self.fps);
        self.encoder_free_ms = self.encoder_free_ms.max(now) + took + if stalls { now_is.stall_ms } else { 0.0 };
        count(&mut self.counters.encoded);
        out.push(self.frame(time_ms, is_repeat, now_is, video, noise));
        out
    }

    fn encoding(&mut self, now_is: &BroadcasterConditions, is_repeat: bool, noise: &mut Noise) -> f64 {
        let took = noise.about(now_is.encode_ms, 0.12).max(0.3) * if is_repeat { 0.5 } else { 1.0 };
        if !is_repeat {
            smooth(&mut self.encoded_ms, took);
        }
        took
    }

    /// An encoder that skips nothing: each picture comes when the last one is done, with its own time.
    fn wait_for(
        &mut self,
        now: f64,
        now_is: &BroadcasterConditions,
        video: Bitrate,
        noise: &mut Noise,
    ) -> Option<Message> {
        count(&mut self.counters.rendered);
        if self.encoder_free_ms > now {
            return None;
        }
        let time_ms = (self.waited_for * 1000 + self.fps / 2) / self.fps;
        let due = self.waited_for as f64 * 1000.0 / self.fps as f64;
        self.waited_for += 1;
        let took = self.encoding(now_is, false, noise);
        // It may not run ahead of the pictures, and is behind by what it took too long.
        self.encoder_free_ms = self.encoder_free_ms.max(due) + took;
        count(&mut self.counters.encoded);
        Some(self.frame(time_ms, false, now_is, video, noise))
    }

    fn frame(
        &mut self,
        time_ms: u64,
        is_repeat: bool,
        now_is: &BroadcasterConditions,
        video: Bitrate,
        noise: &mut Noise,
    ) -> Message {
        let group = (self.fps * KEYFRAME_S) as f64;
        // Half the inter frames are disposable.
        let weights = KEYFRAME_WEIGHT + (group - 1.0) * (1.0 + DISPOSABLE_WEIGHT) / 2.0;
        let unit = video.bps() as f64 / 8.0 * KEYFRAME_S as f64 / weights;
        let keyframe = self.in_group == 0;
        let is_disposable = !keyframe && self.next_is_disposable;
        let (first, weight) = match (keyframe, is_disposable) {
            (true, _) => (0x17, KEYFRAME_WEIGHT),
            (false, true) => (0x27, DISPOSABLE_WEIGHT),
            (false, false) => (0x27, 1.0),
        };
        self.next_is_disposable = !keyframe && !self.next_is_disposable;
        self.in_group = (self.in_group + 1) % (self.fps * KEYFRAME_S);
        let bytes = if (is_repeat || now_is.still) && !keyframe {
            noise.between(REPEAT_BYTES.0, if now_is.still { STILL_BYTES } else { REPEAT_BYTES.1 })
        } else {
            // Constant bitrate: what one frame takes too much, the next ones give back.
            let due = unit * weight;
            let bytes = (noise.about(due, 0.3) - self.debt_bytes * 0.1).max(due * 0.3).max(60.0);
            self.debt_bytes = (self.debt_bytes + bytes - due).clamp(-due * 4.0, due * 4.0);
            bytes
        } as usize;
        let filler = if now_is.pads { (unit as usize).saturating_sub(bytes) } else { 0 };
        let picture = self.pictures.next(keyframe, is_disposable, is_repeat || now_is.still, self.slot);
        let mut payload = BytesMut::with_capacity(bytes + filler + picture.len() + 20);
        payload.put_slice(&[first, 1, 0, 0, 0]);
        // The small picture weighs less than a real one: the rest is information for nobody, which stands before the picture
        // (7.4.1.2.3) and which decoders pass over. Without
        // zeros nothing in it looks like the beginning of a unit.
        let mut information = vec![0; bytes];
        noise.fill(&mut information);
        information.iter_mut().for_each(|byte| *byte = (*byte).max(1));
        information.truncate(bytes.saturating_sub(picture.len()));
        if let Some(kind) = information.first_mut() {
            *kind = INFORMATION;
            put_unit(&mut payload, &information);
        }
        put_unit(&mut payload, &picture);
        if filler > 0 {
            let mut unit = vec![0xff; filler];
            unit[0] = FILLER;
            put_unit(&mut payload, &unit);
        }
        message(MessageKind::Video, time_ms, payload)
    }

    fn audio_until(&mut self, now_ms: f64, now_is: &BroadcasterConditions, noise: &mut Noise) -> Vec<Message> {
        let mut out = Vec::new();
        loop {
            let time_ms = self.audio_frames * AAC_SAMPLES * 1000 / SAMPLE_RATE;
            if time_ms as f64 > now_ms {
                return out;
            }
            self.audio_frames += 1;
            self.sound_ahead_ms += now_is.sound_gains * (AAC_SAMPLES * 1000) as f64 / SAMPLE_RATE as f64;
            // Time passes without sound as well.
            if now_is.audio_kbps == 0 {
                continue;
            }
            let full = (now_is.audio_kbps * 1000 / 8 * AAC_SAMPLES / SAMPLE_RATE) as usize;
            let bytes = if now_is.muted { MUTED_FRAME } else { full };
            let mut payload = BytesMut::zeroed(bytes + 2);
            noise.fill(&mut payload);
            payload[..2].copy_from_slice(&[0xaf, 1]);
            out.push(message(MessageKind::Audio, time_ms + self.sound_ahead_ms as u64, payload));
        }
    }
}

/// A unit behind its length in four bytes.
fn put_unit(payload: &mut BytesMut, unit: &[u8]) {
    payload.put_u32(u32::try_from(unit.len()).unwrap_or(u32::MAX));
    payload.put_slice(unit);
}

fn smooth(mean: &mut f64, new: f64) {
    *mean += (new - *mean) * 0.05;
}

fn count(counter: &mut Option<u64>) {
    *counter = Some(counter.unwrap_or(0) + 1);
}

fn message(kind: MessageKind, time_ms: u64, payload: BytesMut) -> Message {
    // Stream time is modulo 2³² milliseconds.
    let time = StreamTime((time_ms & u64::from(u32::MAX)) as u32);
    Message { kind, time, stream_id: 1, payload: payload.freeze() }
}

/// The picture's decoder configuration, as a message. AVCDecoderConfigurationRecord (ISO/IEC 14496-15, 5.3.3.1): Baseline
/// profile, level 4.2, 4-byte lengths, one sequence and one picture parameter set.
pub(crate) fn decoder_configuration() -> Vec<u8> {
    let (sequence, pictures) = small_picture::parameter_sets();
    let mut video = vec![0x17, 0, 0, 0, 0, 1, 66, 0, 42, 0xff, 0xe1, 0, sequence.len() as u8];
    video.extend(sequence);
    video.extend([1, 0, pictures.len() as u8]);
    video.extend(pictures);
    video
}

/// Metadata and decoder configurations.
fn headers(setup: &BroadcasterConditions) -> [Message; 3] {
    let mut metadata = BytesMut::new();
    for value in [Value::from("@setDataFrame"), Value::from("onMetaData")] {
        value.encode(&mut metadata);
    }
    amf0::object([
        ("width", f64::from(setup.width).into()),
        ("height", f64::from(setup.height).into()),
        ("framerate", f64::from(setup.fps).into()),
        ("videodatarate", (setup.video_kbps as f64).into()),
        ("audiodatarate", (setup.audio_kbps as f64).into()),
        ("encoder", "stand-in broadcaster".into()),
    ])
    .encode(&mut metadata);
    let video = decoder_configuration();
    // AudioSpecificConfig: AAC-LC, 48 kHz, stereo.
    let audio = [0xaf, 0, 0x11, 0x90];
    [
        message(MessageKind::Data, 0, metadata),
        message(MessageKind::Video, 0, BytesMut::from(&video[..])),
        message(MessageKind::Audio, 0, BytesMut::from(&audio[..])),
    ]
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_picture::Eye;

    #[test]
    fn every_picture_is_seen_whatever_the_rate_and_the_bitrate() {
        for (fps, kbps) in [(60, 6000), (30, 2500), (30, 800), (60, 9000), (50, 4500)] {
            let mut setup = crate::shipped()[0].conditions().broadcaster;
            setup.fps = fps;
            let (mut show, mut noise, mut eye) = (Show::new(fps), Noise::new(1, "broadcaster"), Eye::default());
            assert_eq!(eye.take(0, &decoder_configuration()), Ok(None));
            let seen = (0..400_u64).filter(|n| {
                let time_ms = n * 1000 / u64::from(fps);
                let message = show.frame(time_ms, n % 5 == 3, &setup, Bitrate::from_kbps(kbps), &mut noise);
                show.slot += 1;
                eye.take(time_ms as u32, &message.payload).unwrap().is_some()
            });
            assert!(seen.count() >= 395, "{fps} frames/s at {kbps} kb/s");
        }
    }
}
