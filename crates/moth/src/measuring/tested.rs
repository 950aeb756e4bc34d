//! Tests of servers and of the line that were kept, as plain data to be drawn.

use jiff::tz::TimeZone;
use jiff::{SignedDuration, Timestamp, Zoned};
use moth_drawing::evening::Evening;
use moth_drawing::measured::{LineTest, ServersTest};
use moth_drawing::names::{Kind, Names};
use moth_plan::ranking::Wanted;
use moth_store::results::{History, Kept, Tested};

use crate::setup_in_use::SetupInUse;

/// A test belongs to a broadcast if it ended no longer before its beginning. Ours.
const DAY: SignedDuration = SignedDuration::from_hours(24);

/// A time as the clock of this place shows it.
pub(crate) fn here(at: Timestamp) -> Zoned {
    at.to_zoned(TimeZone::system())
}

/// A test of servers; `None` if it was one of the line.
pub(crate) fn servers(kept: &Kept, in_use: &SetupInUse, is_made_up: bool) -> Option<ServersTest> {
    let Tested::Routes { servers } = &kept.what else { return None };
    Some(ServersTest {
        date: Some(here(kept.date)),
        service: in_use.service.name.clone(),
        line: kept.line.clone(),
        wanted: Wanted { planned: kept.planned, ..in_use.wanted() },
        results: servers.clone(),
        is_made_up,
    })
}

/// A test of the line; `None` if it was one of servers.
pub(crate) fn line(kept: &Kept, in_use: &SetupInUse, is_made_up: bool) -> Option<LineTest> {
    let Tested::Uplink { server, runs, around } = &kept.what else { return None };
    Some(LineTest {
        date: Some(here(kept.date)),
        line: kept.line.clone(),
        server: server.clone(),
        runs: runs.clone(),
        around: around.clone(),
        headroom: in_use.setup.headroom,
        is_made_up,
    })
}

/// Every name that a setup in use holds.
pub(crate) fn names(in_use: &SetupInUse, names: &mut Names) {
    names.add(Kind::Service, &in_use.service.name);
    names.add(Kind::Service, &in_use.service_name);
    for server in &in_use.service.servers {
        names.add(Kind::Server, &server.name);
        names.add(Kind::Address, &server.address.to_string());
        names.add(Kind::Address, server.address.host());
        server.region.iter().for_each(|region| names.add(Kind::Region, region));
    }
    names.add(Kind::Setup, &in_use.setup_name);
}

/// Adds what was tested on the day of a broadcast, if it was one of the setup in use's service.
pub(crate) fn join(evening: &mut Evening, in_use: &SetupInUse, history: &History, is_made_up: bool) {
    names(in_use, &mut evening.names);
    let is_of_the_kit = in_use.service.servers.iter().any(|server| server.name == evening.server);
    let (Some(began), true) = (&evening.began, is_of_the_kit) else { return };
    let (began, length) = (began.timestamp(), SignedDuration::from_secs(evening.seconds.len() as i64));
    let is_of_the_day = |kept: &&Kept| {
        let before = began.duration_since(kept.date);
        before <= DAY && before >= -length
    };
    let of_the_day = || history.kept.iter().rev().filter(is_of_the_day);
    let is_of_the_service = |kept: &&Kept| kept.service.as_deref() == Some(in_use.service_name.as_str());
    evening.servers = of_the_day().filter(is_of_the_service).find_map(|kept| servers(kept, in_use, is_made_up));
    evening.line = of_the_day().find_map(|kept| line(kept, in_use, is_made_up));
}
