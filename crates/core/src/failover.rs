//! Changing servers by itself: with the user's consent, when this one is dark or losing and a better one is known.

use std::time::Duration;

use crate::moment::Moment;
use crate::rate::Bitrate;
use crate::reading::Tested;
use crate::state::State;
use crate::suspects::Cause;

/// Dark for this long is no short interruption: a server process that restarts is back sooner. Ours.
const DARK: Duration = Duration::from_secs(3);
/// Losing for this long, for a reason that lies with the server or the way to it. Ours.
const LOSING: Duration = Duration::from_secs(8);
/// A server that was left is not gone back to for this long. Ours.
const LEFT_ALONE: Duration = Duration::from_secs(600);
/// After a change nothing more is concluded for this long. Ours.
const SETTLES: Duration = Duration::from_secs(15);
const HOUR: Duration = Duration::from_secs(3600);
/// How often within an hour, if the user does not say. Ours.
const MOST_AN_HOUR: u32 = 4;

/// What it looks at, every second.
#[derive(Debug, Clone)]
pub struct ServerLook<'a> {
    /// When.
    pub now: Moment,
    /// The connection's state.
    pub state: Option<State>,
    /// What is held to be the cause of a network fault.
    pub cause: Option<Cause>,
    /// The server in use.
    pub server: &'a str,
    /// All servers that could be used.
    pub servers: &'a [String],
    /// What is asked of the connection.
    pub asked: Bitrate,
    /// Another server was asked and does not answer either: the way out is gone, not the server.
    pub others_silent: bool,
}

/// Changes servers by itself.
#[derive(Debug, Clone, Default)]
pub struct Failover {
    consent: bool,
    most_an_hour: u32,
    tested: Vec<Tested>,
    bad_since: Option<(State, Moment)>,
    left: Vec<(String, Moment)>,
    pending: Option<(String, Moment)>,
}

impl Failover {
    /// Consent, the limit, and what is known of the servers.
    pub fn arrange(&mut self, consent: bool, most_an_hour: u32, tested: Vec<Tested>) {
        *self = Self { consent, most_an_hour, tested, left: std::mem::take(&mut self.left), ..Self::default() };
    }

    /// Consent, or its end.
    pub fn set_consent(&mut self, on: bool) {
        self.consent = on;
        self.pending = None;
    }

    /// Whether it may.
    #[must_use]
    pub fn consent(&self) -> bool {
        self.consent
    }

    /// Whether a change to this server is the one it wanted.
    #[must_use]
    pub fn wanted(&self, server: &str) -> bool {
        self.pending.as_ref().is_some_and(|(wanted, _)| wanted == server)
    }

    /// A change was made, or could not be.
    pub fn settled(&mut self, now: Moment, from: &str) {
        self.pending = None;
        self.bad_since = None;
        self.left.retain(|(_, at)| now.since(*at) < HOUR);
        self.left.push((from.to_owned(), now));
    }

    /// Looks, and perhaps wants another server; with why.
    pub fn look(&mut self, look: &ServerLook<'_>) -> Option<(String, String)> {
        let now = look.now;
        let bad = match look.state? {
            state @ State::Dark => Some(state),
            state @ State::Losing if matches!(look.cause, Some(Cause::ServerSlow | Cause::Route)) => Some(state),
            _ => None,
        };
        self.bad_since = match (bad, self.bad_since) {
            (None, _) => None,
            (Some(state), Some((before, since))) if before == state => Some((state, since)),
            (Some(state), _) => Some((state, now)),
        };
        let (state, since) = self.bad_since?;
        let lasts = now.since(since);
        if !self.consent || self.pending.as_ref().is_some_and(|(_, at)| now.since(*at) < SETTLES) {
            return None;
        }
        if lasts < if state == State::Dark { DARK } else { LOSING } || look.others_silent {
            return None;
        }
        let lately = |span: Duration| self.left.iter().filter(move |(_, at)| now.since(*at) < span);
        let most = if self.most_an_hour == 0 { MOST_AN_HOUR } else { self.most_an_hour };
        if lately(HOUR).count() >= most as usize || lately(SETTLES).count() > 0 {
            return None;
        }
        let usable = |name: &str| {
            name != look.server
                && look.servers.iter().any(|s| s == name)
                && !lately(LEFT_ALONE).any(|(left, _)| left == name)
        };
        let mut tested: Vec<&Tested> = self.tested.iter().filter(|t| usable(&t.server)).collect();
        tested.sort_by_key(|t| std::cmp::Reverse(t.sustained));
        // A losing server still takes something: only one that is known to carry it all is better.
        let best = tested.first().filter(|t| state == State::Dark || t.sustained >= look.asked);
        let (to, known) = match best {
            Some(best) => (best.server.clone(), format!("sustained {} when it was tested", best.sustained)),
            None if state == State::Dark => {
                let other = look.servers.iter().find(|name| usable(name))?;
                (other.clone(), "was not tested, and this one is dark".to_owned())
            }
            None => return None,
        };
        let why = format!("{} has been {} for {} s; {to} {known}", look.server, state.word(), lasts.as_secs());
        self.pending = Some((to.clone(), now));
        Some((to, why))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn arranged(most: u32) -> (Failover, Vec<String>) {
        let mut failover = Failover::default();
        let tested = |server: &str, kbps| Tested { server: server.into(), sustained: Bitrate::from_kbps(kbps) };
        failover.arrange(true, most, vec![tested("Brackwater", 5000), tested("Dunmere", 8000)]);
        (failover, ["Aldmoor", "Brackwater", "Cindervale", "Dunmere"].map(String::from).to_vec())
    }

    /// Looks every second, and gives when it wanted what.
    fn run(
        failover: &mut Failover,
        servers: &[String],
        seconds: std::ops::Range<u64>,
        state: State,
    ) -> Vec<(u64, String)> {
        let mut server = "Aldmoor".to_owned();
        let mut wanted = Vec::new();
        for second in seconds {
            let now = Moment::from_ms(second * 1000);
            let asked = Bitrate::from_kbps(6000);
            let cause = Some(Cause::ServerSlow);
            let look =
                ServerLook { now, state: Some(state), cause, server: &server, servers, asked, others_silent: false };
            if let Some((to, why)) = failover.look(&look) {
                assert!(why.starts_with(&server), "{why}");
                failover.settled(now, &server);
                server.clone_from(&to);
                wanted.push((second, to));
            }
        }
        wanted
    }

    #[test]
    fn a_dark_server_is_left_for_the_best_tested_one_then_the_others_and_none_is_gone_back_to() {
        let (mut failover, servers) = arranged(10);
        let wanted = run(&mut failover, &servers, 0..120, State::Dark);
        let names: Vec<&str> = wanted.iter().map(|(_, name)| name.as_str()).collect();
        assert_eq!(names, ["Dunmere", "Brackwater", "Cindervale"]);
        assert_eq!(wanted[0].0, 3, "not at the first second");
        assert!(wanted[1].0 - wanted[0].0 >= 15, "{wanted:?}");
    }

    #[test]
    fn a_losing_server_is_left_only_for_one_known_to_carry_it_all() {
        let (mut failover, servers) = arranged(10);
        assert_eq!(run(&mut failover, &servers, 0..120, State::Losing), [(8, "Dunmere".to_owned())]);
    }

    #[test]
    fn without_consent_over_the_limit_or_with_the_way_out_gone_nothing_is_done() {
        let (mut failover, servers) = arranged(1);
        assert_eq!(run(&mut failover, &servers, 0..200, State::Dark).len(), 1, "once an hour, as agreed");
        let (mut failover, servers) = arranged(4);
        failover.set_consent(false);
        assert!(run(&mut failover, &servers, 0..200, State::Dark).is_empty());
        failover.set_consent(true);
        for second in 0..60 {
            let look = ServerLook {
                now: Moment::from_ms(second * 1000),
                state: Some(State::Dark),
                cause: None,
                server: "Aldmoor",
                servers: &servers,
                asked: Bitrate::ZERO,
                others_silent: true,
            };
            assert_eq!(failover.look(&look), None);
        }
    }
}
