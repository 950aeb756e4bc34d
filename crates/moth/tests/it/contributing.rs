//! CONTRIBUTING.md lists every test file outside this folder that uses the real clock or starts programs.

use std::collections::BTreeSet;
use std::fs;
use std::path::{Path, PathBuf};

/// What a test that waits for the real clock, or for another program, cannot do without.
const SIGNS: [&str; 4] = ["thread::sleep", "#[tokio::test]", "Command::new", "wait_for("];

fn root() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../..")
}

fn rust_files(folder: &Path, found: &mut Vec<PathBuf>) {
    for entry in fs::read_dir(folder).unwrap().flatten().map(|entry| entry.path()) {
        if entry.is_dir() {
            rust_files(&entry, found);
        } else if entry.extension().is_some_and(|extension| extension == "rs") {
            found.push(entry);
        }
    }
}

/// The test code of a file: all of it in a `tests` folder or file, else what follows `#[cfg(test)]`.
fn test_code(path: &str, text: &str) -> String {
    if path.contains("/tests/") || path.ends_with("/tests.rs") {
        return text.to_owned();
    }
    text.split_once("#[cfg(test)]").map(|(_, tests)| tests.to_owned()).unwrap_or_default()
}

#[test]
fn contributing_lists_the_tests_that_use_the_real_clock() {
    let root = root().canonicalize().unwrap();
    let mut files = Vec::new();
    rust_files(&root.join("crates"), &mut files);
    let waits = |file: &PathBuf| {
        let path = file.strip_prefix(&root).unwrap().to_str().unwrap().to_owned();
        let code = test_code(&path, &fs::read_to_string(file).unwrap());
        let is_listed = !path.starts_with("crates/moth/tests/it/") && SIGNS.iter().any(|sign| code.contains(sign));
        is_listed.then_some(path)
    };
    let waiting: BTreeSet<String> = files.iter().filter_map(waits).collect();
    let text = fs::read_to_string(root.join("CONTRIBUTING.md")).unwrap();
    let (_, rest) = text.split_once("<!-- real clock -->").unwrap();
    let (list, _) = rest.split_once("<!-- end -->").unwrap();
    let listed: BTreeSet<String> =
        list.split('`').filter(|word| word.starts_with("crates/")).map(str::to_owned).collect();
    assert_eq!(listed, waiting, "CONTRIBUTING.md and the tests differ");
}
