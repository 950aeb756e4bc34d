//! Where the platform keeps a program's files.

use std::path::PathBuf;

use directories::ProjectDirs;

/// The folder's name, in the platform's own spelling.
const APPLICATION: &str = "vigilant-moth";

/// The folders of this user. `None` on a system that has no home folder.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Places {
    /// The configuration's file (`~/.config/vigilant-moth/moth.toml` on Linux).
    pub config: PathBuf,
    /// The folder of keys and results (`~/.local/share/vigilant-moth` on Linux).
    pub data: PathBuf,
}

impl Places {
    /// The usual ones.
    #[must_use]
    pub fn usual() -> Option<Self> {
        let found = ProjectDirs::from("", "", APPLICATION)?;
        Some(Self { config: found.config_dir().join("moth.toml"), data: found.data_dir().to_owned() })
    }

    /// With the configuration in another file, what belongs to it is kept beside it, so that one who tries something
    /// out does not touch what is used every evening.
    #[must_use]
    pub fn beside(config: PathBuf) -> Self {
        let data = config.with_extension("data");
        Self { config, data }
    }
}
