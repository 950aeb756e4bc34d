//! No server takes the broadcast: it is away, or it refuses.

use super::cause::{Cause, Fault};
use super::other_server::switch_server;
use super::suspect::{Suspect, Weighed};
use super::weighing::Case;
use crate::by_hand::Hand;
use crate::facts::Facts;
use crate::figure::Origin;
use crate::proposal::Proposal;

/// A server that was not told of the end of a connection holds it for so long, in seconds, and refuses another: RTMP servers
/// notice by their own timeouts (nginx's module: 60 s). Ours.
const HOLDS_S: f64 = 90.0;
/// What a server answers where a stream of that name is being published (RTMP specification, 7.2.2.6, and common use).
const IN_USE: &str = "NetStream.Publish.BadName";

pub(super) fn suspect(facts: &Facts) -> Suspect {
    let why = facts.link_down_why.clone().unwrap_or_else(|| "no answer".into());
    // It took this key before the connection was lost: then the key is not what is wrong.
    let holds = facts.link_refused && facts.link_was_lost_here && facts.link_down_s < HOLDS_S && why.contains(IN_USE);
    let cause = if facts.link_refused && !holds { Cause::ServerRefuses } else { Cause::ServerAway };
    let mut case = Case::new(cause);
    if facts.link_up {
        case.sign(Origin::Measured, 2.0, "what is sent is not acknowledged".to_owned());
    } else {
        case.sign(Origin::Measured, 2.0, format!("no server has taken the broadcast for {:.1} s", facts.link_down_s));
        case.sign(Origin::Measured, 1.0, why.clone());
    }
    let other = facts.other_probed.clone().unwrap_or_default();
    let router_away = facts.gateway.rtt_ms.is_none() && facts.gateway.unanswered > 1.0 && facts.other.rtt_ms.is_none();
    let beyond = match (
        facts.gateway.rtt_ms,
        facts.gateway.unanswered > 1.0,
        facts.other.rtt_ms,
        facts.other.unanswered > 1.0,
    ) {
        (_, _, Some(_), _) => {
            case.sign(Origin::Measured, 0.5, format!("{other} answers: the line is there"));
            String::new()
        }
        (None, true, None, _) => {
            case.sign(Origin::Measured, -0.8, "the first router does not answer either");
            " The first router does not answer either: look at cable, wireless or router first.".into()
        }
        (Some(_), _, None, true) => {
            case.sign(Origin::Measured, -0.5, format!("{other} does not answer either, the first router does"));
            format!(" {other} does not answer either, the first router does: the line itself may be out.")
        }
        _ => String::new(),
    };
    let sentence = if facts.link_up {
        format!(
            "Nothing comes back from {}: it is away, or the way there is.{beyond} {} dropped.",
            facts.server,
            super::weighing::frames_lost(facts.dropped)
        )
    } else if holds {
        format!(
            "{} answers, but still holds the connection that was lost {:.0} s ago, and takes no other: {why}. It notices by itself.",
            facts.server, facts.link_down_s
        )
    } else if facts.link_refused {
        format!(
            "{} answers and does not take the broadcast: {why}. The stream key is wrong, in use elsewhere, or for another \
             application.",
            facts.server
        )
    } else {
        format!(
            "{} has been away for {:.0} s: {why}. The broadcaster stays connected.{beyond}",
            facts.server, facts.link_down_s
        )
    };
    Suspect {
        fault: Fault::Network,
        cause: Some(cause),
        confidence: 0.97,
        // Every frame that is due is lost, or will be once the queue is full.
        harm_frames: facts.due.max(1.0),
        sentence,
        evidence: case.evidence.clone(),
        would_change: if facts.link_up {
            format!("Anything acknowledged by {} would end this.", facts.server)
        } else {
            format!("{} taking the broadcast again ends this.", facts.server)
        },
        proposals: proposals(facts, cause, router_away),
        weighed: vec![Weighed { cause, share: 1.0, evidence: case.evidence }],
    }
}

fn proposals(facts: &Facts, cause: Cause, router_away: bool) -> Vec<Proposal> {
    let switch = switch_server(facts, Some(cause));
    let hand = match cause {
        _ if router_away => Hand::RestartRouter,
        Cause::ServerRefuses => Hand::CheckKey,
        _ => Hand::AskService(facts.server.clone()),
    }
    .proposal();
    // A key that one server refuses is refused by all of the service's.
    if cause == Cause::ServerRefuses {
        return std::iter::once(hand).chain(switch).collect();
    }
    // With no way out, another server is as far away as this one.
    if router_away { std::iter::once(hand).chain(switch).collect() } else { switch.into_iter().chain([hand]).collect() }
}
