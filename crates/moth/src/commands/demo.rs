//! `moth demo`: the whole application on a made-up evening.

use std::io::{self, Write};

use moth_stage::shipped;

use crate::cli::{DemoOptions, meant};
use crate::failure::{Failure, Outcome};
use crate::live::plan::{Plan, without_a_setup};

/// What `moth demo` puts on.
pub(crate) fn plan(options: &DemoOptions) -> Result<Plan, Failure> {
    let evenings = shipped();
    let given = &options.evening;
    let Some(evening) = evenings.iter().find(|evening| evening.slug == *given).cloned() else {
        let meant = meant::near(given, evenings.iter().map(|evening| evening.slug.as_str())).map(str::to_owned);
        return Err(Failure::NoEvening { given: given.clone(), meant });
    };
    let seed = options.seed.unwrap_or(evening.seed);
    Ok(Plan::Demo(Box::new(evening), seed, without_a_setup(&options.show.automatic)))
}

/// `moth demo --list`
pub(crate) fn list_evenings() -> Outcome {
    let mut out = io::stdout().lock();
    for evening in shipped() {
        let line = writeln!(out, "{:<18}{}", evening.slug, evening.story);
        match line {
            Err(error) if error.kind() == io::ErrorKind::BrokenPipe => return Ok(()),
            other => other.map_err(Failure::system("standard output could not be written"))?,
        }
    }
    Ok(())
}
