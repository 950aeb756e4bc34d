//! What the platform tells of a TCP connection. The one seam to the platform in this crate.
//!
//! On Linux: `getsockopt(TCP_INFO)` (field offsets from the kernel's `include/uapi/linux/tcp.h`, which
//! only ever grows at its end) and `ioctl(SIOCOUTQ)` (`tcp(7)`). Elsewhere nothing is told.

#[cfg(target_os = "linux")]
pub(crate) use linux::{figures, limit_unsent, send_by, unacknowledged_bytes};
#[cfg(not(target_os = "linux"))]
pub(crate) use other::{figures, limit_unsent, send_by, unacknowledged_bytes};

#[cfg(target_os = "linux")]
#[allow(unsafe_code)]
mod linux {
    use std::io;
    use std::os::fd::{AsFd, AsRawFd};

    use moth_core::rate::Bitrate;
    use moth_core::reading::ConnectionFigures;

    /// Bytes after `write_seq − snd_una`: written and not acknowledged.
    pub(crate) fn unacknowledged_bytes(socket: &impl AsFd) -> Option<u64> {
        let mut bytes: libc::c_int = 0;
        // SAFETY: the descriptor is open for as long as `socket` is borrowed, and TIOCOUTQ (the same
        // number as SIOCOUTQ) writes one int.
        let result = unsafe { libc::ioctl(socket.as_fd().as_raw_fd(), libc::TIOCOUTQ, &raw mut bytes) };
        if result == 0 { u64::try_from(bytes).ok() } else { None }
    }

    /// Keeps unsent bytes out of the kernel, so that what waits can be seen and dropped
    /// (`TCP_NOTSENT_LOWAT`, `tcp(7)`).
    pub(crate) fn limit_unsent(socket: &impl AsFd, bytes: u32) -> io::Result<()> {
        let value = libc::c_int::try_from(bytes).unwrap_or(libc::c_int::MAX);
        // SAFETY: the descriptor is open, and the option takes one int, whose address and size are given.
        let result = unsafe {
            libc::setsockopt(
                socket.as_fd().as_raw_fd(),
                libc::IPPROTO_TCP,
                libc::TCP_NOTSENT_LOWAT,
                (&raw const value).cast(),
                size_of::<libc::c_int>() as libc::socklen_t,
            )
        };
        if result == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
    }

    /// Chooses the congestion control of a connection (`TCP_CONGESTION`, `tcp(7)`).
    pub(crate) fn send_by(socket: &impl AsFd, congestion_control: &str) -> io::Result<()> {
        let length = libc::socklen_t::try_from(congestion_control.len()).map_err(io::Error::other)?;
        // SAFETY: the descriptor is open, and the option takes a name, whose address and length are given.
        let result = unsafe {
            libc::setsockopt(
                socket.as_fd().as_raw_fd(),
                libc::IPPROTO_TCP,
                libc::TCP_CONGESTION,
                congestion_control.as_ptr().cast(),
                length,
            )
        };
        if result == 0 { Ok(()) } else { Err(io::Error::last_os_error()) }
    }

    /// The kernel's figures; a field an older kernel does not have is `None`.
    pub(crate) fn figures(socket: &impl AsFd) -> ConnectionFigures {
        let mut bytes = [0_u8; 512];
        let mut length = bytes.len() as libc::socklen_t;
        // SAFETY: the descriptor is open, and the kernel writes at most `length` bytes into `bytes`, telling how many.
        let result = unsafe {
            libc::getsockopt(
                socket.as_fd().as_raw_fd(),
                libc::IPPROTO_TCP,
                libc::TCP_INFO,
                bytes.as_mut_ptr().cast(),
                &raw mut length,
            )
        };
        let told = if result == 0 { bytes.get(..length as usize).unwrap_or_default() } else { &[] };
        parse(told)
    }

    fn parse(told: &[u8]) -> ConnectionFigures {
        let u32_at = |at: usize| Some(u32::from_ne_bytes(told.get(at..at + 4)?.try_into().ok()?));
        let u64_at = |at: usize| Some(u64::from_ne_bytes(told.get(at..at + 8)?.try_into().ok()?));
        ConnectionFigures {
            rtt_ms: u32_at(68).map(|us| f64::from(us) / 1000.0),
            // All ones until the first round trip is known.
            min_rtt_ms: u32_at(148).filter(|us| *us != u32::MAX).map(|us| f64::from(us) / 1000.0),
            rtt_var_ms: u32_at(72).map(|us| f64::from(us) / 1000.0),
            retransmits: u32_at(100).map(u64::from),
            unsent_bytes: u32_at(144).map(u64::from),
            delivery_rate: u64_at(160).map(|bytes| Bitrate::from_bps(bytes.saturating_mul(8))),
            busy_us: u64_at(168),
            receiver_limited_us: u64_at(176),
        }
    }

    #[cfg(test)]
    mod tests {
        use super::*;
        use std::io::{Read, Write};
        use std::net::{TcpListener, TcpStream};

        #[test]
        fn the_kernel_tells_what_was_acknowledged_even_after_the_connection_is_lost() {
            let listener = TcpListener::bind("127.0.0.1:0").unwrap();
            let mut client = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
            let (mut server, _) = listener.accept().unwrap();
            limit_unsent(&client, 16_384).unwrap();
            client.write_all(&[7; 5000]).unwrap();
            let mut got = [0; 5000];
            server.read_exact(&mut got).unwrap();
            let told = figures(&client);
            assert!(told.rtt_ms.is_some_and(|ms| ms > 0.0 && ms < 1000.0));
            assert!(told.min_rtt_ms <= told.rtt_ms && told.min_rtt_ms.is_some());
            assert_eq!(told.retransmits, Some(0));
            assert!(told.busy_us.is_some() && told.receiver_limited_us.is_some());
            assert_eq!(unacknowledged_bytes(&client), Some(0));
            // The other side reads no more: what its host has no room for stays unacknowledged.
            client.set_nonblocking(true).unwrap();
            let mut written = 0;
            while let Ok(count) = client.write(&[7; 65_536]) {
                written += count as u64;
            }
            let waiting = unacknowledged_bytes(&client).unwrap();
            assert!((1..=written).contains(&waiting), "{waiting} of {written}");
            let unsent = figures(&client).unsent_bytes.unwrap();
            assert!(unsent <= waiting, "{unsent} of {waiting}");
            // And stays so when it hangs up with all of that unread.
            drop(server);
            let still = unacknowledged_bytes(&client).unwrap();
            assert!((1..=waiting).contains(&still), "{still} of {waiting}");
        }

        #[test]
        fn what_is_read_on_the_other_side_was_acknowledged() {
            let listener = TcpListener::bind("127.0.0.1:0").unwrap();
            let mut client = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
            let (mut server, _) = listener.accept().unwrap();
            let bytes = 3 << 20;
            let reading = std::thread::spawn(move || {
                server.read_exact(&mut vec![0; bytes]).unwrap();
                server
            });
            client.write_all(&vec![7; bytes]).unwrap();
            let server = reading.join().unwrap();
            // An acknowledgement may be held back for a moment (RFC 1122, section 4.2.3.2).
            let settled = (0..500).any(|_| {
                std::thread::sleep(std::time::Duration::from_millis(10));
                unacknowledged_bytes(&client) == Some(0)
            });
            assert!(settled, "{:?}", unacknowledged_bytes(&client));
            drop(server);
            assert_eq!(unacknowledged_bytes(&client), Some(0));
        }

        #[test]
        fn a_congestion_control_that_is_not_there_is_said() {
            let listener = TcpListener::bind("127.0.0.1:0").unwrap();
            let client = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
            assert!(send_by(&client, "reno").is_ok(), "every kernel has this one");
            assert!(send_by(&client, "no-such-control").is_err());
        }

        #[test]
        fn an_older_kernels_shorter_answer_leaves_the_rest_unknown() {
            let told = parse(&[1; 104]);
            assert!(told.rtt_ms.is_some() && told.retransmits.is_some());
            assert_eq!((told.unsent_bytes, told.busy_us, told.delivery_rate), (None, None, None));
        }
    }
}

#[cfg(not(target_os = "linux"))]
mod other {
    use std::io;

    use moth_core::reading::ConnectionFigures;

    pub(crate) fn unacknowledged_bytes<T>(_: &T) -> Option<u64> {
        None
    }

    pub(crate) fn limit_unsent<T>(_: &T, _: u32) -> io::Result<()> {
        Ok(())
    }

    pub(crate) fn send_by<T>(_: &T, _: &str) -> io::Result<()> {
        Ok(())
    }

    pub(crate) fn figures<T>(_: &T) -> ConnectionFigures {
        ConnectionFigures::default()
    }
}
