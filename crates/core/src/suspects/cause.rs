//! What may be at fault: the stage, and what makes it lose frames.

use serde::{Deserialize, Serialize};

use crate::signal::{self, Signal};

/// Which of the three stages loses frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Fault {
    /// No frame is being lost.
    None,
    /// Encoded, but not carried in time.
    Network,
    /// Never encoded, as the encoder was not done with the last one.
    Encoder,
    /// The scene was not ready in time.
    Rendering,
}

impl Fault {
    /// The word shown, which is also the one in JSON.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::None => "none",
            Self::Network => "network",
            Self::Encoder => "encoder",
            Self::Rendering => "rendering",
        }
    }
}

/// Each cause with all that is said of it in one row, so that none can be forgotten.
macro_rules! causes {
    ($($(#[$doc:meta])* $cause:ident: $slug:literal, $words:literal, $signal:expr, $lift:literal;)*) => {
        /// What makes a stage lose frames.
        #[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
        pub enum Cause {
            $($(#[$doc])* #[serde(rename = $slug)] $cause,)*
        }

        impl Cause {
            /// All of them.
            pub const ALL: &[Self] = &[$(Self::$cause),*];

            /// The slug in JSON.
            #[must_use]
            pub fn slug(self) -> &'static str {
                match self { $(Self::$cause => $slug,)* }
            }

            /// In a few words, for people.
            #[must_use]
            pub fn words(self) -> &'static str {
                match self { $(Self::$cause => $words,)* }
            }

            /// What says most of it, along time.
            #[must_use]
            pub fn signal(self) -> Signal {
                match self { $(Self::$cause => $signal,)* }
            }

            /// What would let a rig bear more that this limits, in a sentence.
            #[must_use]
            pub fn lift(self) -> &'static str {
                match self { $(Self::$cause => $lift,)* }
            }
        }
    };
}

causes! {
    /// The line carries less than is asked of it, and did so from the start.
    LineShort: "line-short", "the bitrate is over the line", Signal::Carried,
        "The line limits this rig: a line with more upload, or one that nobody else uses, would lift it; so may a server that is reached another way (Routes).";
    /// Another program on this machine takes a part of the line.
    UploadHere: "upload-here", "another upload on this machine", signal::UPLOADS,
        "Another program's upload limits it: pause that one, and climb again.";
    /// Something beyond this machine takes a part of the line: another device, or the provider.
    UploadBeyond: "upload-beyond", "an upload beyond this machine", signal::ROUND_TRIP,
        "Somebody else on the line limits it: have the router share the line fairly, or pause what uploads, and climb again.";
    /// The way to the first router carries less than is asked of it.
    LocalLink: "local-link", "the wireless or local link", signal::FIRST_ROUTER,
        "The way to the first router limits it: a cable, or a place nearer to the radio, would lift it.";
    /// The route to this server is narrow; others are reached as before.
    Route: "route", "the route to this server", signal::OTHER_SERVER,
        "The way to this server limits it: another server may be reached better (Routes).";
    /// The server does not read as fast as the line would carry.
    ServerSlow: "server-slow", "the server is too slow", signal::WINDOW_FULL,
        "This server limits it, as it does not read faster: another one may (Routes).";
    /// The server does not answer, or ended the connection.
    ServerAway: "server-away", "the server is away", Signal::Connection,
        "The server was away in the middle: climb again, or on another server.";
    /// The server answers and says no.
    ServerRefuses: "server-refuses", "the server refuses", Signal::Connection,
        "The server was away in the middle: climb again, or on another server.";
    /// The encoder preset takes longer than a frame lasts.
    PresetHeavy: "preset-heavy", "the preset is too heavy", signal::ENCODE_TIME,
        "The encoder limits this rig: a lighter preset, a smaller picture or a lower frame rate would lift it; so would an encoder in the GPU.";
    /// Another program takes the CPU the encoder, or the scene, needs.
    CpuStarved: "cpu-starved", "the CPU is taken by others", signal::OTHER_PROGRAM,
        "Other programs take the CPU: close them, or raise the broadcaster's priority, and climb again.";
    /// The GPU's encoder block has nothing left.
    EncoderFull: "encoder-full", "the GPU's encoder block is full", signal::ENCODER_BLOCK,
        "The GPU's encoder block limits it: a smaller picture or a lower frame rate would lift it, or freeing it of other programs.";
    /// The machine slows itself down because it is hot.
    Heat: "heat", "the machine is too hot", signal::CLOCK,
        "Heat limits it: air and dust first; then climb again.";
    /// Writing a recording holds the broadcaster up.
    Disk: "disk", "the disk is too slow", signal::DISK_WRITE,
        "The disk that is recorded to limits it: record to another, or at a lower bitrate.";
    /// The GPU's rendering engine has nothing left.
    GpuSaturated: "gpu-saturated", "the GPU is full", signal::GPU,
        "The GPU limits it: a lighter scene, a cap on its frame rate, or freeing it of other programs would lift it.";
    /// The scene takes longer than a frame lasts though the GPU is not full.
    SceneHeavy: "scene-heavy", "the scene is too heavy", signal::RENDER_TIME,
        "The scene limits it: fewer or lighter sources would lift it.";
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_cause_is_written_as_its_slug_and_read_back() {
        for cause in Cause::ALL {
            let json = serde_json::to_string(cause).unwrap();
            assert_eq!(json, format!("{:?}", cause.slug()));
            assert_eq!(serde_json::from_str::<Cause>(&json).unwrap(), *cause);
        }
    }
}
