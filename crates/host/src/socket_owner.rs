//! Which process holds one end of a TCP connection.

use std::collections::{HashMap, HashSet};
use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;

use procfs_core::FromReadSI;
use procfs_core::net::{TcpNetEntries, TcpNetEntry, TcpState};

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

/// The processes that hold these sockets, as far as this user may see them.
pub(crate) fn owners_of(proc: &Path, inodes: &HashSet<u32>) -> HashMap<u32, i32> {
    let mut owners = HashMap::new();
    for pid in processes(proc) {
        let Ok(descriptors) = fs::read_dir(proc.join(pid.to_string()).join("fd")) else { continue };
        for target in descriptors.flatten().filter_map(|entry| fs::read_link(entry.path()).ok()) {
            let name = target.to_str().and_then(|t| t.strip_prefix("socket:[")?.strip_suffix(']')?.parse().ok());
            if let Some(inode) = name.filter(|inode| inodes.contains(inode)) {
                owners.insert(inode, pid);
            }
        }
    }
    owners
}

/// The process with a connection to this address, but for one.
pub(crate) fn process_talking_to(proc: &Path, remote: SocketAddr, but: i32) -> Option<i32> {
    let locals: Vec<SocketAddr> = entries(proc)
        .filter(|e| plain(e.remote_address) == plain(remote) && e.state == TcpState::Established)
        .map(|e| e.local_address)
        .collect();
    locals.into_iter().filter_map(|local| owner_of(proc, local)).find(|pid| *pid != but)
}

fn plain(address: SocketAddr) -> (IpAddr, u16) {
    match address.ip() {
        IpAddr::V6(ip) => (ip.to_ipv4_mapped().map_or(IpAddr::V6(ip), IpAddr::V4), address.port()),
        ip @ IpAddr::V4(_) => (ip, address.port()),
    }
}

fn entries(proc: &Path) -> impl Iterator<Item = TcpNetEntry> {
    ["net/tcp", "net/tcp6"]
        .into_iter()
        .filter_map(move |table| TcpNetEntries::from_file(proc.join(table), &SYSTEM).ok())
        .flat_map(|entries| entries.0)
}

fn inode_of(proc: &Path, local: SocketAddr) -> Option<u64> {
    entries(proc).find(|e| plain(e.local_address) == plain(local) && e.inode != 0).map(|e| e.inode)
}

/// The numbers of all processes.
pub(crate) fn processes(proc: &Path) -> impl Iterator<Item = i32> {
    fs::read_dir(proc).into_iter().flatten().flatten().filter_map(|entry| entry.file_name().to_str()?.parse().ok())
}
