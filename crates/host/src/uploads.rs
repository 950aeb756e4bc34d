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

/// Where `struct tcp_info` (`linux/tcp.h`) has its count of acknowledged bytes.
const BYTES_ACKED: std::ops::Range<usize> = 120..128;

/// A look at all TCP connections to other machines: bytes acknowledged, by the socket's inode.
#[derive(Debug, Clone, PartialEq, Default)]
pub(crate) struct Sockets(HashMap<u32, u64>);

impl Sockets {
    pub(crate) fn look() -> io::Result<Self> {
        let mut found = HashMap::new();
        for (family, socket_id) in [(AF_INET, SocketId::new_v4()), (AF_INET6, SocketId::new_v6())] {
            let question = SockDiagMessage::InetRequest(InetRequest {
                family,
                protocol: IPPROTO_TCP,
                extensions: ExtensionFlags::INFO,
                states: StateFlags::ESTABLISHED,
                socket_id,
            });
            for answer in crate::netlink::ask(NETLINK_SOCK_DIAG, question, true)? {
                let SockDiagMessage::InetResponse(socket) = answer else { continue };
                if is_here(socket.header.socket_id.destination_address) {
                    continue;
                }
                let info = socket.nlas.iter().find_map(|nla| match nla {
                    Nla::TcpInfo(bytes) => bytes.get(BYTES_ACKED)?.try_into().ok().map(u64::from_ne_bytes),
                    _ => None,
                });
                if let Some(bytes) = info {
                    found.insert(socket.header.inode, bytes);
                }
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
            .map(|(inode, bytes)| (*inode, bytes.saturating_sub(before.0.get(inode).copied().unwrap_or(0))))
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
        let before = Sockets(HashMap::from([(inode, 1000), (1, 5)]));
        let after = Sockets(HashMap::from([(inode, 251_000), (1, 5), (2, 100)]));
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
        assert!(!seen.0.contains_key(&inode_of(&stream)) && !seen.0.contains_key(&inode_of(&accepted)));
        assert!(is_here("::ffff:127.0.0.1".parse().unwrap()) && !is_here("10.0.0.1".parse().unwrap()));
    }
}
