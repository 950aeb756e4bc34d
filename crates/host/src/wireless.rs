//! What a radio tells: its signal, and the rate it sends at.

use std::fs;
use std::path::Path;

use moth_core::rate::Bitrate;

/// Signal in dBm, from `/proc/net/wireless`.
pub(crate) fn signal_dbm(proc: &Path, name: &str) -> Option<f64> {
    let text = fs::read_to_string(proc.join("net/wireless")).ok()?;
    let line = text.lines().find_map(|line| line.split_once(':').filter(|(n, _)| n.trim() == name))?.1;
    // status, link quality, level, noise.
    let level: f64 = line.split_whitespace().nth(2)?.trim_end_matches('.').parse().ok()?;
    // Older drivers count from 0 to 255 in place of below zero.
    Some(if level > 63.0 { level - 256.0 } else { level })
}

/// The rate it sends at now, by the wireless extensions (`SIOCGIWRATE`, `linux/wireless.h`); drivers that have left
/// these behind do not tell.
#[allow(unsafe_code)]
pub(crate) fn rate(name: &str) -> Option<Bitrate> {
    /// `struct iwreq` with the member for a rate: a name of 16 bytes, then value, two flags and padding.
    #[repr(C)]
    struct Request {
        name: [u8; 16],
        value: i32,
        fixed: u8,
        disabled: u8,
        flags: u16,
        rest: [u8; 8],
    }
    const SIOCGIWRATE: u64 = 0x8B21;
    let mut request = Request { name: [0; 16], value: 0, fixed: 0, disabled: 0, flags: 0, rest: [0; 8] };
    // One byte stays zero: the kernel wants the name to end.
    let bytes = name.as_bytes().get(..name.len().min(15))?;
    request.name.get_mut(..bytes.len())?.copy_from_slice(bytes);
    let socket = rustix::net::socket(rustix::net::AddressFamily::INET, rustix::net::SocketType::DGRAM, None).ok()?;
    use std::os::fd::AsRawFd;
    // SAFETY: the descriptor is open, and the kernel reads and writes one `struct iwreq` of 32 bytes, which is given.
    let result = unsafe { libc::ioctl(socket.as_raw_fd(), SIOCGIWRATE as _, &raw mut request) };
    let bps = u64::try_from(request.value).ok().filter(|bps| result == 0 && *bps > 0)?;
    Some(Bitrate::from_bps(bps))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_signal_is_read_as_the_kernel_writes_it() {
        let dir = tempfile::tempdir().unwrap();
        fs::create_dir_all(dir.path().join("net")).unwrap();
        let text = "Inter-| sta-|   Quality        |   Discarded packets               | Missed | WE\n \
                    face | tus | link level noise |  nwid  crypt   frag  retry   misc | beacon | 22\n \
                    wlan0: 0000   54.  -56.  -256        0      0      0      0      0        0\n \
                    wlan1: 0000   54.  200.  -256        0      0      0      0      0        0\n";
        fs::write(dir.path().join("net/wireless"), text).unwrap();
        assert_eq!(signal_dbm(dir.path(), "wlan0"), Some(-56.0));
        assert_eq!(signal_dbm(dir.path(), "wlan1"), Some(-56.0));
        assert_eq!(signal_dbm(dir.path(), "eth0"), None);
    }

    #[test]
    fn what_is_no_radio_has_no_rate() {
        assert_eq!(rate("lo"), None);
        assert_eq!(rate("a-name-much-longer-than-an-interface-has"), None);
    }
}
