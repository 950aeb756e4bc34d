//! What came of playing the broadcast back from its server.

use serde::{Deserialize, Serialize};

use crate::rate::grouped;

/// What came of playing the broadcast back from its server for some seconds: what the server gives out, which is more than that it took
/// it, and less than that every viewer gets it.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct PlayedBack {
    /// The server's name.
    pub server: String,
    /// For how long it was looked at what came, in seconds.
    pub seconds: f64,
    /// Pictures.
    pub pictures: Returned,
    /// Frames of sound.
    pub sound: Returned,
    /// From a frame's coming in here to its coming back, in milliseconds: the median over the later half, in which the server gives out
    /// what is new. `None` if the frames that came back are not those that it took.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub delay_ms: Option<f64>,
    /// The longest of these, in milliseconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub longest_delay_ms: Option<f64>,
    /// How much older than that the first frame was, in milliseconds: servers begin with what they keep for who comes.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub begins_behind_ms: Option<f64>,
    /// Why nothing came, or not to the end, in plain words, the key taken out.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// How many frames of a kind came back.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default, Serialize, Deserialize)]
#[serde(default)]
pub struct Returned {
    /// So many came.
    pub came: u64,
    /// Of so many that were handed to the server in the same time; `None` if the two cannot be compared.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub of: Option<u64>,
}

impl Returned {
    /// Frames of this kind were handed over, and none came back.
    #[must_use]
    pub fn is_withheld(self) -> bool {
        self.came == 0 && self.of.is_some_and(|of| of > 0)
    }

    fn words(self, one: &str, many: &str) -> String {
        let plural = |count: u64| if count == 1 { one } else { many };
        match self.of {
            Some(of) => format!("{} of {} {}", grouped(self.came), grouped(of), plural(of)),
            None => format!("{} {}", grouped(self.came), plural(self.came)),
        }
    }
}

/// So much later, for people.
#[must_use]
pub fn later(delay_ms: f64) -> String {
    if delay_ms < 999.5 { format!("{:.0} ms", delay_ms.max(1.0)) } else { format!("{:.2} s", delay_ms / 1000.0) }
}

impl PlayedBack {
    /// Whether the server gives out any frame.
    #[must_use]
    pub fn plays(&self) -> bool {
        self.pictures.came + self.sound.came > 0
    }

    /// The server gives out sound, and none of the pictures that it takes.
    #[must_use]
    pub fn lacks_pictures(&self) -> bool {
        self.sound.came > 0 && self.pictures.is_withheld()
    }

    /// What it comes to, in a sentence or two.
    #[must_use]
    pub fn sentence(&self) -> String {
        let Self { server, seconds, pictures, sound, why, .. } = self;
        let after =
            |text: &Option<String>| text.as_ref().map_or_else(String::new, |why| format!(" It ended early: {why}."));
        if !self.plays() {
            let why = why.as_deref().unwrap_or("nothing came");
            return format!(
                "{server} was asked to play the broadcast back, and nothing came of it: {why}. Viewers may get it all the same."
            );
        }
        if self.lacks_pictures() {
            let taken = grouped(pictures.of.unwrap_or_default());
            return format!(
                "{server} gives out sound and no picture: {} came in {seconds:.0} s, and none of {taken} pictures.{}",
                sound.words("frame of sound", "frames of sound"),
                after(why)
            );
        }
        let mut parts = Vec::new();
        if pictures.came > 0 || pictures.of.is_some() {
            parts.push(pictures.words("picture", "pictures"));
        }
        if sound.came > 0 || sound.of.is_some() {
            parts.push(sound.words("frame of sound", "frames of sound"));
        }
        let came = parts.join(" and ");
        match self.delay_ms {
            Some(delay_ms) => {
                let later = later(delay_ms);
                let kept = self
                    .begins_behind_ms
                    .filter(|ms| *ms >= 100.0)
                    .map_or_else(String::new, |ms| format!("; who comes begins {:.1} s further back", ms / 1000.0));
                format!(
                    "{server} plays it: {came} came back in {seconds:.0} s, {later} after they came in here{kept}. Measured at the server, \
                     not at a viewer.{}",
                    after(why)
                )
            }
            // The frames are those that it took, and it has ceased to give them out.
            None if pictures.of.or(sound.of).is_some() => format!(
                "{server} plays {came} in {seconds:.0} s, and none of late: how much later is not known. Measured at the server, not at a \
                 viewer.{}",
                after(why)
            ),
            None => format!(
                "{server} plays {came} in {seconds:.0} s; they are not, or not surely, the frames that it took, so that the delay is not \
                 known.{}",
                after(why)
            ),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn whole() -> PlayedBack {
        PlayedBack {
            server: "Aldmoor".into(),
            seconds: 10.0,
            pictures: Returned { came: 598, of: Some(598) },
            sound: Returned { came: 467, of: Some(469) },
            delay_ms: Some(431.0),
            longest_delay_ms: Some(520.0),
            begins_behind_ms: Some(1900.0),
            why: None,
        }
    }

    #[test]
    fn what_came_back_is_told_with_its_delay_and_with_where_it_was_measured() {
        let told = "Aldmoor plays it: 598 of 598 pictures and 467 of 469 frames of sound came back in 10 s, 431 ms after they came in here; \
                    who comes begins 1.9 s further back. Measured at the server, not at a viewer.";
        assert_eq!(whole().sentence(), told);
        let at_once = PlayedBack { begins_behind_ms: Some(20.0), why: Some("the server hung up".into()), ..whole() };
        let told = at_once.sentence();
        assert!(
            told.contains("came in here. Measured") && told.ends_with("It ended early: the server hung up."),
            "{told}"
        );
    }

    #[test]
    fn what_says_nothing_of_viewers_is_not_made_to() {
        let refused = PlayedBack { server: "Aldmoor".into(), why: Some("refused".into()), ..PlayedBack::default() };
        assert!(!refused.plays() && !refused.lacks_pictures());
        assert!(refused.sentence().ends_with("nothing came of it: refused. Viewers may get it all the same."));
        let anew = |came| Returned { came, of: None };
        let other = PlayedBack { delay_ms: None, pictures: anew(598), sound: anew(467), ..whole() };
        assert!(other.sentence().contains("not surely, the frames that it took"), "{}", other.sentence());
        let stalled = PlayedBack { delay_ms: None, pictures: Returned { came: 240, of: Some(598) }, ..whole() };
        assert!(stalled.sentence().starts_with("Aldmoor plays 240 of 598 pictures"), "{}", stalled.sentence());
        assert!(stalled.sentence().contains("and none of late"), "{}", stalled.sentence());
    }

    #[test]
    fn sound_without_pictures_is_told_only_where_there_were_pictures() {
        let mute = PlayedBack { pictures: Returned { came: 0, of: Some(300) }, ..whole() };
        assert!(mute.lacks_pictures());
        assert!(
            mute.sentence().starts_with("Aldmoor gives out sound and no picture: 467 of 469 frames"),
            "{}",
            mute.sentence()
        );
        let radio = PlayedBack { pictures: Returned { came: 0, of: Some(0) }, ..whole() };
        assert!(!radio.lacks_pictures());
    }
}
