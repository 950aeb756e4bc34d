//! `moth ls`: which moths run.

use std::time::Duration;

use crate::cli::LsOptions;
use crate::failure::Failure;
use crate::system::out;
use crate::tell::about::About;
use crate::tell::ask;
use crate::terminal::style::format::clock;

/// Tells which moths run; `Ok(false)` if none does.
///
/// # Errors
/// [`Failure`] if that cannot be found out.
pub(crate) fn run(options: &LsOptions) -> Result<bool, Failure> {
    let found = ask::running()?;
    if options.json {
        out::json(&found.iter().map(|(_, about)| about).collect::<Vec<_>>())?;
        return Ok(!found.is_empty());
    }
    if found.is_empty() {
        out::text("no moth runs\n")?;
        return Ok(false);
    }
    out::text(&table(&found.into_iter().map(|(_, about)| about).collect::<Vec<_>>()))?;
    Ok(true)
}

fn table(found: &[About]) -> String {
    let mut text = format!(
        "{:>8}  {:<16}{:<34}{:<20}{:<16}{:>8}\n",
        "process", "setup", "publish to", "server", "state", "on air"
    );
    for about in found {
        let on_air = match (about.is_on_air, about.on_air_s) {
            (false, _) => "-".into(),
            (true, Some(s)) => clock(Duration::from_secs_f64(s.max(0.0))),
            // One without screens does not tell.
            (true, None) => "n/a".into(),
        };
        text.push_str(&format!(
            "{:>8}  {:<16}{:<34}{:<20}{:<16}{on_air:>8}\n",
            about.process,
            about.setup.as_deref().unwrap_or(if about.is_made_up { "a demo" } else { "-" }),
            about.publish_to.as_deref().unwrap_or("-"),
            about.server,
            about.state.map_or("no broadcaster", |state| state.word()),
        ));
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::State;

    #[test]
    fn each_moth_has_a_row() {
        let about = About {
            process: 4711,
            version: "0.1.0".into(),
            setup: Some("comet-night".into()),
            publish_to: Some("rtmp://127.0.0.1:19350/moth".into()),
            server: "Aldmoor".into(),
            state: Some(State::Steady),
            is_on_air: true,
            on_air_s: Some(3723.4),
            is_made_up: false,
        };
        let waits = About { process: 9, setup: None, state: None, is_on_air: false, on_air_s: None, ..about.clone() };
        let untold = About { on_air_s: None, ..about.clone() };
        let text = table(&[about, waits, untold]);
        let rows: Vec<Vec<&str>> =
            text.lines().map(|row| row.split("  ").map(str::trim).filter(|cell| !cell.is_empty()).collect()).collect();
        assert_eq!(rows[1], ["4711", "comet-night", "rtmp://127.0.0.1:19350/moth", "Aldmoor", "steady", "1:02:03"]);
        assert_eq!(rows[2], ["9", "-", "rtmp://127.0.0.1:19350/moth", "Aldmoor", "no broadcaster", "-"]);
        assert_eq!(rows[3].last(), Some(&"n/a"), "no time is told that nobody told");
    }
}
