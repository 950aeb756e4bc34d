//! Whatever a sender says to the feed, line by line.
#![no_main]

use libfuzzer_sys::fuzz_target;
use moth_core::figure::Origin;
use moth_core::moment::Moment;
use moth_core::reading::{Observation, Reading};
use moth_core::{Core, Settings};
use moth_feed::{Heard, Reports};

fuzz_target!(|bytes: &[u8]| {
    let mut reports = Reports::default();
    let mut core = Core::new(Settings { servers: vec!["one".into()] });
    for (n, line) in (0_u64..).zip(bytes.split(|byte| *byte == b'\n')) {
        let at = Moment::from_ms(n * 500);
        for heard in reports.line(line).unwrap_or_default() {
            let what = match heard {
                Heard::Counters(counters) => Observation::Counters(counters),
                Heard::Stream(facts) => Observation::Stream(facts),
                Heard::Answer(_) => continue,
            };
            core.take(&Reading { at, origin: Origin::Reported, what });
        }
        let _ = core.snapshot(at);
        if reports.is_hopeless() || n > 200 {
            return;
        }
    }
});
