//! `moth key`: keeping, replacing and forgetting a service's stream key.

use std::io::{self, IsTerminal, Read};

use jiff::Timestamp;
use moth_destination::StreamKey;
use moth_destination::key::MAX_KEY_BYTES;

use crate::cli::{KeyDeed, KeyOptions, SetupInUseOptions};
use crate::failure::Failure;
use crate::failure::Outcome;
use crate::setup_in_use::{KeyStatus, SetupInUse};
use crate::system::out;

/// Does what was asked with a key.
///
/// # Errors
/// [`Failure`] if there is no such service, or the key cannot be used or kept. The key is in none of them.
pub fn run(options: &KeyOptions, in_use: &SetupInUseOptions) -> Outcome {
    let mut in_use = SetupInUse::open(in_use)?;
    if let Some(name) = &options.service {
        let known = || in_use.config.services.keys().cloned().collect::<Vec<_>>().join(", ");
        let service = in_use.config.services.get(name).cloned();
        in_use.service = service.ok_or_else(|| Failure::NotAService { known: known() })?;
        in_use.service_name.clone_from(name);
    }
    match options.deed {
        KeyDeed::Show => {}
        KeyDeed::Set => {
            let key = ask(&in_use.service.name)?;
            in_use.keys.replace(&in_use.service_name, &key)?;
        }
        KeyDeed::Forget => {
            in_use.keys.forget(&in_use.service_name)?;
        }
    }
    out::text(&format!("{}: {}\n", in_use.service.name, status(in_use.key_status())))
}

/// Whether a key is set, and its last change.
#[must_use]
pub fn status(status: KeyStatus) -> String {
    match status {
        KeyStatus::Environment => format!("the stream key comes from {}", crate::setup_in_use::key_source::VARIABLE),
        KeyStatus::Named => "the stream key was named on the command line, and is kept nowhere".into(),
        KeyStatus::Command => "the stream key comes from your command".into(),
        KeyStatus::Kept(changed) => {
            let date = Timestamp::try_from(changed).map_or_else(|_| "at an unknown time".into(), out::date);
            format!("a stream key is set, last changed {date}")
        }
        KeyStatus::Missing => "no stream key is set".into(),
    }
}

fn ask(service: &str) -> Result<StreamKey, Failure> {
    let failed = || Failure::system("the stream key could not be read");
    let text = if io::stdin().is_terminal() {
        rpassword::prompt_password(format!("Stream key of {service} (it is not shown): ")).map_err(failed())?
    } else {
        let mut text = String::new();
        io::stdin().lock().take(MAX_KEY_BYTES as u64 + 64).read_to_string(&mut text).map_err(failed())?;
        text
    };
    StreamKey::new(&text).map_err(|error| Failure::Key { origin: "what was entered".into(), error })
}
