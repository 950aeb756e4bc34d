//! `moth plan`: the bitrate to use, and the picture that suits it.

use std::fmt::Write;

use jiff::Timestamp;
use moth_core::rate::Bitrate;
use moth_drawing::picture::Picture;
use moth_plan::breach::{Breach, Severity, breaches};
use moth_plan::budget::{Budget, Means, budget};
use moth_plan::line;
use moth_plan::picture::{Motion, PictureMap, map, useful};
use moth_plan::setup::Setup;
use moth_plan::surroundings::Surroundings;
use moth_plan::text::Size;
use moth_plan::viewers::{Viewers, viewers};
use moth_store::config::Change;
use moth_store::results::History;
use serde::Serialize;

use crate::cli::{KitOptions, PlanOptions};
use crate::failure::Failure;
use crate::kit::Kit;
use crate::{Outcome, out};

/// What a plan rests on.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Basis {
    /// What the upload sustains.
    #[serde(rename = "sustained_bps")]
    pub sustained: Bitrate,
    /// What it carries in its worst moments.
    #[serde(rename = "p5_bps")]
    pub p5: Option<Bitrate>,
    /// It may be more.
    pub at_least: bool,
    /// Where that comes from, in words.
    pub from: String,
    /// When it was measured.
    pub date: Option<Timestamp>,
}

impl Basis {
    /// Said by the user, not measured.
    #[must_use]
    pub fn said(sustained: Bitrate) -> Self {
        Self { sustained, p5: None, at_least: false, from: "as you say".into(), date: None }
    }

    /// The newest of what was measured: the line itself, or the server in use.
    #[must_use]
    pub fn newest(history: &History, service: &str, server: Option<&str>) -> Option<Self> {
        let tested = history.newest_routes(service).and_then(|(kept, servers)| {
            let found = servers.iter().find(|result| Some(result.server.as_str()) == server)?;
            let best = found.best()?;
            let from = format!("measured to {} on {}", found.server, out::date(kept.date));
            Some(Self {
                sustained: best.sustained,
                p5: Some(best.p5),
                at_least: best.is_at_least(),
                from,
                date: Some(kept.date),
            })
        });
        let line = history.newest_uplink().and_then(|(kept, runs)| {
            let reading = line::read(runs, &Surroundings::default(), 0.0)?;
            let from = format!("measured on {} on {}", kept.line, out::date(kept.date));
            Some(Self {
                sustained: reading.sustained,
                p5: Some(reading.p5),
                at_least: reading.at_least,
                from,
                date: Some(kept.date),
            })
        });
        match (tested, line) {
            (Some(a), Some(b)) => Some(if a.date >= b.date { a } else { b }),
            (one, other) => one.or(other),
        }
    }
}

/// Everything that is decided.
#[derive(Debug, Clone, PartialEq)]
pub struct Plan {
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

impl Plan {
    /// Plans for a setup of the kit.
    #[must_use]
    pub fn new(kit: &Kit, setup: Setup, basis: Basis) -> Self {
        let means = Means {
            sustained: basis.sustained,
            worst_moments: basis.p5,
            headroom: setup.headroom_percent / 100.0,
            household: setup.household,
            audio: setup.audio,
            at_least: basis.at_least,
            useful: Some(useful(setup.source(), setup.source_rate(), setup.motion)),
        };
        let limits = &kit.service.limits;
        let budget = budget(&means, limits);
        let map = map(budget.advised(), setup.source(), setup.source_rate(), setup.motion, limits);
        let total = Bitrate::from_bps(budget.advised().bps() + budget.audio.bps());
        Self { breaches: breaches(&setup, limits), viewers: viewers(total), basis, setup, budget, map }
    }

    /// The changes that bring the setup to the plan.
    #[must_use]
    pub fn changes(&self) -> Vec<Change> {
        let mut changes = Vec::new();
        if self.budget.advised() >= Bitrate::from_kbps(100) && self.budget.advised() != self.setup.bitrate {
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

/// Plans, tells, and writes if asked to.
///
/// # Errors
/// [`Failure`] if there is nothing to plan from.
pub fn run(options: &PlanOptions, kit_options: &KitOptions) -> Outcome {
    let mut kit = Kit::open(kit_options)?;
    options.draw.check()?;
    let setup = Setup {
        headroom_percent: options.headroom.map_or(kit.setup.headroom_percent, f64::from),
        household: options.household.unwrap_or(kit.setup.household),
        audio: options.audio.unwrap_or(kit.setup.audio),
        motion: options.motion.unwrap_or(kit.setup.motion),
        source: options.source.or(kit.setup.source),
        source_rate: options.rate.or(kit.setup.source_rate),
        ..kit.setup.clone()
    };
    let basis = match options.sustained {
        Some(sustained) => Basis::said(sustained),
        None => {
            let history = kit.history()?;
            let server = kit.server_in_use(&history);
            let newest = Basis::newest(&history, &kit.service_name, server.as_deref());
            newest.ok_or(Failure::NothingMeasured)?
        }
    };
    let plan = Plan::new(&kit, setup, basis);
    if options.json {
        out::json(&Json::of(&plan, &kit))?;
    } else {
        out::text(&report(&plan, &kit))?;
    }
    options.draw.write(Some(picture(&plan, &kit)), &kit)?;
    if options.write {
        for change in plan.changes() {
            kit.change(&change)?;
        }
        out::Progress::new().line(&format!("written to {} in {}", kit.setup_name, kit.file.path().display()));
    }
    Ok(())
}

/// `moth plan --json`; `docs/before-live.md` describes it.
#[derive(Debug, Serialize)]
struct Json<'a> {
    setup: &'a str,
    service: &'a str,
    basis: &'a Basis,
    headroom_percent: f64,
    household_bps: u64,
    video_bps: u64,
    audio_bps: u64,
    binding: moth_plan::budget::Binding,
    left_bps: u64,
    motion: Motion,
    size: Option<Size>,
    rate: Option<f64>,
    reason: String,
    steps: Vec<String>,
    map: &'a PictureMap,
    breaches: &'a [Breach],
    viewers: Viewers,
}

impl<'a> Json<'a> {
    fn of(plan: &'a Plan, kit: &'a Kit) -> Self {
        Self {
            setup: &kit.setup_name,
            service: &kit.service.name,
            basis: &plan.basis,
            headroom_percent: plan.setup.headroom_percent,
            household_bps: plan.setup.household.bps(),
            video_bps: plan.budget.advised().bps(),
            audio_bps: plan.budget.audio.bps(),
            binding: plan.budget.binding,
            left_bps: plan.budget.left.bps(),
            motion: plan.map.motion,
            size: plan.map.choice().map(|cell| cell.size),
            rate: plan.map.choice().map(|cell| cell.fps),
            reason: plan.map.reason(),
            steps: plan.map.steps(),
            map: &plan.map,
            breaches: &plan.breaches,
            viewers: plan.viewers,
        }
    }
}

/// The budget in a sentence.
#[must_use]
pub fn budget_sentence(plan: &Plan) -> String {
    let at_least = if plan.basis.at_least { "at least " } else { "" };
    let household = match plan.setup.household {
        Bitrate::ZERO => String::new(),
        household => format!(", {household} for the household"),
    };
    format!(
        "Use {} of video and {} of audio: {}. The upload sustains {at_least}{} ({}); {} % of it stays free{household}.",
        plan.budget.advised(),
        plan.budget.audio,
        plan.budget.binding.words(),
        plan.basis.sustained,
        plan.basis.from,
        plan.setup.headroom_percent,
    )
}

/// The map of pictures, to be drawn.
#[must_use]
pub fn picture(plan: &Plan, kit: &Kit) -> Picture {
    let source = format!(
        "{} for {}; a scene of {} that is {}",
        kit.setup_name,
        kit.service.name,
        plan.setup.source(),
        plan.map.motion.word()
    );
    let now = Some((kit.setup.size, kit.setup.rate));
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

fn report(plan: &Plan, kit: &Kit) -> String {
    let mut text = format!("{}\n\n", budget_sentence(plan));
    let _ = writeln!(text, "The picture, for a scene that is {} ({}):", plan.map.motion.word(), plan.setup.source());
    let _ = write!(text, "{:>11}", "");
    for fps in &plan.map.rates {
        let _ = write!(text, "{:>20}", format!("{fps} frames/s"));
    }
    text.push('\n');
    for (i, row) in plan.map.rows.iter().enumerate() {
        let _ = write!(text, "{:>11}", plan.map.sizes[i].to_string());
        for (j, cell) in row.iter().enumerate() {
            let mark = if (i, j) == plan.map.recommended { "▸" } else { " " };
            let told = format!("{mark}{} {:.3}", cell.look.word(), cell.bits_per_pixel);
            let _ = write!(text, "{told:>20}");
        }
        text.push('\n');
    }
    let _ = writeln!(text, "           bits per pixel; ▸ recommended\n\n{}.", plan.map.reason());
    for step in plan.map.steps() {
        let _ = writeln!(text, "- {step}");
    }
    let _ = writeln!(
        text,
        "\nViewers need {} of download, and {:.1} GB an hour; as much goes up from here.",
        plan.viewers.download, plan.viewers.gb_per_hour
    );
    if plan.breaches.is_empty() {
        let _ = writeln!(text, "The setup {} is within what {} takes.", kit.setup_name, kit.service.name);
    }
    for breach in &plan.breaches {
        let _ = writeln!(text, "! {}", breach_sentence(breach, &kit.service.name));
    }
    text
}
