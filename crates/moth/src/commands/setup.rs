//! `moth setup`: what setups there are, and which is in use.

use std::fmt::Write;

use moth_store::config::{ConfigFile, TEMPLATE};

use crate::cli::{SetupInUseOptions, SetupOptions};
use crate::failure::Outcome;
use crate::setup_in_use;
use crate::system::out;

/// Writes the configuration if there is none, chooses a setup if one is named, and tells what there is.
///
/// # Errors
/// [`crate::failure::Failure`] if the configuration cannot be read or written.
pub fn run(options: &SetupOptions, in_use: &SetupInUseOptions) -> Outcome {
    if options.example {
        return out::text(TEMPLATE);
    }
    let file = ConfigFile::at(setup_in_use::places(in_use)?.config);
    let created = file.create()?;
    let config = match options.name.as_ref().or(in_use.setup.as_ref()) {
        Some(name) => file.choose(name)?,
        None => file.read()?,
    };
    let mut text = String::new();
    let what = if created { "written, with a made-up service to put yours in the place of" } else { "read" };
    let _ = writeln!(text, "{} ({what})", file.path().display());
    for (name, setup) in &config.setups {
        let mark = if config.setup.as_ref() == Some(name) { '▸' } else { ' ' };
        let service = config.services.get(&setup.service).map_or("", |service| service.name.as_str());
        let _ = writeln!(
            text,
            "{mark} {name}: {service}, server {}; {} at {} frames/s, {} of video and {} of audio",
            setup.server, setup.size, setup.rate, setup.bitrate, setup.audio
        );
    }
    out::text(&text)
}
