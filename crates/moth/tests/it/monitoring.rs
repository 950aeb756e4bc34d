//! What ships in `contrib/monitoring/`, in the hands of a real Prometheus: two moths and a second machine, a line that is narrowed, and
//! an alert that fires and passes.

use std::io::Write;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::time::Duration;

use crate::common::*;
use serde_json::Value;

fn shipped(name: &str) -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../contrib/monitoring").join(name)
}

fn promtool(words: &[&str], input: &str) -> (bool, String) {
    let child = Command::new("promtool")
        .args(words)
        .current_dir(shipped(""))
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn();
    let mut child = child.unwrap();
    child.stdin.take().unwrap().write_all(input.as_bytes()).unwrap();
    let out = child.wait_with_output().unwrap();
    (out.status.success(), String::from_utf8_lossy(&[out.stdout, out.stderr].concat()).into_owned())
}

#[test]
fn the_rules_and_alerts_that_ship_do_what_they_say() {
    if !have(&["promtool"]) {
        return;
    }
    for words in [&["check", "config", "prometheus.yml"][..], &["test", "rules", "tests.yml"]] {
        let (is_well, said) = promtool(words, "");
        assert!(is_well, "{words:?}: {said}");
    }
}

/// What a page at home says.
fn get(hosts: &Hosts, url: &str) -> String {
    let out = hosts.at_home().args(["curl", "-s", "-g", url]).output().unwrap();
    String::from_utf8_lossy(&out.stdout).into_owned()
}

fn moth(hosts: &Hosts, listens: u16, serves: u16) -> Moth {
    let address = format!("rtmp://{SERVER_IP}:1935/live");
    let (serve, listen) = (format!("127.0.0.1:{serves}"), format!("rtmp://127.0.0.1:{listens}/moth"));
    Moth::watching_with(hosts.at_home(), &[&address], &["--serve", &serve, "--listen", &listen])
}

#[test]
fn a_real_prometheus_scrapes_two_moths_and_a_host_and_an_alert_fires_and_passes() {
    if !have(&["nginx", "ffmpeg", "prometheus", "promtool", "curl", "unshare", "nsenter", "ip", "tc"]) {
        return;
    }
    let hosts = Hosts::new();
    hosts.narrow(0, 8000, 200);
    let nginx = Nginx::at(&hosts);
    let [first, second] = [(19350, 9390), (19352, 9391)].map(|(listens, serves)| moth(&hosts, listens, serves));
    let host = hosts
        .at_home()
        .arg(env!("CARGO_BIN_EXE_moth"))
        .args(["host", "--serve", "127.0.0.1:9377"])
        .stdout(Stdio::null())
        .spawn();
    let _host = Running(host.unwrap());
    let ffmpeg = publish(hosts.at_home(), "rtmp://127.0.0.1:19350/moth/local", 300, 2500);
    let _ffmpeg = Running(ffmpeg);
    // As it ships, but for how often it looks: a test does not wait for minutes.
    let dir = tempfile::tempdir().unwrap();
    let config = std::fs::read_to_string(shipped("prometheus.yml")).unwrap().replace("interval: 5s", "interval: 1s");
    std::fs::write(dir.path().join("prometheus.yml"), config).unwrap();
    for rules in ["rules.yml", "alerts.yml"] {
        let text = std::fs::read_to_string(shipped(rules)).unwrap();
        std::fs::write(dir.path().join(rules), text.replace("[30s]", "[8s]")).unwrap();
    }
    let prometheus = hosts
        .at_home()
        .arg("prometheus")
        .arg(format!("--config.file={}", dir.path().join("prometheus.yml").display()))
        .arg(format!("--storage.tsdb.path={}", dir.path().join("data").display()))
        .arg("--web.listen-address=127.0.0.1:9490")
        .arg(format!("--web.console.templates={}", shipped("consoles").display()))
        .stdout(Stdio::null())
        .stderr(Stdio::null())
        .spawn();
    let _prometheus = Running(prometheus.unwrap());
    let api =
        |path: &str| serde_json::from_str::<Value>(&get(&hosts, &format!("http://127.0.0.1:9490/api/v1/{path}"))).ok();
    wait_for("all three are scraped", Duration::from_secs(30), || {
        let targets = api("targets")?["data"]["activeTargets"].as_array()?.clone();
        (targets.len() == 3 && targets.iter().all(|target| target["health"] == "up")).then_some(())
    });
    // Nothing to complain about in what each of them tells.
    for port in [9390, 9391, 9377] {
        let (is_well, said) =
            promtool(&["check", "metrics"], &get(&hosts, &format!("http://127.0.0.1:{port}/metrics")));
        assert!(is_well && said.is_empty(), "{port}: {said}");
    }
    let fires = || {
        let alerts = api("alerts")?["data"]["alerts"].as_array()?.clone();
        let firing = alerts.iter().filter(|alert| alert["state"] == "firing");
        Some(
            firing
                .map(|alert| format!("{} {}", alert["labels"]["alertname"], alert["labels"]["broadcast"]))
                .collect::<Vec<_>>(),
        )
    };
    wait_for("a calm broadcast", Duration::from_secs(20), || (first.newest()["state"] == "steady").then_some(()));
    std::thread::sleep(Duration::from_secs(10));
    assert_eq!(fires().unwrap(), Vec::<String>::new(), "nothing is wrong");
    hosts.narrow(0, 1200, 200);
    wait_for("the alert", Duration::from_secs(60), || {
        (fires()? == ["\"BroadcastDropsFrames\" \"comet-night\""]).then_some(())
    });
    let page = get(&hosts, "http://127.0.0.1:9490/consoles/broadcasts.html");
    for text in [
        "<strong>BroadcastDropsFrames</strong> comet-night",
        "network at fault",
        "dome-talk waits for a broadcaster",
        "dome-left",
    ] {
        assert!(page.contains(text), "{text}: {page}");
    }
    // What it adds up to is what the moth counts.
    let share = |query: &str| {
        api(&format!("query?query={query}"))?["data"]["result"][0]["value"][1].as_str()?.parse::<f64>().ok()
    };
    let told = share("moth_frames_total{kind='offered'}").unwrap();
    let counted = first.newest()["frames"]["offered"].as_u64().unwrap() as f64;
    // The line that was read last is up to a second old, and so is what was scraped.
    assert!((-45.0..=90.0).contains(&(counted - told)), "{counted} counted, {told} scraped");
    hosts.narrow(0, 8000, 200);
    wait_for("that it passes", Duration::from_secs(60), || fires()?.is_empty().then_some(()));
    drop((first, second, nginx));
}
