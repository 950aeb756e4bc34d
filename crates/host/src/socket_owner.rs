//! Which process holds one end of a TCP connection.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;

use procfs_core::FromReadSI;
use procfs_core::net::TcpNetEntries;

use crate::cpu::SYSTEM;

/// The process whose socket has this local address; `None` if there is none, or it is another user's.
pub(crate) fn owner_of(proc: &Path, local: SocketAddr) -> Option<i32> {
    let inode = inode_of(proc, local)?;
    let wanted = format!("socket:[{inode}]");
    processes(proc).find(|pid| {
        let Ok(descriptors) = fs::read_dir(proc.join(pid.to_string()).join("fd")) else { return false };
        descriptors
            .flatten()
            .any(|entry| fs::read_link(entry.path()).is_ok_and(|target| target.as_os_str() == wanted.as_str()))
    })
}

fn inode_of(proc: &Path, local: SocketAddr) -> Option<u64> {
    let plain = |address: SocketAddr| match address.ip() {
        IpAddr::V6(ip) => (ip.to_ipv4_mapped().map_or(IpAddr::V6(ip), IpAddr::V4), address.port()),
        ip @ IpAddr::V4(_) => (ip, address.port()),
    };
    ["net/tcp", "net/tcp6"].iter().find_map(|table| {
        let entries = TcpNetEntries::from_file(proc.join(table), &SYSTEM).ok()?;
        let entry = entries.0.into_iter().find(|e| plain(e.local_address) == plain(local) && e.inode != 0)?;
        Some(entry.inode)
    })
}

/// The numbers of all processes.
pub(crate) fn processes(proc: &Path) -> impl Iterator<Item = i32> {
    fs::read_dir(proc).into_iter().flatten().flatten().filter_map(|entry| entry.file_name().to_str()?.parse().ok())
}
