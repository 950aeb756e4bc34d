//! A broadcast told to the core reading by reading.

use moth_core::account::{Account, Accounts};
use moth_core::action::Action;
use moth_core::contradiction::Inspector;
use moth_core::figure::Origin;
use moth_core::machine_load::MachineLoad;
use moth_core::rate::Bitrate;
use moth_core::reading::{
    BroadcasterCounters, ConnectionFigures, LinkChange, Observation, QueueLevel, Reading, StreamFacts, VideoFrame,
};
use moth_core::viewers::Freezes;
use moth_core::{Core, Moment, Settings, Snapshot};

/// A broadcast of 6 Mb/s at 50 frames/s, told to the core a tenth of a second at a time.
pub struct Show {
    pub core: Core,
    pub ms: u64,
    pub accounts: Accounts,
    pub sent_bytes: u64,
    pub busy_us: u64,
    pub limited_us: u64,
    pub counters: BroadcasterCounters,
    pub readings: Vec<Reading>,
    pub queue: QueueLevel,
    /// What the encoder sends, which heeds what was done.
    pub video: Bitrate,
    inspector: Inspector,
}

/// How things stand while some time passes.
#[derive(Clone)]
pub struct Now {
    pub carried_kbps: u64,
    pub dropped_per_second: u64,
    pub skipped_per_second: u64,
    pub queue_ms: f64,
    pub rtt_ms: f64,
    pub receiver_limited: f64,
    pub machine: MachineLoad,
    pub encode_ms: f64,
}

impl Default for Now {
    fn default() -> Self {
        Self {
            carried_kbps: 6000,
            dropped_per_second: 0,
            skipped_per_second: 0,
            queue_ms: 10.0,
            rtt_ms: 20.0,
            receiver_limited: 0.0,
            machine: MachineLoad { cpu: Some(0.3), gpu_render: Some(0.5), ..MachineLoad::default() },
            encode_ms: 8.0,
        }
    }
}

impl Show {
    pub fn new() -> Self {
        let core = Core::new(Settings { servers: vec!["Aldmoor".into(), "Brackwater".into()] });
        let mut show = Self {
            core,
            ms: 0,
            accounts: Accounts::default(),
            sent_bytes: 0,
            busy_us: 0,
            limited_us: 0,
            counters: BroadcasterCounters::default(),
            readings: Vec::new(),
            inspector: Inspector::default(),
            video: Bitrate::from_kbps(6000),
            queue: QueueLevel { bytes: 1000, limit_ms: 2000.0, ..QueueLevel::default() },
        };
        show.tell(Observation::Broadcaster { present: true });
        let stream = StreamFacts {
            fps: Some(50.0),
            video_bitrate: Some(Bitrate::from_kbps(6000)),
            takes_bitrate: true,
            ..StreamFacts::default()
        };
        show.tell(Observation::Stream(stream));
        show.tell(Observation::Link(LinkChange::Up { server: "Aldmoor".into() }));
        show
    }

    pub fn tell(&mut self, what: Observation) {
        if let Observation::Acted { action: Action::SetBitrate { video }, failed: None, .. } = &what {
            self.video = *video;
        }
        let reading = Reading { at: Moment::from_ms(self.ms), origin: Origin::Measured, what };
        self.core.take(&reading);
        self.readings.push(reading);
    }

    pub fn run(&mut self, seconds: u64, now: &Now) -> Snapshot {
        for tenth in 0..seconds * 10 {
            for n in 0..5 {
                let time_ms = u32::try_from(self.ms).unwrap() + n * 20;
                self.tell(Observation::Video(VideoFrame {
                    time_ms,
                    // Fifty a second.
                    bytes: u32::try_from(self.video.bps() / 8 / 50).unwrap(),
                    keyframe: false,
                    ..VideoFrame::default()
                }));
            }
            self.ms += 100;
            let video = &mut self.accounts.video;
            let dropped = now.dropped_per_second / 10;
            *video = Account {
                offered: video.offered + 5,
                delivered: video.delivered + 5 - dropped,
                dropped: video.dropped + dropped,
                queued: 0,
            };
            self.sent_bytes += now.carried_kbps * 1000 / 8 / 10;
            self.busy_us += 100_000;
            self.limited_us += (100_000.0 * now.receiver_limited) as u64;
            let queue = QueueLevel { ms: now.queue_ms, ..self.queue };
            self.tell(Observation::Relay {
                accounts: self.accounts,
                queue,
                sent_bytes: self.sent_bytes,
                freezes: Freezes::default(),
                frozen_ms: None,
            });
            self.tell(Observation::Connection(ConnectionFigures {
                rtt_ms: Some(now.rtt_ms),
                busy_us: Some(self.busy_us),
                receiver_limited_us: Some(self.limited_us),
                ..ConnectionFigures::default()
            }));
            let skipped = self.counters.skipped.unwrap_or(0) + now.skipped_per_second / 10;
            self.counters =
                BroadcasterCounters { skipped: Some(skipped), encode_ms: Some(now.encode_ms), ..self.counters };
            self.tell(Observation::Counters(self.counters));
            if tenth % 10 == 9 {
                self.tell(Observation::Machine(Box::new(now.machine.clone())));
            }
            let snapshot = self.core.snapshot(Moment::from_ms(self.ms));
            assert_eq!(self.inspector.look(&snapshot), Vec::<String>::new());
        }
        self.core.snapshot(Moment::from_ms(self.ms))
    }

    /// A tenth of a second in which so many frames came before any keyframe.
    #[allow(dead_code, reason = "not every test needs it")]
    pub fn lose_before_keyframe(&mut self, frames: u64) {
        self.ms += 100;
        let video = &mut self.accounts.video;
        *video = Account { offered: video.offered + frames, dropped: video.dropped + frames, ..*video };
        self.tell(Observation::Relay {
            accounts: self.accounts,
            queue: self.queue,
            sent_bytes: self.sent_bytes,
            freezes: Freezes::default(),
            frozen_ms: None,
        });
    }
}
