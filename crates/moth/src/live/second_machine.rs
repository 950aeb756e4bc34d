//! `--also`: reads the load of another machine of the same streamer, which runs `moth host`.

use std::time::Duration;

use moth_core::figure::Origin;
use moth_core::machine_load::MachineLoad;
use moth_core::reading::Observation;
use moth_relay::Recorder;
use tokio::time::{MissedTickBehavior, interval};

use crate::failure::Failure;
use crate::outlets::metrics::read_load;

/// How often it is asked. Ours.
const EACH: Duration = Duration::from_secs(1);
/// It answers within this, or not. Ours.
const PATIENCE: Duration = Duration::from_millis(1500);
/// More than this is no load, in bytes. Ours.
const LONGEST: u64 = 256 << 10;

/// Where another machine's load is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Also(String);

impl Also {
    /// From what was given: `http://HOST:PORT`, with or without a path.
    ///
    /// # Errors
    /// [`Failure::Also`].
    pub fn new(given: &str) -> Result<Self, Failure> {
        let wrong = |why: &str| Failure::Also { given: given.chars().take(80).collect(), why: why.to_owned() };
        let uri: axum::http::Uri = given.parse().map_err(|_| wrong("it is no address"))?;
        if uri.scheme_str() != Some("http") || uri.host().is_none_or(str::is_empty) {
            return Err(wrong("it does not begin with http:// and a host"));
        }
        let path = if uri.path().len() > 1 { uri.path() } else { "/metrics" };
        let authority = uri.authority().map_or_else(String::new, ToString::to_string);
        Ok(Self(format!("http://{authority}{path}")))
    }

    /// Reads it for as long as it is polled. When it stops answering, and when it answers again, a remark says so.
    pub async fn read(self, recorder: Recorder) {
        let agent: ureq::Agent = ureq::Agent::config_builder().timeout_global(Some(PATIENCE)).build().into();
        let mut tick = interval(EACH);
        tick.set_missed_tick_behavior(MissedTickBehavior::Delay);
        let mut is_silent = false;
        loop {
            tick.tick().await;
            let (agent, address) = (agent.clone(), self.0.clone());
            let Ok(read) = tokio::task::spawn_blocking(move || ask(&agent, &address)).await else { return };
            let remark = |text: String| recorder.note(Origin::Measured, Observation::Remark { text });
            match read {
                Ok(load) => {
                    if std::mem::replace(&mut is_silent, false) {
                        remark(format!("{} answers again", self.0));
                    }
                    recorder.note(Origin::Measured, Observation::Machine(Box::new(load)));
                }
                Err(why) => {
                    if !std::mem::replace(&mut is_silent, true) {
                        let text = format!("{} cannot be read: {why}", self.0);
                        tracing::warn!("the other machine's load is not known: {text}");
                        remark(text);
                    }
                }
            }
        }
    }
}

fn ask(agent: &ureq::Agent, address: &str) -> Result<MachineLoad, String> {
    let mut answer = agent.get(address).call().map_err(|error| error.to_string())?;
    let text = answer.body_mut().with_config().limit(LONGEST).read_to_string().map_err(|error| error.to_string())?;
    read_load(&text)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_gets_its_path_and_a_wrong_one_a_reason() {
        assert_eq!(Also::new("http://10.0.0.7:9377").unwrap().0, "http://10.0.0.7:9377/metrics");
        assert_eq!(Also::new("http://dome-left:9377/load").unwrap().0, "http://dome-left:9377/load");
        for wrong in ["dome-left:9377", "https://dome-left", "http://", ""] {
            assert!(matches!(Also::new(wrong), Err(Failure::Also { .. })), "{wrong}");
        }
    }
}
