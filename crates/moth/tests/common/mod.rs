//! Real programs for the tests: nginx with its RTMP module, ffmpeg, tmux, namespaces, and the moth itself.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, dead_code, unused_macros)]

pub mod terminal;

use std::fs::{self, File};
use std::net::TcpListener;
use std::os::unix::fs::PermissionsExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;
use tempfile::TempDir;

/// The key used with real servers. It is looked for in everything a run writes and prints.
pub const KEY: &str = "orbit-7741-zenith-secret";

/// Whether every program is there. Without one the test is skipped, loudly; under CI that is a failure.
/// `nginx-stream` is nginx's module of that name.
/// A Python with the current ffmpeg and PyAV, which ./scripts/test installs from their registry.
fn pypi() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/tools/python/bin/python")
}

/// A Python that has GStreamer: a system's own, where another stands before it in the path.
pub fn python_with_gstreamer() -> Option<&'static str> {
    let has = |python: &&str| {
        let words = "import gi; gi.require_version('Gst', '1.0'); from gi.repository import Gst";
        let tried = Command::new(python).args(["-c", words]).stderr(Stdio::null()).status();
        tried.is_ok_and(|status| status.success())
    };
    ["python3", "/usr/bin/python3"].into_iter().find(has)
}

pub fn have(programs: &[&str]) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let found = |name: &str| {
        let in_path = || {
            std::env::split_paths(&path).chain(["/usr/sbin".into(), "/sbin".into()]).any(|dir| dir.join(name).is_file())
        };
        match name {
            "nginx-stream" => module("ngx_stream_module.so").is_some(),
            "node-media-server" => node_media_server().is_dir(),
            "pypi" => pypi().is_file(),
            "python3-gi" => python_with_gstreamer().is_some(),
            _ => in_path(),
        }
    };
    let missing: Vec<&&str> =
        programs.iter().filter(|p| !found(p) || (**p == "nginx" && rtmp_module().is_none())).collect();
    if missing.is_empty() {
        return true;
    }
    let what = format!("needs {missing:?} (nginx with its RTMP module); ./scripts/test installs them where it can");
    assert!(std::env::var_os("CI").is_none(), "this test {what}");
    eprintln!("\n*** SKIPPED: this test {what} ***\n");
    false
}

/// A second RTMP server, which ./scripts/test installs from its registry.
fn node_media_server() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/tools/node_modules/node-media-server")
}

/// The current ffmpeg, as PyPI has it.
pub fn current_ffmpeg() -> PathBuf {
    let found = Command::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/tools/python/bin/python"))
        .args(["-c", "import imageio_ffmpeg; print(imageio_ffmpeg.get_ffmpeg_exe())"])
        .output()
        .unwrap();
    PathBuf::from(String::from_utf8(found.stdout).unwrap().trim())
}

/// A second RTMP server, written by others in another language.
pub struct NodeMedia {
    dir: TempDir,
    port: u16,
    _process: Running,
}

impl NodeMedia {
    pub fn at(hosts: &Hosts, server: usize) -> Self {
        Self::begin(hosts.at(server), &Hosts::ip(server), 1935)
    }

    /// One on this machine.
    pub fn here() -> Self {
        Self::begin(Command::new("env"), "127.0.0.1", free_port())
    }

    pub fn port(&self) -> u16 {
        self.port
    }

    /// What it recorded.
    pub fn recordings(&self) -> Vec<PathBuf> {
        let mut folders = vec![self.dir.path().join("recorded")];
        let mut found = Vec::new();
        while let Some(folder) = folders.pop() {
            for entry in fs::read_dir(folder).into_iter().flatten().flatten() {
                if entry.path().is_dir() { folders.push(entry.path()) } else { found.push(entry.path()) }
            }
        }
        found
    }

    fn begin(mut command: Command, ip: &str, port: u16) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let config = format!(
            r#"{{ "bind": "{ip}", "rtmp": {{ "port": {port} }}, "store": {{ "path": "{0}" }}, "record": {{ "path": "{0}/recorded" }} }}"#,
            dir.path().display()
        );
        fs::write(dir.path().join("config.json"), config).unwrap();
        let script = "const [at, config] = process.argv.slice(1);\n\
                      new (require(at))(require(config), config).run();";
        let log = dir.path().join("log");
        let child = command
            .args(["node", "-e", script])
            .arg(node_media_server().canonicalize().unwrap())
            .arg(dir.path().join("config.json"))
            .current_dir(dir.path())
            .stdout(File::create(&log).unwrap())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        wait_for("the second RTMP server", Duration::from_secs(20), || {
            fs::read_to_string(&log).ok().filter(|text| text.contains("Rtmp Server listening"))
        });
        Self { dir, port, _process: Running(child) }
    }
}

/// `moth ingest`, at a server or here.
pub struct Ingest {
    _process: Running,
}

impl Ingest {
    pub fn begin(mut command: Command, listen: &str, more: &[&str]) -> Self {
        let child = command
            .arg(env!("CARGO_BIN_EXE_moth"))
            .args(["ingest", "--listen", listen])
            .args(more)
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let mut process = Running(child);
        let mut first = String::new();
        let out = process.0.stdout.take().unwrap();
        std::io::BufRead::read_line(&mut std::io::BufReader::new(out), &mut first).unwrap();
        assert!(first.starts_with("taking broadcasts"), "{first}");
        Self { _process: process }
    }
}

/// A configuration with these servers (name and address), and a key.
pub struct Configured {
    pub dir: TempDir,
}

impl Configured {
    pub fn new(servers: &[(&str, &str)]) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let list: Vec<String> = servers
            .iter()
            .map(|(name, address)| format!("{{ name = \"{name}\", address = \"{address}\", region = \"here\" }},\n"))
            .collect();
        let config = format!(
            "setup = \"test\"\n[setups.test] # kept\nservice = \"nocturne\"\nbitrate = \"3 Mb/s\"\naudio = \"160k\"\n\
             size = \"640x360\"\nrate = 30\n[services.nocturne]\nname = \"Nocturne\"\nunseen = \"-dim\"\n\
             servers = [\n{}]\n",
            list.concat()
        );
        fs::write(dir.path().join("moth.toml"), config).unwrap();
        fs::write(dir.path().join("key"), KEY).unwrap();
        fs::set_permissions(dir.path().join("key"), fs::Permissions::from_mode(0o600)).unwrap();
        Self { dir }
    }

    /// The moth with this configuration; `command` may be a command to enter a host with.
    pub fn moth(&self, mut command: Command, words: &[&str]) -> std::process::Output {
        let out = command
            .arg(env!("CARGO_BIN_EXE_moth"))
            .args(words)
            .arg("--config")
            .arg(self.dir.path().join("moth.toml"))
            .env_remove("MOTH_STREAM_KEY")
            .stdin(Stdio::null())
            .output()
            .unwrap();
        for text in [&out.stdout, &out.stderr] {
            assert!(!String::from_utf8_lossy(text).contains(KEY), "the key is in what it printed");
        }
        out
    }

    /// A measurement with the key, agreed to, as JSON.
    pub fn measure(&self, command: Command, words: &[&str]) -> Value {
        let key = self.dir.path().join("key").display().to_string();
        let words = [words, &["--yes", "--json", "--key-file", &key]].concat();
        let out = self.moth(command, &words);
        let said = String::from_utf8_lossy(&out.stderr).into_owned();
        serde_json::from_slice(&out.stdout).unwrap_or_else(|error| panic!("{error}: {said}"))
    }

    pub fn config(&self) -> String {
        fs::read_to_string(self.dir.path().join("moth.toml")).unwrap()
    }

    /// A configuration with a broadcaster that the moth runs: ffmpeg, paced, with its bitrate left open.
    pub fn with_encoder(servers: &[(&str, &str)], more: &str) -> Self {
        let configured = Self::new(servers);
        let words = "ffmpeg -hide_banner -nostdin -loglevel error -re -f lavfi -i testsrc2=size={size}:rate={rate} -f lavfi \
                     -i sine=frequency=440:sample_rate=48000 -c:v libx264 -preset {preset} -g 60 -bf 2 -threads 1 -b:v {bitrate} \
                     -minrate {bitrate} -maxrate {bitrate} -bufsize {bitrate} -x264-params nal-hrd=cbr -c:a aac -b:a 128k -f flv \
                     {publish}";
        let words: Vec<String> = words.split_whitespace().map(|word| format!("{word:?}")).collect();
        let config = configured.config().replace("rate = 30\n", &format!("rate = 30\npreset = \"superfast\"\n{more}"));
        let broadcaster = format!(
            "[setups.test.broadcaster]\ncommand = [{}]\npresets = [\"ultrafast\", \"superfast\", \"no-such-preset\"]\n",
            words.join(", ")
        );
        fs::write(configured.dir.path().join("moth.toml"), format!("{config}{broadcaster}")).unwrap();
        configured
    }
}

fn module(name: &str) -> Option<PathBuf> {
    let places = ["/usr/lib/nginx/modules", "/usr/lib64/nginx/modules", "/usr/share/nginx/modules"];
    places.iter().map(|place| Path::new(place).join(name)).find(|path| path.exists())
}

fn rtmp_module() -> Option<PathBuf> {
    module("ngx_rtmp_module.so")
}

pub fn free_port() -> u16 {
    TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port()
}

/// Waits for something, failing with its name when it does not come.
pub fn wait_for<T>(what: &str, within: Duration, mut check: impl FnMut() -> Option<T>) -> T {
    let began = Instant::now();
    loop {
        if let Some(value) = check() {
            return value;
        }
        assert!(began.elapsed() < within, "within {within:?} it did not come: {what}");
        std::thread::sleep(Duration::from_millis(50));
    }
}

/// A process that is ended when it is dropped.
pub struct Running(pub Child);

impl Drop for Running {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

impl Running {
    pub fn signal(&self, name: &str) {
        let status = Command::new("kill").arg(format!("-{name}")).arg(self.0.id().to_string()).status().unwrap();
        assert!(status.success());
    }
}

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

/// nginx with its RTMP module, recording every broadcast to a folder.
pub struct Nginx {
    dir: TempDir,
    pub port: u16,
    process: Option<Running>,
}

impl Nginx {
    pub fn new() -> Self {
        Self::prepare("127.0.0.1", free_port()).begin(None)
    }

    /// At the server's end of the cable.
    pub fn at(hosts: &Hosts) -> Self {
        Self::prepare(SERVER_IP, 1935).begin(Some(hosts.at_server()))
    }

    /// At any server's end.
    pub fn at_one_of(hosts: &Hosts, server: usize) -> Self {
        Self::prepare(&Hosts::ip(server), 1935).begin(Some(hosts.at(server)))
    }

    /// One that takes broadcasts, and lets nobody play them.
    pub fn that_plays_nothing() -> Self {
        let nginx = Self::prepare("127.0.0.1", free_port());
        let path = nginx.dir.path().join("nginx.conf");
        let config = fs::read_to_string(&path).unwrap().replace("live on;", "live on; deny play all;");
        fs::write(&path, config).unwrap();
        nginx.begin(None)
    }

    pub fn port(&self) -> u16 {
        self.port
    }

    /// Takes broadcasts under one key only, asking a web server of its own.
    pub fn taking_only(key: &str) -> Self {
        let nginx = Self::prepare("127.0.0.1", free_port());
        let (path, web) = (nginx.dir.path().join("nginx.conf"), free_port());
        let config = fs::read_to_string(&path).unwrap();
        let asks = format!("notify_method get; on_publish http://127.0.0.1:{web}/; live on;");
        let config = config.replace("live on;", &asks)
            + &format!(
                "http {{ access_log off; client_body_temp_path {at}; proxy_temp_path {at}; fastcgi_temp_path {at};\n\
                 uwsgi_temp_path {at}; scgi_temp_path {at}; server {{ listen 127.0.0.1:{web}; location / {{\n\
                 if ($arg_name != \"{key}\") {{ return 403; }} return 204; }} }} }}\n",
                at = nginx.dir.path().display()
            );
        fs::write(&path, config).unwrap();
        nginx.begin(None)
    }

    fn prepare(ip: &str, port: u16) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let at = dir.path().display();
        let module = rtmp_module().unwrap().display().to_string();
        let config = format!(
            "load_module {module};\ndaemon off; master_process off; pid {at}/pid; error_log {at}/error.log notice;\n\
             events {{ worker_connections 64; }}\n\
             rtmp {{ access_log off; server {{ listen {ip}:{port}; chunk_size 4096; max_message 8M;\n\
             application live {{ live on; record all; record_path {at}; record_suffix -%s.flv; record_unique on; }} }} }}\n"
        );
        fs::write(dir.path().join("nginx.conf"), config).unwrap();
        Self { dir, port, process: None }
    }

    fn begin(mut self, at: Option<Command>) -> Self {
        self.start(at);
        self
    }

    pub fn start(&mut self, at: Option<Command>) {
        let mut command = at.unwrap_or_else(|| Command::new("env"));
        let log = File::create(self.dir.path().join("startup.log")).unwrap();
        let child = command
            .arg("nginx")
            .env("PATH", format!("{}:/usr/sbin:/sbin", std::env::var("PATH").unwrap()))
            .arg("-c")
            .arg(self.dir.path().join("nginx.conf"))
            .stderr(log)
            .spawn()
            .unwrap();
        self.process = Some(Running(child));
        wait_for("nginx", Duration::from_secs(10), || self.dir.path().join("pid").exists().then_some(()));
        std::thread::sleep(Duration::from_millis(200));
    }

    /// The same behind TLS on a second port, with this certificate and key (PEM).
    pub fn behind_tls(certificate: &str, key: &str) -> (Self, u16) {
        let nginx = Self::prepare("127.0.0.1", free_port());
        let (at, tls_port) = (nginx.dir.path(), free_port());
        fs::write(at.join("certificate.pem"), certificate).unwrap();
        fs::write(at.join("key.pem"), key).unwrap();
        let config = fs::read_to_string(at.join("nginx.conf")).unwrap();
        let stream = module("ngx_stream_module.so").unwrap();
        let config = format!(
            "load_module {};\n{config}stream {{ server {{ listen 127.0.0.1:{tls_port} ssl; ssl_certificate {at}/certificate.pem;\n\
             ssl_certificate_key {at}/key.pem; proxy_pass 127.0.0.1:{}; }} }}\n",
            stream.display(),
            nginx.port,
            at = at.display(),
        );
        fs::write(at.join("nginx.conf"), config).unwrap();
        (nginx.begin(None), tls_port)
    }

    pub fn kill(&mut self) {
        self.process = None;
        let _ = fs::remove_file(self.dir.path().join("pid"));
    }

    pub fn address(&self) -> String {
        format!("rtmp://127.0.0.1:{}/live", self.port)
    }

    /// The recordings, oldest first.
    pub fn recordings(&self) -> Vec<PathBuf> {
        let mut found: Vec<PathBuf> = fs::read_dir(self.dir.path()).unwrap().map(|e| e.unwrap().path()).collect();
        found.retain(|p| p.extension().is_some_and(|e| e == "flv"));
        found.sort_by_key(|p| p.metadata().unwrap().modified().unwrap());
        found
    }
}

/// Frames of one kind (`v` or `a`) in a recording, counted by ffprobe.
pub fn frames(recording: &Path, kind: &str) -> u64 {
    let out = Command::new("ffprobe")
        .args([
            "-v",
            "error",
            "-select_streams",
            kind,
            "-count_packets",
            "-show_entries",
            "stream=nb_read_packets",
            "-of",
            "csv=p=0",
        ])
        .arg(recording)
        .output()
        .unwrap();
    String::from_utf8_lossy(&out.stdout).trim().parse().unwrap_or(0)
}

/// What ffmpeg complains of when it decodes a recording; empty is good.
pub fn decode(recording: &Path) -> String {
    let out = Command::new("ffmpeg")
        .args(["-v", "error", "-i"])
        .arg(recording)
        // Milliseconds, as the recording has them: in steps of a picture, which this output would count in, two pictures behind a
        // restart can round to one time, and that would be told as a fault.
        .args(["-enc_time_base:v", "1/1000", "-f", "null", "-"])
        .output()
        .unwrap();
    assert!(out.status.success());
    String::from_utf8_lossy(&out.stderr).into_owned()
}

/// A hash of every packet's bytes, a line a stream.
pub fn hash(recording: &Path) -> String {
    let out = Command::new("ffmpeg")
        .args(["-v", "error", "-i"])
        .arg(recording)
        .args(["-map", "0", "-c", "copy", "-f", "streamhash", "-hash", "sha256", "-"])
        .output()
        .unwrap();
    assert!(out.status.success());
    let mut lines: Vec<String> = String::from_utf8_lossy(&out.stdout)
        .lines()
        // Which stream comes first is the writer's choice: `0,v,SHA256=…` becomes `v,SHA256=…`.
        .map(|line| line.split_once(',').unwrap().1.to_owned())
        .collect();
    lines.sort();
    lines.join("\n")
}

/// The first video packet's flags (`K` for a keyframe).
pub fn first_flags(recording: &Path) -> String {
    let out = Command::new("ffprobe")
        .args([
            "-v",
            "error",
            "-select_streams",
            "v",
            "-read_intervals",
            "%+#1",
            "-show_entries",
            "packet=flags",
            "-of",
            "csv=p=0",
        ])
        .arg(recording)
        .output()
        .unwrap();
    String::from_utf8_lossy(&out.stdout).trim().to_owned()
}

/// ffmpeg publishing a test picture and tone, paced in real time.
pub fn publish(command: Command, to: &str, seconds: u32, kbps: u32) -> Child {
    encode(command, &["-f", "flv", to], seconds, kbps)
}

/// The same, with a copy of what is published in a file.
pub fn publish_and_keep(command: Command, to: &str, seconds: u32, kbps: u32, copy: &Path) -> Child {
    let both = format!("[f=flv]{}|[f=flv]{to}", copy.display());
    encode(command, &["-flags", "+global_header", "-map", "0:v", "-map", "1:a", "-f", "tee", &both], seconds, kbps)
}

/// A picture, what is done to it, and how it is encoded.
pub struct Scene<'a> {
    pub program: &'a str,
    pub source: &'a str,
    pub filter: &'a str,
    pub encoding: &'a [&'a str],
    pub more: &'a [&'a str],
}

impl Default for Scene<'_> {
    fn default() -> Self {
        Self {
            program: "ffmpeg",
            source: "testsrc2=size=640x360:rate=30",
            filter: "null",
            encoding: &["-preset", "superfast", "-g", "60", "-bf", "2", "-threads", "1"],
            more: &[],
        }
    }
}

fn encode(command: Command, output: &[&str], seconds: u32, kbps: u32) -> Child {
    publish_scene(command, &Scene::default(), output, seconds, kbps)
}

/// ffmpeg publishing a scene, paced in real time.
pub fn publish_scene(mut command: Command, scene: &Scene<'_>, output: &[&str], seconds: u32, kbps: u32) -> Child {
    let rate = format!("{kbps}k");
    command
        .args([scene.program, "-hide_banner", "-nostdin", "-loglevel", "error", "-re"])
        .args(["-f", "lavfi", "-i", scene.source, "-f", "lavfi", "-i", "sine=frequency=440:sample_rate=48000"])
        .args(["-t", &seconds.to_string(), "-vf", scene.filter, "-c:v", "libx264"])
        .args(scene.encoding)
        .args(scene.more)
        // Filler keeps the bitrate constant, as services ask for.
        .args(["-b:v", &rate, "-minrate", &rate, "-maxrate", &rate, "-bufsize", &rate, "-x264-params", "nal-hrd=cbr"])
        .args(["-c:a", "aac", "-b:a", "128k"])
        .args(output)
        .stderr(Stdio::piped())
        .stdout(Stdio::null())
        .spawn()
        .unwrap()
}

/// `moth watch --headless` on a port of its own.
pub struct Moth {
    pub dir: TempDir,
    pub port: u16,
    pub process: Running,
}

impl Moth {
    pub fn watching(command: Command, to: &[&str]) -> Self {
        Self::watching_with(command, to, &[])
    }

    /// The same, with further words on its command line.
    pub fn watching_with(mut command: Command, to: &[&str], more: &[&str]) -> Self {
        let dir = tempfile::tempdir().unwrap();
        let key = dir.path().join("key");
        fs::write(&key, format!("{KEY}\n")).unwrap();
        fs::set_permissions(&key, fs::Permissions::from_mode(0o600)).unwrap();
        let port = free_port();
        command.arg(env!("CARGO_BIN_EXE_moth")).arg("watch").arg("--headless");
        for address in to {
            command.args(["--to", address]);
        }
        if !more.contains(&"--record") {
            command.arg("--record").arg(dir.path().join("seen.jsonl"));
        }
        if !more.contains(&"--socket") {
            command.arg("--socket").arg(dir.path().join("moth.sock"));
        }
        command.args(more).arg("--key-file").arg(&key);
        if !more.contains(&"--listen") {
            command.args(["--listen", &format!("rtmp://127.0.0.1:{port}/moth")]);
        }
        Self::begin(command, dir, port)
    }

    /// Begins it, and waits until it tells something.
    fn begin(mut command: Command, dir: TempDir, port: u16) -> Self {
        // Nobody's own logbook is written.
        let child = command
            .env("XDG_DATA_HOME", dir.path().join("data"))
            .env("XDG_CONFIG_HOME", dir.path().join("config"))
            .stdout(File::create(dir.path().join("lines.json")).unwrap())
            .stderr(File::create(dir.path().join("moth.log")).unwrap())
            .spawn()
            .unwrap();
        let moth = Self { dir, port, process: Running(child) };
        wait_for("the moth's first line", Duration::from_secs(10), || (!moth.lines().is_empty()).then_some(()));
        moth
    }

    /// The same with a setup's configuration instead of an address.
    pub fn on_setup(mut command: Command, configured: &Configured, port: u16, more: &[&str]) -> Self {
        let dir = tempfile::tempdir().unwrap();
        command
            .arg(env!("CARGO_BIN_EXE_moth"))
            .args(["watch", "--headless", "--config"])
            .arg(configured.dir.path().join("moth.toml"))
            .arg("--record")
            .arg(dir.path().join("seen.jsonl"))
            .args(more)
            .arg("--key-file")
            .arg(configured.dir.path().join("key"))
            .args(["--listen", &format!("rtmp://127.0.0.1:{port}/moth"), "--socket"])
            .arg(dir.path().join("moth.sock"));
        Self::begin(command, dir, port)
    }

    /// Tells it something: the exit status, and what it said.
    pub fn tell(&self, words: &[&str]) -> (Option<i32>, String) {
        let out = Command::new(env!("CARGO_BIN_EXE_moth"))
            .args(["tell", "--socket"])
            .arg(self.dir.path().join("moth.sock"))
            .args(words)
            .output()
            .unwrap();
        let said = [out.stdout, out.stderr].concat();
        (out.status.code(), String::from_utf8_lossy(&said).trim().to_owned())
    }

    /// Its newest line.
    pub fn newest(&self) -> Value {
        self.lines().pop().unwrap()
    }

    pub fn here(to: &[&str]) -> Self {
        Self::watching(Command::new("env"), to)
    }

    pub fn publish_to(&self) -> String {
        format!("rtmp://127.0.0.1:{}/moth/local-name", self.port)
    }

    pub fn id(&self) -> u32 {
        self.process.0.id()
    }

    pub fn lines(&self) -> Vec<Value> {
        let text = fs::read_to_string(self.dir.path().join("lines.json")).unwrap();
        let whole = text.rsplit_once('\n').map_or("", |(whole, _)| whole);
        whole.lines().map(|line| serde_json::from_str(line).unwrap_or_else(|e| panic!("{e} in {line}"))).collect()
    }

    pub fn log(&self) -> String {
        fs::read_to_string(self.dir.path().join("moth.log")).unwrap()
    }

    /// Ends it as a crash would.
    pub fn kill(mut self) {
        self.process.signal("KILL");
        self.process.0.wait().unwrap();
    }

    /// What it went by is judged again: no sentence may contradict its own numbers at any moment.
    fn assert_it_says_what_is_so(&self) {
        let seen = self.dir.path().join("seen.jsonl");
        if seen.exists() {
            let judgement = moth::recordings::judged::judge(&seen).unwrap_or_else(|failure| panic!("{failure}"));
            assert!(judgement.damage.is_none(), "{:?}", judgement.damage);
            assert_eq!(judgement.contradictions, Vec::<String>::new());
        }
    }

    /// Asks it to stop, and gives its exit status and all its lines.
    pub fn stop(mut self) -> (Option<i32>, Vec<Value>) {
        self.process.signal("TERM");
        let status = self.process.0.wait().unwrap();
        let lines = self.lines();
        for line in &lines {
            for kind in ["frames", "audio"] {
                let n = |name: &str| line[kind][name].as_u64().unwrap();
                assert_eq!(n("offered"), n("delivered") + n("dropped") + n("queued"), "{line}");
            }
        }
        for file in ["lines.json", "moth.log", "seen.jsonl"] {
            let text = fs::read_to_string(self.dir.path().join(file)).unwrap_or_default();
            assert!(!text.contains(KEY), "the key is in {file}");
        }
        self.assert_it_says_what_is_so();
        (status.code(), lines)
    }
}

/// Waits for a broadcaster to end well, with nothing to complain of.
pub fn ended_well(child: Child) {
    let out = child.wait_with_output().unwrap();
    // A stream has no place to go back to and write its length: ffmpeg says so whoever it publishes to.
    let said: String =
        String::from_utf8_lossy(&out.stderr).lines().filter(|l| !l.contains("Failed to update header")).collect();
    assert!(out.status.success() && said.is_empty(), "{}: {said}", out.status);
}
