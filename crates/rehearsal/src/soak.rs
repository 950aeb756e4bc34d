//! The long run: everything stays as it is, and the user does, one after another, what may break it.

use moth_core::Snapshot;
use moth_core::moment::Moment;
use moth_core::suspects::{Cause, Fault};
use moth_core::trial::SETTLE_S;
use moth_core::trial::weigh::LostSecond;
use serde::{Deserialize, Serialize};

use crate::finding::{lasted, stage};
use crate::runner::{End, is_taken};
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

/// A server must take the broadcast within this.
const TAKEN_WITHIN_S: f64 = 30.0;
/// A broadcaster that is away for longer is gone.
const AWAY_WITHIN_S: f64 = 15.0;
/// Losses no further apart than this, in seconds, are one.
const APART: usize = 5;
/// What was done so long before a loss may have made it, in seconds.
const MADE_IT: usize = 90;

/// Something to do meanwhile.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct ToDo {
    /// What.
    pub text: String,
    /// In which second of the broadcast it was done.
    pub done_at: Option<usize>,
}

/// A loss, and what was done before it.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Broke {
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
    Waiting { on_air: Option<Moment> },
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
    away_since: Option<Moment>,
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
    /// Every loss.
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
            phase: Phase::Waiting { on_air: None },
            began: None,
            seen: Seen::default(),
            broke: Vec::new(),
            away_since: None,
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
            Phase::Waiting { on_air } => self.wait(snapshot, on_air),
            Phase::Running { from } => self.follow(snapshot, from),
        }
        self.end
    }

    fn wait(&mut self, snapshot: &Snapshot, on_air: Option<Moment>) {
        let on_air = snapshot.on_air_since.map(|_| on_air.unwrap_or(snapshot.at));
        if is_taken(snapshot) {
            let from = snapshot.history.len() + SETTLE_S;
            self.began = Some(from);
            self.phase = Phase::Running { from };
            return;
        }
        let waited = on_air.is_some_and(|since| snapshot.at.since(since).as_secs_f64() > TAKEN_WITHIN_S);
        if waited || snapshot.verdict.cause == Some(Cause::ServerRefuses) {
            let why = (snapshot.verdict.fault != Fault::None).then(|| snapshot.verdict.sentence.clone());
            return self.finish(End::NoServer, why);
        }
        self.phase = Phase::Waiting { on_air };
    }

    fn follow(&mut self, snapshot: &Snapshot, from: usize) {
        if snapshot.on_air_since.is_none() {
            let since = *self.away_since.get_or_insert(snapshot.at);
            if snapshot.at.since(since).as_secs_f64() > AWAY_WITHIN_S {
                self.finish(End::BroadcasterGone, None);
            }
        } else {
            self.away_since = None;
        }
        for at in from + self.seen.seconds()..snapshot.history.len() {
            let Some(second) = snapshot.history.get(at) else { break };
            let lost: u32 = [second.dropped, second.skipped, second.lagged].into_iter().flatten().sum();
            self.seen.push(LostSecond { due: second.due.unwrap_or(0), lost });
            if lost > 0 {
                self.broke(at, u64::from(lost));
            }
        }
        let verdict = &snapshot.verdict;
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

    fn broke(&mut self, at: usize, lost: u64) {
        if let Some(broke) = self.broke.last_mut().filter(|broke| is_near(broke, at)) {
            broke.lost += lost;
            broke.seconds = at + 1 - broke.at;
            return;
        }
        let before = self.to_do.iter().filter_map(|to_do| Some((to_do.text.clone(), at.checked_sub(to_do.done_at?)?)));
        let after = before.filter(|(_, ago)| *ago <= MADE_IT).min_by_key(|(_, ago)| *ago);
        self.broke.push(Broke { at, seconds: 1, lost, at_fault: None, because: None, after });
    }

    /// What it came to so far.
    #[must_use]
    pub fn soaked(&self) -> Soaked {
        Soaked {
            seconds: self.seen.seconds(),
            of: self.for_s,
            from: self.began.unwrap_or(0),
            lost: self.seen.lost(),
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
        match self.broke.as_slice() {
            [] => format!("Nothing was lost in {long}."),
            [one] => format!("In {long} frames were lost once: {}.", one.words(self.from)),
            [first, ..] => {
                format!("In {long} frames were lost {} times; first {}.", self.broke.len(), first.words(self.from))
            }
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
        format!("{} frames {at} into it{who}{after}", self.lost)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::{Core, Settings, State};

    fn snapshot() -> Snapshot {
        Core::new(Settings { servers: vec!["Aldmoor".into()] }).snapshot(Moment::START)
    }

    fn with_seconds(snapshot: &mut Snapshot, lost: &[u32]) {
        for lost in lost {
            let second = moth_core::history::Second { due: Some(60), dropped: Some(*lost), ..Default::default() };
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
