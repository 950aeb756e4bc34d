//! Tables of a made-up broadcast.

use crate::common::evening;
use moth_drawing::table;

fn rows(csv: &[u8]) -> Vec<Vec<String>> {
    let mut reader = csv::ReaderBuilder::new().has_headers(false).from_reader(csv);
    reader.records().map(|row| row.unwrap().iter().map(str::to_owned).collect()).collect()
}

#[test]
fn the_seconds_have_a_row_each_and_what_was_not_known_is_empty() {
    let evening = evening(300);
    let [seconds, ..] = table::csv(&evening).unwrap();
    let rows = rows(&seconds.csv);
    assert_eq!(rows.len(), 301);
    let column = |name: &str| rows[0].iter().position(|column| *column == name).unwrap_or_else(|| panic!("{name}"));
    let cell = |second: usize, name: &str| rows[second + 1][column(name)].as_str();
    assert_eq!(cell(107, "dropped_frames"), "60");
    assert_eq!(cell(107, "rtt_ms"), "873.0");
    assert_eq!(cell(107, "frozen_ms"), "1433");
    assert_eq!(cell(107, "cpu_percent"), "40.0");
    assert_eq!((cell(107, "fault"), cell(107, "cause"), cell(99, "fault")), ("network", "line-short", ""));
    assert_eq!(cell(107, "lagged_frames"), "", "it was never known");
    assert_eq!((cell(50, "time_utc"), cell(50, "local_offset")), ("2026-11-26T20:05:00Z", "+01:00"));
    assert_eq!(cell(121, "change"), "bitrate 6 000 → 4 500 kb/s");
}

#[test]
fn verdicts_changes_and_tests_have_a_table_each_and_every_column_is_documented() {
    let evening = evening(300);
    let tables = table::csv(&evening).unwrap();
    assert_eq!(tables.each_ref().map(|table| table.name), ["seconds", "verdicts", "changes", "tests"]);
    assert_eq!(tables.each_ref().map(|table| rows(&table.csv).len()), [301, 2, 2, 1 + 4 + 2]);
    let documented = include_str!("../../../../docs/tables.md");
    for table in &tables {
        for name in &rows(&table.csv)[0] {
            assert!(
                documented.contains(&format!("`{name}`")),
                "docs/tables.md describes `{name}` of the {}",
                table.name
            );
        }
    }
    let tests = rows(&tables[3].csv);
    let column = |name: &str| tests[0].iter().position(|column| *column == name).unwrap();
    let of = |row: usize, name: &str| tests[row][column(name)].as_str();
    assert_eq!((of(1, "of"), of(1, "server"), of(1, "sustained_kbps")), ("server", "Aldmoor", "9600.0"));
    assert_eq!((of(4, "server"), of(4, "failure")), ("Thornwick", "it refuses: key of dana is in use"));
    assert_eq!((of(5, "of"), of(5, "run"), of(5, "rtt_ms"), of(6, "stalls")), ("line", "1", "21.95", "1"));
    assert_eq!(of(1, "time_utc"), "2026-11-26T17:30:00Z");
    // Without a row there are still the names of the columns.
    let empty = table::csv(&moth_drawing::evening::Evening::default()).unwrap();
    assert_eq!(empty.each_ref().map(|table| rows(&table.csv).len()), [1; 4]);
    assert_eq!(rows(&empty[3].csv)[0], tests[0]);
}

#[test]
fn json_lines_hold_all_of_it() {
    let lines = String::from_utf8(table::json_lines(&evening(300)).unwrap()).unwrap();
    let kinds = |kind: &str| lines.lines().filter(|line| line.starts_with(&format!("{{\"kind\":\"{kind}\","))).count();
    assert_eq!(["second", "verdict", "change", "test"].map(kinds), [300, 1, 1, 6]);
    assert!(lines.contains("\"lagged_frames\":null"));
    for line in lines.lines() {
        serde_json::from_str::<serde_json::Value>(line).unwrap();
    }
}
