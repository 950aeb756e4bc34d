//! A broadcast goes into the logbook as it is seen, and comes out as it was.

use crate::common::{about, at, told};
use moth_core::history::Second;
use moth_core::suspects::Fault;
use moth_core::{Moment, Snapshot};
use moth_evening::chronicle::Chronicle;
use moth_logbook::about::Wanted;
use moth_logbook::thinning::Limits;
use moth_logbook::{Logbook, LogbookError, Pen};

fn seconds(snapshot: &Snapshot) -> Vec<Second> {
    (0..snapshot.history.len()).filter_map(|at| snapshot.history.get(at)).copied().collect()
}

fn write(logbook: &mut Logbook, began: &str, setup: &str, snapshots: &[Snapshot]) -> i64 {
    let mut pen = Pen::new(about(began, setup));
    for snapshot in snapshots {
        pen.take(snapshot);
        pen.write(logbook).unwrap();
    }
    pen.end(logbook).unwrap();
    pen.nr().unwrap()
}

#[test]
fn what_was_written_as_it_went_is_read_as_it_was() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("deep/logbook.sqlite");
    let snapshots = told(600, |second| (300..360).contains(&second));
    let nr = write(&mut Logbook::open(&path).unwrap(), "2026-10-30T21:04:00+01:00[+01:00]", "comet night", &snapshots);
    let logbook = Logbook::open_to_read(&path).unwrap().unwrap();
    logbook.check().unwrap();
    let (kept, last) = (logbook.kept(nr).unwrap(), snapshots.last().unwrap());
    assert_eq!(kept.seconds, seconds(last));
    let mut chronicle = Chronicle::default();
    snapshots.iter().for_each(|snapshot| chronicle.take(snapshot));
    let evening = |chronicle: &Chronicle| chronicle.evening(last, last, "an evening".into(), None);
    assert_eq!(
        evening(&kept.chronicle),
        evening(&chronicle),
        "what is drawn of it is what would have been drawn of it live"
    );
    assert_eq!(kept.chronicle.verdicts()[0].fault, Fault::Network);
    for snapshot in snapshots.iter().step_by(37) {
        let moment = logbook.moment(nr, snapshot.at).unwrap().unwrap();
        assert_eq!(moment.at, snapshot.at);
        assert_eq!(moment.verdict.sentence, snapshot.verdict.sentence);
        assert_eq!(moment.accounts, snapshot.accounts);
    }
    assert!(logbook.moment(nr, Moment::from_ms(700_000)).unwrap().is_none(), "long after its end");
    let listed = logbook.listed(nr).unwrap();
    assert_eq!(listed.about, about("2026-10-30T21:04:00+01:00[+01:00]", "comet night"));
    assert!(listed.is_ended && listed.digest == kept.digest() && listed.digest.lost.dropped > 500);
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt;
        for file in ["logbook.sqlite", "logbook.sqlite-wal"] {
            let Ok(found) = path.with_file_name(file).metadata() else { continue };
            assert_eq!(found.permissions().mode() & 0o077, 0, "{file} is nobody else's business");
        }
    }
}

#[test]
fn it_is_found_by_date_setup_verdict_and_words() {
    let dir = tempfile::tempdir().unwrap();
    let mut logbook = Logbook::open(&dir.path().join("logbook.sqlite")).unwrap();
    let (calm, bad) = (told(40, |_| false), told(60, |second| second > 20));
    let first = write(&mut logbook, "2026-10-02T21:00:00Z[UTC]", "comet night", &calm);
    let second = write(&mut logbook, "2026-10-03T21:00:00Z[UTC]", "comet night", &bad);
    let third = write(&mut logbook, "2026-10-04T21:00:00Z[UTC]", "dome talk", &calm);
    logbook.write_down(second, Some("Before the router"), None).unwrap();
    logbook.write_down(second, None, Some("Old cable.\nRain.")).unwrap();
    let find = |wanted: Wanted| logbook.list(&wanted).unwrap().iter().map(|one| one.nr).collect::<Vec<_>>();
    let some = |text: &str| Some(text.to_owned());
    assert_eq!(find(Wanted::default()), [third, second, first], "the newest first");
    assert_eq!(find(Wanted { setup: some("Dome Talk"), ..Wanted::default() }), [third]);
    assert_eq!(find(Wanted { verdict: some("network"), ..Wanted::default() }), [second]);
    assert_eq!(find(Wanted { verdict: some("none"), ..Wanted::default() }), [third, first]);
    assert_eq!(find(Wanted { words: some("ROUTER rain"), ..Wanted::default() }), [second]);
    assert_eq!(find(Wanted { words: some("router snow"), ..Wanted::default() }), [0; 0]);
    for (anything, found) in [
        ("friday", vec![first]),
        ("october 4", vec![third]),
        ("4 october dome", vec![third]),
        ("upload rain", vec![second]),
    ] {
        assert_eq!(find(Wanted { anything: some(anything), ..Wanted::default() }), found, "{anything}");
    }
    let since = Some(at("2026-10-03T00:00:00Z[UTC]").timestamp());
    assert_eq!(
        find(Wanted { since, before: Some(at("2026-10-04T00:00:00Z[UTC]").timestamp()), ..Wanted::default() }),
        [second]
    );
    assert!(matches!(logbook.write_down(99, Some("x"), None), Err(LogbookError::NoSuch { nr: 99 })));
}

#[test]
fn limits_take_the_oldest_and_never_what_goes_on() {
    let dir = tempfile::tempdir().unwrap();
    let mut logbook = Logbook::open(&dir.path().join("logbook.sqlite")).unwrap();
    let some = told(300, |_| false);
    let old = write(&mut logbook, "2026-10-01T21:00:00Z[UTC]", "a", &some);
    let newer = write(&mut logbook, "2026-11-01T21:00:00Z[UTC]", "a", &some);
    let mut pen = Pen::new(about("2026-11-25T20:55:05Z[UTC]", "a"));
    some.iter().for_each(|snapshot| pen.take(snapshot));
    pen.write(&mut logbook).unwrap();
    let now = at("2026-11-25T21:00:10Z[UTC]").timestamp();
    let beyond = |logbook: &Logbook, days, bytes| {
        let going = logbook.beyond(Limits { days, bytes }, now).unwrap();
        going.iter().map(|one| one.nr).collect::<Vec<_>>()
    };
    assert_eq!(beyond(&logbook, None, None), [0; 0]);
    assert_eq!(beyond(&logbook, Some(30), None), [old]);
    let one = logbook.listed(old).unwrap().bytes;
    assert_eq!(beyond(&logbook, None, Some(one * 5 / 2)), [old]);
    assert_eq!(beyond(&logbook, Some(0), Some(0)), [old, newer], "what goes on stays");
    let going = pen.nr().unwrap();
    assert!(matches!(logbook.remove(&[old, going], now), Err(LogbookError::GoesOn { .. })));
    assert_eq!(logbook.list(&Wanted::default()).unwrap().len(), 3, "all of them, or none");
    let before = logbook.bytes();
    logbook.remove(&[old], now).unwrap();
    assert!(matches!(logbook.kept(old), Err(LogbookError::NoSuch { .. })));
    logbook.check().unwrap();
    pen.end(&mut logbook).unwrap();
    logbook.remove(&[newer, going], now).unwrap();
    drop(logbook);
    let left = std::fs::metadata(dir.path().join("logbook.sqlite")).unwrap().len();
    assert!(left < before / 2, "the disk has its room back: {left} of {before}");
}

#[test]
fn one_that_was_removed_while_nobody_broadcast_is_written_anew() {
    let dir = tempfile::tempdir().unwrap();
    let mut logbook = Logbook::open(&dir.path().join("logbook.sqlite")).unwrap();
    let snapshots = told(300, |_| false);
    let mut pen = Pen::new(about("2026-10-01T21:00:00Z[UTC]", "a"));
    snapshots[..280].iter().for_each(|snapshot| pen.take(snapshot));
    pen.write(&mut logbook).unwrap();
    logbook.remove(&[pen.nr().unwrap()], at("2026-10-01T22:00:00Z[UTC]").timestamp()).unwrap();
    pen.take(snapshots.last().unwrap());
    assert!(pen.write(&mut logbook).is_err());
    pen.end(&mut logbook).unwrap();
    assert_eq!(logbook.kept(pen.nr().unwrap()).unwrap().seconds, seconds(snapshots.last().unwrap()));
    logbook.check().unwrap();
}

#[test]
fn two_at_once_keep_two_broadcasts_and_a_third_reads() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("logbook.sqlite");
    let snapshots = told(120, |second| second > 60);
    std::thread::scope(|scope| {
        for setup in ["one", "other"] {
            let (path, snapshots) = (&path, &snapshots);
            scope
                .spawn(move || write(&mut Logbook::open(path).unwrap(), "2026-10-02T21:00:00Z[UTC]", setup, snapshots));
        }
        scope.spawn(|| {
            for _ in 0..50 {
                if let Some(logbook) = Logbook::open_to_read(&path).unwrap() {
                    logbook.list(&Wanted::default()).unwrap();
                }
            }
        });
    });
    let logbook = Logbook::open_to_read(&path).unwrap().unwrap();
    logbook.check().unwrap();
    let all = logbook.list(&Wanted::default()).unwrap();
    assert_eq!(all.len(), 2);
    for one in all {
        assert_eq!(logbook.kept(one.nr).unwrap().seconds, seconds(snapshots.last().unwrap()));
    }
}

#[test]
fn nothing_is_kept_before_a_broadcaster_comes_and_the_clock_is_kept() {
    let dir = tempfile::tempdir().unwrap();
    let mut logbook = Logbook::open(&dir.path().join("logbook.sqlite")).unwrap();
    let mut core = moth_core::Core::new(moth_core::Settings { servers: vec!["Aldmoor".into()] });
    let mut pen = Pen::new(about("2026-10-02T21:00:00Z[UTC]", "a"));
    for second in 0..100 {
        pen.take(&core.snapshot(Moment::from_ms(second * 1000)));
        assert!(!pen.is_due());
        pen.write(&mut logbook).unwrap();
    }
    assert_eq!((pen.nr(), logbook.list(&Wanted::default()).unwrap()), (None, Vec::new()));
    for (n, mut snapshot) in told(30, |_| false).into_iter().enumerate() {
        // As if it had waited for a hundred seconds.
        let mut history = moth_core::history::History::default();
        (0..100).for_each(|_| history.push(Second::default()));
        seconds(&snapshot).into_iter().for_each(|second| history.push(second));
        (snapshot.history, snapshot.at) = (history, Moment::from_ms(101_000 + n as u64 * 1000));
        snapshot.on_air_since = Some(Moment::from_ms(100_000));
        pen.take(&snapshot);
        pen.write(&mut logbook).unwrap();
    }
    pen.end(&mut logbook).unwrap();
    let (listed, kept) = (logbook.listed(pen.nr().unwrap()).unwrap(), logbook.kept(pen.nr().unwrap()).unwrap());
    assert_eq!((listed.first_second, kept.seconds.len(), kept.first_second), (97, 130, 97));
    assert_eq!(listed.digest.on_air_s, 30);
    assert_eq!(listed.on_air_at(), at("2026-10-02T21:01:37+00:00[+00:00]"));
}

#[test]
fn one_that_was_cut_off_goes_on_as_if_it_never_was_and_is_found_only_while_it_is_young() {
    let dir = tempfile::tempdir().unwrap();
    let path = dir.path().join("logbook.sqlite");
    let snapshots = told(700, |second| (250..360).contains(&second));
    let began = "2026-10-01T21:00:00Z[UTC]";
    let killed_at = 300;
    {
        let mut logbook = Logbook::open(&path).unwrap();
        let mut pen = Pen::new(about(began, "a")).by(4711);
        for snapshot in &snapshots[..killed_at] {
            pen.take(snapshot);
            pen.write(&mut logbook).unwrap();
        }
    }
    let mut logbook = Logbook::open(&path).unwrap();
    let found = |logbook: &Logbook, time: &str| {
        logbook.broken_off(at(time).timestamp(), std::time::Duration::from_secs(600)).unwrap()
    };
    let [young] = found(&logbook, "2026-10-01T21:05:04Z[UTC]").try_into().unwrap();
    assert_eq!((young.until, young.writer, young.about), (killed_at, Some(4711), about(began, "a")));
    for time in ["2026-10-01T21:15:30Z[UTC]", "2026-10-01T20:00:00Z[UTC]"] {
        assert!(found(&logbook, time).is_empty(), "{time}: long ago, or yet to come");
    }
    let mut pen = logbook.go_on(young.nr).unwrap().by(4712);
    let known = pen.history().unwrap();
    let known: Vec<Second> = (0..known.len()).filter_map(|at| known.get(at)).copied().collect();
    assert_eq!(known, seconds(&snapshots[killed_at - 1]));
    for snapshot in &snapshots[killed_at..] {
        pen.take(snapshot);
        pen.write(&mut logbook).unwrap();
    }
    assert_eq!(found(&logbook, "2026-10-01T21:11:45Z[UTC]")[0].writer, Some(4712));
    pen.end(&mut logbook).unwrap();
    assert!(found(&logbook, "2026-10-01T21:11:45Z[UTC]").is_empty(), "it was ended");
    // What never was cut off.
    let whole = write(&mut logbook, began, "a", &snapshots);
    let [went_on, whole] = [young.nr, whole].map(|nr| (logbook.kept(nr).unwrap(), logbook.listed(nr).unwrap()));
    assert_eq!(went_on.0.seconds, whole.0.seconds);
    assert_eq!(went_on.0.chronicle.marks(), whole.0.chronicle.marks());
    assert_eq!(went_on.0.chronicle.machines(), whole.0.chronicle.machines());
    assert_eq!(went_on.1.digest.lost, whole.1.digest.lost);
    let stood = |kept: &moth_logbook::Kept| {
        let verdicts = kept.chronicle.verdicts().iter().filter(|stood| stood.fault == Fault::Network);
        verdicts.map(|stood| stood.until_s - stood.from_s).sum::<f64>()
    };
    assert!((stood(&went_on.0) - stood(&whole.0)).abs() <= 1.0, "a verdict that stood stands again at the first look");
    let more = went_on.1.bytes as f64 / whole.1.bytes as f64;
    assert!((0.9..1.3).contains(&more), "{more}");
    logbook.check().unwrap();
}
