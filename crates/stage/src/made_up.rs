//! What the demo says of a machine and its line, all of it made up.

use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_plan::check::{Disk, Governor, Heat, Load, Lookup, MachineFacts, Memory, Priority};
use moth_plan::surroundings::{Interface, Medium, Surroundings, Upload};

/// The observatory's line to the world.
#[must_use]
pub fn made_up_surroundings() -> Surroundings {
    Surroundings {
        interface: Some(Interface {
            name: "dome0".into(),
            medium: Some(Medium::Wired),
            rate: Some(Bitrate::from_kbps(1_000_000)),
            signal_dbm: None,
            errors: Some(0),
            drops: Some(2),
            qdisc: Some("fq_codel".into()),
        }),
        uploads: Some(vec![Upload { program: Some("archive-sync".into()), rate: Bitrate::from_kbps(310) }]),
        sending: Some(Bitrate::from_kbps(344)),
    }
}

/// The observatory's machine, a little warm.
#[must_use]
pub fn made_up_machine() -> MachineFacts {
    let around = made_up_surroundings();
    MachineFacts {
        interface: around.interface.ok_or_else(|| "not part of the demo".into()),
        uploads: around.uploads.ok_or_else(|| "not part of the demo".into()),
        cpu: Ok(Load {
            whole: Some(0.47),
            programs: vec![("stitch-mosaic".into(), 0.29), ("archive-sync".into(), 0.04)],
        }),
        gpu: Ok(Load { whole: Some(0.38), programs: vec![("star-map".into(), 0.08)] }),
        disk: Ok(Disk { folder: "/observatory/recordings".into(), free_bytes: 61_000_000_000 }),
        governor: Ok(Governor { name: "schedutil".into(), driver: "dome-cpufreq".into() }),
        heat: Ok(vec![Heat { name: "package".into(), celsius: 83.0, limit_celsius: Some(95.0) }]),
        memory: Ok(Memory { swap_used_bytes: 0, available_bytes: 9_300_000_000, pressure: Some(0.0) }),
        cpu_pressure: Ok(0.06),
        broadcaster: Ok(Priority { program: "presenter-desk".into(), nice: 0, is_background: false }),
        dns: Ok(["aldmoor", "brackwater", "cindervale", "dunmere", "elmsreach", "farrowgate"]
            .iter()
            .zip([14, 11, 16, 12, 19, 231])
            .map(|(name, ms)| Lookup { name: format!("{name}.nocturne.invalid"), took: Ok(Duration::from_millis(ms)) })
            .collect()),
    }
}
