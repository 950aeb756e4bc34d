//! An evening: a small file that says how things stand at first, and what happens when.

use std::str::FromStr;
use std::time::Duration;

use serde::Deserialize;

use crate::conditions::{
    BroadcasterConditions, Conditions, LineConditions, MachineConditions, OtherProgram, ServerConditions, Uploader,
};

/// A scripted evening.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Evening {
    /// Its slug, which is its file's name.
    #[serde(skip)]
    pub slug: String,
    /// Its name.
    pub name: String,
    /// What happens, in a sentence or two.
    pub story: String,
    /// The seed of everything random in it, unless another is given.
    #[serde(default = "default_seed")]
    pub seed: u64,
    /// The service takes one connection at a time.
    #[serde(default)]
    pub one_at_a_time: bool,
    #[serde(default)]
    pub(crate) line: LineConditions,
    #[serde(default)]
    pub(crate) broadcaster: BroadcasterConditions,
    #[serde(default)]
    pub(crate) machine: MachineConditions,
    #[serde(default, rename = "server")]
    pub(crate) servers: Vec<ServerStart>,
    #[serde(default, rename = "event")]
    pub(crate) events: Vec<Event>,
    /// The verdict it should come to; none for an evening on which nothing is wrong.
    pub expect: Option<Expectation>,
}

fn default_seed() -> u64 {
    41
}

/// The verdict an evening should come to.
#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Expectation {
    /// `network`, `encoder` or `rendering`.
    pub fault: String,
    /// A cause's slug.
    pub cause: String,
    /// Trouble begins, in seconds from the start.
    pub from_s: f64,
    /// Trouble ends, or the script does, in seconds from the start.
    pub to_s: f64,
}

#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct ServerStart {
    pub(crate) name: String,
    pub(crate) delay_ms: f64,
    pub(crate) jitter_ms: f64,
    pub(crate) route_kbps: Option<f64>,
    pub(crate) reads_kbps: Option<f64>,
    pub(crate) away: bool,
}

/// Something that happens. What is not named stays as it is.
#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Event {
    pub(crate) at_s: f64,
    pub(crate) what: String,
    #[serde(default)]
    pub(crate) line: LineChange,
    pub(crate) server: Option<ServerChange>,
    #[serde(default)]
    pub(crate) broadcaster: BroadcasterChange,
    #[serde(default)]
    pub(crate) machine: MachineChange,
}

#[derive(Debug, Clone, Copy, PartialEq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct LineChange {
    pub(crate) up_kbps: Option<f64>,
    pub(crate) delay_ms: Option<f64>,
    pub(crate) jitter_ms: Option<f64>,
    pub(crate) others_kbps: Option<f64>,
    pub(crate) link_kbps: Option<f64>,
}

#[derive(Debug, Clone, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct ServerChange {
    pub(crate) name: String,
    pub(crate) reads_kbps: Option<f64>,
    pub(crate) route_kbps: Option<f64>,
    pub(crate) away: Option<bool>,
}

#[derive(Debug, Clone, Copy, PartialEq, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub(crate) struct BroadcasterChange {
    pub(crate) render_ms: Option<f64>,
    pub(crate) encode_ms: Option<f64>,
    pub(crate) stall_ms: Option<f64>,
    pub(crate) reports: Option<bool>,
    pub(crate) still: Option<bool>,
    pub(crate) paused: Option<bool>,
    pub(crate) waits: Option<bool>,
    pub(crate) audio_kbps: Option<u64>,
    pub(crate) muted: Option<bool>,
    pub(crate) sound_gains: Option<f64>,
}

#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct MachineChange {
    pub(crate) cpu: Option<f64>,
    pub(crate) broadcaster_cpu: Option<f64>,
    pub(crate) gpu_render: Option<f64>,
    pub(crate) gpu_encode: Option<f64>,
    pub(crate) frequency: Option<f64>,
    pub(crate) throttles: Option<f64>,
    pub(crate) celsius: Option<f64>,
    pub(crate) disk_write_ms: Option<f64>,
    pub(crate) disk_pressure: Option<f64>,
    pub(crate) signal_dbm: Option<f64>,
    pub(crate) other: Option<OtherProgram>,
    pub(crate) gpu_other: Option<OtherProgram>,
    pub(crate) gpu_encode_other: Option<OtherProgram>,
    pub(crate) upload: Option<Uploader>,
}

/// Why a text is not an evening.
#[derive(Debug, thiserror::Error)]
pub enum EveningError {
    /// Not the TOML that is expected; says line and column.
    #[error("{0}")]
    Format(#[from] toml::de::Error),
    /// An event names a server that is not there.
    #[error("the event at {at_s} s names the server `{name}`, which this evening does not have")]
    Server {
        /// When the event is.
        at_s: f64,
        /// The name.
        name: String,
    },
    /// A number that cannot be.
    #[error("{what} is {value}; {expected}")]
    Range {
        /// Which number.
        what: String,
        /// What it is.
        value: f64,
        /// What it may be.
        expected: &'static str,
    },
}

/// The servers of the demo's world, and their one-way delays in milliseconds.
const NOCTURNE: [(&str, f64); 6] = [
    ("Aldmoor", 3.0),
    ("Brackwater", 6.0),
    ("Cindervale", 9.0),
    ("Dunmere", 14.0),
    ("Elmsreach", 21.0),
    ("Farrowgate", 38.0),
];

impl FromStr for Evening {
    type Err = EveningError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let mut evening: Self = toml::from_str(text)?;
        if evening.servers.is_empty() {
            evening.servers = NOCTURNE
                .map(|(name, delay_ms)| ServerStart { name: name.into(), delay_ms, ..ServerStart::default() })
                .into();
        }
        evening.events.sort_by(|a, b| a.at_s.total_cmp(&b.at_s));
        evening.check()?;
        Ok(evening)
    }
}

impl Evening {
    fn check(&self) -> Result<(), EveningError> {
        let within = |what: String, value: f64, ok: bool, expected| {
            if ok { Ok(()) } else { Err(EveningError::Range { what, value, expected }) }
        };
        let b = &self.broadcaster;
        within("broadcaster.fps".into(), b.fps.into(), (1..=240).contains(&b.fps), "from 1 to 240 frames/s")?;
        within(
            "broadcaster.video_kbps".into(),
            b.video_kbps as f64,
            (50..=100_000).contains(&b.video_kbps),
            "from 50 to 100 000 kb/s",
        )?;
        for event in &self.events {
            let at = |what: &str| format!("{what} of the event at {} s", event.at_s);
            within(at("at_s"), event.at_s, (0.0..=86_400.0).contains(&event.at_s), "from 0 to 86 400 s")?;
            if let Some(kbps) = event.line.up_kbps {
                within(at("line.up_kbps"), kbps, (0.0..=1e7).contains(&kbps), "from 0 to 10 000 000 kb/s")?;
            }
            if let Some(server) = &event.server
                && !self.servers.iter().any(|s| s.name == server.name)
            {
                return Err(EveningError::Server { at_s: event.at_s, name: server.name.clone() });
            }
        }
        Ok(())
    }

    /// How things stand at first.
    #[must_use]
    pub(crate) fn conditions(&self) -> Conditions {
        let server = |s: &ServerStart| ServerConditions {
            name: s.name.clone(),
            delay_ms: s.delay_ms,
            jitter_ms: s.jitter_ms,
            route_kbps: s.route_kbps.unwrap_or(f64::INFINITY),
            reads_kbps: s.reads_kbps.unwrap_or(f64::INFINITY),
            away: s.away,
        };
        Conditions {
            line: self.line,
            servers: self.servers.iter().map(server).collect(),
            broadcaster: self.broadcaster,
            machine: self.machine.clone(),
        }
    }

    /// The same, beginning at this server if it has it.
    #[must_use]
    pub fn beginning_at(mut self, server: &str) -> Self {
        self.servers.sort_by_key(|start| start.name != server);
        self
    }

    /// The names of its servers, the first used first.
    #[must_use]
    pub fn servers(&self) -> Vec<String> {
        self.servers.iter().map(|s| s.name.clone()).collect()
    }
}

impl Event {
    /// When it happens, from the start.
    pub(crate) fn at(&self) -> Duration {
        Duration::from_secs_f64(self.at_s)
    }

    /// What it changes.
    pub(crate) fn apply(&self, conditions: &mut Conditions) {
        fn set<T: Copy>(to: &mut T, from: Option<T>) {
            if let Some(value) = from {
                *to = value;
            }
        }
        set(&mut conditions.line.up_kbps, self.line.up_kbps);
        set(&mut conditions.line.delay_ms, self.line.delay_ms);
        set(&mut conditions.line.jitter_ms, self.line.jitter_ms);
        set(&mut conditions.line.others_kbps, self.line.others_kbps);
        set(&mut conditions.line.link_kbps, self.line.link_kbps);
        set(&mut conditions.broadcaster.render_ms, self.broadcaster.render_ms);
        set(&mut conditions.broadcaster.encode_ms, self.broadcaster.encode_ms);
        set(&mut conditions.broadcaster.stall_ms, self.broadcaster.stall_ms);
        set(&mut conditions.broadcaster.reports, self.broadcaster.reports);
        set(&mut conditions.broadcaster.still, self.broadcaster.still);
        set(&mut conditions.broadcaster.paused, self.broadcaster.paused);
        set(&mut conditions.broadcaster.waits, self.broadcaster.waits);
        set(&mut conditions.broadcaster.audio_kbps, self.broadcaster.audio_kbps);
        set(&mut conditions.broadcaster.muted, self.broadcaster.muted);
        set(&mut conditions.broadcaster.sound_gains, self.broadcaster.sound_gains);
        set(&mut conditions.machine.cpu, self.machine.cpu);
        set(&mut conditions.machine.broadcaster_cpu, self.machine.broadcaster_cpu);
        set(&mut conditions.machine.gpu_render, self.machine.gpu_render);
        set(&mut conditions.machine.gpu_encode, self.machine.gpu_encode);
        set(&mut conditions.machine.frequency, self.machine.frequency);
        set(&mut conditions.machine.throttles, self.machine.throttles);
        set(&mut conditions.machine.celsius, self.machine.celsius);
        set(&mut conditions.machine.disk_write_ms, self.machine.disk_write_ms);
        set(&mut conditions.machine.disk_pressure, self.machine.disk_pressure);
        set(&mut conditions.machine.signal_dbm, self.machine.signal_dbm);
        // A program that takes nothing any more is gone.
        let put = |to: &mut Option<OtherProgram>, from: &Option<OtherProgram>| {
            if let Some(program) = from {
                *to = (program.share > 0.0).then(|| program.clone());
            }
        };
        put(&mut conditions.machine.other, &self.machine.other);
        put(&mut conditions.machine.gpu_other, &self.machine.gpu_other);
        put(&mut conditions.machine.gpu_encode_other, &self.machine.gpu_encode_other);
        if let Some(upload) = &self.machine.upload {
            conditions.machine.upload = (upload.kbps > 0.0).then(|| upload.clone());
        }
        if let Some(change) = &self.server {
            for server in conditions.servers.iter_mut().filter(|s| s.name == change.name) {
                set(&mut server.reads_kbps, change.reads_kbps);
                set(&mut server.away, change.away);
                set(&mut server.route_kbps, change.route_kbps);
            }
        }
    }
}

/// The evenings that come with the program: slug and text.
const SHIPPED: [(&str, &str); 13] = [
    ("calm", include_str!("../evenings/calm.toml")),
    ("archive-sync", include_str!("../evenings/archive-sync.toml")),
    ("dish-wash", include_str!("../evenings/dish-wash.toml")),
    ("tired-server", include_str!("../evenings/tired-server.toml")),
    ("bad-route", include_str!("../evenings/bad-route.toml")),
    ("nebula-scene", include_str!("../evenings/nebula-scene.toml")),
    ("ambitious-preset", include_str!("../evenings/ambitious-preset.toml")),
    ("warm-dome", include_str!("../evenings/warm-dome.toml")),
    ("stitching-job", include_str!("../evenings/stitching-job.toml")),
    ("two-at-once", include_str!("../evenings/two-at-once.toml")),
    ("blackout", include_str!("../evenings/blackout.toml")),
    ("still-slide", include_str!("../evenings/still-slide.toml")),
    ("mute-microphone", include_str!("../evenings/mute-microphone.toml")),
];

/// The evenings that come with the program.
#[must_use]
pub fn shipped() -> Vec<Evening> {
    let parse = |(slug, text): &(&str, &str)| {
        let evening = text.parse::<Evening>().ok()?;
        Some(Evening { slug: (*slug).to_owned(), ..evening })
    };
    SHIPPED.iter().filter_map(parse).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_shipped_evening_is_read_and_its_trouble_starts_within_20_s() {
        let evenings = shipped();
        assert_eq!(evenings.len(), SHIPPED.len());
        for evening in evenings {
            assert!(evening.events.first().is_none_or(|e| (15.0..=20.0).contains(&e.at_s)), "{}", evening.slug);
            let is_well = ["calm", "still-slide", "mute-microphone"].contains(&evening.slug.as_str());
            assert_eq!(evening.expect.is_none(), is_well, "{}", evening.slug);
        }
    }

    #[test]
    fn a_mistake_is_named_with_its_place() {
        let error = |text: &str| text.parse::<Evening>().unwrap_err().to_string();
        assert!(error("name = \"x\"\nstory = 3\n").contains("line 2"));
        assert!(error("name = \"x\"\nstory = \"y\"\nlenght = 3\n").contains("lenght"));
        let event = |what: &str| format!("name = \"x\"\nstory = \"y\"\n[[event]]\nat_s = 1\nwhat = \"z\"\n{what}\n");
        assert_eq!(
            error(&event("server = { name = \"Nowhere\", away = true }")),
            "the event at 1 s names the server `Nowhere`, which this evening does not have"
        );
        assert!(error(&event("line = { up_kbps = -1 }")).contains("from 0 to 10 000 000 kb/s"));
    }
}
