//! The scheduling priority of the broadcaster.

use std::fs;
use std::io;
use std::net::SocketAddr;
use std::path::Path;

use rustix::process::{Pid, getpriority_process, setpriority_process};

use crate::socket_owner::owner_of;

/// Sets the niceness of the program at this end of a connection, from -20 (before all others) to 19; gives what it was.
///
/// # Errors
/// If there is no such program, or this user may not: raising a priority needs a right that most users do not have.
pub fn set_priority(peer: SocketAddr, nice: i32) -> io::Result<i32> {
    let gone = || io::Error::other("the broadcaster's program is not on this machine, or is another user's");
    let process = owner_of(Path::new("/proc"), peer).ok_or_else(gone)?;
    let before = getpriority_process(Pid::from_raw(process))?;
    // A niceness is a thread's (sched(7)); threads that are made later have that of the one that makes them.
    for thread in threads(process)? {
        match setpriority_process(Pid::from_raw(thread), nice) {
            Ok(()) => {}
            Err(rustix::io::Errno::ACCESS | rustix::io::Errno::PERM) => {
                return Err(io::Error::other(
                    "this user may not raise a priority: `ulimit -e` tells how far; lower that of other programs instead \
                     (`renice 10 -p NUMBER`)",
                ));
            }
            // It ended meanwhile.
            Err(rustix::io::Errno::SRCH) => {}
            Err(error) => return Err(error.into()),
        }
    }
    Ok(before)
}

fn threads(process: i32) -> io::Result<Vec<i32>> {
    let entries = fs::read_dir(format!("/proc/{process}/task"))?;
    Ok(entries.flatten().filter_map(|entry| entry.file_name().to_str()?.parse().ok()).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::{TcpListener, TcpStream};

    #[test]
    fn the_program_at_the_other_end_gets_another_priority_in_every_thread() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let stream = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
        let other = std::thread::spawn(std::thread::park);
        // Lowering one's own is always allowed.
        let before = set_priority(stream.local_addr().unwrap(), 3).unwrap();
        let me = i32::try_from(std::process::id()).unwrap();
        for thread in threads(me).unwrap() {
            assert_eq!(getpriority_process(Pid::from_raw(thread)).unwrap(), 3.max(before), "thread {thread}");
        }
        other.thread().unpark();
        other.join().unwrap();
        assert!(
            set_priority("127.0.0.1:9".parse().unwrap(), 3).unwrap_err().to_string().contains("not on this machine")
        );
    }
}
