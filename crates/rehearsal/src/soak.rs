//! The long run: everything stays as it is, and the user does, one after another, what may break it.

use moth_core::Snapshot;
use moth_core::suspects::{Cause, Fault};
use moth_core::trial::SETTLE_S;
use moth_core::trial::weigh::BLOCK;
use serde::{Deserialize, Serialize};

use crate::figures::Known;
use crate::finding::{lasted, stage};
use crate::presence::{AWAY_WITHIN, Away, Beginning};
use crate::runner::End;
use crate::tried::{Seen, ruled_out_every_s};

/// What is to be done in a soak, if the user says nothing else.
pub const TO_DO: [&str; 6] = [
    "show the heaviest scene",
    "turn every overlay on",
    "open the browser that is usually open",
    "begin a call",
    "have somebody else use the line",
    "begin a recording",
];

/// Losses no further apart than this, in seconds, are one. Ours.
const APART: usize = 5;
/// So many seconds in a row of an encoder at fault that loses nothing are no chance: as a block of a try. Ours.
const LATE: usize = BLOCK;
/// What was done so long before a loss may have made it, in seconds. Ours.
const MADE_IT: usize = 90;

/// Something to do meanwhile.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToDo {
    /// What.
    pub text: String,
    /// In which second of the broadcast it was done.
    pub done_at: Option<usize>,
}

/// What went wrong.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum How {
    /// Frames were lost.
    Lost,
    /// All came, and each later than the one before, as of an encoder below real time.
    Late,
    /// The broadcaster was away.
    Away,
}

/// Something that went wrong, and what was done before it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Broke {
    /// What.
    pub how: How,
    /// In which second of the broadcast it began.
    pub at: usize,
    /// For how many seconds it lasted.
    pub seconds: usize,
    /// Frames lost.
    pub lost: u64,
    /// What gave way, if a verdict stood.
    pub at_fault: Option<(Fault, Option<Cause>)>,
    /// In the verdict's sentence as it stood last.
    pub because: Option<String>,
    /// What was done last, and how many seconds before.
    pub after: Option<(String, usize)>,
}

/// Where it stands.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Phase {
    Waiting,
    Running { from: usize },
    Over,
}

/// A soak that is being run.
#[derive(Debug, Clone, PartialEq)]
pub struct Soak {
    for_s: usize,
    to_do: Vec<ToDo>,
    phase: Phase,
    began: Option<usize>,
    seen: Seen,
    broke: Vec<Broke>,
    /// How many seconds in a row the encoder was at fault and nothing was lost.
    late: usize,
    away: Away,
    known: Known,
    end: Option<End>,
    why: Option<String>,
}

/// What a soak came to.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Soaked {
    /// Seconds that were looked at.
    pub seconds: usize,
    /// Seconds that were wanted.
    pub of: usize,
    /// In which second of the broadcast it began.
    pub from: usize,
    /// Share of the frames lost, from 0 to 1.
    pub lost: f64,
    /// How the losses are known.
    #[serde(default)]
    pub known: Known,
    /// Everything that went wrong.
    pub broke: Vec<Broke>,
    /// What was to be done, and when it was.
    pub to_do: Vec<ToDo>,
    /// How it ended.
    pub end: End,
    /// Why, where that is not plain.
    pub why: Option<String>,
}

impl Soak {
    /// For so many seconds, with these things to do.
    #[must_use]
    pub fn new(for_s: usize, to_do: Vec<String>) -> Self {
        Self {
            for_s,
            to_do: to_do.into_iter().map(|text| ToDo { text, done_at: None }).collect(),
            phase: Phase::Waiting,
            began: None,
            seen: Seen::default(),
            broke: Vec::new(),
            late: 0,
            away: Away::default(),
            known: Known::default(),
            end: None,
            why: None,
        }
    }

    /// What there is to do.
    #[must_use]
    pub fn to_do(&self) -> &[ToDo] {
        &self.to_do
    }

    /// It was just done; gives what it is, for a mark. What was done already is not done again.
    pub fn tick(&mut self, which: usize, snapshot: &Snapshot) -> Option<String> {
        let to_do = self.to_do.get_mut(which).filter(|to_do| to_do.done_at.is_none())?;
        to_do.done_at = Some(snapshot.history.len());
        Some(to_do.text.clone())
    }

    /// Something more to do.
    pub fn add(&mut self, text: String) {
        self.to_do.push(ToDo { text, done_at: None });
    }

    /// Leaves something out, unless it was done.
    pub fn leave_out(&mut self, which: usize) {
        if self.to_do.get(which).is_some_and(|to_do| to_do.done_at.is_none()) {
            self.to_do.remove(which);
        }
    }

    /// Seconds that count so far, of those wanted.
    #[must_use]
    pub fn progress(&self) -> (usize, usize) {
        (self.seen.seconds(), self.for_s)
    }

    /// Whether a broadcaster and a server are there.
    #[must_use]
    pub fn is_running(&self) -> bool {
        matches!(self.phase, Phase::Running { .. })
    }

    /// How it ended, once it has.
    #[must_use]
    pub fn end(&self) -> Option<End> {
        self.end
    }

    /// Ends it.
    pub fn cancel(&mut self) {
        self.finish(End::Cancelled, None);
    }

    fn finish(&mut self, end: End, why: Option<String>) {
        if self.end.is_none() {
            (self.end, self.why) = (Some(end), why);
        }
        self.phase = Phase::Over;
    }

    /// Looks at the broadcast; `Some` once it is over.
    pub fn look(&mut self, snapshot: &Snapshot) -> Option<End> {
        match self.phase {
            Phase::Over => {}
            Phase::Waiting => self.wait(snapshot),
            Phase::Running { from } => self.follow(snapshot, from),
        }
        self.end
    }

    fn wait(&mut self, snapshot: &Snapshot) {
        match Beginning::of(snapshot) {
            Beginning::NotYet => {}
            Beginning::Taken => {
                let from = snapshot.history.len() + SETTLE_S;
                self.began = Some(from);
                self.phase = Phase::Running { from };
            }
            Beginning::NoServer(why) => self.finish(End::NoServer, why),
        }
    }

    fn follow(&mut self, snapshot: &Snapshot, from: usize) {
        if self.away.is_longer(snapshot, AWAY_WITHIN) {
            self.finish(End::BroadcasterGone, None);
        }
        let verdict = &snapshot.verdict;
        for at in self.seen.follow(snapshot, from) {
            let is_away = snapshot.history.get(at).is_none_or(|second| second.state.is_none());
            let lost = self.seen.lost_in(at - from);
            self.late = if lost == 0 && !is_away && verdict.fault == Fault::Encoder { self.late + 1 } else { 0 };
            match lost {
                0 if is_away => self.broke(How::Away, at, 1, 0),
                0 if self.late >= LATE => self.broke(How::Late, at + 1 - self.late, self.late, 0),
                0 => {}
                lost => self.broke(How::Lost, at, 1, u64::from(lost)),
            }
        }
        self.known = Known::of(snapshot);
        if verdict.fault != Fault::None
            && let Some(broke) = self.broke.last_mut().filter(|broke| is_near(broke, snapshot.history.len()))
        {
            broke.at_fault = Some((verdict.fault, verdict.cause));
            broke.because = Some(verdict.sentence.clone());
        }
        if self.seen.seconds() >= self.for_s {
            self.finish(End::Done, None);
        }
    }

    fn broke(&mut self, how: How, at: usize, seconds: usize, lost: u64) {
        if let Some(broke) = self.broke.last_mut().filter(|broke| is_near(broke, at)) {
            // What comes late behind a loss is what is left of it.
            if broke.how == how || how == How::Lost {
                broke.seconds = at + seconds - broke.at;
            }
            broke.lost += lost;
            broke.how = if broke.lost > 0 { How::Lost } else { broke.how };
            return;
        }
        let before = self.to_do.iter().filter_map(|to_do| Some((to_do.text.clone(), at.checked_sub(to_do.done_at?)?)));
        let after = before.filter(|(_, ago)| *ago <= MADE_IT).min_by_key(|(_, ago)| *ago);
        self.broke.push(Broke { how, at, seconds, lost, at_fault: None, because: None, after });
    }

    /// What it came to so far.
    #[must_use]
    pub fn soaked(&self) -> Soaked {
        Soaked {
            seconds: self.seen.seconds(),
            of: self.for_s,
            from: self.began.unwrap_or(0),
            lost: self.seen.lost(),
            known: self.known,
            broke: self.broke.clone(),
            to_do: self.to_do.clone(),
            end: self.end.unwrap_or(End::CutOff),
            why: self.why.clone(),
        }
    }
}

/// Whether what happens at a second still belongs to a loss.
fn is_near(broke: &Broke, at: usize) -> bool {
    at <= broke.at + broke.seconds + APART
}

impl Soaked {
    /// Whether it went to its end and nothing was lost.
    #[must_use]
    pub fn is_clean(&self) -> bool {
        self.end == End::Done && self.broke.is_empty()
    }

    /// Whether anything can be said at all.
    #[must_use]
    pub fn says_something(&self) -> bool {
        self.seconds > 0
    }

    /// Frames lost more often than once in so many seconds can be ruled out, with 95 % confidence.
    #[must_use]
    pub fn rules_out_every_s(&self) -> Option<f64> {
        self.says_something().then(|| ruled_out_every_s(self.seconds as f64, self.broke.len()))
    }

    /// What it came to, in a sentence.
    #[must_use]
    pub fn sentence(&self) -> String {
        if !self.says_something() {
            let why = self.why.as_deref().map_or(String::new(), |why| format!(": {}", why.trim_end_matches('.')));
            return match self.end {
                End::NoServer => format!("No server took the broadcast{why}."),
                _ => "It ended before there was anything to see.".into(),
            };
        }
        let long = lasted(self.seconds);
        let what = if self.broke.iter().all(|broke| broke.how == How::Lost) {
            "frames were lost"
        } else {
            "something went wrong"
        };
        match self.broke.as_slice() {
            [] => format!("Nothing was lost in {long}."),
            [one] => format!("In {long} {what} once: {}.", one.words(self.from)),
            [first, ..] => format!("In {long} {what} {} times; first {}.", self.broke.len(), first.words(self.from)),
        }
    }

    /// How sure that is.
    #[must_use]
    pub fn sure(&self) -> Option<String> {
        let every = lasted(self.rules_out_every_s()?.floor() as usize);
        Some(format!(
            "That frames are lost more often than every {every} is ruled out, with 95 % confidence; what comes less often is not."
        ))
    }

    /// How it ended, where that has to be said.
    #[must_use]
    pub fn ended(&self) -> Option<&'static str> {
        match self.end {
            End::Done | End::NoServer | End::NotSet => None,
            End::TimeOver => Some("The time that was given is over."),
            End::Cancelled => Some("Ended by hand before its time."),
            End::BroadcasterGone => Some("The broadcaster went away before the time was over."),
            End::CutOff => Some("It was cut off in the middle."),
        }
    }
}

impl Broke {
    /// In words; times are counted from where the soak began.
    #[must_use]
    pub fn words(&self, from: usize) -> String {
        let at = lasted(self.at.saturating_sub(from));
        let who = match self.at_fault {
            Some((fault, cause)) => {
                format!(", {}{}", stage(fault), cause.map_or(String::new(), |c| format!(" ({})", c.words())))
            }
            None => String::new(),
        };
        let after = match &self.after {
            Some((text, ago)) => format!(", {ago} s after: {text}"),
            None => String::new(),
        };
        let what = match self.how {
            How::Lost => format!("{} frames", self.lost),
            How::Late => format!("for {} every frame came later than the one before,", lasted(self.seconds)),
            How::Away => format!("the broadcaster was away for {},", lasted(self.seconds)),
        };
        format!("{what} {at} into it{who}{after}")
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::{Core, Moment, Settings, State};

    fn snapshot() -> Snapshot {
        Core::new(Settings { servers: vec!["Aldmoor".into()] }).snapshot(Moment::START)
    }

    fn with_seconds(snapshot: &mut Snapshot, lost: &[u32]) {
        for lost in lost {
            let state = snapshot.state;
            let second =
                moth_core::history::Second { state, due: Some(60), dropped: Some(*lost), ..Default::default() };
            snapshot.history.push(second);
        }
    }

    #[test]
    fn what_was_done_before_a_loss_is_told_with_it() {
        let mut soak = Soak::new(60, vec!["show the heaviest scene".into(), "begin a call".into()]);
        let mut seen = snapshot();
        assert_eq!(soak.look(&seen), None);
        (seen.state, seen.on_air_since) = (Some(State::Steady), Some(Moment::START));
        soak.look(&seen);
        assert!(soak.is_running());
        with_seconds(&mut seen, &[0; SETTLE_S + 10]);
        soak.look(&seen);
        assert_eq!(soak.tick(0, &seen).as_deref(), Some("show the heaviest scene"));
        assert_eq!(soak.tick(0, &seen), None, "once is enough");
        with_seconds(&mut seen, &[0, 0, 0, 7, 5, 0, 9]);
        seen.verdict.fault = Fault::Rendering;
        seen.verdict.cause = Some(Cause::GpuSaturated);
        soak.look(&seen);
        seen.verdict.fault = Fault::None;
        with_seconds(&mut seen, &[0; 43]);
        assert_eq!(soak.look(&seen), Some(End::Done));
        let soaked = soak.soaked();
        assert!(!soaked.is_clean());
        let told = "In 1 min frames were lost once: 21 frames 13 s into it, the rendering (the GPU is full), 3 s after: show the heaviest scene.";
        assert_eq!(soaked.sentence(), told);
        assert_eq!(serde_json::from_str::<Soaked>(&serde_json::to_string(&soaked).unwrap()).unwrap(), soaked);
    }

    #[test]
    fn frames_that_come_ever_later_and_a_broadcaster_that_was_away_are_no_clean_soak() {
        let begun = || {
            let (mut soak, mut seen) = (Soak::new(60, Vec::new()), snapshot());
            (seen.state, seen.on_air_since) = (Some(State::Steady), Some(Moment::START));
            soak.look(&seen);
            with_seconds(&mut seen, &[0; SETTLE_S + 20]);
            soak.look(&seen);
            (soak, seen)
        };
        let go_on = |soak: &mut Soak, seen: &mut Snapshot, seconds: usize| {
            for _ in 0..seconds {
                with_seconds(seen, &[0]);
                soak.look(seen);
            }
        };
        // An encoder at half of real time loses no frame.
        let (mut soak, mut seen) = begun();
        (seen.verdict.fault, seen.verdict.cause) = (Fault::Encoder, Some(Cause::PresetHeavy));
        go_on(&mut soak, &mut seen, 40);
        assert!(!soak.soaked().is_clean());
        let told = "In 1 min something went wrong once: for 40 s every frame came later than the one before, 20 s into it, the encoder (the preset is too heavy).";
        assert_eq!(soak.soaked().sentence(), told);
        // A verdict that stands for a moment and costs nothing is nothing; nor is a dip that the queue bears.
        let (mut soak, mut seen) = begun();
        for (fault, seconds) in [(Fault::Encoder, LATE - 1), (Fault::None, 5), (Fault::Network, 9), (Fault::None, 23)] {
            seen.verdict.fault = fault;
            go_on(&mut soak, &mut seen, seconds);
        }
        assert!(soak.soaked().is_clean(), "{}", soak.soaked().sentence());
        // Away for less than it takes to be gone.
        let (mut soak, mut seen) = begun();
        (seen.state, seen.on_air_since) = (None, None);
        go_on(&mut soak, &mut seen, 8);
        (seen.state, seen.on_air_since) = (Some(State::Steady), Some(seen.at));
        go_on(&mut soak, &mut seen, 32);
        assert_eq!(soak.end(), Some(End::Done));
        assert!(
            soak.soaked().sentence().contains("the broadcaster was away for 8 s, 20 s into it"),
            "{}",
            soak.soaked().sentence()
        );
    }

    #[test]
    fn a_clean_one_says_what_it_rules_out_and_the_list_can_be_changed() {
        let mut soak = Soak::new(600, TO_DO.map(str::to_owned).to_vec());
        soak.leave_out(1);
        soak.add("let the cat in".into());
        assert_eq!((soak.to_do().len(), soak.to_do()[5].text.as_str()), (6, "let the cat in"));
        let mut seen = snapshot();
        (seen.state, seen.on_air_since) = (Some(State::Steady), Some(Moment::START));
        soak.look(&seen);
        with_seconds(&mut seen, &[0; 700]);
        assert_eq!(soak.look(&seen), Some(End::Done));
        let soaked = soak.soaked();
        assert!(
            soaked.is_clean() && soaked.sure().unwrap().contains("more often than every 3 min"),
            "{:?}",
            soaked.sure()
        );
        // Without a server there is nothing to say.
        let mut refused = Soak::new(600, Vec::new());
        let mut seen = snapshot();
        (seen.verdict.fault, seen.verdict.cause) = (Fault::Network, Some(Cause::ServerRefuses));
        seen.verdict.sentence = "Aldmoor refuses the key.".into();
        assert_eq!(refused.look(&seen), Some(End::NoServer));
        assert_eq!(refused.soaked().sentence(), "No server took the broadcast: Aldmoor refuses the key.");
        assert!(!refused.soaked().is_clean() && refused.soaked().rules_out_every_s().is_none());
    }
}
