//! Broadcasts to be kept.

use crate::show::{Now, Show};
use jiff::Zoned;
use moth_core::Snapshot;
use moth_logbook::{About, Kind};

pub fn at(text: &str) -> Zoned {
    text.parse().unwrap()
}

pub fn about(began: &str, setup: &str) -> About {
    About {
        began: at(began),
        kind: Kind::Broadcast,
        is_made_up: false,
        setup: setup.into(),
        service: "Nocturne".into(),
        told: moth_logbook::about::SetupTold { video_kbps: Some(6000.0), ..Default::default() },
    }
}

/// Seconds as they come, of which these lose frames to the line.
pub fn telling(is_bad: impl Fn(u64) -> bool) -> impl Iterator<Item = Snapshot> {
    let mut show = Show::new();
    (0..).map(move |second| {
        let now = if is_bad(second) {
            Now { carried_kbps: 4000 + second % 50, dropped_per_second: 10, queue_ms: 1900.0, ..Now::default() }
        } else {
            Now { queue_ms: 10.0 + (second % 7) as f64, ..Now::default() }
        };
        show.run(1, &now)
    })
}

/// So many of them.
pub fn told(seconds: usize, is_bad: impl Fn(u64) -> bool) -> Vec<Snapshot> {
    telling(is_bad).take(seconds).collect()
}
