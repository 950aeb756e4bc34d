//! Lines a broadcaster sends: JSON objects, or the `key=value` lines that ffmpeg's `-progress` writes.

use moth_core::reading::{BroadcasterCounters, StreamFacts};
use serde::Deserialize;

use crate::request::Answer;

/// A longer line is not read to its end, in bytes. Ours.
pub(crate) const LONGEST: usize = 4096;
/// A sender that is not understood so often is not one. Ours.
const PATIENCE: u32 = 20;

/// What a line said.
#[derive(Debug, Clone, PartialEq)]
pub enum Heard {
    /// What the broadcaster counted.
    Counters(BroadcasterCounters),
    /// What it is, and what it takes while live.
    Stream(StreamFacts),
    /// What became of a request.
    Answer(Answer),
}

/// A line that is not understood.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("{0}")]
pub struct TooStrange(pub String);

/// A line of JSON. Everything is optional; what is not known here is not accepted, as it may be a misspelling.
#[derive(Debug, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
struct ReportLine {
    rendered: Option<u64>,
    lagged: Option<u64>,
    encoded: Option<u64>,
    skipped: Option<u64>,
    render_ms: Option<f64>,
    encode_ms: Option<f64>,
    gpu_percent: Option<f64>,
    encoder_percent: Option<f64>,
    speed: Option<f64>,
    width: Option<u32>,
    height: Option<u32>,
    fps: Option<f64>,
    takes: Option<Vec<Takes>>,
    done: Option<u64>,
    failed: Option<u64>,
    why: Option<String>,
}

/// What a broadcaster takes while it is live.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Takes {
    Bitrate,
    Preset,
    Size,
    Rate,
}

/// Understands one sender's lines.
#[derive(Debug, Default)]
pub struct Reports {
    progress: BroadcasterCounters,
    /// What it takes, once it said so; it holds until it says something else.
    takes: Option<StreamFacts>,
    /// Lines since that was told.
    untold: u32,
    strange: u32,
}

/// What a sender takes is told again so often, in lines: another broadcaster may have come meanwhile. Ours: about each second.
const TAKES_EACH: u32 = 4;

impl Reports {
    /// Takes a line without its end; gives what it said.
    ///
    /// # Errors
    /// [`TooStrange`], with what was expected. After the twentieth, [`Reports::is_hopeless`].
    pub fn line(&mut self, line: &[u8]) -> Result<Vec<Heard>, TooStrange> {
        let heard = self.read(line);
        self.strange += u32::from(heard.is_err());
        heard
    }

    /// Whether so much was not understood that nothing will be.
    #[must_use]
    pub fn is_hopeless(&self) -> bool {
        self.strange >= PATIENCE
    }

    fn read(&mut self, line: &[u8]) -> Result<Vec<Heard>, TooStrange> {
        if line.len() > LONGEST {
            return Err(TooStrange(format!("a line is longer than {LONGEST} bytes")));
        }
        let text = std::str::from_utf8(line).map_err(|_| TooStrange("a line is not UTF-8".into()))?.trim();
        if text.is_empty() {
            return Ok(Vec::new());
        }
        if text.starts_with('{') {
            let line = of_json(text)?;
            return Ok(self.with_takes(line));
        }
        match text.split_once('=') {
            Some((key, value)) => Ok(self.of_progress(key.trim(), value.trim())),
            None => Err(TooStrange("a line is neither a JSON object nor a key=value of ffmpeg's -progress".into())),
        }
    }

    /// What a line said, with what the sender takes: all that is told of a stream carries it, and of counts each few.
    fn with_takes(&mut self, Line { mut heard, stream, takes }: Line) -> Vec<Heard> {
        let (is_new, known) = (takes.is_some(), takes.or(self.takes));
        (self.takes, self.untold) = (known, self.untold + 1);
        let is_due = known.is_some() && self.untold >= TAKES_EACH;
        if is_new || is_due || stream != StreamFacts::default() {
            self.untold = 0;
            let StreamFacts { takes_bitrate, takes_preset, takes_size, takes_rate, .. } = known.unwrap_or_default();
            heard.push(Heard::Stream(StreamFacts { takes_bitrate, takes_preset, takes_size, takes_rate, ..stream }));
        }
        heard
    }

    /// ffmpeg's counts: `dup_frames` showed the last picture again, `drop_frames` were never encoded. They are told
    /// together at the end of each of its reports.
    fn of_progress(&mut self, key: &str, value: &str) -> Vec<Heard> {
        let count = || value.parse::<u64>().ok().filter(|count| *count <= MOST_FRAMES);
        match key {
            "frame" => self.progress.encoded = count(),
            "dup_frames" => self.progress.lagged = count(),
            "drop_frames" => self.progress.skipped = count(),
            "speed" => {
                let speed = value.trim_end_matches('x').trim().parse().ok();
                self.progress.speed = speed.filter(|s: &f64| s.is_finite() && (0.0..1000.0).contains(s));
            }
            "progress" => return vec![Heard::Counters(self.progress)],
            // It has many more, and new ones with every release.
            _ => {}
        }
        Vec::new()
    }
}

/// A century at 120 frames/s has fewer. Ours.
const MOST_FRAMES: u64 = 1_000_000_000_000;

/// A line of JSON, taken apart.
struct Line {
    heard: Vec<Heard>,
    stream: StreamFacts,
    takes: Option<StreamFacts>,
}

fn of_json(text: &str) -> Result<Line, TooStrange> {
    let line: ReportLine =
        serde_json::from_str(text).map_err(|error| TooStrange(format!("a line of JSON: {error}")))?;
    let within = |name: &str, value: Option<f64>, most: f64| match value {
        Some(v) if !(0.0..=most).contains(&v) => Err(TooStrange(format!("{name} is {v}; expected from 0 to {most}"))),
        other => Ok(other),
    };
    let count = |name: &str, value: Option<u64>| match value {
        Some(v) if v > MOST_FRAMES => Err(TooStrange(format!("{name} is {v}, more than any broadcast has"))),
        other => Ok(other),
    };
    let share = |name: &str, value| Ok::<_, TooStrange>(within(name, value, 1000.0)?.map(|percent| percent / 100.0));
    let counters = BroadcasterCounters {
        rendered: count("rendered", line.rendered)?,
        lagged: count("lagged", line.lagged)?,
        encoded: count("encoded", line.encoded)?,
        skipped: count("skipped", line.skipped)?,
        render_ms: within("render_ms", line.render_ms, 60_000.0)?,
        encode_ms: within("encode_ms", line.encode_ms, 60_000.0)?,
        gpu: share("gpu_percent", line.gpu_percent)?,
        encoder: share("encoder_percent", line.encoder_percent)?,
        speed: within("speed", line.speed, 1000.0)?,
    };
    let mut heard = Vec::new();
    if counters != BroadcasterCounters::default() {
        heard.push(Heard::Counters(counters));
    }
    let takes = line.takes.map(|takes| StreamFacts {
        takes_bitrate: takes.contains(&Takes::Bitrate),
        takes_preset: takes.contains(&Takes::Preset),
        takes_size: takes.contains(&Takes::Size),
        takes_rate: takes.contains(&Takes::Rate),
        ..StreamFacts::default()
    });
    let fps = within("fps", line.fps, 1000.0)?;
    let stream = StreamFacts { width: line.width, height: line.height, fps, ..StreamFacts::default() };
    let why = line.why.map(|why| why.chars().filter(|c| !c.is_control()).take(200).collect::<String>());
    match (line.done, line.failed) {
        (Some(request), None) => heard.push(Heard::Answer(Answer { request, failed: None })),
        (None, Some(request)) => {
            let failed = Some(why.unwrap_or_else(|| "the broadcaster does not say why".into()));
            heard.push(Heard::Answer(Answer { request, failed }));
        }
        (Some(_), Some(_)) => return Err(TooStrange("a request is either done or failed".into())),
        (None, None) => {}
    }
    Ok(Line { heard, stream, takes })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_json_line_says_counts_and_what_is_taken() {
        let mut reports = Reports::default();
        let heard = reports
            .line(br#"{"rendered":600,"lagged":3,"encode_ms":8.25,"gpu_percent":91,"takes":["bitrate","rate"]}"#);
        let [Heard::Counters(counters), Heard::Stream(stream)] = heard.unwrap()[..] else { panic!("both are told") };
        assert_eq!((counters.rendered, counters.lagged, counters.skipped), (Some(600), Some(3), None));
        assert_eq!((counters.encode_ms, counters.gpu), (Some(8.25), Some(0.91)));
        assert_eq!((stream.takes_bitrate, stream.takes_rate, stream.takes_size), (true, true, false));
    }

    #[test]
    fn what_is_taken_holds_until_something_else_is_said_and_is_told_again() {
        let mut reports = Reports::default();
        let mut told = |line: &str| {
            let heard = reports.line(line.as_bytes()).unwrap();
            let stream = heard.into_iter().find_map(|heard| match heard {
                Heard::Stream(stream) => Some(stream),
                _ => None,
            });
            stream.map(|stream| (stream.width, stream.takes_bitrate, stream.takes_size))
        };
        assert_eq!(told(r#"{"width":1280}"#), Some((Some(1280), false, false)));
        assert_eq!(told(r#"{"takes":["bitrate"]}"#), Some((None, true, false)));
        assert_eq!(told(r#"{"width":640,"encoded":3}"#), Some((Some(640), true, false)), "it is still taken");
        let again: Vec<bool> = (0..8).map(|n| told(&format!("{{\"encoded\":{n}}}")).is_some()).collect();
        assert_eq!(again.iter().filter(|told| **told).count(), 2, "{again:?}");
        assert_eq!(told(r#"{"takes":["size"]}"#), Some((None, false, true)));
    }

    #[test]
    fn ffmpeg_progress_is_told_at_the_end_of_each_report() {
        let mut reports = Reports::default();
        let mut told = Vec::new();
        for line in "frame=240\nfps= 29.9\nbitrate=2999.1kbits/s\nout_time=00:00:08.0\ndup_frames=4\ndrop_frames=1\nspeed=0.81x\nprogress=continue".lines() {
            told.extend(reports.line(line.as_bytes()).unwrap());
        }
        let expected = BroadcasterCounters {
            encoded: Some(240),
            lagged: Some(4),
            skipped: Some(1),
            speed: Some(0.81),
            ..BroadcasterCounters::default()
        };
        assert_eq!(told, [Heard::Counters(expected)]);
        reports.line(b"speed=N/A").unwrap();
        let Heard::Counters(after) = &reports.line(b"progress=continue").unwrap()[0] else { panic!() };
        assert_eq!(after.speed, None, "not known yet");
    }

    #[test]
    fn what_is_not_understood_is_said_with_what_was_expected() {
        let mut reports = Reports::default();
        let mut error = |line: &[u8]| reports.line(line).unwrap_err().0;
        assert!(error(br#"{"lageed":3}"#).contains("lageed"));
        assert!(error(br#"{"encode_ms":-3}"#).contains("from 0"));
        assert!(error(br#"{"rendered":1e400}"#).contains("JSON"));
        assert!(error(br#"{"skipped":18446744073709551615}"#).contains("any broadcast"));
        assert!(error(b"GET / HTTP/1.1").contains("neither"));
        assert!(error(&[0xff, 0xfe]).contains("UTF-8"));
        assert!(error(&vec![b'x'; 5000]).contains("longer"));
        for _ in 0..14 {
            let _ = reports.line(b"nonsense");
        }
        assert!(reports.is_hopeless());
    }

    proptest::proptest! {
        #[test]
        fn any_line_is_understood_or_refused(line in proptest::collection::vec(proptest::num::u8::ANY, 0..300)) {
            let _ = Reports::default().line(&line);
        }
    }
}
