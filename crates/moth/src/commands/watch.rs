//! `moth watch`: relays a real broadcast and watches over it.

use moth_destination::Address;
use moth_plan::breach::breaches;
use moth_relay::{Limits, Reconnect, Server};

use crate::cli::{SetupInUseOptions, WatchOptions};
use crate::failure::Failure;
use crate::live::plan::{Doors, LivePlan, Plan, without_a_setup};
use crate::live::second_machine::Also;
use crate::setup_in_use::advice::breach_sentence;
use crate::setup_in_use::{SetupInUse, cut_off, key_source};

/// What `moth watch` relays.
pub(crate) fn plan(options: &WatchOptions, in_use: &SetupInUseOptions) -> Result<Plan, Failure> {
    let doors = Doors::new(&options.listen, options.feed)?;
    let also = options.also.iter().map(|given| Also::new(given)).collect::<Result<Vec<_>, _>>()?;
    let mut servers: Vec<Server> = Vec::new();
    if options.to.is_empty() {
        let in_use = SetupInUse::open(in_use)?;
        servers = in_use.servers()?;
        doors.lead_elsewhere_than(&servers)?;
        let key = in_use.key(options.key_file.as_deref())?;
        let test_key = in_use.unseen(key.clone())?;
        for breach in breaches(&in_use.setup, &in_use.service.limits) {
            tracing::warn!("{}", breach_sentence(&breach, &in_use.service.name));
        }
        let cut_off = cut_off::take_up(&in_use);
        if let Some(cut_off) = &cut_off {
            tracing::warn!("{cut_off}");
        }
        let limits = Limits { queue_ms: options.queue_ms, queue_bytes: (options.queue_mib as usize) << 20 };
        let (intended, recordings) = (Some(in_use.intended()), Some(in_use.recordings(None)));
        let (automatics, reconnect) = (in_use.automatics(&options.show.automatic), in_use.reconnect());
        let (one_at_a_time, setup) = (!in_use.service.takes_two, Some(in_use.setup.clone()));
        let in_use = Some(in_use);
        let plan = LivePlan {
            doors,
            servers,
            key,
            test_key,
            limits,
            in_use,
            intended,
            recordings,
            also,
            automatics,
            reconnect,
            one_at_a_time,
            setup,
            looks: !options.no_look,
            stand_in: None,
            cut_off,
        };
        return Ok(Plan::Live(Box::new(plan)));
    }
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
    let key = key_source::find(options.key_file.as_deref(), std::env::var_os(key_source::VARIABLE))?;
    let limits = Limits { queue_ms: options.queue_ms, queue_bytes: (options.queue_mib as usize) << 20 };
    let test_key = key.clone();
    let automatics = without_a_setup(&options.show.automatic);
    let plan = LivePlan {
        doors,
        servers,
        key,
        test_key,
        limits,
        in_use: None,
        intended: None,
        recordings: None,
        also,
        automatics,
        reconnect: Reconnect::default(),
        one_at_a_time: false,
        setup: None,
        looks: !options.no_look,
        stand_in: None,
        cut_off: None,
    };
    Ok(Plan::Live(Box::new(plan)))
}
