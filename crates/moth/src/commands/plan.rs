//! `moth plan`: the bitrate to use, and the picture that suits it.

use std::fmt::Write;

use moth_plan::breach::Breach;
use moth_plan::conversation::{Conversation, conversation};
use moth_plan::headroom::Headroom;
use moth_plan::picture::{Motion, PictureMap};
use moth_plan::setup::Setup;
use moth_plan::text::Size;
use moth_plan::viewers::Viewers;
use serde::Serialize;

use crate::cli::{PlanOptions, SetupInUseOptions};
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::setup_in_use::SetupInUse;
use crate::setup_in_use::advice::{Advice, breach_sentence, budget_sentence, picture};
use crate::setup_in_use::basis::Basis;
use crate::system::out;

/// Plans, tells, and writes if asked to.
///
/// # Errors
/// [`Failure`] if there is nothing to plan from.
pub fn run(options: &PlanOptions, setup_options: &SetupInUseOptions) -> Outcome {
    let mut in_use = SetupInUse::open(setup_options)?;
    options.draw.check()?;
    let setup = Setup {
        headroom: options.headroom.map_or(in_use.setup.headroom, |percent| Headroom::of_percent(percent.into())),
        household: options.household.unwrap_or(in_use.setup.household),
        audio: options.audio.unwrap_or(in_use.setup.audio),
        motion: options.motion.unwrap_or(in_use.setup.motion),
        source: options.source.or(in_use.setup.source),
        source_rate: options.rate.or(in_use.setup.source_rate),
        ..in_use.setup.clone()
    };
    let basis = match options.sustained {
        Some(sustained) => Basis::said(sustained),
        None => {
            let history = in_use.history()?;
            let server = in_use.server_in_use(&history);
            let newest = Basis::newest(&history, &in_use.service_name, server.as_deref());
            newest.ok_or(Failure::NothingMeasured)?
        }
    };
    let plan = Advice::new(&in_use, setup, basis);
    if options.json {
        out::json(&Json::of(&plan, &in_use))?;
    } else {
        out::text(&report(&plan, &in_use))?;
    }
    options.draw.write(Some(picture(&plan, &in_use)), &in_use)?;
    if options.write {
        for change in plan.changes() {
            in_use.change(&change)?;
        }
        out::Progress::new().line(&format!("written to {} in {}", in_use.setup_name, in_use.file.path().display()));
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
    delay: Conversation,
}

impl<'a> Json<'a> {
    fn of(plan: &'a Advice, in_use: &'a SetupInUse) -> Self {
        Self {
            setup: &in_use.setup_name,
            service: &in_use.service.name,
            basis: &plan.basis,
            headroom_percent: plan.setup.headroom.percent(),
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
            delay: conversation(plan.setup.rate, &in_use.service.limits),
        }
    }
}

fn report(plan: &Advice, in_use: &SetupInUse) -> String {
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
    let both = conversation(plan.setup.rate, &in_use.service.limits);
    let _ = writeln!(text, "\n{:<14}{:<24}{:<24}", "delay", "talking with viewers", "finest picture");
    for setting in &both.settings {
        let _ = writeln!(text, "{:<14}{:<24}{:<24}{}", setting.what, setting.talking, setting.finest, setting.costs);
    }
    let seconds = |ms: f64| format!("{:.2} s", ms / 1000.0);
    let (talking, finest) = (seconds(both.talking_ms), seconds(both.finest_ms));
    let _ = writeln!(text, "{:<14}{talking:<24}{finest:<24}by the encoder, beside queue and way", "held back");
    let _ = writeln!(text, "{}\n", both.costs_from);
    if plan.breaches.is_empty() {
        let _ = writeln!(text, "The setup {} is within what {} takes.", in_use.setup_name, in_use.service.name);
    }
    for breach in &plan.breaches {
        let _ = writeln!(text, "! {}", breach_sentence(breach, &in_use.service.name));
    }
    text
}
