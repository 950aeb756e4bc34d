//! What is only named on the command line, as if it were a setup: kept nowhere, until the user wants it.

use moth_destination::StreamKey;
use moth_plan::service::{IngestServer, Limits, Service};
use moth_plan::setup::{ServerChoice, Setup};
use moth_relay::Server;
use moth_store::config::{ConfigFile, ServiceEntry, SetupEntry, free_name};
use moth_store::keys::Keys;
use moth_store::rehearsals::Rehearsals;
use moth_store::results::Results;

use super::{SetupInUse, places};
use crate::cli::SetupInUseOptions;
use crate::failure::Failure;

impl SetupInUse {
    /// Servers and a key that were named; whatever else a setup says is as services commonly take it.
    ///
    /// # Errors
    /// [`Failure`] if this user has no home folder to keep results in.
    pub(crate) fn named(options: &SetupInUseOptions, servers: &[Server], key: StreamKey) -> Result<Self, Failure> {
        let places = places(options)?;
        let file = ConfigFile::at(places.config);
        // One that cannot be read does not matter to what is named.
        let config = file.read().unwrap_or_default();
        let name = servers.first().map_or_else(String::new, |server| server.name.clone());
        let plain =
            |server: &Server| IngestServer { name: server.name.clone(), address: server.address.clone(), region: None };
        let service = Service {
            name: name.clone(),
            servers: servers.iter().map(plain).collect(),
            limits: Limits::default(),
            takes_two: true,
            unseen: None,
            delay_s: None,
            key_command: None,
        };
        let setup = Setup { service: name.clone(), server: ServerChoice::Named(name.clone()), ..Setup::default() };
        Ok(Self {
            keys: Keys::below(&places.data),
            results: Results::below(&places.data),
            rehearsals: Rehearsals::below(&places.data),
            setup_name: name.clone(),
            service_name: name,
            file,
            config,
            setup,
            service,
            named: Some(key),
        })
    }

    /// Whether it is only named on the command line.
    #[must_use]
    pub fn is_named(&self) -> bool {
        self.named.is_some()
    }

    /// Keeps what was named as a setup, with what is known of what is sent, and its key where keys are kept.
    ///
    /// # Errors
    /// [`Failure`] if that cannot be written; it then still is only named. A setup whose key could not be kept is there, and lacks it.
    pub(crate) fn keep_named(&mut self, sends: &SetupEntry) -> Result<(), Failure> {
        let Some(key) = &self.named else { return Ok(()) };
        let entry =
            ServiceEntry { name: self.service.name.clone(), servers: self.service.servers.clone(), video_limit: None };
        let service = free_name(&entry.name, "service", self.config.services.keys());
        let setup = free_name(&entry.name, "evening", self.config.setups.keys());
        self.config = self.file.put((&service, &entry), (&setup, sends))?;
        self.keys.replace(&service, key)?;
        (self.setup, self.service) = Self::take(&self.config, &setup, self.file.path())?;
        (self.setup_name, self.service_name, self.named) = (setup, service, None);
        Ok(())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::rate::Bitrate;
    use moth_plan::text::Size;
    use moth_store::config::Change;

    #[test]
    fn what_is_named_is_kept_nowhere_until_it_is_wanted() {
        let dir = tempfile::tempdir().unwrap();
        let options = SetupInUseOptions { config: Some(dir.path().join("moth.toml")), setup: None };
        let server = |host: &str| Server {
            name: format!("{host}:1935"),
            address: format!("rtmp://{host}/app").parse().unwrap(),
        };
        let servers = [server("east.hill.invalid"), server("west.hill.invalid")];
        let key = StreamKey::new("orbit-77").unwrap();
        let mut in_use = SetupInUse::named(&options, &servers, key).unwrap();
        in_use.change(&Change::Server(ServerChoice::Named("west.hill.invalid:1935".into()))).unwrap();
        assert_eq!(in_use.servers().unwrap()[0].name, "west.hill.invalid:1935");
        assert_eq!(in_use.key(None).unwrap().expose(), "orbit-77");
        assert!(in_use.is_named() && !dir.path().join("moth.toml").exists());
        let sends = SetupEntry {
            bitrate: Bitrate::from_kbps(3000),
            audio: Bitrate::from_kbps(128),
            size: Size::new(1280, 720),
            rate: 30.0,
        };
        in_use.keep_named(&sends).unwrap();
        let again = SetupInUse::open(&options).unwrap();
        assert_eq!((again.setup_name.as_str(), again.service.servers.len()), ("east-hill-invalid-1935", 2));
        assert_eq!(again.setup.bitrate, Bitrate::from_kbps(3000));
        assert_eq!(again.key(None).unwrap().expose(), "orbit-77");
        assert!(
            !in_use.is_named() && !std::fs::read_to_string(dir.path().join("moth.toml")).unwrap().contains("orbit")
        );
    }
}
