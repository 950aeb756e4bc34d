//! What a running moth can be told, and what it comes to.

use moth_core::action::Action;
use moth_core::frame_rate::FrameRate;
use moth_core::keeper::Mode;
use moth_core::proposal::RAISED;
use moth_core::rate::Bitrate;
use moth_core::{Figure, Snapshot};
use moth_plan::text::Size;

use crate::cli::meant;

/// All there is to tell, for whoever tells something else.
pub const EXPECTED: &str = "expected one of: bitrate RATE (or +RATE, -RATE, +10%, -10%), server NAME, preset lighter|heavier, \
     size WIDTHxHEIGHT, rate FPS, priority high|normal|low, keeper off|advise|act, failover on|off, play, undo, state, line";

/// What a telling begins with.
const VERBS: [&str; 12] =
    ["bitrate", "server", "preset", "size", "rate", "priority", "keeper", "failover", "play", "undo", "state", "line"];

/// Bitrates that can be told, in bits per second. Ours.
const BITRATES: std::ops::RangeInclusive<u64> = 100_000..=200_000_000;
/// Niceness of a low priority. Ours.
const LOWERED: i32 = 5;

/// What the words come to.
#[derive(Debug, Clone, PartialEq)]
pub enum Meaning {
    /// Something is to be done.
    Act(Action),
    /// The last change is to be put back.
    Undo,
    /// How the broadcast stands.
    State,
    /// The same in one line.
    Line,
}

/// A new bitrate, as it was told.
#[derive(Debug, Clone, Copy, PartialEq)]
enum RateChange {
    To(Bitrate),
    /// Relative to what it is, in bits per second.
    By(i64),
    /// Relative to what it is, as a share of it.
    Share(f64),
}

fn told_rate(text: &str) -> Result<RateChange, String> {
    let (sign, rest) = match text.split_at_checked(1) {
        Some(("+", rest)) => (1.0, rest),
        Some(("-", rest)) => (-1.0, rest),
        _ => return text.parse().map(RateChange::To).map_err(|error: moth_core::rate::RateError| error.to_string()),
    };
    if let Some(percent) = rest.strip_suffix('%') {
        let percent: f64 = percent.trim().parse().map_err(|_| format!("`{text}` is no share; write it like -10%"))?;
        if !(0.0..=500.0).contains(&percent) {
            return Err(format!("`{text}` is no share from 0 to 500 %"));
        }
        return Ok(RateChange::Share(sign * percent / 100.0));
    }
    let by: Bitrate = rest.parse().map_err(|error: moth_core::rate::RateError| error.to_string())?;
    let by = i64::try_from(by.bps()).map_err(|_| format!("`{text}` is too much"))?;
    Ok(RateChange::By(if sign > 0.0 { by } else { -by }))
}

/// Whether words could mean something, whatever the broadcast.
///
/// # Errors
/// What is wrong with them, and what is expected.
pub fn check(words: &[String]) -> Result<(), String> {
    meaning(words, None).map(|_| ())
}

/// What words mean for a broadcast; without one, what is relative to it means nothing in particular.
///
/// # Errors
/// What is wrong with them, and what is expected.
pub fn meaning(words: &[String], snapshot: Option<&Snapshot>) -> Result<Meaning, String> {
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let act = |action| Ok(Meaning::Act(action));
    match words.as_slice() {
        ["undo"] => Ok(Meaning::Undo),
        ["state"] => Ok(Meaning::State),
        ["line"] => Ok(Meaning::Line),
        // A rate may be written in two words: 6 Mb/s.
        ["bitrate", rate @ ..] if !rate.is_empty() => {
            act(Action::SetBitrate { video: absolute(told_rate(&rate.join(" "))?, snapshot)? })
        }
        ["server", name] => {
            let Some(snapshot) = snapshot else { return act(Action::SwitchServer { server: (*name).to_owned() }) };
            let known = snapshot.servers.iter().find(|server| server.eq_ignore_ascii_case(name));
            let server = known.ok_or_else(|| {
                format!("there is no server `{}`; there is: {}", shown(name), snapshot.servers.join(", "))
            })?;
            act(Action::SwitchServer { server: server.clone() })
        }
        ["preset", "lighter"] => act(Action::LighterPreset),
        ["preset", "heavier"] => act(Action::HeavierPreset),
        ["size", size] => {
            let size: Size = size.parse().map_err(|error: moth_plan::text::SizeError| error.to_string())?;
            if !(160..=7680).contains(&size.width) || !(90..=4320).contains(&size.height) {
                return Err(format!("{size} is no size from 160x90 to 7680x4320"));
            }
            act(Action::SetSize { width: size.width, height: size.height })
        }
        ["rate", fps] => match fps.parse::<FrameRate>() {
            Ok(fps) if fps <= FrameRate::whole(240) => act(Action::SetRate { fps }),
            _ => Err(format!("`{}` is no frame rate; expected frames per second from 1 to 240", shown(fps))),
        },
        ["priority", word] => match *word {
            "high" => act(Action::SetPriority { nice: RAISED }),
            "normal" => act(Action::SetPriority { nice: 0 }),
            "low" => act(Action::SetPriority { nice: LOWERED }),
            _ => Err(format!("`{}` is no priority; expected high, normal or low", shown(word))),
        },
        ["keeper", word] => {
            let mode = [Mode::Off, Mode::Advise, Mode::Act].into_iter().find(|mode| mode.word() == *word);
            let mode = mode.ok_or_else(|| format!("`{}` is no mode; expected off, advise or act", shown(word)))?;
            act(Action::SetKeeper { mode })
        }
        ["failover", word @ ("on" | "off")] => act(Action::SetFailover { on: *word == "on" }),
        ["play"] => act(Action::PlayBack),
        [] => Err(format!("say what to do; {EXPECTED}")),
        // What else was said is not repeated whole: it may be a stream key.
        [first, ..] => {
            let back = meant::asked_back(meant::near(first, VERBS).filter(|verb| verb != first));
            Err(format!("`{}` is nothing to tell like that{back}; {EXPECTED}", shown(first)))
        }
    }
}

/// Of something strange, no more than a word's length, and no control characters.
fn shown(text: &str) -> String {
    text.chars().filter(|c| !c.is_control()).take(16).collect()
}

fn absolute(told: RateChange, snapshot: Option<&Snapshot>) -> Result<Bitrate, String> {
    let now = snapshot.and_then(|s| s.stream.video_bitrate.or(s.intended.video_bitrate).or(measured(s.video_kbps)));
    let bps = match (told, now) {
        (RateChange::To(rate), _) => rate.bps(),
        (_, None) if snapshot.is_some() => return Err("what the video bitrate is now is not known".into()),
        // Anything will do to see whether the words are right.
        (_, None) => return Ok(Bitrate::from_bps(*BITRATES.start())),
        (RateChange::By(by), Some(now)) => now.bps().saturating_add_signed(by),
        (RateChange::Share(share), Some(now)) => now.scaled(1.0 + share).bps(),
    };
    if !BITRATES.contains(&bps) {
        return Err(format!("{} is no video bitrate from 100 kb/s to 200 Mb/s", Bitrate::from_bps(bps)));
    }
    Ok(Bitrate::from_bps(bps / 1000 * 1000))
}

fn measured(kbps: Figure<f64>) -> Option<Bitrate> {
    kbps.value.filter(|kbps| *kbps > 0.0).map(|kbps| Bitrate::from_bps((kbps * 1000.0) as u64))
}

/// The words that tell an action; `None` if there are none for it.
#[must_use]
pub fn of(action: &Action) -> Option<String> {
    Some(match action {
        Action::SetBitrate { video } => format!("bitrate {}", video.to_text()),
        Action::SwitchServer { server } => format!("server {server}"),
        Action::LighterPreset => "preset lighter".into(),
        Action::HeavierPreset => "preset heavier".into(),
        Action::SetSize { width, height } => format!("size {width}x{height}"),
        Action::SetRate { fps } => format!("rate {fps}"),
        Action::SetKeeper { mode } => format!("keeper {}", mode.word()),
        Action::SetFailover { on } => format!("failover {}", if *on { "on" } else { "off" }),
        Action::PlayBack => "play".into(),
        Action::SetPriority { .. } | Action::ByHand { .. } => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::reading::{Observation, StreamFacts};
    use moth_core::{Core, Moment, Origin, Reading, Settings};

    fn words(text: &str) -> Vec<String> {
        text.split_whitespace().map(str::to_owned).collect()
    }

    fn snapshot() -> Snapshot {
        let mut core = Core::new(Settings { servers: vec!["Aldmoor".into(), "Dunmere".into()] });
        let facts = StreamFacts { video_bitrate: Some(Bitrate::from_kbps(4000)), ..StreamFacts::default() };
        core.take(&Reading { at: Moment::START, origin: Origin::Reported, what: Observation::Stream(facts) });
        core.snapshot(Moment::START)
    }

    fn act(text: &str) -> Result<Action, String> {
        match meaning(&words(text), Some(&snapshot()))? {
            Meaning::Act(action) => Ok(action),
            other => Err(format!("{other:?}")),
        }
    }

    #[test]
    fn every_action_has_its_words() {
        let rate = |kbps| Ok(Action::SetBitrate { video: Bitrate::from_kbps(kbps) });
        assert_eq!(act("bitrate 3000k"), rate(3000));
        assert_eq!(act("bitrate 3 Mb/s"), rate(3000));
        assert_eq!(act("bitrate +250k"), rate(4250));
        assert_eq!(act("bitrate -500k"), rate(3500));
        assert_eq!(act("bitrate -10%"), rate(3600));
        assert_eq!(act("server dunmere"), Ok(Action::SwitchServer { server: "Dunmere".into() }));
        assert_eq!(act("size 960x540"), Ok(Action::SetSize { width: 960, height: 540 }));
        assert_eq!(act("rate 30"), Ok(Action::SetRate { fps: FrameRate::whole(30) }));
        assert_eq!(act("priority high"), Ok(Action::SetPriority { nice: -5 }));
        assert_eq!(act("keeper act"), Ok(Action::SetKeeper { mode: Mode::Act }));
        assert_eq!(act("failover on"), Ok(Action::SetFailover { on: true }));
        assert_eq!(meaning(&words("undo"), None), Ok(Meaning::Undo));
        for told in ["bitrate 3000 kb/s", "server Dunmere", "preset lighter", "size 960x540", "keeper advise", "play"] {
            assert_eq!(of(&act(told).unwrap()).as_deref(), Some(told), "what undoes is told in the same words");
        }
    }

    #[test]
    fn wrong_words_are_told_with_what_is_expected_and_nothing_is_repeated_that_could_be_a_key() {
        let wrong = |text: &str| act(text).unwrap_err();
        assert!(wrong("bitrate 6000").contains("has no unit"));
        assert!(wrong("bitrate 1k").contains("from 100 kb/s"));
        assert!(wrong("bitrate -99%").contains("is no video bitrate"));
        assert!(wrong("bitrate +x%").contains("like -10%"));
        assert!(wrong("server Grimsby").contains("Aldmoor, Dunmere"));
        assert!(wrong("size 64x64").contains("160x90"));
        assert!(wrong("rate 0").contains("1 to 240"));
        assert!(wrong("keeper maybe").contains("off, advise or act"));
        assert!(wrong("orbit-key-that-is-very-secret-indeed").contains("expected one of"));
        assert!(!wrong("orbit-key-that-is-very-secret-indeed").contains("secret-indeed"));
        assert!(check(&words("bitrate -10%")).is_ok(), "right words, whatever the broadcast");
        assert!(check(&[]).is_err());
    }
}
