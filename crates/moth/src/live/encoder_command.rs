//! A broadcaster that the moth runs itself: an encoder's command line, run again with other values when something is
//! changed. The relay keeps its place on air meanwhile, so the server notices nothing but the pause.

use std::time::Duration;

use moth_core::action::Action;
use moth_core::figure::Origin;
use moth_core::frame_rate::FrameRate;
use moth_core::rate::Bitrate;
use moth_core::reading::{Observation, StreamFacts};
use moth_plan::setup::Setup;
use moth_plan::text::Size;
use moth_relay::{Recorder, RelayHandle};
use tokio::sync::mpsc;
use tokio::time::{sleep, timeout};

use crate::system::child::{self, Group};

/// An encoder gets this long to end when asked to, and then is ended. Ours.
const ENDS: Duration = Duration::from_secs(3);
/// An encoder that was begun gets this long to publish. Ours.
const PUBLISHES: Duration = Duration::from_secs(20);
/// One that ended by itself is run again after this. Ours.
const AGAIN: Duration = Duration::from_secs(2);

/// A name to publish under that no other moth uses.
#[must_use]
pub fn name_of_its_own() -> String {
    let now = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH).unwrap_or_default();
    format!("moth-{}-{:x}", std::process::id(), now.as_micros())
}

/// What a command's placeholders stand for.
#[derive(Debug, Clone, PartialEq)]
pub struct Values {
    /// Video bitrate.
    pub video: Bitrate,
    /// The picture's size.
    pub size: Size,
    /// Frames per second.
    pub fps: FrameRate,
    /// The encoder's preset.
    pub preset: Option<String>,
}

impl Values {
    /// The values a setup is written with.
    #[must_use]
    pub fn of(setup: &Setup) -> Self {
        Self {
            video: setup.bitrate,
            size: setup.size,
            fps: FrameRate::from_fps(setup.rate),
            preset: setup.preset.clone(),
        }
    }

    /// A command line with its placeholders filled in.
    #[must_use]
    pub fn fill(&self, command: &[String], publish: &str) -> Vec<String> {
        let fill = |part: &String| {
            part.replace("{publish}", publish)
                .replace("{bitrate}", &format!("{}k", self.video.bps() / 1000))
                .replace("{bitrate_bps}", &self.video.bps().to_string())
                .replace("{size}", &format!("{}x{}", self.size.width, self.size.height))
                .replace("{width}", &self.size.width.to_string())
                .replace("{height}", &self.size.height.to_string())
                .replace("{rate}", &self.fps.to_string())
                .replace("{preset}", self.preset.as_deref().unwrap_or_default())
        };
        command.iter().map(fill).collect()
    }

    /// These with one changed, and what puts it back; or why that cannot be.
    fn with(&self, action: &Action, presets: &[String]) -> Result<(Self, Action), String> {
        let mut next = self.clone();
        let back = match action {
            Action::SetBitrate { video } => {
                next.video = *video;
                Action::SetBitrate { video: self.video }
            }
            Action::SetSize { width, height } => {
                next.size = Size::new(*width, *height);
                Action::SetSize { width: self.size.width, height: self.size.height }
            }
            Action::SetRate { fps } => {
                next.fps = *fps;
                Action::SetRate { fps: self.fps }
            }
            Action::LighterPreset | Action::HeavierPreset => {
                let is_lighter = *action == Action::LighterPreset;
                let at = presets.iter().position(|p| Some(p) == self.preset.as_ref());
                let to = at.and_then(|at| if is_lighter { at.checked_sub(1) } else { Some(at + 1) });
                let preset = to.and_then(|to| presets.get(to)).cloned();
                next.preset = Some(preset.ok_or(if is_lighter {
                    "this is the lightest of the setup's presets"
                } else {
                    "this is the heaviest of the setup's presets"
                })?);
                if is_lighter { Action::HeavierPreset } else { Action::LighterPreset }
            }
            _ => return Err("an encoder command takes no such change".into()),
        };
        Ok((next, back))
    }
}

/// Tells a running encoder command what to do.
#[derive(Debug, Clone)]
pub struct EncoderOrders {
    orders: mpsc::UnboundedSender<Action>,
    takes: StreamFacts,
}

impl EncoderOrders {
    /// Asks for a change; what comes of it arrives as a reading. `false` if it takes no such change.
    #[must_use]
    pub fn ask(&self, action: &Action) -> bool {
        let taken = match action {
            Action::SetBitrate { .. } => true,
            Action::LighterPreset | Action::HeavierPreset => self.takes.takes_preset,
            Action::SetSize { .. } => self.takes.takes_size,
            Action::SetRate { .. } => self.takes.takes_rate,
            _ => false,
        };
        taken && self.orders.send(action.clone()).is_ok()
    }
}

/// An encoder command to be run.
pub struct EncoderCommand {
    command: Vec<String>,
    presets: Vec<String>,
    publish: String,
    values: Values,
    relay: RelayHandle,
    recorder: Recorder,
    orders: mpsc::UnboundedReceiver<Action>,
}

impl EncoderCommand {
    /// The command of a setup that publishes to this address, and how it is told what to do.
    #[must_use]
    pub fn new(setup: &Setup, publish: String, relay: RelayHandle, recorder: Recorder) -> (Self, EncoderOrders) {
        let choice = &setup.broadcaster;
        let has = |what: &str| choice.command.iter().any(|part| part.contains(what));
        let takes = StreamFacts {
            takes_bitrate: true,
            takes_preset: has("{preset}"),
            takes_size: has("{size}") || has("{width}"),
            takes_rate: has("{rate}"),
            restarts: true,
            ..StreamFacts::default()
        };
        recorder.note(Origin::Reported, Observation::Stream(takes));
        let (order, orders) = mpsc::unbounded_channel();
        let this = Self {
            command: choice.command.clone(),
            presets: choice.presets.clone(),
            publish,
            values: Values::of(setup),
            relay,
            recorder,
            orders,
        };
        (this, EncoderOrders { orders: order, takes })
    }

    /// Runs it for as long as it is polled.
    pub async fn run(mut self) {
        loop {
            let mut child = match self.start() {
                Ok(child) => child,
                Err(why) => {
                    self.remark(format!("the encoder command cannot be run: {why}"));
                    // Something may be mended meanwhile: a path, a device.
                    sleep(5 * AGAIN).await;
                    continue;
                }
            };
            loop {
                tokio::select! {
                    ended = child.wait() => {
                        let status = ended.map_or_else(|error| error.to_string(), |status| status.to_string());
                        self.remark(format!("the encoder command ended ({status}){}", last_words(&child)));
                        sleep(AGAIN).await;
                        self.place_is_free().await;
                        break;
                    }
                    order = self.orders.recv() => {
                        let Some(action) = order else { return };
                        child = match self.change(child, &action).await {
                            Some(child) => child,
                            None => break,
                        };
                    }
                }
            }
        }
    }

    fn remark(&self, text: String) {
        tracing::warn!("{text}");
        self.recorder.note(Origin::Measured, Observation::Remark { text });
    }

    /// Waits while another broadcaster holds the place: an encoder that is refused would only be started again and again. What is
    /// asked for meanwhile is not done, and that is said.
    async fn place_is_free(&mut self) {
        let mut peer = self.relay.broadcaster_peer();
        let Some(holder) = *peer.borrow_and_update() else { return };
        let held = format!("a broadcaster from {holder} holds the place");
        self.remark(format!("the encoder command is not started again while {held}; end that one to let it in"));
        loop {
            tokio::select! {
                // Only the end of the program lets it go.
                _ = peer.wait_for(Option::is_none) => return,
                order = self.orders.recv() => match order {
                    Some(action) => self.done(&action, Some(format!("the encoder does not run: {held}")), None),
                    None => return,
                },
            }
        }
    }

    fn start(&self) -> Result<Group, String> {
        let line = self.values.fill(&self.command, &self.publish);
        let (program, arguments) = line.split_first().ok_or("it is empty")?;
        let mut command = child::command(program);
        command.args(arguments);
        Group::start(command).map_err(|error| format!("`{program}`: {error}"))
    }

    /// Runs it again with something changed; as it was, if that does not publish. `None` if not even that runs.
    async fn change(&mut self, child: Group, action: &Action) -> Option<Group> {
        let (next, back) = match self.values.with(action, &self.presets) {
            Ok(found) => found,
            Err(why) => {
                self.done(action, Some(why), None);
                return Some(child);
            }
        };
        let before = std::mem::replace(&mut self.values, next);
        match self.run_anew(child).await {
            Ok(child) => {
                self.done(action, None, Some(back));
                Some(child)
            }
            Err((why, failed)) => {
                self.values = before;
                self.done(action, Some(format!("{why}; it runs as before")), None);
                match failed {
                    Some(child) => self.run_anew(child).await.ok(),
                    None => self.start().ok(),
                }
            }
        }
    }

    fn done(&self, action: &Action, failed: Option<String>, back: Option<Action>) {
        self.recorder.note(Origin::Measured, Observation::Acted { action: action.clone(), failed, back });
    }

    /// Ends it, begins again, and waits until it publishes.
    async fn run_anew(&self, child: Group) -> Result<Group, (String, Option<Group>)> {
        self.relay.expect_another(Some(ENDS + PUBLISHES));
        child.end(ENDS).await;
        let mut peer = self.relay.broadcaster_peer();
        let left = timeout(ENDS, peer.wait_for(Option::is_none)).await.is_ok_and(|left| left.is_ok());
        if !left {
            tracing::warn!("another broadcaster is on air; the encoder command is run beside it");
        }
        let mut resumed = self.relay.resumed();
        resumed.mark_unchanged();
        let mut child = self.start().map_err(|why| (why, None))?;
        tokio::select! {
            // Some connect before they know whether they can encode: it is the first message that counts.
            published = timeout(PUBLISHES, resumed.changed()) => match published {
                Ok(_) => Ok(child),
                Err(_) => Err((format!("it did not publish within {} s", PUBLISHES.as_secs()), Some(child))),
            },
            ended = child.wait() => {
                let status = ended.map_or_else(|error| error.to_string(), |status| status.to_string());
                Err((format!("with that it ended at once ({status}){}", last_words(&child)), None))
            }
        }
    }
}

fn last_words(child: &Group) -> String {
    let said = child.said();
    if said.is_empty() { said } else { format!(": {said}") }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn values() -> Values {
        values_at(60.0)
    }

    fn values_at(fps: f64) -> Values {
        let preset = Some("veryfast".to_owned());
        Values { video: Bitrate::from_kbps(4500), size: Size::new(1280, 720), fps: FrameRate::from_fps(fps), preset }
    }

    #[test]
    fn placeholders_are_filled_in_wherever_they_stand() {
        let command = ["enc", "-b:v", "{bitrate}", "rate={rate}:bps={bitrate_bps}", "{size}", "{preset}", "{publish}"];
        let line = values().fill(&command.map(str::to_owned), "rtmp://127.0.0.1:19350/moth/x");
        let expected = ["enc", "-b:v", "4500k", "rate=60:bps=4500000", "1280x720", "veryfast"];
        assert_eq!(line[..6], expected.map(str::to_owned));
        assert_eq!(line[6], "rtmp://127.0.0.1:19350/moth/x");
    }

    #[test]
    fn every_change_knows_what_puts_it_back_exactly() {
        let presets = ["superfast", "veryfast", "faster"].map(str::to_owned);
        let changes = [
            Action::SetBitrate { video: Bitrate::from_kbps(3000) },
            Action::SetSize { width: 960, height: 540 },
            Action::SetRate { fps: FrameRate::whole(30) },
            Action::LighterPreset,
            Action::HeavierPreset,
        ];
        for action in changes {
            let (changed, back) = values().with(&action, &presets).unwrap();
            assert_ne!(changed, values(), "{action:?}");
            assert_eq!(changed.with(&back, &presets).unwrap(), (values(), action.clone()));
            // Many rates are not whole.
            let (changed, back) = values_at(60.0 / 1.001).with(&action, &presets).unwrap();
            let (again, _) = changed.with(&back, &presets).unwrap();
            assert_eq!(again.fill(&["{rate}".to_owned()], ""), ["59.94"]);
        }
        let (lightest, _) = values().with(&Action::LighterPreset, &presets).unwrap();
        assert!(lightest.with(&Action::LighterPreset, &presets).unwrap_err().contains("lightest"));
        assert!(values().with(&Action::SetPriority { nice: 0 }, &presets).is_err());
    }
}
