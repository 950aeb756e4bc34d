//! Keeps a server connected and carries the exchange's frames to it.

use std::sync::Arc;
use std::time::Duration;

use futures::FutureExt;
use futures::future::BoxFuture;
use moth_core::action::Action;
use moth_core::figure::Origin;
use moth_core::reading::{LinkChange, Observation};
use moth_destination::StreamKey;
use tokio::sync::mpsc;
use tokio::time::{Instant, MissedTickBehavior, interval, sleep, timeout_at};

use crate::backoff::Backoff;
use crate::connection::{Dialer, Server};
use crate::exchange::Sent;
use crate::frame_carrier::FrameCarrier;
use crate::handover::{Answer, Handover, Turn};
use crate::phase::Phase;
use crate::recorder::Recorder;
use crate::shared::Shared;
use moth_destination::LinkError;

/// How often acknowledgements are looked up. Ours.
const TICK: Duration = Duration::from_millis(50);
/// Connection figures are read at every fourth tick. Ours.
const FIGURES_EACH: u32 = 4;
/// When a broadcast ends, what waits is sent for at most this long: a full queue of 2 s over a line that
/// carries a third of the bitrate. Ours.
const FINISH: Duration = Duration::from_secs(6);
/// Where a service takes one connection at a time, the old one gets this long for its last acknowledgements. Ours.
const LEAVE: Duration = Duration::from_millis(1500);
/// And then this long to close its side: viewers see nothing meanwhile. Ours.
const CLOSE: Duration = Duration::from_millis(300);
/// After a broadcast a server gets this long to close its side. Ours: a program on a busy machine was most of a second behind.
const PARTING: Duration = Duration::from_secs(2);
/// Where the end of a broadcast is cut short, what is on its way already gets this long to be acknowledged. Ours.
pub(crate) const CUT_SHORT: Duration = Duration::from_secs(1);
/// A connection that held this long is a good one: its loss begins with a short delay again. Ours.
const HELD: Duration = Duration::from_secs(10);

/// Something the relay is told to do.
#[derive(Debug)]
pub(crate) enum Command {
    /// Move to the server of this name.
    SwitchServer(String),
}

/// A connection being made to move to.
type Candidate = BoxFuture<'static, Result<Box<FrameCarrier>, LinkError>>;

pub(crate) struct Delivery {
    pub shared: Arc<Shared>,
    pub dialer: Arc<dyn Dialer>,
    pub servers: Vec<Server>,
    pub key: StreamKey,
    pub recorder: Recorder,
    pub commands: mpsc::Receiver<Command>,
    pub current: usize,
    pub backoff: Backoff,
    /// The service takes one connection at a time.
    pub one_at_a_time: bool,
    /// A change of servers, from the wish to its answer.
    pub handover: Handover<Candidate, Box<FrameCarrier>>,
    /// The server that was left, and the last picture it got, until the first is handed to the next.
    pub left: Option<(String, Option<Sent>)>,
}

enum Ending {
    /// The broadcast is over and was seen off.
    Finished,
    /// The connection was lost.
    Lost(LinkError),
    /// Another connection takes over.
    Moved(usize, Box<FrameCarrier>),
    /// The connection is to be closed before another one is made.
    Leaving(usize),
}

impl Delivery {
    /// Serves broadcast after broadcast, until the relay is gone.
    pub(crate) async fn run(mut self) {
        loop {
            if self.await_broadcast().await.is_err() {
                return;
            }
            self.broadcast().await;
            let answer = self.handover.refused("the broadcast ended first");
            self.answer(answer);
            self.shared.exchange().clear();
            self.shared.phase.free_place();
            self.link(LinkChange::Closed { server: self.server().name.clone() });
        }
    }

    fn server(&self) -> &Server {
        &self.servers[self.current]
    }

    fn link(&self, change: LinkChange) {
        self.shared.carried_by.send_replace(matches!(change, LinkChange::Up { .. }).then_some(self.current));
        self.recorder.note(Origin::Measured, Observation::Link(change));
    }

    fn acted(&self, server: &str, failed: Option<String>) {
        let action = Action::SwitchServer { server: server.to_owned() };
        self.recorder.note(Origin::Measured, Observation::acted(action, failed));
    }

    fn answer(&self, answers: impl IntoIterator<Item = Answer>) {
        for Answer { to, failed } in answers {
            self.acted(&self.servers[to].name, failed);
        }
    }

    /// A server by its name; one that there is not is told so.
    fn find(&self, name: &str) -> Option<usize> {
        let found = self.servers.iter().position(|s| s.name == name);
        if found.is_none() {
            self.acted(name, Some("there is no server of that name".into()));
        }
        found
    }

    /// The broadcast is to move while it is carried.
    fn move_to(&mut self, name: &str) {
        let Some(to) = self.find(name) else { return };
        let attempt = (!self.one_at_a_time).then(|| self.try_server(to));
        let answers = self.handover.wished(to, self.current, attempt.map(|attempt| || attempt));
        self.answer(answers);
    }

    /// Waits until a broadcaster publishes; a server chosen meanwhile is the one to begin with.
    async fn await_broadcast(&mut self) -> Result<(), ()> {
        loop {
            tokio::select! {
                biased;
                // Also one that is over already: it may have begun and ended while nobody looked, and its place is given back here.
                () = self.shared.phase.begins() => return Ok(()),
                command = self.commands.recv() => match command {
                    Some(Command::SwitchServer(name)) => self.choose(&name),
                    None => return Err(()),
                },
            }
        }
    }

    /// Makes another server the one to connect to next.
    fn choose(&mut self, name: &str) {
        match self.find(name) {
            Some(index) if index == self.current => {
                self.acted(name, Some("the broadcast is already there".into()));
            }
            Some(index) => {
                self.current = index;
                self.backoff.reset();
                self.acted(name, None);
            }
            None => {}
        }
    }

    /// One broadcast: connections, one after another, until the broadcaster is done.
    async fn broadcast(&mut self) {
        self.backoff.reset();
        self.left = None;
        if self.shared.phase.now() != Phase::OnAir && self.shared.exchange().is_empty() {
            // It sent nothing: no server is to hear of it.
            return;
        }
        loop {
            let Some(mut line) = self.connect().await else { return };
            loop {
                let since = Instant::now();
                match self.pump(&mut line).await {
                    Ending::Finished => return part(line, &self.shared).await,
                    Ending::Moved(index, next) => {
                        self.hand_over_the_rest(&mut line);
                        let before = std::mem::replace(&mut line, *next);
                        tokio::spawn(retire(before, self.shared.clone()));
                        self.arrive(index);
                    }
                    Ending::Leaving(index) => {
                        self.shared.carried_by.send_replace(None);
                        self.hand_over_the_rest(&mut line);
                        line.finish();
                        settle_until(&mut line, &self.shared, Instant::now() + LEAVE).await;
                        self.shared.with(|exchange| line.cut_off(exchange));
                        // Closed, not only told: the service may look at that.
                        line.part(CLOSE).await;
                        match self.try_server(index).await {
                            Ok(next) => {
                                line = *next;
                                self.arrive(index);
                            }
                            Err(error) => {
                                let answer = self.handover.refused(&error.why);
                                self.answer(answer);
                                self.shared.exchange().begin_again();
                                break;
                            }
                        }
                    }
                    Ending::Lost(error) => {
                        self.shared.carried_by.send_replace(None);
                        // Should the broadcast go on elsewhere, the gap is counted from here.
                        let sent = self.shared.exchange().last_sent();
                        self.left.get_or_insert_with(|| (line.server.name.clone(), sent));
                        if since.elapsed() > HELD {
                            self.backoff.reset();
                        }
                        self.shared.with(|exchange| {
                            let newly = line.cut_off(exchange);
                            exchange.begin_again();
                            newly
                        });
                        if !self.pause(line.server.name.clone(), error).await {
                            return;
                        }
                        break;
                    }
                }
            }
        }
    }

    /// The connection that is left gets what belongs before the next keyframe.
    fn hand_over_the_rest(&mut self, line: &mut FrameCarrier) {
        loop {
            let next = self.shared.exchange().next_before_keyframe(self.recorder.now());
            let Some(packet) = next else { break };
            line.send(&packet);
        }
        self.left = Some((line.server.name.clone(), self.shared.exchange().last_sent()));
    }

    /// The broadcast is at another server.
    fn arrive(&mut self, index: usize) {
        self.shared.exchange().begin_again();
        self.current = index;
        let answer = self.handover.arrived(index);
        self.answer([answer]);
        self.link(LinkChange::Up { server: self.server().name.clone() });
    }

    /// Tells what a change of servers cost, once the first picture is handed to the new one.
    fn tell_gap(&mut self) {
        let Some((_, before)) = &self.left else { return };
        let Some(first) = self.shared.exchange().last_sent().filter(|sent| Some(*sent) != *before) else { return };
        let Some((from, before)) = self.left.take() else { return };
        let to = self.server().name.clone();
        if from == to {
            // It went on where it was.
            return;
        }
        let (gap_ms, missing_ms) = before.map_or((0, 0), |before| {
            let gap = u64::try_from(first.at.since(before.at).as_millis()).unwrap_or(u64::MAX);
            // Timestamps wrap; from one picture to the next is the one interval that is not missing.
            let step = first.time_ms.wrapping_sub(before.time_ms);
            // And they are in whole milliseconds, so that intervals waver by one.
            let missing = step.saturating_sub(before.interval_ms.max(1));
            (gap, if missing > 1 { u64::from(missing) } else { 0 })
        });
        self.recorder.note(Origin::Measured, Observation::Moved { from, to, gap_ms, missing_ms });
    }

    /// Connects, however often it takes; `None` when the broadcaster is done first.
    async fn connect(&mut self) -> Option<FrameCarrier> {
        loop {
            let server = self.server().clone();
            self.link(LinkChange::Connecting { server: server.name.clone() });
            let dialer = self.dialer.clone();
            let key = self.key.clone();
            let attempt = async move { FrameCarrier::establish(&*dialer, server, key).await };
            tokio::pin!(attempt);
            let outcome = tokio::select! {
                biased;
                outcome = &mut attempt => outcome,
                command = self.commands.recv() => {
                    let Some(Command::SwitchServer(name)) = command else { return None };
                    self.choose(&name);
                    continue;
                }
                () = self.shared.phase.off_air() => {
                    // A broadcast too short to be connected: what it left may still be delivered.
                    let waiting = timeout_at(Instant::now() + FINISH, attempt);
                    tokio::select! {
                        biased;
                        outcome = waiting => match outcome {
                            Ok(Ok(line)) => Ok(line),
                            _ => return None,
                        },
                        () = self.shared.phase.is_cut_short() => return None,
                    }
                }
            };
            match outcome {
                Ok(line) => {
                    self.link(LinkChange::Up { server: line.server.name.clone() });
                    return Some(line);
                }
                Err(error) => {
                    let again = self.pause(self.server().name.clone(), error).await;
                    if !again {
                        return None;
                    }
                }
            }
        }
    }

    /// Says why the connection is down and waits before the next try; `false` when the broadcaster is done.
    async fn pause(&mut self, server: String, error: LinkError) -> bool {
        let wait = self.backoff.next();
        let retry_ms = wait.map_or(0, |wait| u64::try_from(wait.as_millis()).unwrap_or(u64::MAX));
        tracing::warn!(server, why = %error.why, retry_ms, "the server connection is down");
        let refused = error.is_refusal();
        let given_up = if wait.is_none() { "; it is not tried any more, as set" } else { "" };
        self.link(LinkChange::Down { server, why: format!("{}{given_up}", error.why), refused, retry_ms });
        tokio::select! {
            biased;
            command = self.commands.recv() => match command {
                Some(Command::SwitchServer(name)) => {
                    self.choose(&name);
                    true
                }
                None => false,
            },
            () = self.shared.phase.off_air() => false,
            () = sleep(wait.unwrap_or_default()), if wait.is_some() => true,
        }
    }

    /// Carries frames over one connection until it ends.
    async fn pump(&mut self, line: &mut FrameCarrier) -> Ending {
        let mut tick = interval(TICK);
        tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut ticks = 0_u32;
        let mut finish_by: Option<Instant> = None;
        loop {
            // The old connection goes on until there is a keyframe for the new one to begin with.
            if self.shared.exchange().could_begin() {
                match self.handover.at_keyframe() {
                    Some(Turn::Over(index, next)) => return Ending::Moved(index, next),
                    Some(Turn::Close(index)) => return Ending::Leaving(index),
                    None => {}
                }
            }
            self.fill(line);
            self.tell_gap();
            if finish_by.is_some_and(|by| self.shared.exchange().is_empty() || Instant::now() >= by) {
                return self.see_off(line).await;
            }
            let outcome = tokio::select! {
                biased;
                command = self.commands.recv() => {
                    match command {
                        Some(Command::SwitchServer(name)) => self.move_to(&name),
                        None => return self.see_off(line).await,
                    }
                    Ok(())
                }
                outcome = self.handover.attempted() => {
                    let answer = self.handover.opened(outcome);
                    self.answer(answer);
                    Ok(())
                }
                _ = tick.tick() => {
                    ticks += 1;
                    self.shared.with(|exchange| line.settle(exchange));
                    if ticks.is_multiple_of(FIGURES_EACH) {
                        self.recorder.note(Origin::Measured, Observation::Connection(line.figures()));
                    }
                    line.check_progress()
                }
                outcome = line.step() => outcome,
                () = self.shared.offered.notified() => Ok(()),
                () = self.shared.phase.off_air(), if finish_by.is_none() => {
                    finish_by = Some(Instant::now() + FINISH);
                    Ok(())
                }
                () = self.shared.phase.is_cut_short(), if finish_by.is_some() => return self.see_off(line).await,
            };
            if let Err(error) = outcome {
                let (turn, answer) = self.handover.lost();
                // Lost on the way to another server: that is where to go on.
                self.current = answer.as_ref().map_or(self.current, |answer| answer.to);
                self.answer(answer);
                return match turn {
                    Some(Turn::Over(index, next)) => Ending::Moved(index, next),
                    _ => Ending::Lost(error),
                };
            }
        }
    }

    /// Hands over what the connection can take.
    fn fill(&self, line: &mut FrameCarrier) {
        while line.wants_more() {
            let Some(packet) = self.shared.exchange().next(self.recorder.now()) else { return };
            line.send(&packet);
        }
    }

    fn try_server(&self, index: usize) -> Candidate {
        let (dialer, server, key) = (self.dialer.clone(), self.servers[index].clone(), self.key.clone());
        async move { FrameCarrier::establish(&*dialer, server, key).await.map(Box::new) }.boxed()
    }

    /// The broadcast is over: tells the server, and waits for the last acknowledgements.
    async fn see_off(&mut self, line: &mut FrameCarrier) -> Ending {
        line.finish();
        settle_until(line, &self.shared, Instant::now() + FINISH).await;
        self.shared.with(|exchange| line.cut_off(exchange));
        Ending::Finished
    }
}

/// Goes on with a connection until all is acknowledged, it ends, or the time is over.
async fn settle_until(line: &mut FrameCarrier, shared: &Shared, mut by: Instant) {
    let mut tick = interval(TICK);
    let mut is_cut_short = false;
    while !line.is_settled() {
        let step = async {
            tokio::select! {
                biased;
                _ = tick.tick() => Ok(()),
                outcome = line.step() => outcome,
            }
        };
        let outcome = tokio::select! {
            biased;
            outcome = timeout_at(by, step) => outcome,
            () = shared.phase.is_cut_short(), if !is_cut_short => {
                is_cut_short = true;
                by = by.min(Instant::now() + CUT_SHORT);
                continue;
            }
        };
        shared.with(|exchange| line.settle(exchange));
        if !matches!(outcome, Ok(Ok(()))) {
            break;
        }
    }
}

/// Sees off a connection that another one has replaced.
async fn retire(mut line: FrameCarrier, shared: Arc<Shared>) {
    line.finish();
    settle_until(&mut line, &shared, Instant::now() + FINISH).await;
    shared.with(|exchange| line.cut_off(exchange));
    part(line, &shared).await;
}

/// Parts from a server after a broadcast; cut short, it is not waited for much longer.
async fn part(line: FrameCarrier, shared: &Shared) {
    let cut_short = async {
        shared.phase.is_cut_short().await;
        sleep(CUT_SHORT).await;
    };
    tokio::select! {
        () = line.part(PARTING) => {}
        () = cut_short => {}
    }
}
