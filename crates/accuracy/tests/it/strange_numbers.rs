//! Readings files in which single numbers are strange: whatever they say, the core judges on, and nothing panics.

use moth_stage::{Evening, Shapes};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// What a number is replaced by: what no counter shows, no clock, and no share.
const STRANGE: [&str; 12] = [
    "-1",
    "0",
    "-0.5",
    "1e-300",
    "1e308",
    "-1e308",
    "1e400",
    "255",
    "4294967295",
    "9223372036854775807",
    "18446744073709551615",
    "99999999999999999999999",
];
const LINES: usize = 900;
const TRIES: u64 = 80;

/// Where the numbers of a line are.
fn numbers(line: &str) -> Vec<std::ops::Range<usize>> {
    let bytes = line.as_bytes();
    let (mut found, mut at) = (Vec::new(), 0);
    while at < bytes.len() {
        let begins =
            at > 0 && matches!(bytes[at - 1], b':' | b',' | b'[') && (bytes[at].is_ascii_digit() || bytes[at] == b'-');
        if !begins {
            at += 1;
            continue;
        }
        let end = (at + 1..bytes.len()).find(|i| !matches!(bytes[*i], b'0'..=b'9' | b'.' | b'e' | b'E' | b'+' | b'-'));
        let end = end.unwrap_or(bytes.len());
        found.push(at..end);
        at = end;
    }
    found
}

#[test]
fn whatever_a_number_says_the_core_judges_on() {
    let dir = tempfile::tempdir().unwrap();
    for evening in 0..3 {
        let file = moth_accuracy::made(dir.path(), evening, Evening::made_up(evening, Shapes::Known)).unwrap();
        let text = std::fs::read_to_string(&file).unwrap();
        let lines: Vec<&str> = text.lines().take(LINES).collect();
        let mut whole = 0;
        for seed in 0..TRIES {
            let mut noise = Pcg64Mcg::seed_from_u64(seed * 31 + evening);
            let mut strange: Vec<String> = lines.iter().map(ToString::to_string).collect();
            let line = &mut strange[noise.random_range(1..lines.len())];
            let numbers = numbers(line);
            let number = numbers[noise.random_range(0..numbers.len())].clone();
            line.replace_range(number, STRANGE[noise.random_range(0..STRANGE.len())]);
            let path = dir.path().join("strange.jsonl");
            std::fs::write(&path, strange.join("\n")).unwrap();
            let judged = moth::recordings::judged::judge(&path).unwrap();
            assert!(judged.seconds < 100_000.0, "evening {evening}, seed {seed}");
            whole += u64::from(judged.damage.is_none());
        }
        // What cannot be is refused, with its line; the rest went all the way.
        assert!((TRIES / 10..TRIES).contains(&whole), "evening {evening}: {whole} of {TRIES} were believed");
    }
}
