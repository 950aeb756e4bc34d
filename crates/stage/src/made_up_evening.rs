//! Evenings made up from a seed, with what is truly wrong in each.
//!
//! Causes are put into the world, not into readings: a program that takes the CPU makes the encoder slow, a radio that
//! carries little makes a queue before the first router. How much of each is drawn here, and knows nothing of where the
//! core draws its borders.

use serde::{Deserialize, Serialize};

use crate::conditions::{BroadcasterConditions, LineConditions, MachineConditions, OtherProgram, Uploader};
use crate::evening::{Evening, Event, MachineChange, ServerStart};
use crate::noise::Noise;

/// Which evenings are drawn.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Shapes {
    /// Trouble that comes at once, or climbs over some seconds.
    Known,
    /// Trouble that comes and goes, on other machines and lines: drawn for nothing but to be judged.
    HeldOut,
}

/// One thing that is wrong.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wrong {
    /// `network`, `encoder` or `rendering`.
    pub fault: String,
    /// The cause's slug.
    pub cause: String,
}

/// What is truly wrong in an evening.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Truth {
    /// What it is; nothing in a calm evening.
    pub wrong: Vec<Wrong>,
    /// Trouble begins, in seconds from the start.
    pub from_s: f64,
    /// Trouble ends, in seconds from the start.
    pub to_s: f64,
    /// The evening ends, in seconds from the start.
    pub end_s: f64,
    /// Frames lost by then, by fault. A trouble that costs none is none: two at once may relieve each other.
    #[serde(default)]
    pub lost: std::collections::BTreeMap<String, u64>,
    /// The first frame lost to it, in seconds from the start; `None` if none was.
    #[serde(default)]
    pub first_loss_s: Option<f64>,
}

/// Every kind of trouble there is, by fault and cause.
const KINDS: [(&str, &str); 15] = [
    ("network", "line-short"),
    ("network", "upload-here"),
    ("network", "upload-beyond"),
    ("network", "local-link"),
    ("network", "route"),
    ("network", "server-slow"),
    ("network", "server-away"),
    ("encoder", "preset-heavy"),
    ("encoder", "cpu-starved"),
    ("encoder", "encoder-full"),
    ("encoder", "heat"),
    ("encoder", "disk"),
    ("rendering", "gpu-saturated"),
    ("rendering", "scene-heavy"),
    ("rendering", "cpu-starved"),
];

/// Programs of the observatory that get in the way.
const PROGRAMS: [&str; 6] =
    ["plate-stitch", "archive-sync", "comet-solver", "dome-vision", "sky-survey", "plate-reader"];

/// One evening in the making.
struct Draft {
    noise: Noise,
    line: LineConditions,
    broadcaster: BroadcasterConditions,
    machine: MachineConditions,
    servers: Vec<ServerStart>,
    events: Vec<Event>,
    shapes: Shapes,
}

impl Evening {
    /// An evening drawn from a seed, and what is truly wrong in it.
    #[must_use]
    pub fn made_up(seed: u64, shapes: Shapes) -> (Self, Truth) {
        let part = match shapes {
            Shapes::Known => "evening",
            Shapes::HeldOut => "evening held out",
        };
        let mut draft = Draft::new(Noise::new(seed, part), shapes);
        let from_s = draft.noise.between(17.0, 24.0).round();
        let mut truth =
            Truth { wrong: Vec::new(), from_s, to_s: from_s + 22.0, end_s: from_s + 34.0, ..Truth::default() };
        let kinds = draft.kinds(seed);
        for (fault, cause) in &kinds {
            if *cause == "line-short" {
                // A bitrate over the line is so from the first second.
                truth.from_s = 1.0;
            }
            draft.put(fault, cause, from_s, truth.to_s);
            truth.wrong.push(Wrong { fault: (*fault).into(), cause: (*cause).into() });
        }
        if kinds.is_empty() {
            // What is meant to be harmless and costs frames after all is what it is.
            truth.wrong.extend(draft.harmless(from_s, truth.to_s));
        }
        draft.events.sort_by_key(Event::at);
        (draft.finish(seed, shapes), truth)
    }

    /// An hour drawn from a seed in which nothing happens but ordinary noise.
    #[must_use]
    pub fn made_up_calm_hour(seed: u64) -> (Self, Truth) {
        let draft = Draft::new(Noise::new(seed, "calm hour"), Shapes::HeldOut);
        let truth = Truth { from_s: 3600.0, to_s: 3600.0, end_s: 3600.0, ..Truth::default() };
        let evening = draft.finish(seed, Shapes::HeldOut);
        (Self { slug: format!("calm-hour-{seed}"), ..evening }, truth)
    }
}

impl Draft {
    fn new(mut noise: Noise, shapes: Shapes) -> Self {
        let held_out = shapes == Shapes::HeldOut;
        let fps = *pick(&mut noise, if held_out { &[25, 30, 48, 60] } else { &[30, 50, 60] });
        let (width, height) = *pick(&mut noise, &[(1280, 720), (1600, 900), (1920, 1080)]);
        let interval = 1000.0 / f64::from(fps);
        let video_kbps = noise.between(2200.0, if held_out { 9500.0 } else { 8000.0 }).round() as u64;
        let broadcaster = BroadcasterConditions {
            width,
            height,
            fps,
            video_kbps,
            audio_kbps: *pick(&mut noise, &[96, 128, 160]),
            render_ms: interval * noise.between(0.3, 0.72),
            encode_ms: interval * noise.between(0.3, 0.72),
            reports: noise.chance(0.5),
            pads: noise.chance(0.3),
            ..BroadcasterConditions::default()
        };
        let total = (video_kbps + broadcaster.audio_kbps) as f64;
        let line = LineConditions {
            up_kbps: total * noise.between(1.4, 4.0),
            delay_ms: noise.between(3.0, if held_out { 45.0 } else { 30.0 }),
            jitter_ms: noise.between(0.0, 4.0),
            buffer_ms: noise.between(250.0, 900.0),
            gateway_ms: noise.between(0.4, 3.5),
            ..LineConditions::default()
        };
        let machine = MachineConditions {
            cpu: noise.between(0.15, 0.6),
            broadcaster_cpu: noise.between(0.08, 0.14),
            gpu_render: noise.between(0.2, 0.8),
            gpu_encode: noise.between(0.0, 0.6),
            wireless: noise.chance(0.4),
            signal_dbm: noise.between(-66.0, -40.0),
            frequency: noise.between(0.9, 0.99),
            celsius: noise.between(50.0, 88.0),
            disk_write_ms: noise.between(0.5, 18.0),
            disk_pressure: noise.between(0.0, 0.1),
            upload: noise.chance(0.3).then(|| Uploader { name: "star-log".into(), kbps: noise.between(10.0, 150.0) }),
            other: noise
                .chance(0.6)
                .then(|| OtherProgram { name: "star-map".into(), share: noise.between(0.01, 0.12) }),
            ..MachineConditions::default()
        };
        let servers = ["Aldmoor", "Brackwater", "Cindervale"]
            .iter()
            .map(|name| ServerStart {
                name: (*name).into(),
                delay_ms: noise.between(1.0, 40.0),
                jitter_ms: noise.between(0.0, 3.0),
                ..ServerStart::default()
            })
            .collect();
        Self { noise, line, broadcaster, machine, servers, events: Vec::new(), shapes }
    }

    /// One in eight is calm, one in eight has two troubles of different stages, the others one each, in turn.
    fn kinds(&mut self, seed: u64) -> Vec<(&'static str, &'static str)> {
        let at = |n: u64| KINDS[usize::try_from(n % KINDS.len() as u64).unwrap_or(0)];
        match seed % 8 {
            0 => Vec::new(),
            1 => {
                let first = at(seed / 8);
                let mut second = at(seed / 8 + 4 + seed % 5);
                // What takes the CPU, or heats the machine, troubles all that runs on it: beside another trouble of the
                // machine, who could say which it is?
                let machine_wide = |kind: (&str, &str)| matches!(kind.1, "cpu-starved" | "heat");
                let muddled = |second: (&str, &str)| {
                    first.0 != "network" && second.0 != "network" && (machine_wide(first) || machine_wide(second))
                };
                let mut step = 0;
                while second.0 == first.0 || muddled(second) {
                    step += 1;
                    second = at(seed / 8 + step);
                }
                vec![first, second]
            }
            _ => vec![at(seed / 8 * 6 + seed % 8)],
        }
    }

    fn total_kbps(&self) -> f64 {
        (self.broadcaster.video_kbps + self.broadcaster.audio_kbps) as f64
    }

    fn interval_ms(&self) -> f64 {
        1000.0 / f64::from(self.broadcaster.fps)
    }

    fn program(&mut self) -> String {
        (*pick(&mut self.noise, &PROGRAMS)).to_owned()
    }

    fn event(&mut self, at_s: f64, change: impl FnOnce(&mut Event)) {
        let mut event = Event { at_s, ..Event::default() };
        change(&mut event);
        self.events.push(event);
    }

    /// When trouble of full weight holds, from and to, in seconds: at once, in steps, or on and off.
    fn spells(&mut self, from: f64, to: f64) -> Vec<(f64, f64, f64)> {
        if self.shapes == Shapes::HeldOut && self.noise.chance(0.5) {
            let on = self.noise.between(5.0, 8.0);
            let off = self.noise.between(2.0, 3.5);
            let mut spells = Vec::new();
            let mut at = from;
            while at + on < to {
                spells.push((at, at + on, 1.0));
                at += on + off;
            }
            return spells;
        }
        if self.noise.chance(0.4) {
            let climb = self.noise.between(2.0, 5.0);
            return vec![(from, from + climb, 0.6), (from + climb, to, 1.0)];
        }
        vec![(from, to, 1.0)]
    }

    /// Puts a trouble into the evening.
    fn put(&mut self, fault: &str, cause: &str, from: f64, to: f64) {
        match fault {
            "network" => self.network(cause, from, to),
            "encoder" => self.encoder(cause, from, to),
            _ => self.rendering(cause, from, to),
        }
    }

    fn network(&mut self, cause: &str, from: f64, to: f64) {
        let total = self.total_kbps();
        // Mild to severe: what is left, as a share of what is asked.
        let left = total * self.noise.between(0.35, 0.9);
        let up = self.line.up_kbps;
        let aldmoor = |event: &mut Event, reads: Option<f64>, route: Option<f64>, away: Option<bool>| {
            event.server = Some(crate::evening::ServerChange {
                name: "Aldmoor".into(),
                reads_kbps: reads,
                route_kbps: route,
                away,
            });
        };
        match cause {
            "line-short" => self.line.up_kbps = left,
            "server-away" => {
                self.event(from, |e| aldmoor(e, None, None, Some(true)));
                self.event(to, |e| aldmoor(e, None, None, Some(false)));
            }
            _ => {
                let name = self.program();
                if cause == "local-link" {
                    self.machine.wireless = self.noise.chance(0.85);
                    self.machine.signal_dbm = self.noise.between(-86.0, -60.0);
                }
                for (start, end, weight) in self.spells(from, to) {
                    let left = total - (total - left) * weight;
                    let upload = |kbps: f64| Some(Uploader { name: name.clone(), kbps });
                    match cause {
                        "upload-here" => {
                            let before = self.machine.uploads_kbps();
                            self.event(start, |e| e.machine.upload = upload(up - left));
                            self.event(end, |e| e.machine.upload = upload(before));
                        }
                        "upload-beyond" => {
                            let here = self.machine.uploads_kbps();
                            self.event(start, |e| e.line.others_kbps = Some(up - left - here));
                            self.event(end, |e| e.line.others_kbps = Some(0.0));
                        }
                        "local-link" => {
                            self.event(start, |e| e.line.link_kbps = Some(left));
                            self.event(end, |e| e.line.link_kbps = Some(300_000.0));
                        }
                        "route" => {
                            self.event(start, |e| aldmoor(e, None, Some(left), None));
                            self.event(end, |e| aldmoor(e, None, Some(1e9), None));
                        }
                        _ => {
                            self.event(start, |e| aldmoor(e, Some(left), None, None));
                            self.event(end, |e| aldmoor(e, Some(1e9), None, None));
                        }
                    }
                }
            }
        }
    }

    /// What a hog does to a machine: how full the CPU gets, what it takes, and how much slower everything else is.
    fn hog(&mut self) -> (MachineChange, f64) {
        let name = self.program();
        let (demand, own) = (self.noise.between(0.55, 1.2), self.machine.broadcaster_cpu);
        let rest = self.machine.cpu - own;
        // More is wanted than there is: each gets its part.
        let wanted = demand + own + rest;
        let slower = (wanted * self.noise.between(1.3, 2.0)).max(1.0);
        let share = (demand / wanted).min(0.9);
        let change = MachineChange {
            cpu: Some(self.noise.between(0.97, 1.0)),
            broadcaster_cpu: Some(own / wanted),
            other: Some(OtherProgram { name, share }),
            ..MachineChange::default()
        };
        (change, slower)
    }

    /// What puts a change of the machine back, and nothing else.
    fn back_from(&self, change: &MachineChange) -> MachineChange {
        let machine = &self.machine;
        let back = |changed: Option<f64>, calm: f64| changed.map(|_| calm);
        let program = |changed: &Option<OtherProgram>, calm: &Option<OtherProgram>| {
            let gone = || OtherProgram { name: "nobody".into(), share: 0.0 };
            changed.as_ref().map(|_| calm.clone().unwrap_or_else(gone))
        };
        MachineChange {
            cpu: back(change.cpu, machine.cpu),
            broadcaster_cpu: back(change.broadcaster_cpu, machine.broadcaster_cpu),
            gpu_render: back(change.gpu_render, machine.gpu_render),
            gpu_encode: back(change.gpu_encode, machine.gpu_encode),
            frequency: back(change.frequency, machine.frequency),
            throttles: back(change.throttles, machine.throttles),
            celsius: back(change.celsius, machine.celsius),
            disk_write_ms: back(change.disk_write_ms, machine.disk_write_ms),
            disk_pressure: back(change.disk_pressure, machine.disk_pressure),
            other: program(&change.other, &machine.other),
            gpu_other: program(&change.gpu_other, &machine.gpu_other),
            gpu_encode_other: program(&change.gpu_encode_other, &machine.gpu_encode_other),
            ..MachineChange::default()
        }
    }

    /// A machine that is too hot: its clock falls, and everything takes longer by as much.
    fn heat(&mut self) -> (MachineChange, f64) {
        let frequency = self.noise.between(0.4, 0.72);
        let tells = self.noise.chance(0.6);
        let change = MachineChange {
            frequency: Some(frequency),
            celsius: Some(self.noise.between(93.5, 97.0)),
            throttles: tells.then(|| self.noise.between(0.5, 20.0)),
            cpu: Some((self.machine.cpu / frequency).min(0.85)),
            ..MachineChange::default()
        };
        (change, 1.0 / frequency)
    }

    /// Only what is over the time there is costs frames: what is slowed down lands this far over it.
    fn over(&mut self, weight: f64) -> f64 {
        self.interval_ms() * (1.0 + self.noise.between(0.08, 1.3) * weight)
    }

    fn encoder(&mut self, cause: &str, from: f64, to: f64) {
        let (normal, interval) = (self.broadcaster.encode_ms, self.interval_ms());
        let waits = cause == "preset-heavy" && self.noise.chance(0.25);
        self.broadcaster.waits = waits;
        // An encoder that waits reports no skipped frames: most of the kind report nothing at all.
        self.broadcaster.reports &= !waits;
        for (start, end, weight) in self.spells(from, to) {
            let mut encode_ms = Some(self.over(weight));
            let mut stall_ms = None;
            let change = match cause {
                "cpu-starved" => {
                    let (change, slower) = self.hog();
                    encode_ms = Some((normal * slower).max(interval * 1.15));
                    change
                }
                "encoder-full" => {
                    let named = self.noise.chance(0.5).then(|| self.program());
                    MachineChange {
                        gpu_encode: Some(self.noise.between(0.97, 1.0)),
                        gpu_encode_other: named.map(|name| OtherProgram { name, share: self.noise.between(0.3, 0.6) }),
                        ..MachineChange::default()
                    }
                }
                "heat" => {
                    let (change, slower) = self.heat();
                    encode_ms = Some((normal * slower).max(interval * 1.12));
                    change
                }
                "disk" => {
                    encode_ms = None;
                    stall_ms = Some(interval * self.noise.between(4.0, 14.0) * weight.max(0.8));
                    MachineChange {
                        disk_write_ms: Some(self.noise.between(110.0, 900.0)),
                        disk_pressure: Some(self.noise.between(0.3, 0.9)),
                        ..MachineChange::default()
                    }
                }
                _ => MachineChange {
                    cpu: Some((self.machine.cpu + 0.2).min(0.97)),
                    broadcaster_cpu: Some((self.machine.broadcaster_cpu + 0.2).min(0.9)),
                    ..MachineChange::default()
                },
            };
            let calm = self.back_from(&change);
            self.event(start, |e| {
                (e.broadcaster.encode_ms, e.broadcaster.stall_ms, e.machine) = (encode_ms, stall_ms, change);
            });
            self.event(end, |e| {
                (e.broadcaster.encode_ms, e.broadcaster.stall_ms, e.machine) = (Some(normal), Some(0.0), calm);
            });
        }
    }

    fn rendering(&mut self, cause: &str, from: f64, to: f64) {
        let (normal, interval) = (self.broadcaster.render_ms, self.interval_ms());
        for (start, end, weight) in self.spells(from, to) {
            let mut render_ms = self.over(weight);
            let change = match cause {
                "gpu-saturated" => {
                    let named = self.noise.chance(0.6).then(|| self.program());
                    MachineChange {
                        gpu_render: Some(self.noise.between(0.975, 1.0)),
                        gpu_other: named.map(|name| OtherProgram { name, share: self.noise.between(0.3, 0.7) }),
                        ..MachineChange::default()
                    }
                }
                "cpu-starved" => {
                    let (change, slower) = self.hog();
                    render_ms = (normal * slower).max(interval * 1.15);
                    change
                }
                _ => MachineChange { gpu_render: Some(self.noise.between(0.3, 0.85)), ..MachineChange::default() },
            };
            let calm = self.back_from(&change);
            self.event(start, |e| (e.broadcaster.render_ms, e.machine) = (Some(render_ms), change));
            self.event(end, |e| (e.broadcaster.render_ms, e.machine) = (Some(normal), calm));
        }
    }

    /// Nothing is wrong, though it may look so.
    fn harmless(&mut self, from: f64, to: f64) -> Option<Wrong> {
        let up = self.line.up_kbps;
        match (self.noise.between(0.0, 7.0)) as u32 {
            0 => {
                self.broadcaster.still = true;
                self.broadcaster.reports = false;
            }
            1 => {
                // The CPU is full, and the encoder gets what it needs all the same.
                let (change, _) = self.hog();
                let calm = self.back_from(&change);
                self.event(from, |e| e.machine = change);
                self.event(to, |e| e.machine = calm);
            }
            2 => {
                let kbps = (up - self.total_kbps() * 1.15).max(0.0);
                let (name, before) = (self.program(), self.machine.uploads_kbps());
                let upload = |kbps: f64| Some(Uploader { name: name.clone(), kbps });
                self.event(from, |e| e.machine.upload = upload(kbps));
                self.event(to, |e| e.machine.upload = upload(before));
                return Some(Wrong { fault: "network".into(), cause: "upload-here".into() });
            }
            3 => {
                let (mut change, _) = self.heat();
                change.cpu = None;
                let calm = self.back_from(&change);
                self.event(from, |e| e.machine = change);
                self.event(to, |e| e.machine = calm);
            }
            4 => {
                // A hiccup of a few tenths of a second, which the queue bridges.
                let left = self.total_kbps() * 0.4;
                let lasts = self.noise.between(0.2, 0.8);
                self.event(from, |e| e.line.others_kbps = Some(up - left));
                self.event(from + lasts, |e| e.line.others_kbps = Some(0.0));
            }
            5 => {
                self.event(from, |e| e.broadcaster.paused = Some(true));
                self.event(from + 6.0, |e| e.broadcaster.paused = Some(false));
            }
            _ => {}
        }
        None
    }

    fn finish(self, seed: u64, shapes: Shapes) -> Evening {
        let Self { line, broadcaster, machine, servers, events, .. } = self;
        Evening {
            one_at_a_time: false,
            slug: format!("{}-{seed}", if shapes == Shapes::Known { "known" } else { "held-out" }),
            name: format!("made-up evening {seed}"),
            story: "Drawn from a seed.".into(),
            seed,
            line,
            broadcaster,
            machine,
            servers,
            events,
            expect: None,
        }
    }
}

fn pick<'a, T>(noise: &mut Noise, from: &'a [T]) -> &'a T {
    let at = noise.between(0.0, from.len() as f64) as usize;
    &from[at.min(from.len() - 1)]
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_cause_there_is_is_made_up_but_for_a_refusal_which_needs_no_telling_apart() {
        for cause in moth_core::suspects::Cause::ALL {
            let is_made_up = KINDS.iter().any(|(_, slug)| *slug == cause.slug());
            assert!(is_made_up || cause.slug() == "server-refuses", "{}", cause.slug());
        }
        let slugs: Vec<&str> = moth_core::suspects::Cause::ALL.iter().map(|cause| cause.slug()).collect();
        assert!(KINDS.iter().all(|(_, slug)| slugs.contains(slug)));
    }

    #[test]
    fn every_kind_is_drawn_and_an_eighth_each_is_calm_and_twofold() {
        for shapes in [Shapes::Known, Shapes::HeldOut] {
            let drawn: Vec<Truth> = (0..1000).map(|seed| Evening::made_up(seed, shapes).1).collect();
            let count = |n: usize| drawn.iter().filter(|truth| truth.wrong.len() == n).count();
            assert!((90..=125).contains(&count(0)), "{} of an eighth are calm, the rest harmless", count(0));
            assert_eq!((count(0) + count(1), count(2)), (875, 125));
            for (fault, cause) in KINDS {
                let found =
                    drawn.iter().filter(|t| t.wrong.iter().any(|w| w.fault == fault && w.cause == cause)).count();
                assert!(found > 40, "{fault} {cause}: {found}");
            }
        }
    }

    #[test]
    fn the_same_seed_draws_the_same_evening() {
        assert_eq!(Evening::made_up(7, Shapes::Known), Evening::made_up(7, Shapes::Known));
        assert_ne!(Evening::made_up(7, Shapes::Known).0, Evening::made_up(7, Shapes::HeldOut).0);
    }
}
