//! Every verdict on a recorded broadcast, with its times.

use std::path::Path;
use std::time::Duration;

use moth_core::contradiction::Inspector;
use moth_core::moment::Moment;
use moth_core::suspects::Cause;
use moth_core::{Core, Settings, Snapshot};
use moth_drawing::evening::Stood;
use moth_logbook::readings::{Damage, Reader};
use serde::Serialize;

use crate::failure::Failure;
use moth_evening::chronicle::Chronicle;

/// The core is asked this often, as on the screen. Ours.
pub(crate) const LOOK: Duration = Duration::from_millis(200);

/// One verdict, for as long as it stood.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Judged {
    /// From then on, in seconds since the beginning.
    pub from_s: f64,
    /// Until then.
    pub to_s: f64,
    /// `network`, `encoder` or `rendering`.
    pub fault: &'static str,
    /// The cause's slug.
    pub cause: Option<&'static str>,
    /// The highest it was sure, from 0 to 1.
    pub confidence: f64,
    /// Its sentence when it was surest.
    pub sentence: String,
    /// What else was at fault meanwhile.
    pub also: Vec<Also>,
}

/// A further fault beside a verdict.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Also {
    /// `network`, `encoder` or `rendering`.
    pub fault: &'static str,
    /// The cause's slug.
    pub cause: Option<&'static str>,
}

/// What judging a file came to.
#[derive(Debug)]
pub struct Judgement {
    /// Every verdict.
    pub verdicts: Vec<Judged>,
    /// The time that was judged.
    pub seconds: f64,
    /// How many readings there were.
    pub readings: u64,
    /// When it was recorded (RFC 3339, with its offset from UTC), if the file tells.
    pub began: Option<String>,
    /// What is wrong with the file, if anything.
    pub damage: Option<Damage>,
    /// What was said on the way that its own numbers contradict: a mistake of ours, whatever was recorded.
    pub contradictions: Vec<String>,
}

/// Judges a readings file, asking the core as often as the screen does.
///
/// # Errors
/// [`Failure`] if it cannot be read, or is no readings file.
pub fn judge(path: &Path) -> Result<Judgement, Failure> {
    judge_whole(path, None).map(|whole| whole.judgement)
}

/// A file that was judged, with all that is to be drawn of it.
#[derive(Debug)]
pub struct Whole {
    /// What it came to.
    pub judgement: Judgement,
    /// What was written down on the way.
    pub chronicle: Chronicle,
    /// Everything in it is a stand-in's.
    pub is_made_up: bool,
    /// How it stood at the end.
    pub last: Snapshot,
    /// How it stood at the moment that was asked for, else when somebody broadcast last.
    pub standing: Snapshot,
}

/// The same, with all that is to be drawn; `standing_at` is in seconds since the beginning.
///
/// # Errors
/// As [`judge`].
pub fn judge_whole(path: &Path, standing_at: Option<f64>) -> Result<Whole, Failure> {
    let mut reader = Reader::open(path)?;
    let (mut chronicle, mut inspector, mut contradictions) = (Chronicle::default(), Inspector::default(), Vec::new());
    let mut standing: Option<Snapshot> = None;
    let Gone { readings, end, last } = go_through(&mut reader, |snapshot| {
        chronicle.take(&snapshot);
        contradictions.extend(inspector.look(&snapshot));
        let is_wanted = match standing_at {
            Some(at) => snapshot.at.seconds() <= at,
            None => snapshot.on_air_since.is_some(),
        };
        if is_wanted {
            standing = Some(snapshot);
        }
    });
    let verdicts = chronicle.verdicts().iter().map(Judged::from).collect();
    let (seconds, damage, began) = (end.seconds(), reader.damage, reader.header.began);
    let is_made_up = reader.header.made_up;
    let judgement = Judgement { verdicts, seconds, readings, began, damage, contradictions };
    let standing = standing.unwrap_or_else(|| last.clone());
    Ok(Whole { judgement, chronicle, is_made_up, last, standing })
}

/// How far a file was gone through.
pub(crate) struct Gone {
    /// How many readings there were.
    pub readings: u64,
    /// When the last was.
    pub end: Moment,
    /// How it stood then.
    pub last: Snapshot,
}

/// Gives a file's readings to a core, and what it says, as often as on the screen, to `see`: once at least.
pub(crate) fn go_through(reader: &mut Reader, mut see: impl FnMut(Snapshot)) -> Gone {
    let mut core = Core::new(Settings { servers: reader.header.servers.clone() });
    let (mut look, mut readings, mut end) = (Moment::START, 0, Moment::START);
    for reading in reader.by_ref() {
        while look < reading.at {
            see(core.snapshot(look));
            look = Moment::after(look.since(Moment::START) + LOOK);
        }
        core.take(&reading);
        (readings, end) = (readings + 1, reading.at);
    }
    let last = core.snapshot(end.max(look.before(LOOK)));
    see(last.clone());
    Gone { readings, end, last }
}

impl From<&Stood> for Judged {
    fn from(stood: &Stood) -> Self {
        let also = stood.also.iter().map(|(fault, cause)| Also { fault: fault.word(), cause: cause.map(Cause::slug) });
        Self {
            from_s: stood.from_s,
            to_s: stood.until_s,
            fault: stood.fault.word(),
            cause: stood.cause.map(Cause::slug),
            confidence: stood.confidence,
            sentence: stood.sentence.clone(),
            also: also.collect(),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_logbook::readings::{Header, Writer};
    use moth_stage::{Theatre, shipped};

    /// Forty-five seconds of an evening, as a readings file.
    async fn recorded(slug: &str, path: &Path) {
        let evening = shipped().into_iter().find(|e| e.slug == slug).unwrap();
        let mut theatre = Theatre::open(&evening, 41).unwrap();
        let mut writer = Writer::create(path, &Header::new(evening.servers())).unwrap();
        let end = Moment::after(Duration::from_secs(45));
        while let Some(reading) = theatre.readings.recv().await {
            if reading.at > end {
                break;
            }
            writer.write(&reading).unwrap();
        }
        writer.finish().unwrap();
    }

    #[tokio::test(start_paused = true)]
    async fn an_evening_recorded_is_judged_as_it_was_and_the_same_every_time() {
        let dir = tempfile::tempdir().unwrap();
        for (slug, fault, cause) in
            [("archive-sync", "network", "upload-beyond"), ("ambitious-preset", "encoder", "preset-heavy")]
        {
            let path = dir.path().join(format!("{slug}.jsonl.gz"));
            recorded(slug, &path).await;
            let Judgement { verdicts, seconds, readings, damage, contradictions, .. } = judge(&path).unwrap();
            assert_eq!(contradictions, Vec::<String>::new());
            let told: Vec<_> = verdicts.iter().map(|v| (v.fault, v.cause)).collect();
            assert_eq!(told, [(fault, Some(cause))], "{verdicts:?}");
            assert!((15.0..24.0).contains(&verdicts[0].from_s) && verdicts[0].to_s > 40.0, "{verdicts:?}");
            assert!(damage.is_none() && readings > 2000 && (44.0..=45.0).contains(&seconds));
            let again = judge(&path).unwrap().verdicts;
            assert_eq!(serde_json::to_vec(&again).unwrap(), serde_json::to_vec(&verdicts).unwrap(), "byte for byte");
        }
        let path = dir.path().join("calm.jsonl");
        recorded("calm", &path).await;
        assert_eq!(judge(&path).unwrap().verdicts, []);
    }
}
