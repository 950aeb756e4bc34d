//! A machine's load, from trees written after the kernel's documentation and from this machine itself.

use std::fs;
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::os::unix::fs::symlink;
use std::path::Path;

use moth_host::{Machine, MachineLook, Places};
use std::time::Duration;

/// A `/proc` of a machine with two cores, a broadcaster (pid 70), and a stitching job in two processes.
fn tree(root: &Path, second: u64) {
    let stat = |user: u64, idle: u64| format!("{user} 0 {s} {idle} 0 0 0 0 0 0", s = 10 * second);
    let whole = format!(
        "cpu  {}\ncpu0 {}\ncpu1 {}\nctxt 1\nbtime 1700000000\nprocesses 9\nprocs_running 1\nprocs_blocked 0\n",
        stat(180 * second, 10 * second),
        stat(90 * second, 0),
        stat(70 * second, 20 * second),
    );
    fs::create_dir_all(root.join("net")).unwrap();
    fs::write(root.join("stat"), whole).unwrap();
    let head = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n";
    let row = "   0: 0100007F:D431 0100007F:4B96 01 00000000:00000000 00:00000000 00000000  1000        0 4711 1 0 20 4 30 10 -1\n";
    fs::write(root.join("net/tcp"), format!("{head}{row}")).unwrap();
    for (pid, name, ticks) in [(70, "star-map", 40), (80, "stitch", 50), (81, "stitch", 45), (90, "idle-thing", 0)] {
        let dir = root.join(pid.to_string());
        fs::create_dir_all(dir.join("fd")).unwrap();
        let ticks = ticks * second;
        let rest =
            "0 0 20 0 4 0 5000 100000 500 18446744073709551615 1 1 0 0 0 0 0 0 0 0 0 0 17 1 0 0 0 0 0 0 0 0 0 0 0 0 0";
        fs::write(dir.join("stat"), format!("{pid} ({name}) S 1 1 1 0 -1 0 0 0 0 0 {ticks} 0 {rest}\n")).unwrap();
    }
    let link = root.join("70/fd/9");
    if !link.exists() {
        let _ = symlink("socket:[4711]", link);
    }
}

#[test]
fn a_recorded_tree_gives_shares_the_broadcaster_and_the_busiest_other() {
    let dir = tempfile::tempdir().unwrap();
    let peer: SocketAddr = "127.0.0.1:54321".parse().unwrap();
    let places = Places { proc: dir.path().to_owned(), sys: "/nonexistent".into(), recordings: None };
    let mut machine = Machine::new(places);
    for second in 1..=3 {
        tree(dir.path(), second);
        let load = machine.read(MachineLook {
            at: Duration::from_secs(second),
            broadcaster: Some(peer),
            ..MachineLook::default()
        });
        if second == 1 {
            assert_eq!(load.cpu, None, "one look is not yet a share");
            continue;
        }
        assert_eq!(load.cpu, Some(0.95));
        assert_eq!(load.cores, [1.0, 0.8]);
        assert_eq!(load.broadcaster_name.as_deref(), Some("star-map"));
        assert_eq!(load.broadcaster_cpu, Some(0.2));
        if second == 3 {
            assert_eq!(load.busiest_other, Some(("stitch".into(), 0.475)), "two processes of one name count together");
        }
    }
}

#[test]
fn a_tree_that_tells_nothing_is_not_available() {
    let dir = tempfile::tempdir().unwrap();
    let places = Places { proc: dir.path().to_owned(), sys: "/nonexistent".into(), recordings: None };
    let mut machine = Machine::new(places);
    machine.read(MachineLook::default());
    let load =
        machine.read(MachineLook { broadcaster: Some("127.0.0.1:9".parse().unwrap()), ..MachineLook::default() });
    assert_eq!((load.cpu, load.broadcaster_cpu, load.busiest_other), (None, None, None));
    fs::write(dir.path().join("stat"), "cpu nonsense\n").unwrap();
    assert_eq!(machine.read(MachineLook::default()).cpu, None);
}

#[test]
fn on_this_machine_the_owner_of_a_connection_is_found() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let client = TcpStream::connect(listener.local_addr().unwrap()).unwrap();
    let mut machine = Machine::new(Places::real(None));
    let peer = client.local_addr().unwrap();
    machine.read(MachineLook { broadcaster: Some(peer), ..MachineLook::default() });
    // Time is counted in ticks of 10 ms: read on until one has passed.
    let load = (0..100_000)
        .map(|_| machine.read(MachineLook { broadcaster: Some(peer), ..MachineLook::default() }))
        .find(|load| load.cpu.is_some())
        .unwrap();
    let own = fs::read_to_string("/proc/self/comm").unwrap();
    assert_eq!(load.broadcaster_name.as_deref(), Some(own.trim()));
    assert!(load.cpu.is_some_and(|share| (0.0..=1.0).contains(&share)));
}

#[test]
fn on_this_machine_everything_that_can_be_read_is_plausible() {
    let dir = tempfile::tempdir().unwrap();
    let mut machine = Machine::new(Places::real(Some(dir.path().to_owned())));
    let server = Some("127.0.0.1".parse().unwrap());
    let look = |s: u64| MachineLook { at: Duration::from_secs(s), server, closely: true, ..MachineLook::default() };
    machine.read(look(1));
    let load = machine.read(look(2));
    let share = |figure: Option<f64>| assert!(figure.is_none_or(|share| (0.0..=1.0).contains(&share)), "{load:?}");
    [load.memory_pressure, load.cpu_pressure, load.disk_pressure, load.frequency, load.gpu_render]
        .into_iter()
        .for_each(share);
    assert!(load.memory_available_bytes.is_some_and(|bytes| bytes > 1 << 20));
    assert!(load.disk_free_bytes.is_some() && load.sent_otherwise.is_none() && load.uploads.is_some(), "{load:?}");
    assert_eq!(load.wireless, None, "the way to oneself is no link");
}
