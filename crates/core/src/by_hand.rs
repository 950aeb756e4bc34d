//! What only the user can do: how, step by step, and how to see that it worked.

use crate::action::Action;
use crate::proposal::Proposal;

/// Something to be done by hand. Names are those of programs or servers.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) enum Hand {
    /// Another program on this machine uploads.
    PauseUpload(String),
    /// Something beyond this machine uploads.
    PauseBeyond,
    /// The way to the first router is bad.
    Wire,
    /// The first router does not answer.
    RestartRouter,
    /// The service may be in trouble.
    AskService(String),
    /// The server says no.
    CheckKey,
    /// Another program takes the CPU.
    CloseProgram(Option<String>),
    /// The GPU is full, perhaps by a program known.
    FreeGpu(Option<String>),
    /// The GPU's encoder block is full, perhaps by a program known.
    FreeEncoder(Option<String>),
    /// The machine is too hot.
    Cool,
    /// The disk is too slow.
    OtherDisk,
    /// The scene is too heavy.
    LighterScene,
}

impl Hand {
    /// As a proposal.
    pub(crate) fn proposal(&self) -> Proposal {
        let (advice, expected, steps) = self.texts();
        Proposal {
            title: advice.clone(),
            action: Action::ByHand { advice },
            cost: "by your own hand".into(),
            expected: expected.into(),
            steps: steps.iter().map(|step| self.filled(step)).collect(),
            possible: false,
            dangerous: false,
        }
    }

    fn name(&self) -> &str {
        match self {
            Self::PauseUpload(name) | Self::AskService(name) => name,
            Self::CloseProgram(name) | Self::FreeGpu(name) | Self::FreeEncoder(name) => {
                name.as_deref().unwrap_or("the other program")
            }
            _ => "",
        }
    }

    fn filled(&self, text: &str) -> String {
        text.replace("{name}", self.name())
    }

    fn texts(&self) -> (String, &'static str, &'static [&'static str]) {
        match self {
            Self::PauseUpload(name) => (
                format!("pause {name}, or limit what it uploads"),
                "the line is the broadcast's again at once",
                &[
                    "In {name}, pause the upload; or set a limit of a tenth of the line.",
                    "If it must go on: queue management in the router (fq_codel or CAKE) divides the line fairly.",
                    "It worked if Machine shows no upload by {name}, and the queue and the round trip fall at once.",
                ],
            ),
            Self::PauseBeyond => (
                "pause other devices' uploads and backups; queue management in the router divides fairly".into(),
                "the round trip falls back",
                &[
                    "Look for what else uploads: telephones that save pictures, cloud folders, cameras, other computers.",
                    "Take them off the network one by one, or pause them; watch the round trip after each.",
                    "For good: turn on queue management in the router (fq_codel or CAKE), at 90 % of the upload measured.",
                    "It worked if the round trip falls back and the queue drains; if nothing helps it is the provider's: \
                     Routes keeps the evidence.",
                ],
            ),
            Self::Wire => (
                "use a wire, or go nearer to the access point".into(),
                "the first router answers within a few ms again",
                &[
                    "Put a network cable between this machine and the router. The broadcast reconnects by itself.",
                    "If there is none: nearer to the access point, the 5 or 6 GHz band, away from microwave and motors.",
                    "It worked if Why shows the first router within a few ms, and the dips stop.",
                ],
            ),
            Self::RestartRouter => (
                "look at cable, wireless and router; restart the router".into(),
                "the first router answers again, and the broadcast goes on by itself",
                &[
                    "Look whether the cable is in at both ends, or the wireless connected.",
                    "Take the router's power for ten seconds. It needs one to three minutes to come back.",
                    "It worked if the connection turns from dark to steady; nothing has to be started again here.",
                ],
            ),
            Self::AskService(_) => (
                format!("look at the service's status page: {} may be in trouble", self.name()),
                "either they know of it, or it is between you and them",
                &[
                    "Open the service's status page, and the one of your provider.",
                    "In Routes, ask the other servers: those that answer are worth moving to.",
                    "It worked if the server takes the broadcast again; the moth keeps asking by itself.",
                ],
            ),
            Self::CheckKey => (
                "check the stream key and the address: the server answers and says no".into(),
                "the server takes the broadcast at the next try, by itself",
                &[
                    "Copy the stream key anew from the service's page, and the address with its application.",
                    "Look whether the same key is in use: another broadcaster, or a test that still runs.",
                    "Set it with `moth key set`, and start the moth again with it.",
                    "It worked if the connection turns from dark to steady.",
                ],
            ),
            Self::CloseProgram(_) => (
                format!("close {}, or give it a lower priority", self.name()),
                "frames stop being lost within seconds",
                &[
                    "Close {name}, or let it run after the broadcast.",
                    "If it must go on: lower its priority (`renice 10 -p` with its number), or raise the broadcaster's \
                     (key o).",
                    "It worked if Machine shows the CPU below 90 % and no frame is skipped or lagged any more.",
                ],
            ),
            Self::FreeGpu(Some(_)) => (
                format!("cap the frame rate of {}, or close it", self.name()),
                "frames stop lagging at once",
                &[
                    "In {name}, set a frame rate cap at the broadcast's own rate, and turn vertical synchronisation on.",
                    "Turn its detail down until the GPU is below 90 %; or close it.",
                    "If it began after an update: look at the GPU driver's page for the version before.",
                    "It worked if Machine shows the GPU below 90 % and no frame lags any more.",
                ],
            ),
            Self::FreeGpu(None) => (
                "free the GPU: cap the frame rate of whatever else draws, or choose a lighter scene".into(),
                "frames stop lagging at once",
                &[
                    "Cap the frame rate of whatever else draws at the broadcast's own.",
                    "Close previews, browser windows with video, and second monitors' animations.",
                    "If it began after an update: look at the GPU driver's page for the version before.",
                    "It worked if Machine shows the GPU below 90 % and no frame lags any more.",
                ],
            ),
            Self::FreeEncoder(Some(_)) => (
                format!("end what {} records or streams", self.name()),
                "the encoder block has room again",
                &[
                    "End the recording or stream of {name}: it uses the same encoder block.",
                    "It worked if Machine shows the encoder block below 90 % and no frame is skipped any more.",
                ],
            ),
            Self::FreeEncoder(None) => (
                "encode on the CPU, or lower size or rate".into(),
                "the encoder block has room again",
                &[
                    "In the broadcaster's output settings, choose an encoder on the CPU with a light preset; or",
                    "lower the picture's size or frame rate.",
                    "It worked if no frame is skipped any more, and the CPU stays below 80 %.",
                ],
            ),
            Self::Cool => (
                "let it cool: dust, fan curve, power limit, a cooler room".into(),
                "the clock rises back within a minute",
                &[
                    "Free the openings, and raise the fan curve.",
                    "Lower the power limit or the frame rate of whatever draws most: less heat at once.",
                    "For good: dust, thermal paste, a cooler room.",
                    "It worked if Machine shows the clock near its most and no more slowing down.",
                ],
            ),
            Self::OtherDisk => (
                "record to another disk, or not at all, and stop what else writes".into(),
                "writes take a few ms again",
                &[
                    "End the recording, or send it to another disk.",
                    "Stop copies, virus scans and updates until the broadcast is over.",
                    "It worked if Machine shows writes of a few ms and no frame is skipped any more.",
                ],
            ),
            Self::LighterScene => (
                "choose a lighter scene: fewer sources, filters and browser pages, smaller camera pictures".into(),
                "frames stop lagging at once",
                &[
                    "Switch to a scene with fewer sources; hide browser pages and filters one by one.",
                    "Ask cameras for the size they are shown at, not more.",
                    "It worked if the time to render a frame falls below a frame's length and no frame lags any more.",
                ],
            ),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_handiwork_says_how_and_how_to_see_that_it_worked() {
        let all = [
            Hand::PauseUpload("archive-sync".into()),
            Hand::PauseBeyond,
            Hand::Wire,
            Hand::RestartRouter,
            Hand::AskService("Nocturne".into()),
            Hand::CheckKey,
            Hand::CloseProgram(Some("plate-stitch".into())),
            Hand::CloseProgram(None),
            Hand::FreeGpu(Some("nebula-draw".into())),
            Hand::FreeGpu(None),
            Hand::FreeEncoder(Some("roof-camera".into())),
            Hand::FreeEncoder(None),
            Hand::Cool,
            Hand::OtherDisk,
            Hand::LighterScene,
        ];
        for hand in all {
            let proposal = hand.proposal();
            let last = proposal.steps.last().unwrap();
            assert!(last.starts_with("It worked if"), "{last}");
            assert!(proposal.steps.len() >= 2 && proposal.steps.iter().all(|step| !step.contains('{')), "{hand:?}");
        }
        assert!(Hand::CloseProgram(Some("plate-stitch".into())).proposal().title.starts_with("close plate-stitch"));
    }
}
