//! Publishing under somebody's key happens only if they agree.

use std::time::Duration;

use moth_core::rate::{Bitrate, grouped};
use moth_plan::service::Service;

use crate::cli::MeasureOptions;
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::system::out;

/// What would be published.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Dose {
    /// How many servers are published to.
    pub servers: usize,
    /// How long in all.
    pub length: Duration,
    /// At most at this rate.
    pub up_to: Bitrate,
}

impl Dose {
    /// In a sentence.
    pub(crate) fn words(self, service: &Service) -> String {
        let servers = if self.servers == 1 { "one server".into() } else { format!("{} servers", self.servers) };
        let hidden = hidden(service);
        format!(
            "This publishes filler to {servers} of {} under your key, {hidden}: for {} s and at most {} MB",
            service.name,
            self.length.as_secs(),
            megabytes(self.up_to, self.length)
        )
    }
}

/// The most that is sent in so long a time, in whole megabytes.
fn megabytes(up_to: Bitrate, long: Duration) -> String {
    grouped((up_to.bps() as f64 * long.as_secs_f64() / 8e6).ceil() as u64)
}

/// Whether viewers see it.
fn hidden(service: &Service) -> &'static str {
    if service.unseen.is_some() { "as a run nobody sees" } else { "and viewers may see it" }
}

/// What a rehearsal would publish, in a sentence: at most for so long, and at this rate.
pub(crate) fn rehearsal_words(service: &Service, server: &str, long: Duration, up_to: Bitrate) -> String {
    let minutes = long.as_secs().div_ceil(60);
    format!(
        "This broadcasts what your broadcaster sends to {server} of {} under your key, {}: for about {minutes} min and at most {} MB",
        service.name,
        hidden(service),
        megabytes(up_to, long)
    )
}

/// What was agreed to on the command line.
#[derive(Debug, Clone, Copy, Default)]
pub(crate) struct Agreed {
    /// To publishing.
    pub yes: bool,
    /// To viewers seeing it.
    pub on_air: bool,
}

impl From<&MeasureOptions> for Agreed {
    fn from(options: &MeasureOptions) -> Self {
        Self { yes: options.yes, on_air: options.on_air }
    }
}

/// Asks for consent where it was not given on the command line.
pub(crate) fn ask(agreed: Agreed, service: &Service, words: String) -> Outcome {
    if service.unseen.is_none() && !agreed.on_air {
        return Err(Failure::Seen { service: service.name.clone() });
    }
    if agreed.yes {
        return Ok(());
    }
    if out::agreed(&format!("{words}. "))? == Some(true) { Ok(()) } else { Err(Failure::NoConsent(words)) }
}
