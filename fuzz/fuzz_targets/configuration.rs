//! Whatever a configuration says: it is read, or the mistake is told with its line.
#![no_main]

use std::path::PathBuf;

use libfuzzer_sys::fuzz_target;
use moth_store::config::{ConfigError, ConfigFile};

fuzz_target!(|bytes: &[u8]| {
    let path = PathBuf::from(format!("/dev/shm/moth-fuzz-{}.toml", std::process::id()));
    if std::fs::write(&path, bytes).is_err() {
        return;
    }
    if let Err(ConfigError::Mistake { line, column, what, .. }) = ConfigFile::at(path).read() {
        assert!(line >= 1 && column >= 1 && !what.is_empty());
        assert!(line <= bytes.iter().filter(|byte| **byte == b'\n').count() + 1);
    }
});
