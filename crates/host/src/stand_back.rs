//! A process that works beside a broadcast and must never be in its way.

use std::io;

use rustix::process::{Resource, Rlimit, setrlimit};

/// Memory a process that stands back may use, in bytes.
const MOST_MEMORY: u64 = 1 << 30;

/// Lets this process run only when a core would idle (`SCHED_IDLE`, sched(7)), with little memory, and with no more files or
/// connections than it has: it works on what comes from outside.
///
/// # Errors
/// What the system says.
pub fn stand_back() -> io::Result<()> {
    let priority = libc::sched_param { sched_priority: 0 };
    // SAFETY: the structure lives through the call, and 0 is this thread.
    #[allow(unsafe_code)]
    let result = unsafe { libc::sched_setscheduler(0, libc::SCHED_IDLE, &raw const priority) };
    if result != 0 {
        return Err(io::Error::last_os_error());
    }
    let limit = |value| Rlimit { current: Some(value), maximum: Some(value) };
    setrlimit(Resource::As, limit(MOST_MEMORY))?;
    setrlimit(Resource::Fsize, limit(0))?;
    setrlimit(Resource::Core, limit(0))?;
    // Standard input, output and error.
    setrlimit(Resource::Nofile, limit(3))?;
    Ok(())
}

/// The time this process has worked so far.
#[must_use]
pub fn worked() -> std::time::Duration {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    std::time::Duration::new(u64::try_from(time.tv_sec).unwrap_or(0), u32::try_from(time.tv_nsec).unwrap_or(0))
}
