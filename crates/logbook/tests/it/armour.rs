//! What a logbook bears: kills, full and read-only disks, other programs, and files that are none.

use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use crate::common::{about, telling, told};
use moth_logbook::about::Wanted;
use moth_logbook::{Logbook, LogbookError, Pen};
use rand::{RngExt, SeedableRng};
use rusqlite::Connection;

/// Seconds that the one who is killed would write.
const MOST: usize = 400;
const CHILD: &str = "MOTH_TEST_WRITES_A_LOGBOOK";

#[test]
#[ignore = "what the next one kills"]
fn child() {
    let path = std::env::var_os(CHILD).unwrap();
    let mut logbook = Logbook::open(Path::new(&path)).unwrap();
    let mut pen = Pen::new(about("2026-10-02T21:00:00Z[UTC]", "killed"));
    for (second, snapshot) in telling(|second| second % 50 > 40).take(MOST).enumerate() {
        pen.take(&snapshot);
        pen.write(&mut logbook).unwrap();
        println!("kept {} {second}", pen.nr().unwrap());
    }
}

#[test]
fn killed_at_a_hundred_moments_it_opens_is_whole_and_misses_at_most_a_second() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("logbook.sqlite");
    let mut random = rand_pcg::Pcg64::seed_from_u64(16);
    let mut lost_midway = 0;
    let whole = told(MOST, |second| second % 50 > 40);
    for _ in 0..100 {
        let mut child = Command::new(std::env::current_exe().unwrap())
            .args(["armour::child", "--exact", "--ignored", "--nocapture"])
            .env(CHILD, &path)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .unwrap();
        let lines = BufReader::new(child.stdout.take().unwrap()).lines();
        let reader = std::thread::spawn(move || {
            // The first line may stand behind what the test runner says.
            let kept = |line: String| {
                let (_, told) = line.split_once("kept ")?;
                let (nr, second) = told.split_once(' ')?;
                Some((nr.parse::<i64>().ok()?, second.parse::<usize>().ok()?))
            };
            lines.map_while(Result::ok).filter_map(kept).last()
        });
        std::thread::sleep(Duration::from_micros(random.random_range(30_000..300_000)));
        child.kill().unwrap();
        child.wait().unwrap();
        let acknowledged = reader.join().unwrap();
        let Some(logbook) = Logbook::open_to_read(&path).unwrap() else {
            assert_eq!(acknowledged, None);
            continue;
        };
        logbook.check().unwrap();
        let Some((nr, second)) = acknowledged else { continue };
        lost_midway += usize::from(second + 1 < MOST);
        let kept = logbook.kept(nr).unwrap();
        // A second is told of once it is over.
        assert!(kept.seconds.len() > second, "{} s of {second}", kept.seconds.len());
        let was = &whole[kept.seconds.len() - 1];
        assert_eq!(kept.seconds.last(), was.history.get(kept.seconds.len() - 1));
        assert!(logbook.moment(nr, was.at).unwrap().is_some());
    }
    assert!(lost_midway > 50, "only {lost_midway} were killed while they wrote");
    assert!(Logbook::open(&path).unwrap().list(&Wanted::default()).unwrap().len() > 50, "what was there before stays");
}

/// Seconds are written one by one until one cannot be; what cannot pass is made possible, and everything is there.
fn fails_and_goes_on(
    path: &Path,
    hinder: impl FnOnce(&mut Logbook) -> Option<Connection>,
    help: impl FnOnce(&mut Logbook, Option<Connection>),
) -> LogbookError {
    let snapshots = told(800, |second| (100..150).contains(&second));
    let mut logbook = Logbook::open(path).unwrap();
    let mut pen = Pen::new(about("2026-10-02T21:00:00Z[UTC]", "a"));
    for snapshot in &snapshots[..100] {
        pen.take(snapshot);
        pen.write(&mut logbook).unwrap();
    }
    let hindrance = hinder(&mut logbook);
    let mut failed = None;
    for snapshot in &snapshots[100..] {
        pen.take(snapshot);
        // Once in a while only: with another program in the way each try waits for it.
        if failed.is_none() || snapshot.history.len() % 200 == 0 {
            failed = pen.write(&mut logbook).err().or(failed);
        }
    }
    help(&mut logbook, hindrance);
    pen.end(&mut logbook).unwrap();
    logbook.check().unwrap();
    let (kept, last) = (logbook.kept(pen.nr().unwrap()).unwrap(), snapshots.last().unwrap());
    assert_eq!(kept.seconds.len(), last.history.len());
    assert_eq!(kept.seconds[120], *last.history.get(120).unwrap(), "no second is lost to it");
    assert!(logbook.moment(pen.nr().unwrap(), last.at).unwrap().is_some());
    assert_eq!(kept.chronicle.verdicts().len(), 1);
    failed.unwrap()
}

#[test]
fn a_full_disk_stops_the_keeping_and_with_room_it_has_everything() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("logbook.sqlite");
    let pages = |logbook: &mut Logbook, most: u32| logbook.limit_pages(most).unwrap();
    let error = fails_and_goes_on(
        &path,
        |logbook| {
            pages(logbook, 1);
            None
        },
        |logbook, _| pages(logbook, u32::MAX - 1),
    );
    assert!(matches!(error, LogbookError::Full { .. }), "{error}");
    assert!(error.may_pass() && error.to_string().contains("is full"));
}

#[test]
fn another_program_that_holds_it_is_waited_for() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("logbook.sqlite");
    let began = Instant::now();
    let error = fails_and_goes_on(
        &path,
        |_| {
            let other = Connection::open(&path).unwrap();
            other.execute_batch("BEGIN IMMEDIATE").unwrap();
            Some(other)
        },
        |_, other| drop(other),
    );
    assert!(matches!(error, LogbookError::Busy { .. }) && error.may_pass(), "{error}");
    assert!(began.elapsed() < Duration::from_secs(60));
}

#[test]
fn what_is_no_logbook_or_newer_or_damaged_is_told_and_left_alone() {
    let dir = tempfile::tempdir().unwrap();
    let file = |name: &str| dir.path().join(name);
    std::fs::write(file("words"), "These are words, and no database at all.").unwrap();
    Connection::open(file("foreign"))
        .unwrap()
        .execute_batch("CREATE TABLE stamps (a); INSERT INTO stamps VALUES (1)")
        .unwrap();
    drop(Logbook::open(&file("newer")).unwrap());
    Connection::open(file("newer")).unwrap().execute_batch("PRAGMA user_version = 99").unwrap();
    {
        let mut logbook = Logbook::open(&file("damaged")).unwrap();
        let mut pen = Pen::new(about("2026-10-02T21:00:00Z[UTC]", "a"));
        told(300, |_| false).iter().for_each(|snapshot| pen.take(snapshot));
        pen.end(&mut logbook).unwrap();
    }
    let mut bytes = std::fs::read(file("damaged")).unwrap();
    let end = bytes.len();
    bytes[4096..end].fill(0xa5);
    std::fs::write(file("damaged"), &bytes).unwrap();
    for (name, said) in [
        ("words", "is no logbook of the moth"),
        ("foreign", "is no logbook of the moth"),
        ("newer", "is of a newer moth (version 99; this one knows"),
        ("damaged", "is damaged"),
    ] {
        let before = std::fs::read(file(name)).unwrap();
        let used = |opened: Result<Logbook, LogbookError>| {
            let error = opened.and_then(|logbook| logbook.list(&Wanted::default())).unwrap_err();
            assert!(error.to_string().contains(said) && error.to_string().contains(name), "{name}: {error}");
            assert!(!error.may_pass(), "{name}: {error}");
        };
        used(Logbook::open(&file(name)));
        used(Logbook::open_to_read(&file(name)).map(Option::unwrap));
        assert_eq!(std::fs::read(file(name)).unwrap(), before, "{name} is left alone");
    }
    // Nothing, or a file without anything in it, is none yet.
    std::fs::write(file("empty"), "").unwrap();
    for name in ["empty", "nothing"] {
        assert!(Logbook::open_to_read(&file(name)).unwrap().is_none());
        assert_eq!(Logbook::open(&file(name)).unwrap().list(&Wanted::default()).unwrap(), []);
    }
    assert!(matches!(Logbook::open(dir.path()), Err(LogbookError::Io { .. })), "a folder");
}

#[cfg(unix)]
#[test]
fn a_name_with_signs_of_its_own_is_a_name() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("what? 100 % of it#1.sqlite");
    drop(Logbook::open(&path).unwrap());
    assert!(Logbook::open_to_read(&path).unwrap().is_some());
    assert!(path.is_file());
}
