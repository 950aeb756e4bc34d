//! What is around a measurement on this machine: read, named, and told in a line.

use std::net::IpAddr;
use std::time::Duration;

use moth_core::rate::grouped;
use moth_host::{Quest, Survey};
use moth_plan::surroundings::Surroundings;
use moth_plan::text::link_rate;
use moth_relay::measure::Target;

/// Between the two looks at what is around a measurement. Ours.
const AROUND: Duration = Duration::from_millis(1000);
/// A name that is not found within this is left to the measurement to complain of. Ours.
const LOOKUP: Duration = Duration::from_secs(3);

/// What is around a measurement to a server.
pub(crate) async fn to(target: Option<&Target>) -> Surroundings {
    let server = match target {
        Some(target) => address_of(target.server.address.host(), target.server.address.port()).await,
        None => None,
    };
    let quest = Quest { server, ..Quest::default() };
    let begun = tokio::task::spawn_blocking(|| Survey::begin("/proc".into(), "/sys".into(), quest));
    tokio::time::sleep(AROUND).await;
    let Ok(survey) = begun.await else { return Surroundings::default() };
    tokio::task::spawn_blocking(move || survey.surroundings(AROUND)).await.unwrap_or_default()
}

/// The first address of a name, if it is found soon.
async fn address_of(host: &str, port: u16) -> Option<IpAddr> {
    let found = tokio::time::timeout(LOOKUP, tokio::net::lookup_host((host, port))).await.ok()?.ok()?.next();
    found.map(|address| address.ip())
}

/// Under which name a result is kept.
pub(crate) fn line_name(given: Option<&str>, around: &Surroundings) -> String {
    let interface =
        || around.interface.as_ref().map_or_else(|| "unknown line".to_owned(), |interface| interface.line());
    given.map_or_else(interface, str::to_owned)
}

/// The local facts, in a line.
pub(crate) fn words(around: &Surroundings, line: &str) -> String {
    let Some(interface) = &around.interface else { return format!("{line} (nothing more can be read here)") };
    let mut facts = vec![line.to_owned()];
    facts.extend(interface.rate.map(|rate| format!("at {}", link_rate(rate))));
    facts.extend(interface.signal_dbm.map(|dbm| format!("signal {dbm:.0} dBm")));
    if let (Some(errors), Some(drops)) = (interface.errors, interface.drops) {
        facts.push(format!("{} errors and {} drops so far", grouped(errors), grouped(drops)));
    }
    facts.extend(interface.qdisc.as_ref().map(|qdisc| format!("queues by {qdisc}")));
    match around.uploads.as_deref() {
        None => facts.push("other uploads not available".into()),
        Some([]) => facts.push("nobody else uploads over TCP".into()),
        Some([first, ..]) => {
            let who = first.program.as_deref().unwrap_or("another user's program");
            facts.push(format!("{who} uploads {}", first.rate));
        }
    }
    facts.join(", ")
}
