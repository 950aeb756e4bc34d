//! Which programs upload, from the kernel's accounting of sockets (`sock_diag(7)`).

use std::collections::HashMap;
use std::io;
use std::net::IpAddr;
use std::path::Path;
use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_plan::surroundings::Upload;
use netlink_packet_sock_diag::SockDiagMessage;
use netlink_packet_sock_diag::constants::{AF_INET, AF_INET6, IPPROTO_TCP};
use netlink_packet_sock_diag::inet::nlas::Nla;
use netlink_packet_sock_diag::inet::{ExtensionFlags, InetRequest, SocketId, StateFlags};
use netlink_sys::protocols::NETLINK_SOCK_DIAG;

use crate::programs::program;
use crate::socket_owner::owners_of;

/// Where `struct tcp_info` (`linux/tcp.h`) has its count of acknowledged bytes. Ours.
const BYTES_ACKED: usize = 120;
/// Where it has its count of segments sent. Ours.
const SEGMENTS_OUT: usize = 136;
/// Where it has its count of bytes sent, those sent again included; since Linux 4.19. Ours.
const BYTES_SENT: usize = 200;
/// The headers of a segment in bytes, as the interface counts them: Ethernet 14, IPv6 40, TCP with timestamps 32. Ours.
const HEADERS: u64 = 14 + 40 + 32;

/// What one TCP connection counted since it began.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
struct Sent {
    inode: u32,
    acked_bytes: u64,
    /// What its segments take at the most, headers and what is sent again included; `None` before Linux 4.19.
    on_the_wire_bytes: Option<u64>,
}

/// A look at all TCP connections to other machines, by the kernel's cookie of the socket.
#[derive(Debug, Clone, PartialEq, Default)]
pub(crate) struct Sockets(HashMap<[u8; 8], Sent>);

impl Sockets {
    pub(crate) fn look() -> io::Result<Self> {
        let mut found = HashMap::new();
        for (family, socket_id) in [(AF_INET, SocketId::new_v4()), (AF_INET6, SocketId::new_v6())] {
            let question = SockDiagMessage::InetRequest(InetRequest {
                family,
                protocol: IPPROTO_TCP,
                extensions: ExtensionFlags::INFO,
                // One that is closed by its program sends what it still has.
                states: StateFlags::ESTABLISHED
                    | StateFlags::FIN_WAIT1
                    | StateFlags::CLOSE_WAIT
                    | StateFlags::LAST_ACK
                    | StateFlags::CLOSING,
                socket_id,
            });
            for answer in crate::netlink::ask(NETLINK_SOCK_DIAG, question, true)? {
                let SockDiagMessage::InetResponse(socket) = answer else { continue };
                if is_here(socket.header.socket_id.destination_address) {
                    continue;
                }
                let info = socket.nlas.iter().find_map(|nla| match nla {
                    Nla::TcpInfo(bytes) => Some(bytes),
                    _ => None,
                });
                let Some(info) = info else { continue };
                let u64_at = |at: usize| info.get(at..at + 8)?.try_into().ok().map(u64::from_ne_bytes);
                let u32_at = |at: usize| info.get(at..at + 4)?.try_into().ok().map(u32::from_ne_bytes);
                let Some(acked_bytes) = u64_at(BYTES_ACKED) else { continue };
                let on_the_wire_bytes = u64_at(BYTES_SENT)
                    .zip(u32_at(SEGMENTS_OUT))
                    .map(|(sent, segments)| sent + u64::from(segments) * HEADERS);
                let sent = Sent { inode: socket.header.inode, acked_bytes, on_the_wire_bytes };
                found.insert(socket.header.socket_id.cookie, sent);
            }
        }
        Ok(Self(found))
    }

    /// What programs uploaded since an earlier look, the busiest first; those named are left out. A program's sockets
    /// count together.
    pub(crate) fn since(&self, before: &Self, elapsed: Duration, proc: &Path, but: &[i32]) -> Vec<Upload> {
        let grown: HashMap<u32, u64> = self
            .0
            .iter()
            // A socket that was not there before sent all it has since then.
            .map(|(cookie, now)| {
                let earlier = before.0.get(cookie).map_or(0, |sent| sent.acked_bytes);
                (now.inode, now.acked_bytes.saturating_sub(earlier))
            })
            .filter(|(_, bytes)| *bytes > 0)
            .collect();
        if grown.is_empty() {
            return Vec::new();
        }
        let owners = owners_of(proc, &grown.keys().copied().collect());
        let mut by_program: HashMap<Option<String>, u64> = HashMap::new();
        for (inode, bytes) in grown {
            let pid = owners.get(&inode).copied();
            if pid.is_some_and(|pid| but.contains(&pid)) {
                continue;
            }
            let name = pid.and_then(|pid| program(proc, pid)).map(|program| program.name);
            *by_program.entry(name).or_default() += bytes;
        }
        let mut uploads: Vec<Upload> = by_program
            .into_iter()
            .map(|(program, bytes)| Upload { program, rate: Bitrate::of(bytes as f64, elapsed) })
            .collect();
        uploads.sort_by(|a, b| b.rate.cmp(&a.rate).then_with(|| a.program.cmp(&b.program)));
        uploads
    }

    /// What all of them put on the wire since an earlier look, at the most; `None` if the kernel does not tell.
    pub(crate) fn on_the_wire_since(&self, before: &Self) -> Option<u64> {
        self.0
            .iter()
            .map(|(cookie, now)| {
                let earlier = before.0.get(cookie).and_then(|sent| sent.on_the_wire_bytes).unwrap_or(0);
                Some(now.on_the_wire_bytes?.saturating_sub(earlier))
            })
            .sum()
    }
}

fn is_here(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(ip) => ip.is_loopback(),
        IpAddr::V6(ip) => ip.is_loopback() || ip.to_ipv4_mapped().is_some_and(|ip| ip.is_loopback()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::{TcpListener, TcpStream};
    use std::os::fd::AsRawFd;

    fn inode_of(stream: &TcpStream) -> u32 {
        let link = std::fs::read_link(format!("/proc/self/fd/{}", stream.as_raw_fd())).unwrap();
        link.to_str().unwrap().trim_start_matches("socket:[").trim_end_matches(']').parse().unwrap()
    }

    #[test]
    fn what_was_sent_between_two_looks_is_found_with_its_program() {
        // A real socket's inode stands for one that talks to another machine.
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let stream = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
        let inode = inode_of(&stream);
        let sockets = |each: &[(u32, u64, u64)]| {
            let sent = |(inode, acked_bytes, wire): &(u32, u64, u64)| {
                let sent = Sent { inode: *inode, acked_bytes: *acked_bytes, on_the_wire_bytes: Some(*wire) };
                (u64::from(*inode).to_ne_bytes(), sent)
            };
            Sockets(each.iter().map(sent).collect())
        };
        let before = sockets(&[(inode, 1000, 1100), (1, 5, 91)]);
        let after = sockets(&[(inode, 251_000, 300_000), (1, 5, 91), (2, 100, 186)]);
        assert_eq!(after.on_the_wire_since(&before), Some(298_900 + 186));
        let found = after.since(&before, Duration::from_secs(1), Path::new("/proc"), &[]);
        let own = std::fs::read_to_string("/proc/self/comm").unwrap();
        assert_eq!(found[0], Upload { program: Some(own.trim().to_owned()), rate: Bitrate::from_kbps(2000) });
        assert_eq!(found[1], Upload { program: None, rate: Bitrate::from_bps(800) });
        let me = i32::try_from(std::process::id()).unwrap();
        assert_eq!(after.since(&before, Duration::from_secs(1), Path::new("/proc"), &[me]).len(), 1);
    }

    #[test]
    fn connections_to_this_machine_itself_are_no_uploads() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let stream = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
        let (accepted, _) = listener.accept().unwrap();
        let seen = Sockets::look().unwrap();
        let is_seen = |stream: &TcpStream| seen.0.values().any(|sent| sent.inode == inode_of(stream));
        assert!(!is_seen(&stream) && !is_seen(&accepted));
        assert!(is_here("::ffff:127.0.0.1".parse().unwrap()) && !is_here("10.0.0.1".parse().unwrap()));
    }
}
