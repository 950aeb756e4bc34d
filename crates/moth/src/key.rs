//! `moth key`: keeping, replacing and forgetting a service's stream key.

use std::io::{self, IsTerminal, Read};

use jiff::Timestamp;
use moth_destination::StreamKey;
use moth_destination::key::MAX_KEY_BYTES;

use crate::cli::{KeyDeed, KeyOptions, KitOptions};
use crate::failure::Failure;
use crate::kit::{KeyStatus, Kit};
use crate::{Outcome, out};

/// Does what was asked with a key.
///
/// # Errors
/// [`Failure`] if there is no such service, or the key cannot be used or kept. The key is in none of them.
pub fn run(options: &KeyOptions, kit: &KitOptions) -> Outcome {
    let mut kit = Kit::open(kit)?;
    if let Some(name) = &options.service {
        let known = || kit.config.services.keys().cloned().collect::<Vec<_>>().join(", ");
        let service = kit.config.services.get(name).cloned();
        kit.service = service.ok_or_else(|| Failure::NotAService { known: known() })?;
        kit.service_name.clone_from(name);
    }
    match options.deed {
        KeyDeed::Show => {}
        KeyDeed::Set => {
            let key = ask(&kit.service.name)?;
            kit.keys.replace(&kit.service_name, &key)?;
        }
        KeyDeed::Forget => {
            kit.keys.forget(&kit.service_name)?;
        }
    }
    out::text(&format!("{}: {}\n", kit.service.name, status(kit.key_status())))
}

/// Whether a key is set, and its last change.
#[must_use]
pub fn status(status: KeyStatus) -> String {
    match status {
        KeyStatus::Environment => format!("the stream key comes from {}", crate::key_source::VARIABLE),
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
