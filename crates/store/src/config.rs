//! Setups and services, in a TOML file that people edit and the program changes value by value.

mod edits;

use std::collections::BTreeMap;
use std::io;
use std::ops::Range;
use std::path::{Path, PathBuf};

use moth_core::rate::Bitrate;
use moth_plan::headroom::Headroom;
use moth_plan::picture::Motion;
use moth_plan::service::Service;
use moth_plan::setup::{ServerChoice, Setup};
use moth_plan::text::Size;
use serde::Deserialize;
use toml_edit::{Document, Item, TableLike, Value};

use crate::bounded;
use crate::overwrite::overwrite;
pub use edits::{ServiceEntry, SetupEntry, free_name};

/// What a file begins with: the made-up service of the demo, with a comment on everything.
pub const TEMPLATE: &str = include_str!("template.toml");
/// A file longer than this is not a configuration, in bytes. Ours.
const LONGEST: u64 = 1 << 20;

/// What the file holds.
#[derive(Debug, Clone, PartialEq, Default, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct Config {
    /// The setup in use.
    pub setup: Option<String>,
    /// The setups, by name.
    pub setups: BTreeMap<String, Setup>,
    /// The services, by name.
    pub services: BTreeMap<String, Service>,
    /// What is kept of broadcasts.
    pub logbook: LogbookChoice,
}

/// What is kept of broadcasts, and for how long.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(default, deny_unknown_fields)]
pub struct LogbookChoice {
    /// Broadcasts are kept.
    pub keep: bool,
    /// They go once they are so old, in days; without it none goes for its age.
    pub days: Option<u32>,
    /// The oldest go once all together take more than so many megabytes; without it none goes for its size.
    pub megabytes: Option<u32>,
}

impl Default for LogbookChoice {
    fn default() -> Self {
        Self { keep: true, days: None, megabytes: None }
    }
}

/// Why the configuration cannot be read or written. No text of the file is quoted beyond the value in question.
#[derive(Debug, thiserror::Error)]
pub enum ConfigError {
    /// The system does not give or take the file.
    #[error("the configuration {} cannot be {what}: {error}", path.display())]
    Io {
        /// Which file.
        path: PathBuf,
        /// `read` or `written`.
        what: &'static str,
        /// What the system says.
        error: io::Error,
    },
    /// Something in it is not as it should be. The file was left alone.
    #[error("{}, line {line}, column {column}: {what}", path.display())]
    Mistake {
        /// Which file.
        path: PathBuf,
        /// Counted from 1.
        line: usize,
        /// Counted from 1, in characters.
        column: usize,
        /// What is wrong, with what is expected.
        what: String,
    },
    /// No setup of that name.
    #[error("there is no setup `{name}` in {}; it has {}", path.display(), list(known))]
    NoSetup {
        /// The name.
        name: String,
        /// Which file.
        path: PathBuf,
        /// The setups there are.
        known: Vec<String>,
    },
    /// Nothing can be called that.
    #[error("a setup's name is up to 40 small letters, digits and hyphens")]
    NoName,
    /// There is a setup of that name.
    #[error("there is a setup `{name}` already in {}; choose another name", path.display())]
    Taken {
        /// The name.
        name: String,
        /// Which file.
        path: PathBuf,
    },
}

fn list(names: &[String]) -> String {
    if names.is_empty() { "none".into() } else { names.join(", ") }
}

/// A change to one value of a setup.
#[derive(Debug, Clone, PartialEq)]
pub enum Change {
    /// Another server.
    Server(ServerChoice),
    /// Another video bitrate.
    Bitrate(Bitrate),
    /// Another picture size.
    Size(Size),
    /// Other frames per second.
    Rate(f64),
    /// Another kind of motion.
    Motion(Motion),
    /// Another share of the line left free, in percent.
    Headroom(Headroom),
    /// Another encoder preset.
    Preset(String),
    /// Other things to do in a soak.
    Soak(Vec<String>),
}

impl Change {
    /// Makes it where nothing is kept.
    pub fn apply(&self, setup: &mut Setup) {
        match self {
            Self::Server(choice) => setup.server = choice.clone(),
            Self::Bitrate(rate) => setup.bitrate = *rate,
            Self::Size(size) => setup.size = *size,
            Self::Rate(fps) => setup.rate = *fps,
            Self::Motion(motion) => setup.motion = *motion,
            Self::Headroom(headroom) => setup.headroom = *headroom,
            Self::Preset(preset) => setup.preset = Some(preset.clone()),
            Self::Soak(to_do) => setup.soak = Some(to_do.clone()),
        }
    }

    fn field(&self) -> (&'static str, Value) {
        match self {
            Self::Server(choice) => ("server", choice.to_string().into()),
            Self::Bitrate(rate) => ("bitrate", rate.to_text().into()),
            Self::Size(size) => ("size", format!("{}x{}", size.width, size.height).into()),
            Self::Rate(fps) => ("rate", number(*fps)),
            Self::Motion(motion) => ("motion", motion.word().into()),
            Self::Headroom(headroom) => ("headroom_percent", number(headroom.percent())),
            Self::Preset(preset) => ("preset", preset.as_str().into()),
            Self::Soak(to_do) => ("soak", to_do.iter().map(String::as_str).collect::<toml_edit::Array>().into()),
        }
    }
}

/// Whole numbers are written as people write them.
fn number(value: f64) -> Value {
    if value.fract() == 0.0 && value.abs() < 1e15 { (value as i64).into() } else { value.into() }
}

/// The file.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ConfigFile {
    path: PathBuf,
}

impl ConfigFile {
    /// The one at this path, which need not be there yet.
    #[must_use]
    pub fn at(path: PathBuf) -> Self {
        Self { path }
    }

    /// Where it is.
    #[must_use]
    pub fn path(&self) -> &Path {
        &self.path
    }

    /// Whether it is there.
    #[must_use]
    pub fn exists(&self) -> bool {
        self.path.exists()
    }

    /// What it holds; nothing, if it is not there.
    ///
    /// # Errors
    /// [`ConfigError`] if it cannot be read, or says something that cannot be.
    pub fn read(&self) -> Result<Config, ConfigError> {
        self.parse(&self.text()?)
    }

    fn text(&self) -> Result<String, ConfigError> {
        let fail = |error| ConfigError::Io { path: self.path.clone(), what: "read", error };
        match bounded::read(&self.path, LONGEST) {
            Ok(text) => Ok(text),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(String::new()),
            Err(error) => Err(fail(error)),
        }
    }

    fn parse(&self, text: &str) -> Result<Config, ConfigError> {
        let config: Config =
            toml::from_str(text).map_err(|error| self.mistake(text, error.span(), error.message().to_owned()))?;
        match impossible(&config) {
            None => Ok(config),
            Some((path, what)) => Err(self.mistake(text, span_of(text, &path), what)),
        }
    }

    fn mistake(&self, text: &str, span: Option<Range<usize>>, what: String) -> ConfigError {
        let before = text.get(..span.map_or(0, |span| span.start)).unwrap_or_default();
        let line = before.matches('\n').count() + 1;
        let column = before.rsplit('\n').next().unwrap_or_default().chars().count() + 1;
        let what = what.split('\n').collect::<Vec<_>>().join(", ");
        ConfigError::Mistake { path: self.path.clone(), line, column, what }
    }

    /// Writes the template, if there is no file yet. Gives whether it did.
    ///
    /// # Errors
    /// [`ConfigError`] if it cannot be written.
    pub fn create(&self) -> Result<bool, ConfigError> {
        if self.exists() {
            return Ok(false);
        }
        self.write(TEMPLATE)?;
        Ok(true)
    }

    /// Changes one value of a setup.
    ///
    /// # Errors
    /// [`ConfigError`]; the file is then as it was. One that cannot be read is never written.
    pub fn change(&self, setup: &str, change: &Change) -> Result<Config, ConfigError> {
        let (field, value) = change.field();
        self.edit(|document, config| {
            if let Err(none) = self.find(config, setup) {
                return Some(Err(none));
            }
            put(edits::table(edits::table(document, "setups")?, setup)?, field, value);
            Some(Ok(()))
        })
    }

    /// Makes a setup the one in use.
    ///
    /// # Errors
    /// As [`ConfigFile::change`].
    pub fn choose(&self, setup: &str) -> Result<Config, ConfigError> {
        self.edit(|document, config| {
            if let Err(none) = self.find(config, setup) {
                return Some(Err(none));
            }
            put(document, "setup", setup.into());
            Some(Ok(()))
        })
    }

    fn find<'a>(&self, config: &'a Config, name: &str) -> Result<&'a Setup, ConfigError> {
        let none = || ConfigError::NoSetup {
            name: name.to_owned(),
            path: self.path.clone(),
            known: config.setups.keys().cloned().collect(),
        };
        config.setups.get(name).ok_or_else(none)
    }

    fn write(&self, text: &str) -> Result<(), ConfigError> {
        let fail = |error| ConfigError::Io { path: self.path.clone(), what: "written", error };
        overwrite(&self.path, text, false).map_err(fail)
    }
}

/// Puts a value in the place of another, whose comment stays.
fn put(table: &mut dyn TableLike, field: &str, value: Value) {
    match table.get_mut(field).and_then(Item::as_value_mut) {
        Some(there) => {
            let decor = there.decor().clone();
            *there = value;
            *there.decor_mut() = decor;
        }
        None => drop(table.insert(field, Item::Value(value))),
    }
}

/// The first thing that is spelled well and cannot be: where it is, and what is expected.
fn impossible(config: &Config) -> Option<(Vec<String>, String)> {
    let at = |path: &[&str], what: String| Some((path.iter().map(|p| (*p).to_owned()).collect(), what));
    let names = |kind: &str, names: Vec<&String>| -> Option<(Vec<String>, String)> {
        let bad = names.into_iter().find(|name| !is_name(name))?;
        at(&[kind, bad], "expected a name of up to 40 small letters, digits and hyphens".into())
    };
    if let found @ Some(_) = names("setups", config.setups.keys().collect()) {
        return found;
    }
    if let found @ Some(_) = names("services", config.services.keys().collect()) {
        return found;
    }
    if let Some(chosen) = config.setup.as_ref().filter(|chosen| !config.setups.contains_key(*chosen)) {
        let known: Vec<String> = config.setups.keys().cloned().collect();
        return at(&["setup"], format!("there is no setup `{chosen}`; expected one of: {}", list(&known)));
    }
    for (slug, service) in &config.services {
        for (i, server) in service.servers.iter().enumerate() {
            if service.servers[..i].iter().any(|other| other.name.eq_ignore_ascii_case(&server.name)) {
                let index = i.to_string();
                return at(
                    &["services", slug, "servers", &index, "name"],
                    format!("there are two servers `{}`; expected a name for each", server.name),
                );
            }
        }
        if service.key_command.as_ref().is_some_and(Vec::is_empty) {
            return at(
                &["services", slug, "key_command"],
                "expected a program and its arguments, like [\"pass\", \"show\", \"nocturne\"]".into(),
            );
        }
    }
    for (slug, setup) in &config.setups {
        let Some(service) = config.services.get(&setup.service) else {
            let known: Vec<String> = config.services.keys().cloned().collect();
            let what = format!("there is no service `{}`; expected one of: {}", setup.service, list(&known));
            return at(&["setups", slug, "service"], what);
        };
        if let ServerChoice::Named(name) = &setup.server
            && service.server(name).is_none()
        {
            let known: Vec<String> = service.servers.iter().map(|s| s.name.clone()).collect();
            let what =
                format!("{} has no server `{name}`; expected automatic or one of: {}", service.name, list(&known));
            return at(&["setups", slug, "server"], what);
        }
        if let Some((field, what)) = setup.impossible() {
            return at(&["setups", slug, field], what);
        }
    }
    None
}

/// Names become names of files.
fn is_name(name: &str) -> bool {
    (1..=40).contains(&name.len()) && name.bytes().all(|b| b.is_ascii_lowercase() || b.is_ascii_digit() || b == b'-')
}

/// Where a value is in the text; where its nearest table is, if it is not there.
fn span_of(text: &str, path: &[String]) -> Option<Range<usize>> {
    let document = Document::parse(text).ok()?;
    let mut item = document.as_item();
    let mut span = None;
    for key in path {
        let next = match key.parse::<usize>() {
            Ok(index) => item.get(index),
            Err(_) => item.get(key.as_str()),
        };
        let Some(next) = next else { break };
        // A table that is written as a header has the header's place.
        span = next.span().or(span);
        item = next;
    }
    span
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::fs;

    fn file() -> (tempfile::TempDir, ConfigFile) {
        let dir = tempfile::tempdir().unwrap();
        let file = ConfigFile::at(dir.path().join("deep/down/moth.toml"));
        (dir, file)
    }

    fn error(text: &str) -> String {
        let (_dir, file) = file();
        fs::create_dir_all(file.path().parent().unwrap()).unwrap();
        fs::write(file.path(), text).unwrap();
        let said = file.read().unwrap_err().to_string();
        assert_eq!(fs::read_to_string(file.path()).unwrap(), text);
        said.split_once("moth.toml, ").unwrap_or(("", &said)).1.to_owned()
    }

    #[test]
    fn without_a_file_there_is_nothing_and_the_template_is_an_example_that_breaks_no_limit() {
        let (_dir, file) = file();
        assert_eq!(file.read().unwrap(), Config::default());
        assert!(!file.exists(), "reading writes nothing");
        assert!(file.create().unwrap() && !file.create().unwrap());
        assert_eq!(fs::read_to_string(file.path()).unwrap(), TEMPLATE);
        let config = file.read().unwrap();
        assert_eq!(config.setup.as_deref(), Some("comet-night"));
        let (setup, service) = (&config.setups["comet-night"], &config.services["nocturne"]);
        assert_eq!((setup.bitrate, setup.size), (Bitrate::from_kbps(6000), Size::new(1280, 720)));
        assert_eq!((service.servers.len(), service.regions()), (6, vec!["north", "south", "islands"]));
        assert!(moth_plan::breach::breaches(setup, &service.limits).is_empty(), "the example breaks no limit");
    }

    #[test]
    fn a_mistake_is_named_with_line_column_and_what_is_expected() {
        let change = |from: &str, to: &str| {
            assert!(TEMPLATE.contains(from), "{from}");
            error(&TEMPLATE.replacen(from, to, 1))
        };
        assert_eq!(
            change("bitrate = \"6000 kb/s\"", "bitrate = \"6000\""),
            "line 13, column 11: `6000` has no unit; write a bitrate like 6M, 6000k, 6 Mb/s or 750 kB/s"
        );
        assert_eq!(
            change("bitrate = \"6000 kb/s\"", "bitrate = 6000"),
            "line 13, column 11: invalid type: integer `6000`, expected a bitrate in quotes, with its unit, like \"6000 kb/s\""
        );
        assert!(
            change("bitrate = ", "bitrte = ").starts_with("line 13, column 1: unknown field `bitrte`, expected one of")
        );
        assert!(
            change("size = \"1280x720\"", "size = \"big\"")
                .starts_with("line 15, column 8: `big` is not a picture size")
        );
        assert!(
            change("motion = \"moving\"", "motion = \"wild\"")
                .contains("expected one of `still`, `talking`, `moving`, `fast`")
        );
        assert!(
            change("rate = 60 ", "rate = \"fast\" ")
                .contains("expected frames per second from 1 to 240, like 30 or 59.94")
        );
        assert_eq!(change("rate = 60 ", "rate = 0 "), "line 16, column 8: expected frames per second from 1 to 240");
        assert!(
            change("service = \"nocturne\"", "service = \"matinee\"")
                .starts_with("line 11, column 11: there is no service `matinee`; expected one of: nocturne")
        );
        assert!(
            change("server = \"automatic\"", "server = \"Grimsby\"")
                .contains("line 12, column 10: Nocturne has no server `Grimsby`")
        );
        assert!(
            change("setup = \"comet-night\"", "setup = \"gala\"")
                .starts_with("line 8, column 9: there is no setup `gala`")
        );
        assert!(
            change("rtmp://dunmere", "http://dunmere").contains("the scheme `http` is not one this program speaks")
        );
        assert!(change("name = \"Brackwater\"", "name = \"aldmoor\"").contains("two servers `aldmoor`"));
        assert!(change("[setups.comet-night]", "[setups.\"../../etc\"]").contains("small letters, digits and hyphens"));
        assert!(change("rate = 60", "rate = ").starts_with("line 16, column "));
        assert!(change("video_soft = \"8 Mb/s\"", "video_soft = \"8 Mx\"").contains("unit that is not known"));
    }

    #[test]
    fn a_key_pasted_into_an_address_is_not_repeated() {
        let said = error(&TEMPLATE.replacen(
            "rtmp://aldmoor.nocturne.invalid/live",
            "rtmp://a.invalid/live?key=plain-secret-9",
            1,
        ));
        assert!(said.contains("stream key goes into") && !said.contains("plain-secret-9"), "{said}");
    }

    #[test]
    fn a_file_that_cannot_be_read_is_never_overwritten() {
        let (_dir, file) = file();
        fs::create_dir_all(file.path().parent().unwrap()).unwrap();
        for broken in [&b"setup = \"comet-night"[..], b"\xff\xfe", b"[setups.x]\nbitrate = 3\n"] {
            fs::write(file.path(), broken).unwrap();
            assert!(file.change("comet-night", &Change::Rate(30.0)).is_err());
            assert!(file.choose("comet-night").is_err());
            assert!(!file.create().unwrap());
            assert_eq!(fs::read(file.path()).unwrap(), broken);
        }
    }

    #[test]
    fn a_change_touches_its_value_and_nothing_else() {
        let (_dir, file) = file();
        file.create().unwrap();
        let config = file.change("comet-night", &Change::Server(ServerChoice::Named("Elmsreach".into()))).unwrap();
        assert_eq!(config.setups["comet-night"].server.to_string(), "Elmsreach");
        let text = fs::read_to_string(file.path()).unwrap();
        let changed: Vec<(&str, &str)> = TEMPLATE.lines().zip(text.lines()).filter(|(a, b)| a != b).collect();
        assert_eq!(
            changed,
            [(
                "server = \"automatic\"          # or one of the service's servers, by its name",
                "server = \"Elmsreach\"          # or one of the service's servers, by its name"
            )]
        );
        assert!(file.change("gala", &Change::Rate(30.0)).unwrap_err().to_string().contains("it has comet-night"));
        assert!(file.change("comet-night", &Change::Rate(0.0)).is_err(), "what cannot be is not written");
        assert_eq!(fs::read_to_string(file.path()).unwrap(), text);
    }

    #[cfg(unix)]
    #[test]
    fn permissions_stay_and_a_link_stays_a_link() {
        use std::os::unix::fs::{PermissionsExt, symlink};
        let dir = tempfile::tempdir().unwrap();
        let real = dir.path().join("dotfiles.toml");
        fs::write(&real, TEMPLATE).unwrap();
        fs::set_permissions(&real, fs::Permissions::from_mode(0o640)).unwrap();
        let link = dir.path().join("moth.toml");
        symlink(&real, &link).unwrap();
        ConfigFile::at(link.clone()).change("comet-night", &Change::Headroom(Headroom::of_percent(30.0))).unwrap();
        assert!(fs::symlink_metadata(&link).unwrap().file_type().is_symlink());
        assert!(fs::read_to_string(&real).unwrap().contains("headroom_percent = 30 "));
        assert_eq!(fs::metadata(&real).unwrap().permissions().mode() & 0o777, 0o640);
    }

    fn changes() -> impl Strategy<Value = Change> {
        prop_oneof![
            prop_oneof![Just("Aldmoor"), Just("Dunmere")]
                .prop_map(|name| Change::Server(ServerChoice::Named(name.into()))),
            Just(Change::Server(ServerChoice::Automatic)),
            (100_000_u64..50_000_000).prop_map(|bps| Change::Bitrate(Bitrate::from_bps(bps))),
            (8_u32..400, 8_u32..250).prop_map(|(w, h)| Change::Size(Size::new(w * 8, h * 8))),
            (1.0..240.0).prop_map(Change::Rate),
            (0_usize..4).prop_map(|i| Change::Motion(Motion::ALL[i])),
            (0_u32..90).prop_map(|percent| Change::Headroom(Headroom::of_percent(percent.into()))),
            "[a-z]{3,12}".prop_map(Change::Preset),
            proptest::collection::vec("[ !-\"$-~]{1,60}", 0..8).prop_map(Change::Soak),
        ]
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(60))]
        #[test]
        fn what_is_changed_is_read_back_and_every_comment_stays(changes in proptest::collection::vec(changes(), 1..8)) {
            let (_dir, file) = file();
            file.create().unwrap();
            for change in &changes {
                let written = file.change("comet-night", change).unwrap();
                let read = file.read().unwrap();
                prop_assert_eq!(&written, &read);
                let setup = &read.setups["comet-night"];
                match change {
                    Change::Server(choice) => prop_assert_eq!(&setup.server, choice),
                    Change::Bitrate(rate) => prop_assert_eq!(setup.bitrate, *rate),
                    Change::Size(size) => prop_assert_eq!(setup.size, *size),
                    Change::Rate(fps) => prop_assert_eq!(setup.rate, *fps),
                    Change::Motion(motion) => prop_assert_eq!(setup.motion, *motion),
                    Change::Headroom(headroom) => prop_assert_eq!(setup.headroom, *headroom),
                    Change::Preset(preset) => prop_assert_eq!(setup.preset.as_ref(), Some(preset)),
                    Change::Soak(to_do) => prop_assert_eq!(setup.soak.as_ref(), Some(to_do)),
                }
            }
            let comments = |text: &str| text.lines().filter_map(|l| Some(l.split_once('#')?.1.to_owned())).collect::<Vec<_>>();
            prop_assert_eq!(comments(&fs::read_to_string(file.path()).unwrap()), comments(TEMPLATE));
        }

        #[test]
        fn any_file_is_read_or_said_what_is_wrong_with(text in ".{0,200}") {
            let (_dir, file) = file();
            let _ = file.parse(&text);
        }
    }
}
