//! What might be at fault, and the evidence for and against each.
//!
//! Evidence is weighed in bans (I. J. Good, *Probability and the Weighing of Evidence*, 1950): a weight
//! of +1 makes a suspect ten times likelier, −1 ten times less likely, and independent weights add up.
//! The weights are our own, chosen so that one strong sign outweighs two weak ones, and tried on the
//! seeded evenings; the figures they rest on are in each file.

mod away;
mod encoder;
mod network;
mod rendering;

use serde::{Deserialize, Serialize};

use crate::facts::Facts;
use crate::figure::Origin;
use crate::proposal::Proposal;

/// Which of the three stages loses frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Fault {
    /// No frame is being lost.
    None,
    /// Encoded, but not carried in time.
    Network,
    /// Never encoded, as the encoder was not done with the last one.
    Encoder,
    /// The scene was not ready in time.
    Rendering,
}

impl Fault {
    /// The word shown, which is also the one in JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Network => "network",
            Self::Encoder => "encoder",
            Self::Rendering => "rendering",
        }
    }
}

/// What makes a stage lose frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// The line carries less than is asked of it, and did so from the start.
    LineShort,
    /// Another program on this machine takes a part of the line.
    UploadHere,
    /// Something beyond this machine takes a part of the line: another device, or the provider.
    UploadBeyond,
    /// The way to the first router carries less than is asked of it.
    LocalLink,
    /// The route to this server is narrow; others are reached as before.
    Route,
    /// The server does not read as fast as the line would carry.
    ServerSlow,
    /// The server does not answer, or ended the connection.
    ServerAway,
    /// The server answers and says no.
    ServerRefuses,
    /// The encoder preset takes longer than a frame lasts.
    PresetHeavy,
    /// Another program takes the CPU the encoder, or the scene, needs.
    CpuStarved,
    /// The GPU's encoder block has nothing left.
    EncoderFull,
    /// The machine slows itself down because it is hot.
    Heat,
    /// Writing a recording holds the broadcaster up.
    Disk,
    /// The GPU's rendering engine has nothing left.
    GpuSaturated,
    /// The scene takes longer than a frame lasts though the GPU is not full.
    SceneHeavy,
}

impl Cause {
    /// All of them.
    pub const ALL: [Self; 15] = [
        Self::LineShort,
        Self::UploadHere,
        Self::UploadBeyond,
        Self::LocalLink,
        Self::Route,
        Self::ServerSlow,
        Self::ServerAway,
        Self::ServerRefuses,
        Self::PresetHeavy,
        Self::CpuStarved,
        Self::EncoderFull,
        Self::Heat,
        Self::Disk,
        Self::GpuSaturated,
        Self::SceneHeavy,
    ];

    /// The slug in JSON.
    #[must_use]
    pub fn slug(self) -> &'static str {
        match self {
            Self::LineShort => "line-short",
            Self::UploadHere => "upload-here",
            Self::UploadBeyond => "upload-beyond",
            Self::LocalLink => "local-link",
            Self::Route => "route",
            Self::ServerSlow => "server-slow",
            Self::ServerAway => "server-away",
            Self::ServerRefuses => "server-refuses",
            Self::PresetHeavy => "preset-heavy",
            Self::CpuStarved => "cpu-starved",
            Self::EncoderFull => "encoder-full",
            Self::Heat => "heat",
            Self::Disk => "disk",
            Self::GpuSaturated => "gpu-saturated",
            Self::SceneHeavy => "scene-heavy",
        }
    }

    /// In a few words, for people.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::LineShort => "the bitrate is over the line",
            Self::UploadHere => "another upload on this machine",
            Self::UploadBeyond => "an upload beyond this machine",
            Self::LocalLink => "the wireless or local link",
            Self::Route => "the route to this server",
            Self::ServerSlow => "the server is too slow",
            Self::ServerAway => "the server is away",
            Self::ServerRefuses => "the server refuses",
            Self::PresetHeavy => "the preset is too heavy",
            Self::CpuStarved => "the CPU is taken by others",
            Self::EncoderFull => "the GPU's encoder block is full",
            Self::Heat => "the machine is too hot",
            Self::Disk => "the disk is too slow",
            Self::GpuSaturated => "the GPU is full",
            Self::SceneHeavy => "the scene is too heavy",
        }
    }
}

/// One sign for or against a suspect.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Evidence {
    /// The sign, with its number and unit.
    pub text: String,
    /// How the number is known; `None` where the sign is that something is not known.
    pub origin: Option<Origin>,
    /// Bans: above zero speaks for the suspect, below against it.
    pub bans: f64,
}

/// Something that might be at fault.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Suspect {
    /// The stage it is in.
    pub fault: Fault,
    /// What it is; `None` if the stage is known but nothing tells what in it.
    pub cause: Option<Cause>,
    /// From 0 to 1.
    pub confidence: f64,
    /// Frames it costs in [`crate::facts::NOW`], on the mean of [`crate::facts::HARM`]; suspects are ordered by this.
    pub harm_frames: f64,
    /// One sentence for people, with its numbers.
    pub sentence: String,
    /// Signs for and against, strongest first.
    pub evidence: Vec<Evidence>,
    /// What would make another cause likelier.
    pub would_change: String,
    /// What to do about it, best first.
    pub proposals: Vec<Proposal>,
    /// Every cause that was weighed, the likeliest first.
    pub weighed: Vec<Weighed>,
}

impl Suspect {
    /// A stage that loses frames for a cause that nothing tells.
    #[must_use]
    pub fn unknown(fault: Fault) -> Self {
        Self {
            fault,
            cause: None,
            confidence: 0.0,
            harm_frames: 0.0,
            sentence: String::new(),
            evidence: Vec::new(),
            would_change: String::new(),
            proposals: Vec::new(),
            weighed: Vec::new(),
        }
    }
}

/// A cause that was weighed.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Weighed {
    /// Which.
    pub cause: Cause,
    /// Its share of the likelihood of all that were weighed, from 0 to 1.
    pub share: f64,
    /// Signs for and against, strongest first.
    pub evidence: Vec<Evidence>,
}

/// What weighing came to.
struct Finding {
    /// The likeliest cause and how likely it is; `None` if nothing is clear.
    told: Option<(Cause, f64)>,
    weighed: Vec<Weighed>,
}

impl Finding {
    fn cause(&self) -> Option<Cause> {
        self.told.map(|(cause, _)| cause)
    }

    /// The evidence of the cause that was told.
    fn evidence(&self) -> Vec<Evidence> {
        let told = self.weighed.first().filter(|_| self.told.is_some());
        told.map(|weighed| weighed.evidence.clone()).unwrap_or_default()
    }

    /// What speaks most for the runner-up, if anything does.
    fn would_change(&self) -> String {
        let Some(second) = self.weighed.get(1) else { return String::new() };
        let against = second.evidence.iter().find(|e| e.bans < 0.0);
        match against {
            Some(evidence) => format!(
                "Next likeliest: {} ({}). Against it: {}; were that otherwise, it would be weighed again.",
                second.cause.words(),
                percent(second.share),
                evidence.text
            ),
            None => format!("Next likeliest: {} ({}).", second.cause.words(), percent(second.share)),
        }
    }
}

/// A candidate cause while evidence is gathered.
struct Case {
    cause: Cause,
    lead: f64,
    evidence: Vec<Evidence>,
}

impl Case {
    fn new(cause: Cause) -> Self {
        Self { cause, lead: 0.0, evidence: Vec::new() }
    }

    /// Adds a sign, if there is one.
    fn sign(&mut self, origin: impl Into<Option<Origin>>, bans: f64, text: impl Into<String>) {
        self.evidence.push(Evidence { text: text.into(), origin: origin.into(), bans });
    }

    fn bans(&self) -> f64 {
        self.lead + self.evidence.iter().map(|e| e.bans).sum::<f64>()
    }
}

/// The fault that stands first stays so unless another costs this many times its frames.
const STAYS_FIRST: f64 = 1.7;

/// A cause already in the verdict starts with this lead, in bans, so that a figure that wavers about a
/// threshold does not make the verdict waver with it.
const HELD_LEAD: f64 = 0.8;

/// With no new loss, nothing that is weighed outweighs the cause that stands.
const KEPT_LEAD: f64 = 20.0;

/// Two causes closer to each other than this, in bans (a factor of two), are not told apart.
const CLEAR_LEAD: f64 = 0.3;

/// Weighs several cases: which is likeliest and how likely it is among them; none is told if even that has no sign for
/// it, or another is about as likely.
///
/// With no loss newer than a moment, a cause that stands is kept: what is measured now may already be the cure.
fn weigh(fault: Fault, Cases(mut cases): Cases, held: &Held, is_fresh: bool) -> Finding {
    let keep = !is_fresh || held.pinned.contains(&fault);
    if keep && let Some(kept) = cases.iter_mut().find(|case| held.has_cause(fault, case.cause)) {
        kept.lead = KEPT_LEAD;
    }
    for case in cases.iter_mut().filter(|case| held.has_cause(fault, case.cause)) {
        case.lead = case.lead.max(HELD_LEAD);
    }
    let odds = |case: &Case| 10_f64.powf(case.bans());
    let all: f64 = cases.iter().map(&odds).sum();
    cases.sort_by(|a, b| b.bans().total_cmp(&a.bans()));
    let second = cases.get(1).map_or(f64::NEG_INFINITY, Case::bans);
    let told = cases.first().filter(|best| best.bans() > 0.0 && best.bans() - second >= CLEAR_LEAD).map(|best| {
        // The share among the cases, tempered by the odds that it is any of them at all.
        (best.cause, odds(best) / all * (odds(best) / (1.0 + odds(best))))
    });
    let weighed = cases
        .into_iter()
        .map(|mut case| {
            case.evidence.sort_by(|a, b| b.bans.abs().total_cmp(&a.bans.abs()));
            Weighed { cause: case.cause, share: 10_f64.powf(case.bans()) / all, evidence: case.evidence }
        })
        .collect();
    Finding { told, weighed }
}

/// The cases for several causes.
struct Cases(Vec<Case>);

impl Cases {
    fn of(causes: &[Cause]) -> Self {
        Self(causes.iter().map(|cause| Case::new(*cause)).collect())
    }

    /// One sign and what it weighs for each cause it says something about.
    fn sign(&mut self, origin: impl Into<Option<Origin>>, text: &str, weights: &[(Cause, f64)]) {
        let origin = origin.into();
        for (cause, bans) in weights {
            if let Some(case) = self.0.iter_mut().find(|case| case.cause == *cause) {
                case.sign(origin, *bans, text);
            }
        }
    }

    /// That something is not known, and what that weighs.
    fn unknown(&mut self, text: &str, weights: &[(Cause, f64)]) {
        self.sign(None, text, weights);
    }
}

/// What is already in the verdict: it stays until its losses have ended.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Held {
    /// What stands, the most harmful first.
    pub standing: Vec<(Fault, Option<Cause>)>,
    /// Faults whose cause is not to change at this moment.
    pub pinned: Vec<Fault>,
}

impl Held {
    fn has(&self, fault: Fault) -> bool {
        self.standing.iter().any(|(held, _)| *held == fault)
    }

    fn has_cause(&self, fault: Fault, cause: Cause) -> bool {
        self.standing.contains(&(fault, Some(cause)))
    }

    /// The cause that stands for a fault.
    #[must_use]
    pub fn cause(&self, fault: Fault) -> Option<Cause> {
        self.standing.iter().find(|(held, _)| *held == fault).and_then(|(_, cause)| *cause)
    }
}

/// Every suspect these facts give rise to, the most harmful first.
#[must_use]
pub fn suspects(facts: &Facts, held: &Held) -> Vec<Suspect> {
    if !facts.broadcasting {
        return Vec::new();
    }
    let mut found: Vec<Suspect> =
        [network::suspect(facts, held), encoder::suspect(facts, held), rendering::suspect(facts, held)]
            .into_iter()
            .flatten()
            .collect();
    // What stands first gives way only to what is clearly worse, or two of a size would take turns.
    let first = held.standing.first().map(|(fault, _)| *fault);
    let harm = |s: &Suspect| if Some(s.fault) == first { s.harm_frames * STAYS_FIRST } else { s.harm_frames };
    found.sort_by(|a, b| harm(b).total_cmp(&harm(a)));
    found
}

/// What is known of every cause's part in a loss at this moment, whether or not there is one: for who asks before
/// anything is wrong.
#[must_use]
pub fn weighed(facts: &Facts) -> Vec<(Fault, Vec<Weighed>)> {
    let held = Held::default();
    vec![
        (Fault::Network, network::weighed(facts, &held)),
        (Fault::Encoder, encoder::weighed(facts, &held)),
        (Fault::Rendering, rendering::weighed(facts, &held)),
    ]
}

/// `12 frames in 3 s`
fn frames_lost(frames: f64) -> String {
    let frames = frames.round();
    format!("{frames} frame{} in {} s", if frames == 1.0 { "" } else { "s" }, crate::facts::NOW.as_secs())
}

/// `41 %`
fn percent(share: f64) -> String {
    format!("{:.0} %", share * 100.0)
}
