//! `moth watch`: relays a real broadcast and watches over it.

use moth_destination::Address;
use moth_plan::breach::breaches;
use moth_relay::{Limits, Reconnect, Server};

use crate::cli::{AutomaticOptions, SetupInUseOptions, WatchOptions};
use crate::failure::Failure;
use crate::live::plan::{Doors, LivePlan, Plan, without_a_setup};
use crate::live::second_machine::Also;
use crate::setup_in_use::advice::breach_sentence;
use crate::setup_in_use::{SetupInUse, cut_off, key_source};

/// What `moth watch` relays.
pub(crate) fn plan(options: &WatchOptions, in_use_options: &SetupInUseOptions) -> Result<Plan, Failure> {
    let doors = Doors::new(&options.listen, options.feed)?;
    let also = options.also.iter().map(|given| Also::new(given)).collect::<Result<Vec<_>, _>>()?;
    let limits = Limits { queue_ms: options.queue_ms, queue_bytes: (options.queue_mib as usize) << 20 };
    let in_use = options.to.is_empty().then(|| SetupInUse::open(in_use_options)).transpose()?;
    let mut servers: Vec<Server> = in_use.as_ref().map_or_else(|| Ok(Vec::new()), SetupInUse::servers)?;
    for text in &options.to {
        let address: Address = text.parse().map_err(|error| Failure::Address { option: "--to", error })?;
        // One server may be named with several applications; each then has a name of its own.
        let mut name = address.authority();
        while servers.iter().any(|s| s.name == name) {
            name.push('\'');
        }
        servers.push(Server { name, address });
    }
    doors.lead_elsewhere_than(&servers)?;
    let key = match &in_use {
        Some(in_use) => in_use.key(options.key_file.as_deref())?,
        None => key_source::find(options.key_file.as_deref(), std::env::var_os(key_source::VARIABLE))?,
    };
    // Without a home folder it goes on air all the same; there is nothing before it then.
    let as_named = || SetupInUse::named(in_use_options, &servers, key.clone()).ok();
    let what_is_named = if in_use.is_none() { as_named() } else { None };
    let named = LivePlan {
        doors,
        servers,
        test_key: key.clone(),
        key,
        limits,
        in_use: what_is_named,
        intended: None,
        recordings: None,
        also,
        automatics: without_a_setup(&options.show.automatic),
        reconnect: Reconnect::default(),
        one_at_a_time: false,
        setup: None,
        looks: !options.no_look,
        stand_in: None,
        cut_off: None,
        going_on: None,
    };
    let plan = match in_use {
        Some(in_use) => with_a_setup(named, in_use, &options.show.automatic)?,
        None => named,
    };
    Ok(Plan::Live(Box::new(plan)))
}

/// The same relay with all that a setup says beside its servers and its key.
fn with_a_setup(plan: LivePlan, in_use: SetupInUse, automatic: &AutomaticOptions) -> Result<LivePlan, Failure> {
    let test_key = in_use.unseen(plan.key.clone())?;
    for breach in breaches(&in_use.setup, &in_use.service.limits) {
        tracing::warn!("{}", breach_sentence(&breach, &in_use.service.name));
    }
    let cut_off = cut_off::take_up(&in_use);
    if let Some(cut_off) = &cut_off {
        tracing::warn!("{cut_off}");
    }
    Ok(LivePlan {
        test_key,
        intended: Some(in_use.intended()),
        recordings: Some(in_use.recordings(None)),
        automatics: in_use.automatics(automatic),
        reconnect: in_use.reconnect(),
        one_at_a_time: !in_use.service.takes_two,
        setup: Some(in_use.setup.clone()),
        in_use: Some(in_use),
        cut_off,
        ..plan
    })
}
