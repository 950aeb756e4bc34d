//! Whatever a readings file holds: it is read to its end or its damage, and the core judges on what came before.
#![no_main]

use std::path::PathBuf;

use libfuzzer_sys::fuzz_target;
use moth_core::moment::Moment;
use moth_core::{Core, Settings};
use moth_logbook::readings::Reader;

/// Beyond this nothing new happens, and the fuzzer would only wait.
const LONGEST_S: f64 = 120.0;

fuzz_target!(|bytes: &[u8]| {
    let path = PathBuf::from(format!("/dev/shm/moth-fuzz-{}.jsonl", std::process::id()));
    let header: &[u8] = b"{\"moth_readings\":1,\"servers\":[\"one\",\"two\"]}\n";
    let begins = bytes.starts_with(b"{\"moth_readings\"");
    let file = if begins { bytes.to_vec() } else { [header, bytes].concat() };
    if std::fs::write(&path, file).is_err() {
        return;
    }
    let Ok(mut reader) = Reader::open(&path) else { return };
    let mut core = Core::new(Settings { servers: reader.header.servers.clone() });
    let mut last = Moment::START;
    for reading in reader.by_ref().take(400) {
        if reading.at.seconds() > LONGEST_S {
            return;
        }
        last = reading.at;
        core.take(&reading);
        let _ = core.snapshot(last);
    }
    let _ = core.snapshot(last);
});
