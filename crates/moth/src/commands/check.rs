//! `moth check`: is this machine fit for a broadcast?

use std::fmt::Write;
use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use moth_host::{Quest, Survey};
use moth_plan::check::{Asked, Check, Fact, Lookup, check};

use crate::cli::{CheckOptions, SetupInUseOptions};
use crate::failure::Failure;
use crate::setup_in_use::SetupInUse;
use crate::system::out;

/// Between the two looks. Ours.
const BETWEEN: Duration = Duration::from_millis(1500);
/// A lookup that takes longer has failed for this purpose. Ours.
const LOOKUP: Duration = Duration::from_secs(4);
/// Where the moth listens unless it is told otherwise. Ours.
const LISTEN: u16 = 19_350;

/// Checks and tells; gives whether nothing would hurt.
///
/// # Errors
/// [`Failure`] if the configuration cannot be read.
pub fn run(options: &CheckOptions, setup_options: &SetupInUseOptions) -> Result<bool, Failure> {
    let in_use = SetupInUse::open(setup_options)?;
    let recordings = in_use.recordings(options.recordings.as_ref());
    let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build();
    let runtime = runtime.map_err(Failure::system("the program's scheduler could not be started"))?;
    let found = runtime.block_on(look(&in_use, recordings))?;
    if options.json {
        out::json(&found)?;
    } else {
        out::text(&report(&found))?;
    }
    Ok(!found.hurts())
}

/// Looks at everything; takes about two seconds.
async fn look(in_use: &SetupInUse, recordings: PathBuf) -> Result<Check, Failure> {
    let targets = in_use.targets(&[], None).unwrap_or_default();
    let hosts: Vec<(String, u16)> =
        targets.iter().map(|t| (t.server.address.host().to_owned(), t.server.address.port())).collect();
    let asked = Asked { planned: in_use.setup.total() };
    look_at(hosts, recordings, asked).await
}

/// The same, for servers' names and ports.
///
/// # Errors
/// [`Failure::Fault`]: what could not be read is no clean bill of health.
pub(crate) async fn look_at(hosts: Vec<(String, u16)>, recordings: PathBuf, asked: Asked) -> Result<Check, Failure> {
    let lookups = look_up(&hosts).await;
    let mut broadcaster_at: Vec<SocketAddr> = vec![([127, 0, 0, 1], LISTEN).into()];
    broadcaster_at.extend(lookups.iter().filter_map(|(_, address)| *address));
    let server = lookups.iter().find_map(|(_, address)| *address).map(|address| address.ip());
    let quest = Quest { server, broadcaster_at, recordings };
    let dns: Fact<Vec<Lookup>> = if lookups.is_empty() {
        Err("no server of the service has a name to look up".into())
    } else {
        Ok(lookups.into_iter().map(|(lookup, _)| lookup).collect())
    };
    let survey = tokio::task::spawn_blocking(|| Survey::begin("/proc".into(), "/sys".into(), quest)).await;
    tokio::time::sleep(BETWEEN).await;
    let survey = survey.map_err(|_| Failure::Fault)?;
    let facts = tokio::task::spawn_blocking(move || survey.facts(BETWEEN, dns)).await.map_err(|_| Failure::Fault)?;
    Ok(check(&facts, asked))
}

async fn look_up(hosts: &[(String, u16)]) -> Vec<(Lookup, Option<SocketAddr>)> {
    let named = hosts.iter().filter(|(host, _)| host.parse::<std::net::IpAddr>().is_err());
    let lookups = named.map(|(host, port)| async move {
        let began = Instant::now();
        let found = tokio::time::timeout(LOOKUP, tokio::net::lookup_host((host.as_str(), *port))).await;
        let took = began.elapsed();
        let (took, address) = match found {
            Ok(Ok(mut addresses)) => (Ok(took), addresses.next()),
            Ok(Err(error)) => (Err(error.to_string()), None),
            Err(_) => (Err(format!("no answer within {} s", LOOKUP.as_secs())), None),
        };
        (Lookup { name: host.clone(), took }, address)
    });
    futures::future::join_all(lookups).await
}

fn report(check: &Check) -> String {
    let mut text = String::new();
    for finding in &check.findings {
        let _ = writeln!(text, "{:5}  {}: {}", finding.weight.word(), finding.subject, finding.evidence);
        if let Some(to_do) = &finding.to_do {
            let _ = writeln!(text, "       → {to_do}");
        }
    }
    if !check.unread.is_empty() {
        text.push_str("Not readable here:\n");
    }
    for unread in &check.unread {
        let _ = writeln!(text, "       {}: {}", unread.subject, unread.why);
    }
    let _ = writeln!(text, "{}", check.sentence());
    text
}
