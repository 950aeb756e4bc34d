//! Every version of the database that was ever released is read, and what was in it is there.

use std::path::Path;

use moth_core::suspects::Fault;
use moth_logbook::Logbook;
use moth_logbook::about::Wanted;

/// A logbook of each version: an evening of two minutes in which the line gave way, with a title and a note.
/// `MOTH_WRITE_FIXTURE=1 cargo nextest run -p moth-logbook fixture` writes that of the newest, once, when it is new.
const VERSIONS: [&str; 1] = ["1"];

#[test]
fn every_fixture_is_read_and_brought_up_to_date() {
    let here = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/it/versions");
    if std::env::var_os("MOTH_WRITE_FIXTURE").is_some() {
        write(&here.join(format!("{}.sqlite", VERSIONS[VERSIONS.len() - 1])));
    }
    for version in VERSIONS {
        let dir = tempfile::tempdir().unwrap();
        let copy = dir.path().join("logbook.sqlite");
        std::fs::copy(here.join(format!("{version}.sqlite")), &copy).unwrap();
        for logbook in [Logbook::open_to_read(&copy).unwrap().unwrap(), Logbook::open(&copy).unwrap()] {
            logbook.check().unwrap();
            let all = logbook.list(&Wanted { words: Some("rain router".into()), ..Wanted::default() }).unwrap();
            assert_eq!(all.len(), 1, "version {version}");
            let (listed, kept) = (&all[0], logbook.kept(all[0].nr).unwrap());
            assert_eq!((listed.about.setup.as_str(), listed.is_ended), ("comet night", true));
            assert_eq!((kept.seconds.len(), kept.digest()), (120, listed.digest.clone()));
            assert_eq!(kept.chronicle.verdicts()[0].fault, Fault::Network);
            let then = logbook.moment(listed.nr, moth_core::Moment::from_ms(90_500)).unwrap().unwrap();
            assert_eq!(then.verdict.fault, Fault::Network);
        }
    }
}

fn write(path: &Path) {
    std::fs::create_dir_all(path.parent().unwrap()).unwrap();
    assert!(!path.exists(), "{} is released: it is never written again", path.display());
    let mut logbook = Logbook::open(path).unwrap();
    let mut pen = moth_logbook::Pen::new(crate::common::about("2026-11-26T21:04:00+01:00[+01:00]", "comet night"));
    for snapshot in crate::common::told(120, |second| second > 60) {
        pen.take(&snapshot);
        pen.write(&mut logbook).unwrap();
    }
    pen.end(&mut logbook).unwrap();
    logbook.write_down(pen.nr().unwrap(), Some("Before the router"), Some("Rain.")).unwrap();
    logbook.pack().unwrap();
    logbook.close().unwrap();
}
