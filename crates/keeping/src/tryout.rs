//! A broadcast over a line trace: real queue, made-up frames and line.
//!
//! Frames go into the exchange of the relay, which drops what is dropped. Behind it is a fluid line: a narrow place
//! with a buffer that is filled as TCP fills it, and acknowledges what left it. The real parts are what is tried; the
//! line is the stand-in.

use std::collections::VecDeque;
use std::time::Duration;

use bytes::Bytes;
use moth_core::reading::{ConnectionFigures, Observation, SoundFrame, VideoFrame};
use moth_core::{Bitrate, Moment};
use moth_relay::exchange::{Exchange, Limits};
use moth_relay::packet::{Medium, Packet, Role};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

use crate::contender::Contender;
use crate::trace::{SECONDS, Trace};

/// Frames a second, and frames from keyframe to keyframe. Ours.
const FPS: usize = 60;
const GROUP: usize = 120;
/// A keyframe weighs this many others. Ours.
const KEYFRAME_WEIGHT: f64 = 7.0;
/// Sound, in kb/s. Ours.
pub const AUDIO_KBPS: f64 = 160.0;
/// A new bitrate is in force after this long. Ours.
const REACTS: Duration = Duration::from_millis(200);

/// A line that carries less than this share of what is asked stalls, over so many seconds: those of the queue. Ours.
const STALL: f64 = 0.05;
const STALL_OVER_S: f64 = 2.0;

/// What came of it.
#[derive(Debug, Clone, Copy, Default)]
pub struct Result {
    /// Share of video frames dropped while the line carried something, from 0 to 1.
    pub dropped: f64,
    /// Share of video frames dropped in a stall longer than the queue, or at its end: no bitrate would have saved them.
    pub in_stalls: f64,
    /// Share of video frames that were never made, as the encoder was being restarted, from 0 to 1.
    pub missing: f64,
    /// Bits of video that arrived.
    pub video_bits: f64,
    /// Changes of the bitrate.
    pub changes: u32,
    /// Changes in the worst minute.
    pub worst_changes: u32,
    /// Freezes viewers saw.
    pub freezes: u64,
    /// How long it was, in seconds.
    pub seconds: f64,
}

/// A message on the line.
struct OnLine {
    bits_left: f64,
    bytes: usize,
    role: Role,
}

/// Broadcasts over a trace.
#[must_use]
pub fn try_out(trace: &Trace, contender: &mut dyn Contender) -> Result {
    let limits = Limits::default();
    let mut exchange = Exchange::new(limits);
    let mut rng = Pcg64Mcg::seed_from_u64(trace.kbps.len() as u64 ^ trace.ceiling_kbps.to_bits());
    // A codec without units: only the size of a frame matters here.
    let picture = |first: u8| {
        let mut bytes = vec![0; 4 << 20];
        bytes[0] = first;
        Bytes::from(bytes)
    };
    let (keyframe, inter, sound) = (picture(0x12), picture(0x22), picture(0x2f));
    let buffer_bytes = trace.at(0.0) * trace.buffer_ms / 8.0;
    let mut line: VecDeque<OnLine> = VecDeque::new();
    let (mut line_bytes, mut sent_bits, mut video_bytes) = (0.0, 0.0, 0.0);
    let mut bitrate = contender.begins_kbps();
    let mut burst_kbps = 0.0_f64;
    let mut coming: Option<(Moment, f64)> = None;
    let mut changed: Vec<Moment> = Vec::new();
    // Restarts: until when no picture comes, what comes then, frames since, and those that never were.
    let (mut away_until, mut restarted, mut made, mut missing) = (0.0, None, 0_usize, 0_u64);
    let (mut in_stalls, mut dropped_before, mut stalled_at) = (0_u64, 0_u64, f64::NEG_INFINITY);
    let steps = SECONDS * FPS;
    let dt = 1.0 / FPS as f64;
    for step in 0..steps {
        let seconds = step as f64 * dt;
        let now = Moment::after(Duration::from_secs_f64(seconds));
        if let Some((at, kbps)) = coming.filter(|(at, _)| now >= *at) {
            if kbps < bitrate {
                exchange.be_patient(now);
            }
            bitrate = kbps;
            away_until = seconds + contender.restart_s();
            if away_until > seconds {
                made = 0;
                // What comes next depends on nothing that was before.
                exchange.interrupted();
            } else {
                contender.done(at, kbps);
            }
            restarted = (away_until > seconds).then_some(kbps);
            coming = None;
        }
        if let Some(kbps) = restarted.filter(|_| seconds >= away_until) {
            contender.done(now, kbps);
            restarted = None;
        }
        let time_ms = (seconds * 1000.0) as u32;
        let is_key = made.is_multiple_of(GROUP);
        let mean_bytes = bitrate * 1000.0 / 8.0 / FPS as f64;
        let unit = GROUP as f64 / (GROUP as f64 - 1.0 + KEYFRAME_WEIGHT);
        let weight = if is_key { KEYFRAME_WEIGHT } else { rng.random_range(0.8..1.2) };
        let bytes = ((mean_bytes * unit * weight) as usize).clamp(16, keyframe.len());
        let whole = if is_key { &keyframe } else { &inter };
        let packet = |role, medium, payload| Packet { role, medium, track: None, time_ms, payload };
        let role = if is_key { Role::Keyframe } else { Role::Inter };
        if seconds < away_until {
            missing += 1;
        } else {
            made += 1;
            exchange.offer(packet(role, Medium::Video, whole.slice(..bytes)), now);
            let frame = VideoFrame { time_ms, bytes: bytes as u32, keyframe: is_key, ..VideoFrame::default() };
            contender.see(now, Observation::Video(frame));
            let audio = (AUDIO_KBPS * 1000.0 / 8.0 / FPS as f64) as usize;
            exchange.offer(packet(Role::Audio, Medium::Audio, sound.slice(..audio)), now);
            contender.see(now, Observation::Audio(SoundFrame { time_ms, bytes: audio as u32 }));
        }

        // What the buffer has room for is handed over; what leaves it is acknowledged.
        let mut credit = trace.at(seconds) * 1000.0 * dt;
        loop {
            while line_bytes < buffer_bytes || line.is_empty() {
                let Some(packet) = exchange.next(now) else { break };
                let bytes = packet.payload.len();
                line_bytes += bytes as f64;
                line.push_back(OnLine { bits_left: bytes as f64 * 8.0, bytes, role: packet.role });
            }
            let Some(first) = line.front_mut() else { break };
            let gone = first.bits_left.min(credit);
            first.bits_left -= gone;
            credit -= gone;
            // As a kernel counts: byte by byte, not frame by frame.
            sent_bits += gone;
            if first.bits_left > 0.0 {
                break;
            }
            let (bytes, role) = (first.bytes, first.role);
            line.pop_front();
            line_bytes -= bytes as f64;
            if role != Role::Audio {
                video_bytes += bytes as f64;
            }
            exchange.delivered(role);
        }

        // A burst is carried at the line's rate, if it is longer than a round trip; the kernel's estimate wavers.
        if credit <= 0.0 {
            burst_kbps = burst_kbps.max(trace.at(seconds) * rng.random_range(0.8..1.2));
        }
        if step.is_multiple_of(FPS / 5) {
            let delivery_rate = (burst_kbps > 0.0).then(|| Bitrate::from_bps((burst_kbps * 1000.0) as u64));
            let figures = ConnectionFigures { delivery_rate, ..ConnectionFigures::default() };
            contender.see(now, Observation::Connection(figures));
            burst_kbps = 0.0;
        }
        let dropped = exchange.accounts().video.dropped;
        if trace.mean(seconds, STALL_OVER_S) < STALL * bitrate {
            stalled_at = seconds;
        }
        if seconds - stalled_at < STALL_OVER_S {
            in_stalls += dropped - dropped_before;
        }
        dropped_before = dropped;
        if step.is_multiple_of(FPS / 10) {
            let (freezes, frozen_ms) = exchange.freezes(now);
            let (accounts, queue) = (exchange.accounts(), exchange.level(now));
            contender.see(
                now,
                Observation::Relay { accounts, queue, sent_bytes: (sent_bits / 8.0) as u64, freezes, frozen_ms },
            );
            if restarted.is_none()
                && let Some(kbps) = contender.decide(now, queue.ms)
            {
                coming = Some((Moment::after(now.since(Moment::START) + REACTS), kbps));
                changed.push(now);
            }
        }
    }
    let video = exchange.accounts().video;
    let minute = Duration::from_secs(60);
    let in_minute = |from: &Moment| changed.iter().filter(|at| *at >= from && at.since(*from) < minute).count() as u32;
    Result {
        dropped: (video.dropped - in_stalls) as f64 / video.offered.max(1) as f64,
        in_stalls: in_stalls as f64 / video.offered.max(1) as f64,
        missing: missing as f64 / steps as f64,
        video_bits: video_bytes * 8.0,
        changes: changed.len() as u32,
        worst_changes: changed.iter().map(in_minute).max().unwrap_or(0),
        freezes: exchange.freezes(Moment::after(Duration::from_secs(SECONDS as u64))).0.count,
        seconds: SECONDS as f64,
    }
}

/// Bits of video that one who knows the trace delivers: all that the line carries of the ceiling, with nothing dropped
/// that need not be, and the queue and the line's own buffer used to the full. Nobody can deliver more.
#[must_use]
pub fn clairvoyant_bits(trace: &Trace) -> f64 {
    let asked = (trace.ceiling_kbps + AUDIO_KBPS) * 1000.0;
    let room = asked * Limits::default().queue_ms as f64 / 1000.0 + trace.at(0.0) * trace.buffer_ms;
    let dt = 1.0 / FPS as f64;
    let (mut waits, mut delivered) = (0.0_f64, 0.0);
    for step in 0..SECONDS * FPS {
        let carries = trace.at(step as f64 * dt) * 1000.0 * dt;
        waits = (waits + asked * dt).min(room);
        let gone = waits.min(carries);
        waits -= gone;
        delivered += gone;
    }
    delivered * trace.ceiling_kbps / (trace.ceiling_kbps + AUDIO_KBPS)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::contender::{Additive, Fixed};
    use crate::trace::PER_SECOND;

    /// A line that carries this all along, for a broadcast of 4 000 kb/s of video.
    fn line(kbps: impl Fn(f64) -> f64) -> Trace {
        Trace {
            family: "by hand",
            set: crate::trace::Set::Known,
            is_steady: true,
            kbps: (0..SECONDS * PER_SECOND).map(|i| kbps(i as f64 / PER_SECOND as f64)).collect(),
            buffer_ms: 50.0,
            ceiling_kbps: 4000.0,
        }
    }

    fn fixed(trace: &Trace) -> Result {
        try_out(trace, &mut Fixed::at(trace.ceiling_kbps))
    }

    #[test]
    fn over_a_line_with_room_everything_arrives_and_over_half_a_line_half_of_it() {
        let wide = fixed(&line(|_| 9000.0));
        assert_eq!((wide.dropped, wide.in_stalls, wide.freezes, wide.changes), (0.0, 0.0, 0, 0));
        let mean_kbps = wide.video_bits / wide.seconds / 1000.0;
        assert!((3900.0..4100.0).contains(&mean_kbps), "{mean_kbps}");
        let narrow = fixed(&line(|_| 2080.0));
        assert!((0.4..0.6).contains(&narrow.dropped), "{}", narrow.dropped);
        assert_eq!(narrow.in_stalls, 0.0, "it never stands still");
        assert!(narrow.freezes > 10);
    }

    #[test]
    fn what_an_outage_costs_is_nobodys_fault_and_counted_apart() {
        let result = fixed(&line(|s| if (100.0..120.0).contains(&s) { 0.0 } else { 9000.0 }));
        let lost = result.in_stalls * result.seconds;
        assert!((15.0..20.5).contains(&lost), "{lost} of 20 s, less what the queue holds");
        assert!(result.dropped < 0.001, "{}", result.dropped);
    }

    #[test]
    fn changes_are_counted_and_the_worst_minute_with_them() {
        let trace = line(|s| if s < 150.0 { 9000.0 } else { 2000.0 });
        let result = try_out(&trace, &mut Additive::new(trace.ceiling_kbps));
        assert!(result.changes > result.worst_changes && result.worst_changes > 10, "{result:?}");
        assert!(result.dropped < fixed(&trace).dropped / 2.0, "it goes down where the fixed one drops");
    }

    #[test]
    fn the_clairvoyant_delivers_all_of_a_wide_line_and_no_more_than_a_narrow_one_carries() {
        let asked = 4000.0 * 1000.0 * SECONDS as f64;
        let wide = clairvoyant_bits(&line(|_| 9000.0));
        assert!((wide / asked - 1.0).abs() < 0.001);
        let narrow = clairvoyant_bits(&line(|_| 2080.0));
        assert!((narrow / asked - 0.5).abs() < 0.001);
        // What a queue of two seconds holds over an outage of one is not lost.
        let gap = clairvoyant_bits(&line(|s| if (100.0..101.0).contains(&s) { 0.0 } else { 9000.0 }));
        assert!((gap / asked - 1.0).abs() < 0.001);
    }
}
