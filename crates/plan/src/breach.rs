//! What of a setup its service does not take: the value it has, the value wanted, and why it matters.

use moth_core::rate::Bitrate;
use serde::Serialize;

use crate::service::Limits;
use crate::setup::Setup;

/// How bad it is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// The service asks for something else.
    Asked,
    /// The service may refuse the broadcast, or cut it off.
    Refused,
}

/// One thing the service does not take.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Breach {
    /// What it is, as the setup's field is named.
    pub what: &'static str,
    /// The value the setup has, with its unit.
    pub has: String,
    /// The value the service wants, with its unit.
    pub wanted: String,
    /// Why it matters.
    pub why: &'static str,
    /// How bad it is.
    pub severity: Severity,
}

/// Every breach, the worst first.
#[must_use]
pub fn breaches(setup: &Setup, limits: &Limits) -> Vec<Breach> {
    let mut found = Vec::new();
    let video = over(setup.bitrate, limits.video_soft, limits.video_hard);
    if let Some((wanted, severity)) = video {
        let why = match severity {
            Severity::Asked => {
                "over what the service asks for, viewers on ordinary lines stall, and it may re-encode the picture"
            }
            Severity::Refused => "over its limit the service cuts the broadcast off, or throws frames away",
        };
        found.push(Breach { what: "bitrate", has: setup.bitrate.to_string(), wanted, why, severity });
    }
    if let Some((wanted, severity)) = over(setup.audio, limits.audio_soft, limits.audio_hard) {
        let why = "a service passes sound on as it is; over its limit it may refuse the broadcast or mute it";
        found.push(Breach { what: "audio", has: setup.audio.to_string(), wanted, why, severity });
    }
    if let Some(wanted) = limits.keyframe_s.filter(|wanted| (setup.keyframe_s - wanted).abs() > 0.01) {
        // A service cuts the stream into segments at keyframes.
        found.push(Breach {
            what: "keyframe_s",
            has: format!("{} s", setup.keyframe_s),
            wanted: format!("{wanted} s"),
            why: "services cut the stream into pieces at keyframes; other distances mean stalls and long delays",
            severity: if setup.keyframe_s > wanted * 2.0 { Severity::Refused } else { Severity::Asked },
        });
    }
    if !limits.rates.is_empty() && !limits.rates.iter().any(|rate| (rate - setup.rate).abs() < 0.01) {
        let rates: Vec<String> = limits.rates.iter().map(ToString::to_string).collect();
        found.push(Breach {
            what: "rate",
            has: format!("{} frames/s", setup.rate),
            wanted: format!("{} frames/s", rates.join(" or ")),
            why: "a rate the service does not know is re-timed, which repeats or leaves out frames",
            severity: Severity::Asked,
        });
    }
    if !limits.codecs.is_empty() && !limits.codecs.iter().any(|codec| codec.eq_ignore_ascii_case(&setup.codec)) {
        found.push(Breach {
            what: "codec",
            has: setup.codec.clone(),
            wanted: limits.codecs.join(" or "),
            why: "the service cannot read this codec and refuses the broadcast",
            severity: Severity::Refused,
        });
    }
    if let Some(most) = limits.b_frames.filter(|most| setup.b_frames > *most) {
        found.push(Breach {
            what: "b_frames",
            has: format!("{} in a row", setup.b_frames),
            wanted: format!("at most {most}"),
            why: "more B-frames than a service expects make playback jump on some viewers' devices",
            severity: Severity::Asked,
        });
    }
    found.sort_by_key(|breach| std::cmp::Reverse(breach.severity));
    found
}

fn over(has: Bitrate, soft: Option<Bitrate>, hard: Option<Bitrate>) -> Option<(String, Severity)> {
    let limit = [soft, hard].into_iter().flatten().min()?;
    if has <= limit {
        return None;
    }
    let severity = if hard.is_some_and(|hard| has > hard) { Severity::Refused } else { Severity::Asked };
    Some((format!("at most {limit}"), severity))
}

#[cfg(test)]
mod tests {
    use super::*;

    fn limits() -> Limits {
        Limits {
            video_soft: Some(Bitrate::from_kbps(6000)),
            video_hard: Some(Bitrate::from_kbps(8000)),
            audio_hard: Some(Bitrate::from_kbps(160)),
            keyframe_s: Some(2.0),
            rates: vec![30.0, 60.0],
            codecs: vec!["h264".into()],
            b_frames: Some(2),
            ..Limits::default()
        }
    }

    #[test]
    fn a_setup_within_every_limit_has_no_breach() {
        assert_eq!(breaches(&Setup::default(), &limits()), []);
        assert_eq!(
            breaches(&Setup { bitrate: Bitrate::from_kbps(90_000), ..Setup::default() }, &Limits::default()),
            []
        );
    }

    #[test]
    fn each_breach_has_both_values_and_the_worst_comes_first() {
        let setup = Setup {
            bitrate: Bitrate::from_kbps(6500),
            audio: Bitrate::from_kbps(320),
            keyframe_s: 4.0,
            rate: 50.0,
            codec: "av1".into(),
            b_frames: 3,
            ..Setup::default()
        };
        let found = breaches(&setup, &limits());
        let named: Vec<(&str, Severity)> = found.iter().map(|b| (b.what, b.severity)).collect();
        use Severity::{Asked, Refused};
        assert_eq!(
            named,
            [
                ("audio", Refused),
                ("codec", Refused),
                ("bitrate", Asked),
                ("keyframe_s", Asked),
                ("rate", Asked),
                ("b_frames", Asked)
            ]
        );
        assert_eq!((found[2].has.as_str(), found[2].wanted.as_str()), ("6 500 kb/s", "at most 6 000 kb/s"));
        assert!(found.iter().all(|b| b.why.len() > 30));
        let over_hard = Setup { bitrate: Bitrate::from_kbps(9000), ..Setup::default() };
        assert_eq!(breaches(&over_hard, &limits())[0].severity, Refused);
    }
}
