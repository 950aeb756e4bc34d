//! Networks of their own, with a router whose lines can be narrowed.

use std::fs;
use std::process::Command;
use std::time::Duration;

use super::{Running, wait_for};

/// `home`, and servers each joined to it through `router`, in network namespaces of their own. What queues in a
/// bucket at home may be held back by the sender's own kernel (TCP small queues); in the router it queues as in a real one.
pub struct Hosts {
    home: Running,
    router: Running,
    servers: Vec<Running>,
}

/// The first server's address on its cable.
pub const SERVER_IP: &str = "10.77.0.2";

impl Hosts {
    pub fn new() -> Self {
        Self::with(1)
    }

    pub fn with(servers: usize) -> Self {
        let home = Running(Command::new("unshare").args(["-r", "-n", "sleep", "600"]).spawn().unwrap());
        let mut known = vec![fs::read_link("/proc/self/ns/net").unwrap()];
        let mut apart = |pid: u32| {
            let there = wait_for("a namespace", Duration::from_secs(10), || {
                let there = fs::read_link(format!("/proc/{pid}/ns/net")).ok()?;
                (!known.contains(&there)).then_some(there)
            });
            known.push(there);
        };
        apart(home.0.id());
        let beside = |home: &Running| {
            let mut command = Self::enter(home.0.id());
            Running(command.args(["unshare", "-n", "sleep", "600"]).spawn().unwrap())
        };
        let router = beside(&home);
        apart(router.0.id());
        let mut hosts = Self { home, router, servers: Vec::new() };
        hosts.run_home("ip link set lo up");
        let forward = "echo 1 > /proc/sys/net/ipv4/ip_forward";
        let status = Self::enter(hosts.router.0.id()).args(["sh", "-c", forward]).status().unwrap();
        assert!(status.success(), "the router forwards");
        for i in 0..servers {
            let server = beside(&hosts.home);
            let (pid, middle) = (server.0.id(), hosts.router.0.id());
            apart(pid);
            hosts.servers.push(server);
            let route = |words: &str| Self::run(Self::enter(middle), words);
            hosts.run_home(&format!("ip link add up{i} mtu 1500 type veth peer name a{i} mtu 1500 netns {middle}"));
            hosts.run_home(&format!("ip addr add 10.78.{i}.1/24 dev up{i}"));
            hosts.run_home(&format!("ip link set up{i} up"));
            route(&format!("ip addr add 10.78.{i}.2/24 dev a{i}"));
            route(&format!("ip link set a{i} up"));
            hosts.run_home(&format!("ip route add 10.77.{i}.0/24 via 10.78.{i}.2"));
            route(&format!("ip link add b{i} mtu 1500 type veth peer name in0 mtu 1500 netns {pid}"));
            route(&format!("ip addr add 10.77.{i}.1/24 dev b{i}"));
            route(&format!("ip link set b{i} up"));
            let run = |words: &str| Self::run(hosts.at(i), words);
            run("ip link set lo up");
            run(&format!("ip addr add {}/24 dev in0", Self::ip(i)));
            run("ip link set in0 up");
            run(&format!("ip route add default via 10.77.{i}.1"));
        }
        hosts
    }

    /// A server's address on its cable.
    pub fn ip(server: usize) -> String {
        format!("10.77.{server}.2")
    }

    /// Narrows the way to a server to a token bucket, with a buffer so deep.
    ///
    /// The bucket holds 40 ms: one that is filled by timers that are later than that, as those of a virtual machine
    /// may be, carries less than it is told to.
    pub fn narrow(&self, server: usize, kbps: u32, buffer_ms: u32) {
        let (burst, limit) = ((kbps * 40 / 8).max(5 * 1024), kbps * buffer_ms / 8 + 5 * 1024);
        let words = format!("tc qdisc replace dev b{server} root tbf rate {kbps}kbit burst {burst}b limit {limit}b");
        Self::run(Self::enter(self.router.0.id()), &words);
    }

    /// Lets everything on its way to a server vanish in the router, or go through again. Nobody is told.
    pub fn vanish(&self, server: usize, vanishes: bool) {
        let what = if vanishes { "add" } else { "del" };
        let words = format!("ip route {what} blackhole {}/32", Self::ip(server));
        Self::run(Self::enter(self.router.0.id()), &words);
    }

    fn enter(pid: u32) -> Command {
        let mut command = Command::new("nsenter");
        command.args(["-t", &pid.to_string(), "-U", "-n", "--preserve-credentials", "--"]);
        command
    }

    /// A command to run at home; add its words.
    pub fn at_home(&self) -> Command {
        Self::enter(self.home.0.id())
    }

    /// A command to run at the first server; add its words.
    pub fn at_server(&self) -> Command {
        self.at(0)
    }

    /// A command to run at a server; add its words.
    pub fn at(&self, server: usize) -> Command {
        Self::enter(self.servers[server].0.id())
    }

    fn run(mut command: Command, words: &str) {
        let status = command.args(words.split(' ')).status().unwrap();
        assert!(status.success(), "{words}");
    }

    pub fn run_home(&self, words: &str) {
        Self::run(self.at_home(), words);
    }
}
