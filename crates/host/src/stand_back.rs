//! A process that works beside a broadcast and must never be in its way.

use std::io;

use rustix::process::{Resource, Rlimit, setpriority_process, setrlimit};

/// Fully idle (`SCHED_IDLE`) it would see nothing in just the minutes in which the processor is what is short. Ours.
const NICENESS: i32 = 10;
/// Memory a process that stands back may use, in bytes. Ours.
const MOST_MEMORY: u64 = 1 << 30;

/// Gives everybody else the processor before this process (niceness 10: about a tenth of what others get where they want all of
/// it), little memory, and no more files or connections than it has: it works on what comes from outside.
///
/// # Errors
/// What the system says.
pub fn stand_back() -> io::Result<()> {
    setpriority_process(None, NICENESS)?;
    let limit = |value| Rlimit { current: Some(value), maximum: Some(value) };
    setrlimit(Resource::As, limit(MOST_MEMORY))?;
    setrlimit(Resource::Fsize, limit(0))?;
    setrlimit(Resource::Core, limit(0))?;
    // Standard input, output and error.
    setrlimit(Resource::Nofile, limit(3))?;
    Ok(())
}

/// What draws screens beside a broadcast is less urgent than its frames, and still quick on a busy machine. Ours.
const LESS_URGENT: i32 = 5;

/// Lets the other threads go before this one (niceness 5: about a third of what they get where they want all of the processor).
///
/// # Errors
/// What the system says.
pub fn give_way() -> io::Result<()> {
    // A niceness is a thread's (sched(7)).
    Ok(setpriority_process(None, LESS_URGENT)?)
}

/// The time this process has worked so far.
#[must_use]
pub fn worked() -> std::time::Duration {
    let time = rustix::time::clock_gettime(rustix::time::ClockId::ProcessCPUTime);
    std::time::Duration::new(u64::try_from(time.tv_sec).unwrap_or(0), u32::try_from(time.tv_nsec).unwrap_or(0))
}
