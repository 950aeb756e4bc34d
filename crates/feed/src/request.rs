//! What a broadcaster is asked for.

use moth_core::action::Action;
use moth_core::frame_rate::FrameRate;
use serde::Serialize;

/// A request, as a line of JSON.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(tag = "set", rename_all = "lowercase")]
pub enum Request {
    /// Another video bitrate.
    Bitrate {
        /// Which request this is: the answer names it.
        request: u64,
        /// Bits per second.
        video_bps: u64,
    },
    /// Another encoder preset.
    Preset {
        /// Which request this is.
        request: u64,
        /// `lighter`: the next one that takes less time; `heavier`: the next one that takes more.
        step: &'static str,
    },
    /// Another picture size.
    Size {
        /// Which request this is.
        request: u64,
        /// Width in pixels.
        width: u32,
        /// Height in lines.
        height: u32,
    },
    /// Another frame rate.
    Rate {
        /// Which request this is.
        request: u64,
        /// Frames per second.
        fps: FrameRate,
    },
}

impl Request {
    /// The request an action comes to; `None` if no broadcaster is asked for it.
    #[must_use]
    pub fn of(request: u64, action: &Action) -> Option<Self> {
        Some(match action {
            Action::SetBitrate { video } => Self::Bitrate { request, video_bps: video.bps() },
            Action::LighterPreset => Self::Preset { request, step: "lighter" },
            Action::HeavierPreset => Self::Preset { request, step: "heavier" },
            Action::SetSize { width, height } => Self::Size { request, width: *width, height: *height },
            Action::SetRate { fps } => Self::Rate { request, fps: *fps },
            // The rest is done elsewhere.
            _ => return None,
        })
    }

    /// As a line, its end included.
    #[must_use]
    pub fn line(&self) -> Vec<u8> {
        // A struct of numbers and fixed words is always JSON.
        let mut line = serde_json::to_vec(self).unwrap_or_default();
        line.push(b'\n');
        line
    }
}

/// What became of a request.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Answer {
    /// Which.
    pub request: u64,
    /// Why it was not done; `None` if it was.
    pub failed: Option<String>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::rate::Bitrate;

    #[test]
    fn requests_are_lines_of_json() {
        let line = |action: &Action| String::from_utf8(Request::of(7, action).unwrap().line()).unwrap();
        assert_eq!(
            line(&Action::SetBitrate { video: Bitrate::from_kbps(2500) }),
            "{\"set\":\"bitrate\",\"request\":7,\"video_bps\":2500000}\n"
        );
        assert_eq!(line(&Action::LighterPreset), "{\"set\":\"preset\",\"request\":7,\"step\":\"lighter\"}\n");
        assert_eq!(line(&Action::HeavierPreset), "{\"set\":\"preset\",\"request\":7,\"step\":\"heavier\"}\n");
        assert_eq!(
            line(&Action::SetSize { width: 1280, height: 720 }),
            "{\"set\":\"size\",\"request\":7,\"width\":1280,\"height\":720}\n"
        );
        assert_eq!(
            line(&Action::SetRate { fps: FrameRate::whole(30) }),
            "{\"set\":\"rate\",\"request\":7,\"fps\":30}\n"
        );
        assert_eq!(Request::of(1, &Action::SwitchServer { server: "Aldmoor".into() }), None);
    }
}
