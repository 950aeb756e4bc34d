//! Drawings, reports and tables of seeded evenings, read by programs that nobody here wrote.

use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::time::Duration;

use crate::common::have;
use crate::read_back::assert_legible;
use moth_core::action::Action;
use moth_core::moment::Moment;
use moth_core::rate::Bitrate;
use moth_core::{Core, Settings};
use moth_logbook::readings::{Header, Writer};
use moth_stage::{Evening, Theatre, shipped};

/// Every drawing of a recording.
const CHARTS: [&str; 6] = ["lanes", "journey", "why", "trial", "machine", "comparison"];

/// An evening of the demo with the bitrate lowered in it, as a readings file.
fn recorded(slug: &str, path: &Path, seconds: u64) {
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().start_paused(true).build().unwrap();
    runtime.block_on(async {
        let evening = shipped().into_iter().find(|e| e.slug == slug).unwrap();
        let mut core = Core::new(Settings { servers: evening.servers() });
        let mut theatre = Theatre::open(&evening, 41).unwrap();
        let began = Some("2026-11-26T21:04:10+01:00".into());
        let header = Header { began, made_up: true, ..Header::new(evening.servers()) };
        let mut writer = Writer::create(path, &header).unwrap();
        let (mut look, mut is_cut) = (Moment::START, false);
        while let Some(reading) = theatre.readings.recv().await {
            while look <= reading.at {
                moth_relay::scout::tell(&theatre.doubt, &core.snapshot(look));
                look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
            }
            if reading.at.seconds() > seconds as f64 {
                break;
            }
            core.take(&reading);
            writer.write(&reading).unwrap();
            if reading.at.seconds() > 45.0 && !std::mem::replace(&mut is_cut, true) {
                let action = Action::SetBitrate { video: Bitrate::from_kbps(2500) };
                Theatre::act(&theatre.relay, &theatre.broadcaster, &theatre.recorder, action).await;
                theatre.relay.be_patient();
            }
        }
        writer.finish().unwrap();
    });
}

/// `moth judge`, as on a machine without a single font and without a configuration.
fn judge(recording: &Path, words: &[&str]) -> Output {
    let mut command = Command::new(env!("CARGO_BIN_EXE_moth"));
    let home = recording.parent().unwrap();
    command.arg("judge").arg(recording).args(words).current_dir(home);
    command.env("HOME", home).env_remove("XDG_CONFIG_HOME").env("FONTCONFIG_FILE", "/dev/null").output().unwrap()
}

fn is_well(out: &Output) {
    assert!(out.status.success(), "{}", String::from_utf8_lossy(&out.stderr));
}

/// What a chart takes beside its name.
fn more(chart: &str) -> &[&str] {
    if chart == "comparison" { &["--from", "30", "--until", "60", "--against", "5-25"] } else { &[] }
}

/// What a program says of a file, without fonts of its own.
fn said(program: &str, words: &[&str], file: &Path, rest: &[&str]) -> String {
    let out =
        Command::new(program).args(words).arg(file).args(rest).env("FONTCONFIG_FILE", "/dev/null").output().unwrap();
    assert!(out.status.success(), "{program}: {}", String::from_utf8_lossy(&out.stderr));
    String::from_utf8_lossy(&out.stdout).into_owned()
}

fn assert_embedded(pdf: &Path) {
    let fonts = said("pdffonts", &[], pdf, &[]);
    let rows: Vec<&str> = fonts.lines().skip(2).collect();
    assert!(!rows.is_empty(), "{fonts}");
    for row in rows {
        // After the encoding: embedded, a subset, with a table of what its glyphs mean.
        assert!(row.contains("DejaVuSansCondensed") && row.contains("yes yes yes"), "{fonts}");
    }
}

/// What no file that is given away may hold: servers, their addresses, the file's own name, programs.
const NAMES: [&str; 6] = ["Aldmoor", "Brackwater", "archive-sync", "stand-in", "example", "127.0.0.1"];

#[test]
fn every_chart_is_drawn_of_the_demo_as_svg_and_as_pdf_and_without_names() {
    let has_poppler = have(&["pdftotext", "pdffonts"]);
    let dir = tempfile::tempdir().unwrap();
    let recording = dir.path().join("archive-sync.jsonl.gz");
    recorded("archive-sync", &recording, 100);
    let listed = judge(&recording, &[]);
    is_well(&listed);
    let list = Command::new(env!("CARGO_BIN_EXE_moth")).args(["judge", "--list-charts"]).output().unwrap();
    let list = String::from_utf8_lossy(&list.stdout).into_owned();
    for chart in CHARTS {
        assert!(list.lines().any(|line| line.starts_with(chart)), "{chart} in {list}");
        for kind in ["svg", "pdf"] {
            let to = format!("{chart}.{kind}");
            is_well(&judge(&recording, &[&["--chart", chart, "--to", &to], more(chart)].concat()));
            let anonymous = format!("{chart}-anonymous.{kind}");
            is_well(&judge(
                &recording,
                &[&["--chart", chart, "--to", &anonymous, "--anonymous"], more(chart)].concat(),
            ));
        }
        let svg = std::fs::read_to_string(dir.path().join(format!("{chart}.svg"))).unwrap();
        assert!(svg.contains("<text") && svg.contains("archive-sync.jsonl.gz"), "{chart}");
        assert_legible(&svg);
        let hidden = std::fs::read_to_string(dir.path().join(format!("{chart}-anonymous.svg"))).unwrap();
        assert_legible(&hidden);
        assert!(hidden.contains("all made up"), "{chart} of the demo says so without its name, too");
        for name in NAMES {
            assert!(!hidden.contains(name), "{chart} holds {name}");
        }
        if has_poppler {
            let pdf = dir.path().join(format!("{chart}.pdf"));
            assert!(said("pdftotext", &["-layout"], &pdf, &["-"]).contains("archive-sync.jsonl.gz"), "{chart}");
            assert_embedded(&pdf);
            let hidden = said("pdftotext", &[], &dir.path().join(format!("{chart}-anonymous.pdf")), &["-"]);
            for name in NAMES {
                assert!(!hidden.contains(name), "{chart} holds {name}");
            }
        }
    }
    // Tables as well.
    is_well(&judge(&recording, &["--csv", "hidden.csv", "--jsonl", "hidden.jsonl", "--anonymous"]));
    for table in ["hidden.csv", "hidden.verdicts.csv", "hidden.changes.csv", "hidden.tests.csv", "hidden.jsonl"] {
        let hidden = std::fs::read_to_string(dir.path().join(table)).unwrap();
        for name in NAMES {
            assert!(!hidden.contains(name), "{table} holds {name}");
        }
    }
    // `MOTH_DRAWINGS=docs/drawings` makes the samples anew.
    if let Ok(samples) = std::env::var("MOTH_DRAWINGS") {
        is_well(&judge(&recording, &["--report", "report.pdf"]));
        for sample in ["lanes.svg", "why.svg", "trial.svg", "report.pdf"] {
            std::fs::copy(dir.path().join(sample), Path::new(&samples).join(sample)).unwrap();
        }
    }
    assert_eq!(
        list.lines().take_while(|line| !line.is_empty()).count(),
        CHARTS.len(),
        "all that are listed are drawn here"
    );
}

/// Other troubles have other suspects, numbers and names: every drawing of an evening is legible on a dark ground.
fn are_legible(evenings: impl IntoIterator<Item = Evening>) {
    let dir = tempfile::tempdir().unwrap();
    for evening in evenings {
        let recording = dir.path().join(format!("{}.jsonl.gz", evening.slug));
        recorded(&evening.slug, &recording, 70);
        for chart in CHARTS {
            let drawn =
                judge(&recording, &[&["--chart", chart, "--to", "it.svg", "--force", "--dark"], more(chart)].concat());
            if chart == "why" && !drawn.status.success() {
                let said = String::from_utf8_lossy(&drawn.stderr).into_owned();
                assert!(said.contains("no sign of a verdict"), "{}: {said}", evening.slug);
                continue;
            }
            is_well(&drawn);
            eprintln!("{} of {}", chart, evening.slug);
            assert_legible(&std::fs::read_to_string(dir.path().join("it.svg")).unwrap());
        }
    }
}

/// One of each stage.
#[test]
fn drawings_of_an_evening_of_each_stage_are_legible() {
    let of_each = ["archive-sync", "ambitious-preset", "nebula-scene"];
    let evenings: Vec<Evening> = shipped().into_iter().filter(|e| of_each.contains(&e.slug.as_str())).collect();
    assert_eq!(evenings.len(), of_each.len());
    are_legible(evenings);
}

mod long {
    #[test]
    fn drawings_of_every_evening_are_legible() {
        super::are_legible(super::shipped());
    }
}

#[test]
fn a_report_says_what_was_lost_whose_fault_it_was_and_what_a_change_did() {
    if !have(&["pdftotext", "pdffonts", "pdfinfo"]) {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let recording = dir.path().join("archive-sync.jsonl.gz");
    recorded("archive-sync", &recording, 100);
    for (words, size) in [(&[][..], "A4"), (&["--paper", "letter"], "letter")] {
        is_well(&judge(&recording, &[&["--report", "report.pdf", "--force"], words].concat()));
        let report = dir.path().join("report.pdf");
        let info = said("pdfinfo", &[], &report, &[]);
        assert!(info.contains(&format!("({size})")), "{info}");
        let pages: u32 = info.lines().find_map(|l| l.strip_prefix("Pages:")).unwrap().trim().parse().unwrap();
        assert!((2..=8).contains(&pages), "a few pages: {pages}");
        assert_embedded(&report);
        // As one line, since lines break anywhere.
        let first = said("pdftotext", &["-l", "1"], &report, &["-"]).replace('\n', " ");
        for expected in [
            "For whoever runs the line or the server",
            "On 2026-11-26 from 21:04:10 to 21:05:",
            "a live broadcast went to Aldmoor",
            "could not be delivered in time and were dropped",
            "kb/s were acknowledged on the mean and",
            "the likeliest cause was: an upload beyond this machine",
            "The network was at fault once",
            "video bitrate to 2 500 kb/s (helped)",
        ] {
            assert!(first.contains(expected), "{expected} on the first page: {first}");
        }
        let all = said("pdftotext", &[], &report, &["-"]).replace('\n', " ");
        for expected in [
            "Verdict 1",
            "round trip",
            "Change at 00:45",
            "The load on this machine",
            "How it is known",
            "None that belongs to this broadcast is kept",
        ] {
            assert!(all.contains(expected), "{expected} in the report: {all}");
        }
    }
    is_well(&judge(&recording, &["--report", "anonymous.pdf", "--anonymous"]));
    let all = said("pdftotext", &[], &dir.path().join("anonymous.pdf"), &["-"]);
    for name in NAMES {
        assert!(!all.contains(name), "the report holds {name}");
    }
    // The document's own title does not tell the file's name either.
    assert!(!said("pdfinfo", &[], &dir.path().join("anonymous.pdf"), &[]).contains("archive-sync"));
}

/// What the sentences for the provider say, counted again by somebody else from the table of the seconds.
#[test]
fn figures_of_the_report_are_those_of_the_seconds() {
    if !have(&["pdftotext"]) {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let recording = dir.path().join("evening.jsonl");
    recorded("archive-sync", &recording, 60);
    is_well(&judge(&recording, &["--report", "r.pdf", "--csv", "s.csv"]));
    let csv = std::fs::read_to_string(dir.path().join("s.csv")).unwrap();
    let rows: Vec<Vec<&str>> = csv.lines().map(|line| line.split(',').collect()).collect();
    let column = |name: &str| rows[0].iter().position(|column| *column == name).unwrap();
    let sum = |name: &str| -> u64 { rows[1..].iter().filter_map(|row| row[column(name)].parse::<u64>().ok()).sum() };
    let (due, dropped) = (sum("due_frames"), sum("dropped_frames"));
    assert!(dropped > 0);
    let grouped = moth_core::rate::grouped;
    let first = said("pdftotext", &["-l", "1"], &dir.path().join("r.pdf"), &["-"]).replace('\n', " ");
    let expected = format!("{} of {} video frames", grouped(dropped), grouped(due));
    assert!(first.contains(&expected), "{expected} in {first}");
    for beside in ["s.verdicts.csv", "s.changes.csv", "s.tests.csv"] {
        assert!(dir.path().join(beside).exists(), "{beside}");
    }
}

#[test]
fn what_cannot_be_written_is_one_line_and_no_half_file() {
    let dir = tempfile::tempdir().unwrap();
    let recording = dir.path().join("evening.jsonl.gz");
    recorded("calm", &recording, 20);
    let fails = |words: &[&str], expected: &str| {
        let out = judge(&recording, words);
        let said = String::from_utf8_lossy(&out.stderr).into_owned();
        assert_eq!(out.status.code(), Some(2), "{words:?}: {said}");
        assert!(said.contains(expected) && said.trim_end().lines().count() == 1, "{words:?}: {said}");
    };
    fails(&["--report", "report.svg"], "does not end in .pdf");
    fails(&["--report", "none/report.pdf"], "cannot be written");
    fails(&["--chart", "comparison", "--to", "c.svg"], "wants a second side");
    fails(&["--chart", "lanes", "--to", "c.svg", "--against", "5-10"], "wants a second side");
    fails(&["--chart", "lanes", "--to", "c.svg", "--against", "10-5"], "expected two times");
    fails(&["--chart", "why", "--to", "c.svg"], "no sign of a verdict");
    fails(&["--chart", "lanes", "--to", "c.svg", "--from", "40"], "--from must lie before");
    std::fs::write(dir.path().join("s.changes.csv"), "mine").unwrap();
    fails(&["--csv", "s.csv"], "s.changes.csv is there already");
    assert_eq!(std::fs::read_to_string(dir.path().join("s.changes.csv")).unwrap(), "mine");
    std::fs::write(dir.path().join("report.pdf"), "mine").unwrap();
    fails(&["--report", "report.pdf"], "is there already");
    is_well(&judge(&recording, &["--report", "report.pdf", "--force"]));
    let mut left: Vec<PathBuf> = std::fs::read_dir(dir.path()).unwrap().map(|entry| entry.unwrap().path()).collect();
    left.sort();
    let names: Vec<_> = left.iter().map(|path| path.file_name().unwrap().to_string_lossy().into_owned()).collect();
    assert_eq!(names, ["evening.jsonl.gz", "report.pdf", "s.changes.csv"], "nothing else is left");
}

/// A full disk: a file system of its own that is too small for the drawing.
#[test]
fn a_full_disk_is_one_line_and_no_half_file() {
    let dir = tempfile::tempdir().unwrap();
    let recording = dir.path().join("evening.jsonl.gz");
    recorded("calm", &recording, 20);
    let small = dir.path().join("small");
    std::fs::create_dir(&small).unwrap();
    // In a mount namespace of its own, so that nothing is left of it.
    let script = format!(
        "mount -t tmpfs -o size=40k tmpfs {small} && {moth} judge {recording} --chart lanes --to {small}/lanes.svg; \
         echo status $?; ls -A {small} | wc -l",
        small = small.display(),
        moth = env!("CARGO_BIN_EXE_moth"),
        recording = recording.display()
    );
    let out = Command::new("unshare").args(["--mount", "--map-root-user", "sh", "-c", &script]).output().unwrap();
    let (said, errors) = (String::from_utf8_lossy(&out.stdout), String::from_utf8_lossy(&out.stderr));
    if errors.contains("unshare failed") || errors.contains("mount:") {
        assert!(std::env::var_os("CI").is_none(), "{errors}");
        eprintln!("SKIPPED: no mount namespace can be made here: {errors}");
        return;
    }
    assert!(said.contains("status 2") && said.trim_end().ends_with('0'), "{said}{errors}");
    assert!(errors.contains("lanes.svg cannot be written") && errors.trim_end().lines().count() == 1, "{errors}");
}
