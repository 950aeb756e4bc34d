//! The network interface that leads to somewhere, and what the kernel tells of it.

use std::fs;
use std::io;
use std::net::IpAddr;
use std::path::Path;

use moth_core::rate::Bitrate;
use moth_plan::surroundings::{Interface, Medium};
use netlink_packet_route::route::{RouteAddress, RouteAttribute, RouteMessage};
use netlink_packet_route::tc::{TcAttribute, TcHandle, TcMessage};
use netlink_packet_route::{AddressFamily, RouteNetlinkMessage};
use netlink_sys::protocols::NETLINK_ROUTE;

use crate::netlink::ask;
use crate::wireless;

/// The interface packets to an address leave by: its name and its number.
pub(crate) fn leading_to(address: IpAddr) -> io::Result<(String, u32)> {
    let answers = ask(NETLINK_ROUTE, RouteNetlinkMessage::GetRoute(question(address)), false)?;
    let index = answers.into_iter().find_map(|answer| match answer {
        RouteNetlinkMessage::NewRoute(route) => route.attributes.into_iter().find_map(|attribute| match attribute {
            RouteAttribute::Oif(index) => Some(index),
            _ => None,
        }),
        _ => None,
    });
    let index = index.ok_or_else(|| io::Error::other("the kernel names no interface for it"))?;
    let socket = rustix::net::socket(rustix::net::AddressFamily::INET, rustix::net::SocketType::DGRAM, None)?;
    Ok((rustix::net::netdevice::index_to_name(&socket, index)?, index))
}

/// The first router on the way to an address; `None` if there is none in between, or the kernel does not tell.
#[must_use]
pub fn gateway_to(address: IpAddr) -> Option<IpAddr> {
    let answers = ask(NETLINK_ROUTE, RouteNetlinkMessage::GetRoute(question(address)), false).ok()?;
    answers.into_iter().find_map(|answer| match answer {
        RouteNetlinkMessage::NewRoute(route) => route.attributes.into_iter().find_map(|attribute| match attribute {
            RouteAttribute::Gateway(RouteAddress::Inet(ip)) => Some(IpAddr::V4(ip)),
            RouteAttribute::Gateway(RouteAddress::Inet6(ip)) => Some(IpAddr::V6(ip)),
            _ => None,
        }),
        _ => None,
    })
}

/// Asks for the way to an address.
fn question(address: IpAddr) -> RouteMessage {
    let mut question = RouteMessage::default();
    (question.header.address_family, question.header.destination_prefix_length) = match address {
        IpAddr::V4(_) => (AddressFamily::Inet, 32),
        IpAddr::V6(_) => (AddressFamily::Inet6, 128),
    };
    question.attributes.push(RouteAttribute::Destination(RouteAddress::from(address)));
    question
}

/// What is known of an interface.
pub(crate) fn facts(proc: &Path, sys: &Path, name: &str, index: u32) -> Interface {
    let dir = sys.join("class/net").join(name);
    let text = |file: &str| fs::read_to_string(dir.join(file)).ok().map(|text| text.trim().to_owned());
    // In a network namespace of its own, /sys may still tell of another namespace's interface of the same name.
    let is_same = text("ifindex").and_then(|t| t.parse().ok()) == Some(index);
    let medium = match () {
        () if name == "lo" => Some(Medium::Loopback),
        () if !is_same => None,
        () if dir.join("wireless").exists() || dir.join("phy80211").exists() => Some(Medium::Wireless),
        // Only real hardware has a device behind it.
        () if dir.join("device").exists() => Some(Medium::Wired),
        () => Some(Medium::Virtual),
    };
    let rate = match medium {
        Some(Medium::Wireless) => wireless::rate(name),
        // Megabits; −1 where it makes no sense.
        Some(Medium::Wired) => text("speed")
            .and_then(|t| t.parse::<i64>().ok())
            .filter(|mbps| *mbps > 0)
            .map(|mbps| Bitrate::from_kbps(u64::try_from(mbps).unwrap_or(0).saturating_mul(1000))),
        _ => None,
    };
    let counted = counters(proc, name);
    Interface {
        name: name.to_owned(),
        medium,
        rate,
        signal_dbm: wireless::signal_dbm(proc, name),
        errors: counted.map(|c| c.errors),
        drops: counted.map(|c| c.drops),
        qdisc: qdisc(index).ok().flatten(),
    }
}

/// What an interface counted since it came up.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) struct Counters {
    pub sent_bytes: u64,
    pub errors: u64,
    pub drops: u64,
}

/// From `/proc/net/dev` (`proc_pid_net(5)`), which is the namespace's own.
pub(crate) fn counters(proc: &Path, name: &str) -> Option<Counters> {
    let text = fs::read_to_string(proc.join("net/dev")).ok()?;
    text.lines().find_map(|line| {
        let (interface, numbers) = line.split_once(':')?;
        if interface.trim() != name {
            return None;
        }
        let numbers: Vec<u64> = numbers.split_whitespace().map_while(|n| n.parse().ok()).collect();
        // bytes packets errs drop fifo frame compressed multicast, then the same upstream.
        let at = |i: usize| numbers.get(i).copied();
        Some(Counters { sent_bytes: at(8)?, errors: at(2)? + at(10)?, drops: at(3)? + at(11)? })
    })
}

/// The queue discipline at an interface's root.
fn qdisc(index: u32) -> io::Result<Option<String>> {
    let index = i32::try_from(index).map_err(io::Error::other)?;
    let question = RouteNetlinkMessage::GetQueueDiscipline(TcMessage::with_index(index));
    let answers = ask(NETLINK_ROUTE, question, true)?;
    let found = answers.into_iter().find_map(|answer| match answer {
        RouteNetlinkMessage::NewQueueDiscipline(found)
            if found.header.index == index && found.header.parent == TcHandle::ROOT =>
        {
            found.attributes.into_iter().find_map(|attribute| match attribute {
                TcAttribute::Kind(kind) => Some(kind),
                _ => None,
            })
        }
        _ => None,
    });
    Ok(found)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn counters_are_read_as_the_kernel_writes_them() {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir_all(dir.path().join("net")).unwrap();
        let text = "Inter-|   Receive                                                |  Transmit\n \
                    face |bytes    packets errs drop fifo frame compressed multicast|bytes    packets errs drop fifo colls carrier compressed\n    \
                    lo:       0       0    0    0    0     0          0         0        0       0    0    0    0     0       0          0\n  \
                    eth0: 1000 10 1 2 0 0 0 0 5000 50 3 4 0 0 0 0\n";
        fs::write(dir.path().join("net/dev"), text).unwrap();
        assert_eq!(counters(dir.path(), "eth0"), Some(Counters { sent_bytes: 5000, errors: 4, drops: 6 }));
        assert_eq!(counters(dir.path(), "eth1"), None);
    }

    #[test]
    fn a_tree_tells_wired_from_wireless_and_virtual() {
        let dir = tempfile::tempdir().unwrap();
        let make = |name: &str, inside: &[&str], speed: &str| {
            let at = dir.path().join("class/net").join(name);
            fs::create_dir_all(&at).unwrap();
            for folder in inside {
                fs::create_dir_all(at.join(folder)).unwrap();
            }
            fs::write(at.join("speed"), speed).unwrap();
            fs::write(at.join("ifindex"), "7\n").unwrap();
            facts(Path::new("/nonexistent"), dir.path(), name, 7)
        };
        let wired = make("en-test", &["device"], "1000\n");
        assert_eq!((wired.medium, wired.rate), (Some(Medium::Wired), Some(Bitrate::from_kbps(1_000_000))));
        assert_eq!(make("wl-test", &["device", "wireless"], "").medium, Some(Medium::Wireless));
        let tunnel = make("tun-test", &[], "-1\n");
        assert_eq!((tunnel.medium, tunnel.rate, tunnel.errors), (Some(Medium::Virtual), None, None));
        let other = facts(Path::new("/nonexistent"), dir.path(), "en-test", 8);
        assert_eq!(other.medium, None, "the tree tells of another interface of this name");
    }

    #[test]
    fn on_this_machine_the_way_to_itself_is_the_loopback() {
        let (name, index) = leading_to("127.0.0.1".parse().unwrap()).unwrap();
        assert_eq!(name, "lo");
        let found = facts(Path::new("/proc"), Path::new("/sys"), &name, index);
        assert_eq!(found.medium, Some(Medium::Loopback));
        assert_eq!(found.qdisc.as_deref(), Some("noqueue"));
        assert!(found.errors.is_some());
    }
}
