//! Drawings, read by programs that nobody here wrote.
#![cfg(target_os = "linux")]
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic)]

mod common;

use std::path::Path;
use std::process::Command;

use common::have;

fn said(program: &str, words: &[&str], file: &Path) -> String {
    // As on a machine without a single font.
    let out =
        Command::new(program).args(words).arg(file).arg("-").env("FONTCONFIG_FILE", "/dev/null").output().unwrap();
    let errors = String::from_utf8_lossy(&out.stderr).into_owned();
    assert!(out.status.success(), "{program}: {errors}");
    String::from_utf8_lossy(&out.stdout).into_owned()
}

#[test]
fn a_pdf_brings_its_typeface_along_and_its_text_is_text() {
    if !have(&["pdftotext", "pdffonts"]) {
        return;
    }
    let dir = tempfile::tempdir().unwrap();
    let (recording, pdf) = (dir.path().join("evening.jsonl"), dir.path().join("lanes.pdf"));
    let moth = || Command::new(env!("CARGO_BIN_EXE_moth"));
    let record = ["demo", "--headless", "--evening", "archive-sync", "--for", "8", "--record"];
    assert!(moth().args(record).arg(&recording).output().unwrap().status.success());
    let draw = ["--chart", "lanes", "--to"];
    assert!(moth().arg("judge").arg(&recording).args(draw).arg(&pdf).status().unwrap().success());
    let text = said("pdftotext", &["-layout"], &pdf);
    for expected in
        ["none was lost, as far as was known", "of evening.jsonl, begun", "carried", "kb/s", "since the beginning"]
    {
        assert!(text.contains(expected), "{expected} in {text}");
    }
    let fonts = Command::new("pdffonts").arg(&pdf).output().unwrap();
    let fonts = String::from_utf8_lossy(&fonts.stdout).into_owned();
    let rows: Vec<&str> = fonts.lines().skip(2).collect();
    assert!(!rows.is_empty(), "{fonts}");
    for row in rows {
        // After the encoding: embedded, a subset, with a table of what its glyphs mean.
        assert!(row.contains("DejaVuSansCondensed") && row.contains("yes yes yes"), "{fonts}");
    }
}
