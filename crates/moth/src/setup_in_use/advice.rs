//! What is advised for a setup: the bitrate to use, and the picture that suits it.

use moth_core::rate::Bitrate;
use moth_drawing::picture::Picture;
use moth_plan::breach::{Breach, Severity, breaches};
use moth_plan::budget::{Budget, Means, budget};
use moth_plan::picture::{PictureMap, map, useful};
use moth_plan::setup::Setup;
use moth_plan::viewers::{Viewers, viewers};
use moth_store::config::Change;

use super::SetupInUse;
use super::basis::Basis;

/// Everything that is decided.
#[derive(Debug, Clone, PartialEq)]
pub struct Advice {
    /// What it rests on.
    pub basis: Basis,
    /// The setup it is made for, with whatever was said in its place.
    pub setup: Setup,
    /// The bitrate.
    pub budget: Budget,
    /// The picture.
    pub map: PictureMap,
    /// What of the setup the service does not take.
    pub breaches: Vec<Breach>,
    /// What it takes to watch it.
    pub viewers: Viewers,
}

impl Advice {
    /// What is advised for a setup.
    #[must_use]
    pub fn new(in_use: &SetupInUse, setup: Setup, basis: Basis) -> Self {
        let means = Means {
            sustained: basis.sustained,
            worst_moments: basis.p5,
            headroom: setup.headroom,
            household: setup.household,
            audio: setup.audio,
            at_least: basis.at_least,
            useful: Some(useful(setup.source(), setup.source_rate(), setup.motion)),
        };
        let limits = &in_use.service.limits;
        let budget = budget(&means, limits);
        let map = map(budget.advised(), setup.source(), setup.source_rate(), setup.motion, limits);
        let total = Bitrate::from_bps(budget.advised().bps() + budget.audio.bps());
        Self { breaches: breaches(&setup, limits), viewers: viewers(total), basis, setup, budget, map }
    }

    /// Before anything is known of the upload: the pictures that the setup's own bitrate pays for. It advises no bitrate.
    #[must_use]
    pub fn of_the_setup(in_use: &SetupInUse) -> Self {
        let setup = in_use.setup.clone();
        let total = Bitrate::from_bps(setup.bitrate.bps() + setup.audio.bps());
        let basis = Basis {
            sustained: total,
            p5: None,
            at_least: true,
            from: "the setup's own".into(),
            date: None,
            is_setup: true,
        };
        let mut advice = Self::new(in_use, setup, basis);
        let (setup, limits) = (&advice.setup, &in_use.service.limits);
        advice.map = map(setup.bitrate, setup.source(), setup.source_rate(), setup.motion, limits);
        advice.viewers = viewers(total);
        advice
    }

    /// The changes that bring the setup to the plan.
    #[must_use]
    pub fn changes(&self) -> Vec<Change> {
        let mut changes = Vec::new();
        if !self.basis.is_setup
            && self.budget.advised() >= Bitrate::from_kbps(100)
            && self.budget.advised() != self.setup.bitrate
        {
            changes.push(Change::Bitrate(self.budget.advised()));
        }
        if let Some(cell) = self.map.choice() {
            if cell.size != self.setup.size {
                changes.push(Change::Size(cell.size));
            }
            if (cell.fps - self.setup.rate).abs() > 0.001 {
                changes.push(Change::Rate(cell.fps));
            }
        }
        changes
    }
}

/// The budget in a sentence.
#[must_use]
pub fn budget_sentence(plan: &Advice) -> String {
    let at_least = if plan.basis.at_least { "at least " } else { "" };
    let household = match plan.setup.household {
        Bitrate::ZERO => String::new(),
        household => format!(", {household} for the household"),
    };
    format!(
        "Use {} of video and {} of audio: {}. The upload sustains {at_least}{} ({}); {} of it stays free{household}.",
        plan.budget.advised(),
        plan.budget.audio,
        plan.budget.binding.words(),
        plan.basis.sustained,
        plan.basis.from,
        plan.setup.headroom,
    )
}

/// The map of pictures, to be drawn.
#[must_use]
pub fn picture(plan: &Advice, in_use: &SetupInUse) -> Picture {
    let source = format!(
        "{} for {}; a scene of {} that is {}",
        in_use.setup_name,
        in_use.service.name,
        plan.setup.source(),
        plan.map.motion.word()
    );
    let now = Some((in_use.setup.size, in_use.setup.rate));
    Picture { map: plan.map.clone(), now, bitrate: budget_sentence(plan), source }
}

/// A breach in a sentence.
#[must_use]
pub fn breach_sentence(breach: &Breach, service: &str) -> String {
    let verb = match breach.severity {
        Severity::Asked => "asks for",
        Severity::Refused => "takes only",
    };
    format!("{} is {}; {service} {verb} {}: {}", breach.what, breach.has, breach.wanted, breach.why)
}
