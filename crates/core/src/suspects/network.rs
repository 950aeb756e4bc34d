//! Dropped frames: encoded, but the connection could not carry them in time.
//!
//! The signs are from our own measurements on a 6 Mb/s stream. A line too small (token bucket at 3 Mb/s):
//! the round trip climbs from 0 to 500–650 ms, the receiver's window holds up 25 % falling to 5 % of the
//! busy time. A server that reads too slowly (3 Mb/s): the round trip stays under 10 ms, the window holds
//! up 92–99 %, nothing is sent again.

use super::{Case, Cause, Fault, Held, Suspect, frames_lost, likeliest, percent};
use crate::facts::Facts;
use crate::figure::Origin;
use crate::proposal::{Action, Proposal};
use crate::rate::Bitrate;

/// A round trip this far above its floor is a queue on the way, in milliseconds; between the two cases
/// measured above.
const RTT_RISE_MS: f64 = 60.0;
/// Above this share of the busy time the receiver holds the connection up; between the two cases measured.
const RECEIVER_LIMITED: f64 = 0.6;
/// Above this share of its limit, and growing, the queue will not recover by itself in time.
const QUEUE_ALARM: f64 = 0.6;
/// A link may be down this long at the beginning without an alarm: connecting takes a moment.
const CONNECTING_S: f64 = 1.5;
/// What a line carries is divided so that something is left: trade practice is 75–80 %.
const USE_OF_LINE: f64 = 0.78;
/// No proposal goes below this; a picture at less helps nobody.
const LOWEST: Bitrate = Bitrate::from_kbps(300);

pub(super) fn suspect(facts: &Facts, held: &Held) -> Option<Suspect> {
    if !facts.link_up {
        // Nothing is carried, so nothing tells line from server; at the beginning, connecting takes a moment.
        let failed = facts.link_was_up || facts.link_down_why.is_some() || facts.link_down_s > CONNECTING_S;
        return failed.then(|| away(facts));
    }
    let is_held = held.has(Fault::Network);
    let losing = facts.dropped > 0.0;
    let about_to = facts.queue_share() > QUEUE_ALARM && facts.queue_growth > 100.0;
    let lingering = is_held && (facts.dropped_clear > 0.0 || facts.queue_share() > 0.25);
    if !(losing || about_to || lingering) {
        return None;
    }

    let mut line = Case::new(Cause::LineShort);
    let mut server = Case::new(Cause::ServerSlow);
    if let Some(rise) = facts.rtt_rise_ms() {
        let text = format!(
            "round trip {:.0} ms, {rise:.0} ms above its lowest on this connection",
            facts.rtt_ms.unwrap_or_default()
        );
        let bans = if rise > RTT_RISE_MS { 1.2 } else { -0.8 };
        line.sign(Origin::Measured, bans, text.clone());
        server.sign(Origin::Measured, -bans / 2.0, text);
    }
    if let Some(share) = facts.receiver_limited {
        let text = format!("the server's window held the connection up {} of the busy time", percent(share));
        let bans = if share > RECEIVER_LIMITED { 1.6 } else { -1.2 };
        server.sign(Origin::Measured, bans, text.clone());
        line.sign(Origin::Measured, -bans / 2.0, text);
    }
    if let Some(again) = facts.retransmits.filter(|r| *r >= 1.0) {
        let text = format!("{again:.0} segments sent again in 3 s");
        line.sign(Origin::Measured, 0.3, text.clone());
        server.sign(Origin::Measured, -0.3, text);
    }
    if facts.sent < facts.asked.scaled(0.95) {
        // Both look like this; it says that the connection is the narrow place at all.
        let text = format!("{} carried of {} asked", facts.sent, facts.asked);
        line.sign(Origin::Measured, 0.3, text.clone());
        server.sign(Origin::Measured, 0.3, text);
    }

    let told = likeliest(vec![line, server], held);
    // The drops are the moth's own doing and so certain; a queue that only grows may yet recover.
    let fault_sure = if facts.dropped_clear > 0.0 { 0.99 } else { 0.85 };
    let carried = facts.sent;
    let loss = if facts.dropped > 0.0 {
        format!("{} dropped", frames_lost(facts.dropped))
    } else {
        "nothing dropped yet".into()
    };
    let (cause, confidence, sentence, evidence) = match told {
        Some((case, share)) => {
            let sentence = match case.cause {
                Cause::ServerSlow => format!(
                    "{} reads too slowly: it takes {carried} of the {} asked, and its window holds the connection up; {loss}.",
                    facts.server, facts.asked
                ),
                _ => format!(
                    "The line carries {carried} of the {} asked{}; {loss}.",
                    facts.asked,
                    facts.rtt_rise_ms().filter(|r| *r > RTT_RISE_MS).map_or(String::new(), |_| format!(
                        ", round trip up from {:.0} to {:.0} ms",
                        facts.rtt_floor_ms.unwrap_or_default(),
                        facts.rtt_ms.unwrap_or_default()
                    ))
                ),
            };
            (Some(case.cause), fault_sure * share, sentence, case.evidence)
        }
        None => (
            None,
            fault_sure * 0.5,
            format!(
                "The connection carries {carried} of the {} asked; {loss}. Nothing tells the line from the server.",
                facts.asked
            ),
            Vec::new(),
        ),
    };
    let lower = lower_bitrate(facts);
    let switch = switch_server(facts, cause);
    let proposals = match cause {
        Some(Cause::ServerSlow) => [switch, lower],
        _ => [lower, switch],
    };
    Some(Suspect {
        fault: Fault::Network,
        cause,
        confidence,
        harm_frames: facts.dropped,
        sentence,
        evidence,
        proposals: proposals.into_iter().flatten().collect(),
    })
}

fn away(facts: &Facts) -> Suspect {
    let cause = if facts.link_refused { Cause::ServerRefuses } else { Cause::ServerAway };
    let why = facts.link_down_why.clone().unwrap_or_else(|| "no answer".into());
    let sentence = if facts.link_refused {
        format!("{} does not take the broadcast: {why}.", facts.server)
    } else {
        format!(
            "{} has been away for {:.0} s: {why}. The broadcaster stays connected.",
            facts.server, facts.link_down_s
        )
    };
    let mut case = Case::new(cause);
    case.sign(Origin::Measured, 2.0, format!("no server has taken the broadcast for {:.1} s", facts.link_down_s));
    case.sign(Origin::Measured, 1.0, why);
    Suspect {
        fault: Fault::Network,
        cause: Some(cause),
        confidence: 0.97,
        // Every frame that is due is lost, or will be once the queue is full.
        harm_frames: facts.due.max(1.0),
        sentence,
        evidence: case.evidence,
        proposals: switch_server(facts, Some(cause)).into_iter().collect(),
    }
}

fn lower_bitrate(facts: &Facts) -> Option<Proposal> {
    let audio = facts.asked.less(facts.asked_video);
    let to = facts.sent.scaled(USE_OF_LINE).less(audio).rounded_down_to(Bitrate::from_kbps(50)).max(LOWEST);
    if to >= facts.asked_video.scaled(0.97) {
        return None;
    }
    let kept = to.kbps() / facts.asked_video.kbps();
    Some(Proposal {
        title: format!("lower the video bitrate to {to}"),
        cost: format!("picture softer: {} of the bits it has now", percent(kept)),
        expected: format!(
            "drops stop within a keyframe interval, and {:.0} % of what the connection carries stays free",
            (1.0 - USE_OF_LINE) * 100.0
        ),
        possible: facts.stream.takes_bitrate,
        action: Action::SetBitrate { video: to },
        dangerous: false,
    })
}

fn switch_server(facts: &Facts, cause: Option<Cause>) -> Option<Proposal> {
    let server = facts.other_server.clone()?;
    let expected = match cause {
        Some(Cause::LineShort) => "helps only if the trouble lies beyond your own line".to_owned(),
        _ => format!("{server} takes the broadcast over at the next keyframe"),
    };
    Some(Proposal {
        title: format!("move to {server}"),
        cost: "viewers may see a short gap at the change".into(),
        expected,
        possible: true,
        action: Action::SwitchServer { server },
        dangerous: true,
    })
}
