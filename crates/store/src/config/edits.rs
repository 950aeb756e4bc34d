//! Services and setups that are added, changed, renamed and removed. Everything else in the file stays as it was written.

use moth_core::rate::Bitrate;
use moth_plan::service::{IngestServer, Limits};
use moth_plan::text::Size;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, TableLike, TomlError, Value};

use super::{Config, ConfigError, ConfigFile, is_name, number, put};

/// What a file begins with that the program writes: nothing made up is in it.
const BEGINNING: &str = "\
# Vigilant Moth: setups and services.
#
# The program changes single values in here and leaves everything else, comments too, as you wrote it.
# Bitrates are written with their unit, as you like: \"6M\", \"6000k\", \"6 Mb/s\", \"750 kB/s\".
# Stream keys are not in this file: they are kept where only you can read them.
# Everything that can be in here, with a comment on each: `moth setup --example`.

";
/// The longest name in the file, in characters.
const LONGEST_NAME: usize = 40;

/// What is entered of a service.
#[derive(Debug, Clone, PartialEq)]
pub struct ServiceEntry {
    /// As shown to people.
    pub name: String,
    /// Its ingest servers.
    pub servers: Vec<IngestServer>,
    /// Over this much video it asks one not to go; `None` if that is not known.
    pub video_limit: Option<Bitrate>,
}

/// What is entered of a setup.
#[derive(Debug, Clone, PartialEq)]
pub struct SetupEntry {
    /// Video bitrate.
    pub bitrate: Bitrate,
    /// Audio bitrate.
    pub audio: Bitrate,
    /// The picture that is sent.
    pub size: Size,
    /// Frames per second.
    pub rate: f64,
}

/// A name for the file made of what people call something: small letters, digits and hyphens, and none that is taken.
#[must_use]
pub fn free_name<'a>(words: &str, otherwise: &str, taken: impl IntoIterator<Item = &'a String> + Clone) -> String {
    let mut name = String::new();
    for c in words.to_lowercase().chars() {
        match c {
            'a'..='z' | '0'..='9' => name.push(c),
            _ if !name.is_empty() && !name.ends_with('-') => name.push('-'),
            _ => {}
        }
    }
    name.truncate(LONGEST_NAME - 4);
    let name = name.trim_matches('-');
    let name = if name.is_empty() { otherwise } else { name };
    let is_free = |name: &str| taken.clone().into_iter().all(|other| other != name);
    let numbered = (2..1000).map(|n| format!("{name}-{n}"));
    std::iter::once(name.to_owned()).chain(numbered).find(|name| is_free(name)).unwrap_or_else(|| name.to_owned())
}

impl ConfigFile {
    /// Adds a setup with its service, each by its name in the file, or changes those that are there, and makes it the one in use.
    ///
    /// # Errors
    /// [`ConfigError`]; the file is then as it was.
    pub fn put(
        &self,
        (service_name, service): (&str, &ServiceEntry),
        (setup_name, setup): (&str, &SetupEntry),
    ) -> Result<Config, ConfigError> {
        self.edit(|document, config| {
            // What says the same already stays as it was written, and comments among the servers with it.
            let (before, service_before) = (config.setups.get(setup_name), config.services.get(service_name));
            if config.setup.as_deref() != Some(setup_name) {
                put(document, "setup", setup_name.into());
            }
            let there = table(table(document, "setups")?, setup_name)?;
            let size = format!("{}x{}", setup.size.width, setup.size.height);
            for (field, is_said, value) in [
                ("service", before.is_some_and(|b| b.service == service_name), service_name.into()),
                ("bitrate", before.is_some_and(|b| b.bitrate == setup.bitrate), setup.bitrate.to_text().into()),
                ("audio", before.is_some_and(|b| b.audio == setup.audio), setup.audio.to_text().into()),
                ("size", before.is_some_and(|b| b.size == setup.size), size.into()),
                ("rate", before.is_some_and(|b| b.rate == setup.rate), number(setup.rate)),
            ] {
                if !is_said {
                    put(there, field, value);
                }
            }
            let there = table(table(document, "services")?, service_name)?;
            if service_before.is_none_or(|b| b.name != service.name) {
                put(there, "name", service.name.as_str().into());
            }
            if service_before.is_none_or(|b| b.servers != service.servers) {
                put(there, "servers", servers(&service.servers));
            }
            let limits_before = service_before.map(|b| &b.limits);
            if limits_before.and_then(Limits::video) != service.video_limit {
                let limits = table(there, "limits")?;
                // The file may hold two, of which the lower one is shown: the other goes where it would be that.
                let hard = limits_before.and_then(|limits| limits.video_hard);
                if service.video_limit.is_none_or(|limit| hard.is_some_and(|hard| hard < limit)) {
                    limits.remove("video_hard");
                }
                match service.video_limit {
                    Some(limit) => put(limits, "video_soft", limit.to_text().into()),
                    None => drop(limits.remove("video_soft")),
                }
            }
            Some(Ok(()))
        })
    }

    /// Gives a setup another name.
    ///
    /// # Errors
    /// As [`ConfigFile::put`]; also if there is none of that name, or the other name is taken.
    pub fn rename_setup(&self, from: &str, to: &str) -> Result<Config, ConfigError> {
        self.edit(|document, config| {
            if let Err(none) = self.find(config, from) {
                return Some(Err(none));
            }
            if !is_name(to) {
                return Some(Err(ConfigError::NoName));
            }
            if from != to && config.setups.contains_key(to) {
                return Some(Err(ConfigError::Taken { name: to.to_owned(), path: self.path().to_owned() }));
            }
            let setups = table(document, "setups")?;
            let setup = setups.remove(from)?;
            setups.insert(to, setup);
            if config.setup.as_deref() == Some(from) {
                put(document, "setup", to.into());
            }
            Some(Ok(()))
        })
    }

    /// Removes a setup, and its service if no other setup uses that; gives the service's name then. If it was the one in use, the
    /// next one is.
    ///
    /// # Errors
    /// As [`ConfigFile::put`]; also if there is none of that name.
    pub fn remove_setup(&self, name: &str) -> Result<(Config, Option<String>), ConfigError> {
        let mut orphan = None;
        let config = self.edit(|document, config| {
            let service = match self.find(config, name) {
                Ok(setup) => &setup.service,
                Err(none) => return Some(Err(none)),
            };
            table(document, "setups")?.remove(name);
            let others = || config.setups.iter().filter(|(other, _)| *other != name);
            if config.setup.as_deref() == Some(name) {
                match others().next() {
                    Some((next, _)) => put(document, "setup", next.as_str().into()),
                    None => drop(document.remove("setup")),
                }
            }
            let is_used = others().any(|(_, setup)| setup.service == *service);
            if !is_used && table(document, "services")?.remove(service).is_some() {
                orphan = Some(service.clone());
            }
            Some(Ok(()))
        })?;
        Ok((config, orphan))
    }

    /// Changes the file; begins one, if there is none. A change gives nothing where it finds no table in the place of one.
    pub(super) fn edit(
        &self,
        edit: impl FnOnce(&mut Table, &Config) -> Option<Result<(), ConfigError>>,
    ) -> Result<Config, ConfigError> {
        let (beginning, text) = if self.exists() { ("", self.text()?) } else { (BEGINNING, String::new()) };
        // Read again: it may have been edited by hand since.
        let config = self.parse(&text)?;
        let fail = |error: TomlError| self.mistake(&text, error.span(), error.message().to_owned());
        let mut document: DocumentMut = text.parse().map_err(fail)?;
        let no_table = || Err(self.mistake(&text, None, "expected tables below setups and services".into()));
        edit(document.as_table_mut(), &config).unwrap_or_else(no_table)?;
        // What would not be read again is not written.
        let text = format!("{beginning}{document}");
        let config = self.parse(&text)?;
        self.write(&text)?;
        Ok(config)
    }
}

/// What is in a table under this name; a new table, if nothing is.
pub(super) fn table<'a>(within: &'a mut dyn TableLike, name: &str) -> Option<&'a mut dyn TableLike> {
    let mut new = Table::new();
    // One that only holds others needs no line of its own.
    new.set_implicit(true);
    within.entry(name).or_insert(Item::Table(new)).as_table_like_mut()
}

/// One on each line.
fn servers(all: &[IngestServer]) -> Value {
    let mut array = Array::new();
    for server in all {
        let mut one = InlineTable::new();
        one.insert("name", server.name.as_str().into());
        one.insert("address", server.address.to_string().into());
        if let Some(region) = &server.region {
            one.insert("region", region.as_str().into());
        }
        let mut one = Value::from(one);
        one.decor_mut().set_prefix("\n    ");
        array.push_formatted(one);
    }
    array.set_trailing("\n");
    array.set_trailing_comma(true);
    Value::Array(array)
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::super::TEMPLATE;
    use super::*;

    fn file(text: Option<&str>) -> (tempfile::TempDir, ConfigFile) {
        let dir = tempfile::tempdir().unwrap();
        let path = dir.path().join("moth.toml");
        if let Some(text) = text {
            fs::write(&path, text).unwrap();
        }
        (dir, ConfigFile::at(path))
    }

    fn service(name: &str) -> ServiceEntry {
        let server = |name: &str, address: &str| IngestServer {
            name: name.into(),
            address: address.parse().unwrap(),
            region: None,
        };
        ServiceEntry {
            name: name.into(),
            servers: vec![
                server("east", "rtmp://east.hill.invalid/app"),
                server("west", "rtmps://west.hill.invalid/app"),
            ],
            video_limit: None,
        }
    }

    fn setup() -> SetupEntry {
        SetupEntry {
            bitrate: Bitrate::from_kbps(4500),
            audio: Bitrate::from_kbps(160),
            size: Size::new(1280, 720),
            rate: 60.0,
        }
    }

    #[test]
    fn a_file_is_begun_with_what_was_entered_and_nothing_made_up() {
        let (_dir, file) = file(None);
        let hill = ServiceEntry { video_limit: Some(Bitrate::from_kbps(6000)), ..service("Hill \"TV\"") };
        let config = file.put(("hill", &hill), ("evening", &setup())).unwrap();
        assert_eq!(config, file.read().unwrap());
        assert_eq!(config.setup.as_deref(), Some("evening"));
        let hill = &config.services["hill"];
        assert_eq!(
            (hill.name.as_str(), hill.servers.len(), hill.limits.video()),
            ("Hill \"TV\"", 2, Some(Bitrate::from_kbps(6000)))
        );
        let text = fs::read_to_string(file.path()).unwrap();
        insta::assert_snapshot!(text);
        assert!(!text.contains("nocturne"));
    }

    #[test]
    fn what_the_user_wrote_stays_but_for_what_is_changed() {
        let (_dir, file) = file(Some(TEMPLATE));
        let nocturne = file.read().unwrap().services["nocturne"].clone();
        let video_limit = nocturne.limits.video();
        let entry = ServiceEntry { name: "Nocturne II".into(), servers: nocturne.servers, video_limit };
        let setup = SetupEntry { bitrate: Bitrate::from_kbps(5000), ..setup() };
        file.put(("nocturne", &entry), ("comet-night", &setup)).unwrap();
        let expected = TEMPLATE
            .replace("name = \"Nocturne\"", "name = \"Nocturne II\"")
            .replace("bitrate = \"6000 kb/s\"", "bitrate = \"5000 kb/s\"");
        assert_eq!(fs::read_to_string(file.path()).unwrap(), expected);
    }

    #[test]
    fn a_limit_is_what_was_entered_whatever_the_file_held() {
        let (_dir, file) = file(Some(TEMPLATE));
        let limits = |video_limit: Option<u64>| {
            let video_limit = video_limit.map(Bitrate::from_kbps);
            let entry = ServiceEntry { video_limit, ..service("Nocturne") };
            let config = file.put(("nocturne", &entry), ("comet-night", &setup())).unwrap();
            let limits = &config.services["nocturne"].limits;
            assert_eq!(limits.video(), video_limit);
            assert_eq!(limits.audio(), Some(Bitrate::from_kbps(160)), "others stay");
            limits.video_hard
        };
        assert_eq!(limits(Some(7000)), Some(Bitrate::from_kbps(9000)));
        assert_eq!(limits(Some(12_000)), None);
        assert_eq!(limits(None), None);
    }

    #[test]
    fn a_setup_is_renamed_with_all_that_belongs_to_it_and_removed_with_a_service_nobody_uses() {
        let (_dir, file) = file(Some(TEMPLATE));
        let config = file.rename_setup("comet-night", "dome").unwrap();
        assert_eq!(config.setup.as_deref(), Some("dome"));
        assert_eq!(config.setups["dome"].reconnect.longest_s, 8.0);
        let text = fs::read_to_string(file.path()).unwrap();
        assert!(text.contains("[setups.dome.reconnect]  # how a lost"), "{text}");
        let nocturne = &config.services["nocturne"];
        let entry = ServiceEntry { name: nocturne.name.clone(), servers: nocturne.servers.clone(), video_limit: None };
        file.put(("nocturne", &entry), ("second", &setup())).unwrap();
        let taken = file.rename_setup("dome", "second").unwrap_err().to_string();
        assert!(taken.contains("there is a setup `second` already"), "{taken}");
        assert!(file.rename_setup("attic", "x").unwrap_err().to_string().contains("dome, second"));
        let bad = file.rename_setup("dome", "Big Dome").unwrap_err().to_string();
        assert!(bad.contains("small letters"), "{bad}");
        let (config, service) = file.remove_setup("second").unwrap();
        assert_eq!((config.setup.as_deref(), service), (Some("dome"), None));
        let (config, service) = file.remove_setup("dome").unwrap();
        assert_eq!((config.setup, config.setups.len(), service.as_deref()), (None, 0, Some("nocturne")));
        assert!(file.remove_setup("dome").is_err());
    }

    #[test]
    fn a_file_that_cannot_be_read_is_left_alone() {
        let (_dir, file) = file(Some("setup = 3\n"));
        assert!(file.put(("hill", &service("Hill")), ("evening", &setup())).is_err());
        assert_eq!(fs::read_to_string(file.path()).unwrap(), "setup = 3\n");
    }

    #[test]
    fn names_for_the_file_are_made_of_what_people_call_things() {
        let taken = ["hill-tv".to_owned()];
        assert_eq!(free_name(" Hill  TV! ", "service", &taken), "hill-tv-2");
        assert_eq!(free_name("Observatory — Süd", "service", &taken), "observatory-s-d");
        assert_eq!(free_name("天文台", "service", &taken), "service");
        assert_eq!(free_name(&"x".repeat(90), "service", &taken).len(), LONGEST_NAME - 4);
    }
}
