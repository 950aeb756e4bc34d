//! Ingest servers, written by others and our own.

use std::fs::{self, File};
use std::path::PathBuf;
use std::process::{Command, Stdio};
use std::time::Duration;

use tempfile::TempDir;

use super::network::{Hosts, SERVER_IP};
use super::programs::{module, node_media_server, rtmp_module};
use super::terminal::Terminal;
use super::{Running, free_port, wait_for};

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

    /// In the network of a terminal.
    pub fn beside(terminal: &Terminal) -> Self {
        Self::prepare("127.0.0.1", free_port()).begin(Some(terminal.beside()))
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
        // nginx listens before it writes this file, so whoever connects from now on is served.
        wait_for("nginx", Duration::from_secs(10), || self.dir.path().join("pid").exists().then_some(()));
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
