//! Dropped frames: encoded, but the connection could not carry them in time.
//!
//! The signs are from our own measurements on a 6 Mb/s stream. A line too small (token bucket at 3 Mb/s):
//! the round trip climbs from 0 to 500–650 ms, the receiver's window holds up 25 % falling to 5 % of the
//! busy time. A server that reads too slowly (3 Mb/s): the round trip stays under 10 ms, the window holds
//! up 92–99 %, nothing is sent again. Where along the way the queue stands, probes tell: what waits before the first
//! router is in every round trip, what waits on the line is not in the router's, and what waits on one server's route
//! is in no other's.

use super::away;
use super::cause::{Cause, Fault};
use super::other_server::switch_server;
use super::suspect::{Suspect, Weighed};
use super::weighing::{Cases, Held, WeighedCauses, frames_lost, percent, weigh};
use crate::by_hand::Hand;
use crate::facts::Facts;
use crate::figure::Origin;
use crate::proposal::{Proposal, to_bitrate};
use crate::rate::Bitrate;
use crate::state::STRAINED;

/// A round trip this far above its floor is a queue on the way, in milliseconds; between the two cases
/// measured above.
pub(crate) const RTT_RISE_MS: f64 = 60.0;
/// Above this share of the busy time the receiver holds the connection up; between the two cases measured.
const RECEIVER_LIMITED: f64 = 0.6;
/// Above this share of its limit, and growing, the queue will not recover by itself in time. Ours.
const QUEUE_ALARM: f64 = 0.6;
/// Before the first drop, a cause must be this likely to be told. Ours.
const CLEAR_SHARE: f64 = 0.8;
/// A link may be down this long at the beginning without an alarm: connecting takes a moment. Ours.
const CONNECTING_S: f64 = 1.5;
/// What a line carries is divided so that something is left: trade practice is 75–80 %, of which this is our choice.
const USE_OF_LINE: f64 = 0.78;
/// No proposal goes below this; a picture at less helps nobody. Ours.
const LOWEST: Bitrate = Bitrate::from_kbps(300);
/// A probe that takes this share of our own round trip's rise longer than ever waits in the same queue. Ours.
const SAME_QUEUE: f64 = 0.35;
/// A router in the same house answers within a few milliseconds; above this rise something waits before it. Our own
/// setting, in milliseconds.
const GATEWAY_RISE_MS: f64 = 15.0;
/// An upload explains a shortage if it takes at least this share of what is missing. Ours.
const EXPLAINS: f64 = 0.5;
/// A radio's signal below this is weak, in dBm: trade practice for video is −67 dBm or better, below which
/// we leave a little.
const WEAK_DBM: f64 = -72.0;

/// What carries less than this share of what is asked is a stall. Ours.
const STALLED: f64 = 0.1;
/// A queue that is more than a quarter full for so long, in seconds, while less is carried than asked, does not recover. Ours.
const STRAINS_S: f64 = 6.0;
/// So long after a connection was made, in seconds, rates still look back over the time before it: twice their window, and a
/// second (measured: with 4 s, a server killed and restarted left a line too short for a moment).
const SETTLES_S: f64 = 7.0;
/// So long after it was made, in seconds, a connection on which nothing was acknowledged for a second is silent: what was sent
/// first is acknowledged within a round trip. Ours.
const ANSWERS_S: f64 = 3.0;
/// What an outage left behind is carried, or given up, within so many seconds. Ours.
const CATCHES_UP_S: f64 = 15.0;
/// An answer that is later than this, in milliseconds, is late, however late our own are. Ours.
const LATE_MS: f64 = 20.0;

use Cause::{LineShort, LocalLink, Route, ServerSlow, UploadBeyond, UploadHere};

pub(super) fn suspect(facts: &Facts, held: &Held) -> Option<Suspect> {
    if !facts.link_up {
        // Nothing is carried, so nothing tells line from server; at the beginning, connecting takes a moment.
        let failed = facts.link_was_up || facts.link_down_why.is_some() || facts.link_down_s > CONNECTING_S;
        return failed.then(|| away::suspect(facts));
    }
    let is_held = held.has(Fault::Network);
    if let Some(cause) = away_before(facts, held) {
        return aftermath(facts, cause);
    }
    let losing = facts.dropped > 0.0;
    // Nothing is short while as much is carried as is asked: a queue drains, and what is dropped of it was lost before.
    if !facts.is_short() && !is_held && facts.dropped_just == 0.0 {
        return None;
    }
    // Where nothing moves at all, nothing tells what is narrow; most such stalls pass.
    let stalls = facts.sent_just < facts.asked.scaled(STALLED);
    let fills = facts.queue_share() > QUEUE_ALARM && facts.queue_growth > 100.0 && !stalls;
    let strains = facts.strained_s > STRAINS_S && facts.is_short();
    let about_to = fills || strains;
    let lingering = is_held && (facts.dropped_clear > 0.0 || facts.queue_share() > STRAINED);
    // What only threatens may wait for the probes that are on their way.
    if !(losing || about_to || lingering) || !facts.paths_known && !is_held {
        return None;
    }

    // Nothing comes back, and not because the other side lets nothing in.
    let is_settled = facts.link_up_s > ANSWERS_S;
    let is_silent = facts.sent_just == Bitrate::ZERO;
    if is_silent && losing && is_settled && facts.receiver_limited.is_none_or(|share| share < RECEIVER_LIMITED) {
        return Some(away::suspect(facts));
    }

    let finding = weigh(Fault::Network, cases(facts), held, facts.dropped_just > 0.0 || about_to);
    let cause = finding.cause();
    // What only threatens is not told before it is clear what it is.
    if !losing && !is_held && !strains && finding.told.is_none_or(|(_, share)| share < CLEAR_SHARE) {
        return None;
    }
    // The drops are the moth's own doing and so certain; a queue that only grows may yet recover.
    let fault_sure = if facts.dropped_clear > 0.0 { 0.99 } else { 0.85 };
    let loss = loss(facts);
    Some(Suspect {
        fault: Fault::Network,
        cause,
        confidence: fault_sure * finding.told.map_or(0.5, |(_, share)| share),
        harm_frames: facts.dropped_mean,
        sentence: sentence(facts, cause, &loss),
        evidence: finding.evidence(),
        would_change: would_change(&finding),
        proposals: proposals(facts, cause),
        weighed: finding.weighed,
    })
}

/// What is lost, in words.
fn loss(facts: &Facts) -> String {
    match facts.dropped {
        lost if lost > 0.0 => format!("{} dropped", frames_lost(lost)),
        _ if facts.dropped_total == 0.0 => "nothing dropped yet".into(),
        _ => format!("nothing dropped in the last {} s", crate::facts::NOW.as_secs()),
    }
}

/// A server that was away, or refused, and takes the broadcast again, while what gathered meanwhile is carried or dropped.
fn away_before(facts: &Facts, held: &Held) -> Option<Cause> {
    let cause = held.cause(Fault::Network).filter(|cause| matches!(cause, Cause::ServerAway | Cause::ServerRefuses))?;
    // Rates look back over the outage at first.
    let is_new = facts.link_up_s < SETTLES_S;
    let catches_up = !facts.is_short() && facts.queue_growth <= 0.0;
    (is_new || catches_up && facts.link_up_s < CATCHES_UP_S).then_some(cause)
}

/// The verdict on what an outage leaves behind.
fn aftermath(facts: &Facts, cause: Cause) -> Option<Suspect> {
    if facts.dropped_clear == 0.0 && facts.queue_share() < STRAINED {
        return None;
    }
    let evidence = vec![super::Evidence {
        text: format!(
            "{} takes the broadcast since {:.1} s; {:.0} ms wait",
            facts.server, facts.link_up_s, facts.queue_ms
        ),
        origin: Some(Origin::Measured),
        bans: 2.0,
    }];
    Some(Suspect {
        fault: Fault::Network,
        cause: Some(cause),
        confidence: 0.97,
        harm_frames: facts.dropped_mean,
        sentence: format!(
            "{} takes the broadcast again, and what gathered meanwhile is sent or left out; {}.",
            facts.server,
            loss(facts)
        ),
        evidence: evidence.clone(),
        would_change: "It ends when the queue has drained.".into(),
        proposals: Vec::new(),
        weighed: vec![Weighed { cause, share: 1.0, evidence }],
    })
}

/// Every cause weighed, whether or not anything is lost.
pub(super) fn weighed(facts: &Facts, held: &Held) -> Vec<Weighed> {
    if facts.link_up { weigh(Fault::Network, cases(facts), held, true).weighed } else { away::suspect(facts).weighed }
}

fn would_change(finding: &WeighedCauses) -> String {
    match finding.cause() {
        Some(_) => finding.would_change(),
        None => "A probe of another server, or a change of the bitrate, would tell more.".into(),
    }
}

fn cases(facts: &Facts) -> Cases {
    let mut cases = Cases::of(&[LineShort, UploadHere, UploadBeyond, LocalLink, Route, ServerSlow]);
    own_connection(facts, &mut cases);
    beside(facts, &mut cases);
    along_the_way(facts, &mut cases);
    from_memory(facts, &mut cases);
    cases
}

/// What the connection itself tells.
fn own_connection(facts: &Facts, cases: &mut Cases) {
    let all = |bans: f64| [LineShort, UploadHere, UploadBeyond, LocalLink, Route].map(|cause| (cause, bans));
    if let Some(rise) = facts.rtt_rise_ms() {
        let text = format!(
            "round trip {:.0} ms, {rise:.0} ms above its lowest on this connection",
            facts.rtt_ms.unwrap_or_default()
        );
        let bans = ramp(rise, (RTT_RISE_MS / 3.0, -0.8), (RTT_RISE_MS * 1.6, 1.2));
        cases.sign(Origin::Measured, &text, &all(bans));
        cases.sign(Origin::Measured, &text, &[(ServerSlow, -bans / 2.0)]);
    }
    if let Some(share) = facts.receiver_limited {
        let text = format!("the server's window held the connection up {} of the busy time", percent(share));
        // On a way whose buffer is deeper than the server's window, the window fills while the bytes are on the way:
        // then it says nothing of the server.
        let waits = ramp(facts.rtt_rise_ms().unwrap_or(0.0), (RTT_RISE_MS, 0.0), (RTT_RISE_MS * 3.0, 1.0));
        let full = ramp(share, (RECEIVER_LIMITED - 0.2, -1.2), (RECEIVER_LIMITED + 0.1, 1.6));
        let bans = if full > 0.0 { full * (1.0 - 0.75 * waits) } else { full };
        cases.sign(Origin::Measured, &text, &[(ServerSlow, bans)]);
        cases.sign(Origin::Measured, &text, &all(-bans / 2.0 * (1.0 - waits)));
    }
    if facts.rtt_rise_ms().is_none() && facts.receiver_limited.is_none() {
        let text = "what holds the connection up cannot be read here";
        cases.unknown(text, &all(-1.0));
        cases.unknown(text, &[(ServerSlow, -1.0)]);
    }
    if let Some(again) = facts.retransmits.filter(|r| *r >= 1.0) {
        let text = format!("{again:.0} segments sent again in 3 s");
        cases.sign(Origin::Measured, &text, &all(0.3));
        cases.sign(Origin::Measured, &text, &[(ServerSlow, -0.3)]);
    }
    if facts.sent < facts.asked.scaled(0.95) {
        // All look like this; it says that the connection is the narrow place at all.
        let text = format!("{} carried of {} asked", facts.sent, facts.asked);
        cases.sign(Origin::Measured, &text, &all(0.3));
        cases.sign(Origin::Measured, &text, &[(ServerSlow, 0.3)]);
    }
}

/// What other programs on this machine send.
fn beside(facts: &Facts, cases: &mut Cases) {
    let Some(uploads) = facts.machine.uploads_in_all() else {
        cases.unknown("what other programs send is not known", &[(UploadHere, -0.9)]);
        return;
    };
    // What was there before the trouble, and did no harm, is not the news.
    let grown = uploads.less(facts.before.uploads.unwrap_or_default());
    let missing = facts.asked.less(facts.sent);
    if let Some(otherwise) = takes_otherwise(facts) {
        let text = format!("this machine sends {otherwise} that {NO_TCP}");
        cases.sign(
            Origin::Measured,
            &text,
            &[(UploadHere, 1.8), (LineShort, -0.8), (UploadBeyond, -1.0), (Route, -0.3), (LocalLink, -0.3)],
        );
        return;
    }
    let text = match facts.machine.uploads.as_deref().and_then(<[_]>::first) {
        Some(first) if uploads.bps() > 0 => format!("other programs here send {uploads}, {} the most", first.name()),
        _ => "no other program here sends anything".to_owned(),
    };
    let explains = grown >= missing.scaled(EXPLAINS) && uploads > facts.asked.scaled(0.08);
    let weights = if explains {
        [(UploadHere, 1.8), (LineShort, -0.8), (UploadBeyond, -1.0), (Route, -0.3), (LocalLink, -0.3)]
    } else {
        [(UploadHere, -1.8), (LineShort, 0.1), (UploadBeyond, 0.1), (Route, 0.0), (LocalLink, 0.0)]
    };
    cases.sign(Origin::Measured, &text, &weights);
}

/// What is neither the broadcast's nor any other program's, as the kernel counts both.
const NO_TCP: &str = "no TCP connection of its own accounts for: UDP (QUIC, say), a container or a virtual machine";

/// What this machine sends that no TCP connection of its own accounts for, where that explains what is missing, and better
/// than other programs' uploads do.
fn takes_otherwise(facts: &Facts) -> Option<Bitrate> {
    let otherwise = facts.machine.sent_otherwise?;
    let grown = |now: Bitrate, before: Option<Bitrate>| now.less(before.unwrap_or_default());
    let news = grown(otherwise, facts.before.otherwise);
    let uploads = grown(facts.machine.uploads_in_all().unwrap_or_default(), facts.before.uploads);
    let missing = facts.asked.less(facts.sent);
    let explains = news >= missing.scaled(EXPLAINS) && news > facts.asked.scaled(0.08) && news > uploads;
    explains.then_some(otherwise)
}

/// What probes of the first router and of another server tell.
fn along_the_way(facts: &Facts, cases: &mut Cases) {
    let rise = facts.rtt_rise_ms().unwrap_or(0.0);
    // How much there is to find on the way at all.
    let waits = ramp(rise, (RTT_RISE_MS / 2.0, 0.0), (RTT_RISE_MS * 1.2, 1.0));
    // From −1, a probe that waits in no queue, to +1, one that waits in ours.
    let same_queue = |up: f64| ramp(up / rise.max(1.0), (SAME_QUEUE * 0.5, -1.0), (SAME_QUEUE * 1.5, 1.0));
    match (facts.gateway.rise_ms(), facts.gateway.unanswered > 1.0) {
        (Some(up), _) if waits > 0.0 => {
            let text = late("the first router answers", up);
            let same = if up > GATEWAY_RISE_MS { same_queue(up) } else { -1.0 } * waits;
            let weights = if same > 0.0 {
                [(LocalLink, 2.0), (LineShort, -1.0), (UploadHere, -0.6), (UploadBeyond, -1.0), (Route, -1.2)]
            } else {
                [(LocalLink, -1.8), (LineShort, 0.1), (UploadHere, 0.1), (UploadBeyond, 0.1), (Route, 0.1)]
            };
            cases.sign(Origin::Measured, &text, &weights.map(|(cause, bans)| (cause, bans * same.abs())));
        }
        (None, true) => {
            let text = "the first router answered before and does not now";
            cases.sign(
                Origin::Measured,
                text,
                &[(LocalLink, 1.6), (LineShort, -0.4), (UploadBeyond, -0.4), (Route, -0.6)],
            );
        }
        // With nothing waiting on the way, how soon they answer tells nothing of where it would.
        (Some(up), _) => cases.sign(Origin::Measured, &late("the first router answers", up), &[(LocalLink, -0.8)]),
        (None, false) => cases.unknown("how soon the first router answers is not known", &[(LocalLink, -0.8)]),
    }
    match (facts.machine.wireless, facts.machine.signal_dbm) {
        (Some(true), Some(dbm)) if dbm < WEAK_DBM => {
            cases.sign(Origin::Measured, &format!("wireless, and weak: {dbm:.0} dBm"), &[(LocalLink, 0.6)]);
        }
        (Some(true), _) => cases.sign(Origin::Measured, "this machine is on wireless", &[(LocalLink, 0.2)]),
        (Some(false), _) => cases.sign(Origin::Measured, "this machine is on a wire", &[(LocalLink, -0.4)]),
        (None, _) => {}
    }
    let name = facts.other_probed.as_deref().unwrap_or("another server");
    match facts.other.rise_ms() {
        Some(up) if waits > 0.0 => {
            let text = late(&format!("{name} is reached"), up);
            // Late, if not as late as our own: that it does not wait in the same queue cannot be said.
            let same = if up > LATE_MS { same_queue(up).max(0.0) } else { same_queue(up) } * waits;
            let weights = if same > 0.0 {
                [(Route, -1.8), (LineShort, 0.2), (UploadHere, 0.2), (UploadBeyond, 0.2), (LocalLink, 0.2)]
            } else {
                [(Route, 2.0), (LineShort, -1.2), (UploadHere, -0.9), (UploadBeyond, -1.2), (LocalLink, -1.0)]
            };
            cases.sign(Origin::Measured, &text, &weights.map(|(cause, bans)| (cause, bans * same.abs())));
        }
        Some(up) => cases.sign(Origin::Measured, &late(&format!("{name} is reached"), up), &[(Route, -0.8)]),
        None => cases.unknown("no other server's round trip is known", &[(Route, -0.8)]),
    }
}

/// What the line is known to have carried.
fn from_memory(facts: &Facts, cases: &mut Cases) {
    match facts.before.carried {
        Some(carried) if carried >= facts.asked.scaled(0.93) => {
            let text = format!("it carried {carried} earlier in this broadcast");
            cases.sign(Origin::Measured, &text, &[(LineShort, -1.2), (UploadBeyond, 0.7)]);
        }
        Some(carried) => {
            let text = format!("it never carried more than {carried} in this broadcast");
            cases.sign(Origin::Measured, &text, &[(LineShort, 0.7), (UploadBeyond, -1.0)]);
        }
        None => {
            let text = "this line has not carried this broadcast for long enough to know it";
            cases.unknown(text, &[(LineShort, 0.5), (UploadBeyond, -0.5)]);
        }
    }
    if let Some(line) = facts.line_measured {
        let text = format!("the line sustained {line} when it was measured");
        if facts.asked > line {
            cases.sign(Origin::Measured, &text, &[(LineShort, 0.8), (UploadBeyond, -0.8)]);
        } else if facts.asked < line.scaled(0.85) {
            cases.sign(Origin::Measured, &text, &[(LineShort, -0.8), (UploadBeyond, 0.5)]);
        }
    }
}

/// How late an answer came, in words.
fn late(what: &str, ms: f64) -> String {
    if ms < 5.0 { format!("{what} as soon as ever") } else { format!("{what} {ms:.0} ms later than it can be") }
}

/// A weight that climbs evenly from one point to another, and is level beyond them: a figure that wavers about a border
/// moves the scales a little, and does not tip them.
fn ramp(value: f64, (low, at_low): (f64, f64), (high, at_high): (f64, f64)) -> f64 {
    let along = ((value - low) / (high - low)).clamp(0.0, 1.0);
    at_low + (at_high - at_low) * along
}

fn sentence(facts: &Facts, cause: Option<Cause>, loss: &str) -> String {
    let (sent, asked, server) = (facts.sent, facts.asked, &facts.server);
    if !facts.is_short() {
        let was = cause.map_or(String::new(), |cause| format!(" It was: {}.", cause.words()));
        return format!(
            "{sent} are carried where {asked} are asked: nothing is short now, {:.0} ms still wait; {loss}.{was}",
            facts.queue_ms
        );
    }
    let climbed = facts.rtt_rise_ms().filter(|rise| *rise > RTT_RISE_MS).map_or(String::new(), |_| {
        format!(
            ", round trip up from {:.0} to {:.0} ms",
            facts.rtt_floor_ms.unwrap_or_default(),
            facts.rtt_ms.unwrap_or_default()
        )
    });
    match cause {
        Some(ServerSlow) => format!(
            "{server} reads too slowly: it takes {sent} of the {asked} asked, and its window holds the connection up; {loss}."
        ),
        Some(LineShort) => format!("The line carries {sent} of the {asked} asked{climbed}; {loss}."),
        Some(UploadHere) => {
            let first = facts.machine.uploads.as_deref().and_then(<[_]>::first);
            let gets = format!("beside the broadcast, which gets {sent} of the {asked} asked{climbed}; {loss}.");
            match (takes_otherwise(facts), first) {
                (Some(otherwise), _) => format!("This machine sends {otherwise} that {NO_TCP}, {gets}"),
                (None, Some(first)) => format!("{} uploads {} {gets}", first.name(), first.rate),
                (None, None) => format!("Another program on this machine uploaded {gets}"),
            }
        }
        Some(UploadBeyond) => format!(
            "The line carried {} before and carries {sent} of the {asked} asked now{climbed}: something beyond this machine takes the rest; {loss}.",
            facts.before.carried.unwrap_or(asked)
        ),
        Some(LocalLink) => {
            let link =
                if facts.machine.wireless == Some(true) { "The wireless link" } else { "The link to the first router" };
            let router = match facts.gateway.rise_ms() {
                Some(late) => format!("even the first router answers {late:.0} ms late"),
                None => "even the first router, which answered before, does not now".to_owned(),
            };
            format!("{link} carries {sent} of the {asked} asked: {router}; {loss}.")
        }
        Some(Route) => format!(
            "The route to {server} carries {sent} of the {asked} asked{climbed}, while {} is reached as ever; {loss}.",
            facts.other_probed.as_deref().unwrap_or("another server")
        ),
        _ => format!(
            "The connection carries {sent} of the {asked} asked; {loss}. Nothing tells the line from the server."
        ),
    }
}

fn proposals(facts: &Facts, cause: Option<Cause>) -> Vec<Proposal> {
    let (lower, switch) = (lower_bitrate(facts), switch_server(facts, cause));
    let hand = |hand: Hand| Some(hand.proposal());
    let first = facts.machine.uploads.as_deref().and_then(<[_]>::first);
    let ordered = match cause {
        Some(ServerSlow | Route) => [switch, lower, None],
        Some(UploadHere) => {
            let name = match first {
                Some(upload) if takes_otherwise(facts).is_none() => upload.name(),
                _ => "the other program",
            };
            [hand(Hand::PauseUpload(name.to_owned())), lower, None]
        }
        Some(UploadBeyond) => [lower, hand(Hand::PauseBeyond), switch],
        Some(LocalLink) => [lower, hand(Hand::Wire), None],
        _ => [lower, switch, None],
    };
    ordered.into_iter().flatten().collect()
}

fn lower_bitrate(facts: &Facts) -> Option<Proposal> {
    let audio = facts.asked.less(facts.asked_video);
    let to =
        facts.sent.min(facts.asked).scaled(USE_OF_LINE).less(audio).rounded_down_to(Bitrate::from_kbps(50)).max(LOWEST);
    // What was set a moment ago is not on the wire yet, and not to be offered again.
    let set = facts.stream.video_bitrate.unwrap_or(facts.asked_video).min(facts.asked_video);
    if to >= set.scaled(0.97) || !facts.is_short() {
        return None;
    }
    Some(Proposal {
        expected: format!(
            "drops stop within a keyframe interval, and {:.0} % of what the connection carries stays free",
            (1.0 - USE_OF_LINE) * 100.0
        ),
        ..to_bitrate(to, facts.asked_video, &facts.stream)
    })
}
