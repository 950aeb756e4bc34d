//! What may be at fault: the stage, and what makes it lose frames.

use serde::{Deserialize, Serialize};

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

/// What makes a stage lose frames.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Cause {
    /// The line carries less than is asked of it, and did so from the start.
    LineShort,
    /// Another program on this machine takes a part of the line.
    UploadHere,
    /// Something beyond this machine takes a part of the line: another device, or the provider.
    UploadBeyond,
    /// The way to the first router carries less than is asked of it.
    LocalLink,
    /// The route to this server is narrow; others are reached as before.
    Route,
    /// The server does not read as fast as the line would carry.
    ServerSlow,
    /// The server does not answer, or ended the connection.
    ServerAway,
    /// The server answers and says no.
    ServerRefuses,
    /// The encoder preset takes longer than a frame lasts.
    PresetHeavy,
    /// Another program takes the CPU the encoder, or the scene, needs.
    CpuStarved,
    /// The GPU's encoder block has nothing left.
    EncoderFull,
    /// The machine slows itself down because it is hot.
    Heat,
    /// Writing a recording holds the broadcaster up.
    Disk,
    /// The GPU's rendering engine has nothing left.
    GpuSaturated,
    /// The scene takes longer than a frame lasts though the GPU is not full.
    SceneHeavy,
}

impl Cause {
    /// All of them.
    pub const ALL: [Self; 15] = [
        Self::LineShort,
        Self::UploadHere,
        Self::UploadBeyond,
        Self::LocalLink,
        Self::Route,
        Self::ServerSlow,
        Self::ServerAway,
        Self::ServerRefuses,
        Self::PresetHeavy,
        Self::CpuStarved,
        Self::EncoderFull,
        Self::Heat,
        Self::Disk,
        Self::GpuSaturated,
        Self::SceneHeavy,
    ];

    /// The slug in JSON.
    #[must_use]
    pub fn slug(self) -> &'static str {
        match self {
            Self::LineShort => "line-short",
            Self::UploadHere => "upload-here",
            Self::UploadBeyond => "upload-beyond",
            Self::LocalLink => "local-link",
            Self::Route => "route",
            Self::ServerSlow => "server-slow",
            Self::ServerAway => "server-away",
            Self::ServerRefuses => "server-refuses",
            Self::PresetHeavy => "preset-heavy",
            Self::CpuStarved => "cpu-starved",
            Self::EncoderFull => "encoder-full",
            Self::Heat => "heat",
            Self::Disk => "disk",
            Self::GpuSaturated => "gpu-saturated",
            Self::SceneHeavy => "scene-heavy",
        }
    }

    /// In a few words, for people.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::LineShort => "the bitrate is over the line",
            Self::UploadHere => "another upload on this machine",
            Self::UploadBeyond => "an upload beyond this machine",
            Self::LocalLink => "the wireless or local link",
            Self::Route => "the route to this server",
            Self::ServerSlow => "the server is too slow",
            Self::ServerAway => "the server is away",
            Self::ServerRefuses => "the server refuses",
            Self::PresetHeavy => "the preset is too heavy",
            Self::CpuStarved => "the CPU is taken by others",
            Self::EncoderFull => "the GPU's encoder block is full",
            Self::Heat => "the machine is too hot",
            Self::Disk => "the disk is too slow",
            Self::GpuSaturated => "the GPU is full",
            Self::SceneHeavy => "the scene is too heavy",
        }
    }
}
