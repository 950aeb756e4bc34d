//! Whether a process runs.

use std::path::Path;

use procfs_core::FromRead;
use procfs_core::process::Stat;

/// Whether a process runs. One that was killed and that nobody has taken leave of yet (a zombie) does not.
#[must_use]
pub fn runs(process: u32) -> bool {
    let stat = Stat::from_file(Path::new("/proc").join(process.to_string()).join("stat"));
    // What cannot be read may run.
    stat.map_or_else(
        |error| !matches!(error, procfs_core::ProcError::NotFound(_)),
        |stat| !matches!(stat.state, 'Z' | 'X' | 'x'),
    )
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_process_runs_until_it_ends_whoever_takes_leave_of_it() {
        assert!(runs(std::process::id()));
        let mut child = std::process::Command::new("cat").stdin(std::process::Stdio::piped()).spawn().unwrap();
        assert!(runs(child.id()));
        drop(child.stdin.take());
        // It ends by itself, and nobody has waited for it.
        while runs(child.id()) {
            std::thread::yield_now();
        }
        child.wait().unwrap();
        assert!(!runs(child.id()));
    }
}
