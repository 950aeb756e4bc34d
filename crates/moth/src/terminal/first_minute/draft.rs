//! What is entered of a service and a setup, before it is written down.

use std::collections::BTreeMap;

use moth_core::frame_rate::FrameRate;
use moth_core::rate::{Bitrate, grouped};
use moth_destination::{Address, StreamKey};
use moth_plan::service::{IngestServer, Service};
use moth_plan::setup::Setup;
use moth_plan::text::Size;
use moth_store::config::{Config, ServiceEntry, SetupEntry, free_name};
use tui_input::Input;

use crate::cli::meant;
use crate::terminal::dialogs::Typed;

/// Longer texts are not taken, in characters. Ours: a page of addresses.
pub(super) const LONGEST: usize = 4000;

/// What can be entered.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Slot {
    Name,
    Limit,
    Server,
    Key,
    Bitrate,
    Size,
    Rate,
    Audio,
    /// Another name for a setup.
    SetupName,
}

/// What became of what was typed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Read {
    /// Nothing was typed: what is used then.
    Empty(String),
    /// It is understood: what it is taken as.
    Good(String),
    /// It cannot be taken: why.
    Wrong(String),
}

/// A service and a setup in the making.
#[derive(Debug, Default)]
pub(super) struct Draft {
    typed: BTreeMap<Slot, Input>,
    /// Shown nowhere.
    pub key: Typed,
    pub servers: Vec<IngestServer>,
    /// Their names in the file, once they are in it.
    pub service: Option<String>,
    pub setup: Option<String>,
}

impl Draft {
    /// As a setup stands in the file.
    pub(super) fn of(config: &Config, name: &str) -> Option<Self> {
        let setup = config.setups.get(name)?;
        let service = config.services.get(&setup.service)?;
        let mut draft = Self {
            servers: service.servers.clone(),
            service: Some(setup.service.clone()),
            setup: Some(name.to_owned()),
            ..Self::default()
        };
        draft.put(Slot::Name, &service.name);
        draft.put(Slot::Limit, &service.limits.video().map_or_else(String::new, Bitrate::to_text));
        draft.put(Slot::Bitrate, &setup.bitrate.to_text());
        draft.put(Slot::Audio, &setup.audio.to_text());
        draft.put(Slot::Size, &format!("{}x{}", setup.size.width, setup.size.height));
        draft.put(Slot::Rate, &setup.rate.to_string());
        Some(draft)
    }

    pub(super) fn put(&mut self, slot: Slot, text: &str) {
        self.typed.insert(slot, Input::new(text.to_owned()));
    }

    pub(super) fn input(&self, slot: Slot) -> Input {
        self.typed.get(&slot).cloned().unwrap_or_default()
    }

    pub(super) fn input_mut(&mut self, slot: Slot) -> &mut Input {
        self.typed.entry(slot).or_default()
    }

    fn text(&self, slot: Slot) -> &str {
        self.typed.get(&slot).map_or("", |input| input.value().trim())
    }

    /// What becomes of what is typed there.
    pub(super) fn read(&self, slot: Slot) -> Read {
        let (text, usual) = (self.text(slot), Setup::default());
        let rate = |usual: &str| match (text, self.rate(slot)) {
            ("", _) => Read::Empty(usual.to_owned()),
            (_, Ok((rate, said))) => {
                let kbps = format!("{} kb/s", grouped(rate.bps() / 1000));
                Read::Good(said.map_or_else(|| kbps.clone(), |said| format!("{kbps} ({said})")))
            }
            (_, Err(why)) => Read::Wrong(why),
        };
        match slot {
            Slot::Name if text.is_empty() => Read::Empty("a name for you to know it by".into()),
            Slot::Name => Read::Good(String::new()),
            Slot::Limit => rate("not known: it can be entered later"),
            Slot::Bitrate => rate(&format!("{} kb/s", grouped(usual.bitrate.bps() / 1000))),
            Slot::Audio => rate(&format!("{} kb/s", grouped(usual.audio.bps() / 1000))),
            Slot::Server => match servers_in(self.input(slot).value()) {
                Ok(servers) if servers.is_empty() => Read::Empty(match self.servers.len() {
                    0 => "rtmp://HOST/APP, as your service shows it".into(),
                    _ => "another one, or Enter to go on".into(),
                }),
                Ok(servers) if servers.len() == 1 => Read::Good(String::new()),
                Ok(servers) => Read::Good(format!("{} servers", servers.len())),
                Err(why) => Read::Wrong(why),
            },
            Slot::Key => match self.key.key() {
                None => Read::Empty("it is not shown, not even by its length".into()),
                Some(Ok(_)) => Read::Good("something is typed; it is not shown".into()),
                Some(Err(error)) => Read::Wrong(error.to_string()),
            },
            Slot::Size if text.is_empty() => Read::Empty(usual.size.to_string()),
            Slot::Size => text
                .parse::<Size>()
                .map_or_else(|error| Read::Wrong(error.to_string()), |size| Read::Good(size.to_string())),
            Slot::Rate if text.is_empty() => Read::Empty(usual.rate.to_string()),
            Slot::Rate => match text.parse::<FrameRate>() {
                Ok(rate) => Read::Good(format!("{} frames/s", rate.fps())),
                Err(_) => Read::Wrong("expected frames per second from 1 to 240, like 30 or 59.94".into()),
            },
            Slot::SetupName if text.is_empty() => Read::Empty("small letters, digits and hyphens".into()),
            Slot::SetupName => Read::Good(String::new()),
        }
    }

    fn rate(&self, slot: Slot) -> Result<(Bitrate, Option<&'static str>), String> {
        let (rate, said) = meant::bitrate(self.text(slot)).map_err(|error| error.to_string())?;
        let (least, most) = if slot == Slot::Audio { (8, 2000) } else { (100, 200_000) };
        if !(Bitrate::from_kbps(least)..=Bitrate::from_kbps(most)).contains(&rate) {
            return Err(format!("expected from {} to {} kb/s", grouped(least), grouped(most)));
        }
        Ok((rate, said))
    }

    /// Takes the addresses that are typed.
    pub(super) fn take_servers(&mut self) -> Result<(), String> {
        for mut server in servers_in(self.input(Slot::Server).value())? {
            if self.servers.iter().any(|there| there.address == server.address) {
                continue;
            }
            let name = server.name.clone();
            let mut n = 2;
            while self.servers.iter().any(|there| there.name.eq_ignore_ascii_case(&server.name)) {
                server.name = format!("{name} {n}");
                n += 1;
            }
            self.servers.push(server);
        }
        self.put(Slot::Server, "");
        Ok(())
    }

    /// What is known of the service, with its name in the file.
    pub(super) fn service_entry(&self, services: &BTreeMap<String, Service>) -> (String, ServiceEntry) {
        let name = match self.text(Slot::Name) {
            "" => "My service".to_owned(),
            name => name.to_owned(),
        };
        let slug = self.service.clone().unwrap_or_else(|| free_name(&name, "service", services.keys()));
        // What is wrong is not taken: it stays as it was.
        let before = || services.get(&slug).and_then(|service| service.limits.video());
        let video_limit = match self.text(Slot::Limit) {
            "" => None,
            _ => self.rate(Slot::Limit).map_or_else(|_| before(), |(rate, _)| Some(rate)),
        };
        (slug, ServiceEntry { name, servers: self.servers.clone(), video_limit })
    }

    /// What is known of the setup, with its name in the file. What was left out is as services commonly take it.
    pub(super) fn setup_entry(&self, setups: &BTreeMap<String, Setup>) -> (String, SetupEntry) {
        let (usual, said) = (Setup::default(), self.text(Slot::Name));
        let slug = self.setup.clone().unwrap_or_else(|| free_name(said, "evening", setups.keys()));
        let rate = |slot, usual| self.rate(slot).map_or(usual, |(rate, _)| rate);
        let entry = SetupEntry {
            bitrate: rate(Slot::Bitrate, usual.bitrate),
            audio: rate(Slot::Audio, usual.audio),
            size: self.text(Slot::Size).parse().unwrap_or(usual.size),
            rate: self.text(Slot::Rate).parse::<FrameRate>().map_or(usual.rate, |rate| rate.fps()),
        };
        (slug, entry)
    }

    /// The key that is typed, if it is one.
    pub(super) fn stream_key(&self) -> Option<StreamKey> {
        self.key.key()?.ok()
    }
}

/// The addresses in a text that is typed or pasted, each with the words before it in its line as its name.
fn servers_in(text: &str) -> Result<Vec<IngestServer>, String> {
    let mut servers = Vec::new();
    for line in text.split(['\n', '\r', ',', ';']) {
        let mut name: Vec<&str> = Vec::new();
        for word in line.split_whitespace() {
            if !word.contains(['/', ':']) {
                name.push(word);
                continue;
            }
            // Without its scheme it is RTMP, as services show it.
            let whole = if word.contains("://") { word.to_owned() } else { format!("rtmp://{word}") };
            let address: Address = whole.parse().map_err(|error| format!("{error}"))?;
            let name = if name.is_empty() { name_of(&address) } else { std::mem::take(&mut name).join(" ") };
            servers.push(IngestServer { name, address, region: None });
        }
        if let (Some(word), true) = (name.first(), servers.is_empty()) {
            let said: String = word.chars().filter(|c| !c.is_control()).take(20).collect();
            return Err(format!("`{said}` is no address; expected rtmp://HOST[:PORT]/APP or rtmps://HOST[:PORT]/APP"));
        }
    }
    Ok(servers)
}

/// What people call a server: the first part of its host's name.
fn name_of(address: &Address) -> String {
    let host = address.host();
    match host.split('.').next() {
        Some(first) if host.parse::<std::net::IpAddr>().is_err() && !first.is_empty() => first.to_owned(),
        _ => address.authority(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn named(text: &str) -> Result<Vec<(String, String)>, String> {
        let plain = |server: IngestServer| (server.name, server.address.to_string());
        servers_in(text).map(|servers| servers.into_iter().map(plain).collect())
    }

    #[test]
    fn addresses_are_taken_as_they_are_pasted() {
        let pair = |name: &str, address: &str| (name.to_owned(), address.to_owned());
        let aldmoor = pair("aldmoor", "rtmp://aldmoor.nocturne.invalid/live");
        assert_eq!(named("rtmp://aldmoor.nocturne.invalid/live"), Ok(vec![aldmoor.clone()]));
        assert_eq!(named("  aldmoor.nocturne.invalid/live\n"), Ok(vec![aldmoor.clone()]));
        let two = "Old Moor rtmp://aldmoor.nocturne.invalid/live\nrtmps://dunmere.nocturne.invalid/live, ";
        let dunmere = pair("dunmere", "rtmps://dunmere.nocturne.invalid/live");
        assert_eq!(named(two), Ok(vec![pair("Old Moor", "rtmp://aldmoor.nocturne.invalid/live"), dunmere]));
        assert_eq!(named("rtmp://127.0.0.1:1936/live"), Ok(vec![pair("127.0.0.1:1936", "rtmp://127.0.0.1:1936/live")]));
        assert_eq!(named(" \n "), Ok(Vec::new()));
        for (text, why) in [
            ("aldmoor", "is no address"),
            ("http://aldmoor.invalid/live", "scheme `http`"),
            ("rtmp://aldmoor.invalid", "no application"),
            ("rtmp://aldmoor.invalid/live?key=orbit", "stream key"),
        ] {
            let said = named(text).unwrap_err();
            assert!(said.contains(why) && !said.contains("orbit"), "{text}: {said}");
        }
    }

    #[test]
    fn what_is_left_out_is_as_services_commonly_take_it() {
        let mut draft = Draft::default();
        draft.put(Slot::Name, "Nocturne");
        draft.put(Slot::Bitrate, "6");
        draft.put(Slot::Limit, "8 MB");
        draft.put(Slot::Size, "big");
        let (service, entry) = draft.service_entry(&BTreeMap::new());
        assert_eq!((service.as_str(), entry.video_limit), ("nocturne", Some(Bitrate::from_kbps(8000))));
        let (setup, entry) = draft.setup_entry(&BTreeMap::new());
        assert_eq!((setup.as_str(), entry.bitrate, entry.rate), ("nocturne", Bitrate::from_kbps(6000), 60.0));
        assert!(matches!(draft.read(Slot::Bitrate), Read::Good(said) if said.starts_with("6 000 kb/s (a number")));
        assert!(matches!(draft.read(Slot::Size), Read::Wrong(_)));
        draft.put(Slot::Bitrate, "6000M");
        assert!(matches!(draft.read(Slot::Bitrate), Read::Wrong(why) if why.contains("200 000 kb/s")));
    }

    #[test]
    fn the_same_server_is_taken_once_and_one_of_the_same_name_gets_another() {
        let mut draft = Draft::default();
        for text in ["rtmp://a.one.invalid/x", "rtmp://a.one.invalid/x", "rtmp://a.two.invalid/x"] {
            draft.put(Slot::Server, text);
            draft.take_servers().unwrap();
        }
        let names: Vec<&str> = draft.servers.iter().map(|server| server.name.as_str()).collect();
        assert_eq!(names, ["a", "a 2"]);
        draft.put(Slot::Server, "nonsense");
        assert!(draft.take_servers().is_err());
        assert_eq!(draft.input(Slot::Server).value(), "nonsense", "what was wrong stays to be corrected");
    }
}
