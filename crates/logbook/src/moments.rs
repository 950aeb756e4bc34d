//! Moments of a broadcast: a snapshot at the end of each second, so that one can go back to it.
//!
//! They are JSON, deflated some at a time: one differs little from the one before. (Measured: 7 to 18 kB each as JSON, 350 to 650
//! bytes deflated.)

use std::io::{self, Read, Write};
use std::sync::Arc;

use flate2::Compression;
use flate2::read::DeflateDecoder;
use flate2::write::DeflateEncoder;
use moth_core::{Moment, Snapshot};

/// Moments that are deflated together. Ours: deflate looks back over 32 kB (RFC 1951, section 2), which is two or three of them, so
/// that more together are hardly smaller; and so many take a few milliseconds.
const PAGE: usize = 16;
/// A page is never longer when it is inflated, in bytes. Ours: many times what so many moments take.
const LONGEST: u64 = 16 << 20;
/// A moment says nothing of a time this much later, in seconds. Ours: they are a second apart, and one may be missed.
const FRESH_S: f64 = 2.0;

/// Moments in the order in which they were.
#[derive(Debug, Clone, Default)]
pub struct Moments {
    pages: Vec<Page>,
    /// Those that are not deflated yet, each with its time.
    open: Vec<(Moment, Arc<str>)>,
}

/// Moments that were deflated together, a line each.
#[derive(Debug, Clone)]
struct Page {
    at: Arc<[Moment]>,
    deflated: Arc<[u8]>,
}

/// A moment that was found, and is not inflated yet: whoever shares [`Moments`] with a broadcast lets go of them before.
#[derive(Debug, Clone)]
pub struct Found(Where);

#[derive(Debug, Clone)]
enum Where {
    /// By itself, as JSON.
    Open(Arc<str>),
    /// In this place among those that were deflated together.
    Deflated(Arc<[u8]>, usize),
}

impl Found {
    /// Reads it; `None` if it makes no sense, which would be a fault of ours.
    #[must_use]
    pub fn read(&self) -> Option<Snapshot> {
        match &self.0 {
            Where::Open(json) => serde_json::from_str(json).ok(),
            Where::Deflated(deflated, place) => serde_json::from_str(inflate(deflated).ok()?.lines().nth(*place)?).ok(),
        }
    }
}

impl Moments {
    /// Takes a moment, if it ends a second that none was taken of yet.
    pub fn take(&mut self, snapshot: &Snapshot) {
        let second = |at: Moment| at.seconds().floor();
        if self.last().is_some_and(|last| second(snapshot.at) <= second(last)) {
            return;
        }
        // A snapshot that cannot be written down would be a fault of ours: it is left out, as if nobody had looked.
        let Ok(json) = serde_json::to_string(snapshot) else { return };
        self.open.push((snapshot.at, json.into()));
        if self.open.len() == PAGE
            && let Ok(deflated) = deflate(&self.open)
        {
            let at = self.open.drain(..).map(|(at, _)| at).collect();
            self.pages.push(Page { at, deflated: deflated.into() });
        }
    }

    /// How everything stood at a time: the newest moment until then. `None` if none is near.
    #[must_use]
    pub fn at(&self, time: Moment) -> Option<Found> {
        let open = self.open.partition_point(|(at, _)| *at <= time);
        let (at, found) = match open.checked_sub(1).and_then(|place| self.open.get(place)) {
            Some((at, json)) => (*at, Found(Where::Open(json.clone()))),
            None => {
                let page = self.pages.partition_point(|page| page.at.first().is_some_and(|first| *first <= time));
                let page = self.pages.get(page.checked_sub(1)?)?;
                let place = page.at.partition_point(|at| *at <= time).checked_sub(1)?;
                (page.at[place], Found(Where::Deflated(page.deflated.clone(), place)))
            }
        };
        (time.since(at).as_secs_f64() <= FRESH_S).then_some(found)
    }

    /// When the newest moment was.
    #[must_use]
    pub fn last(&self) -> Option<Moment> {
        let open = self.open.last().map(|(at, _)| *at);
        open.or_else(|| self.pages.last().and_then(|page| page.at.last().copied()))
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.pages.iter().map(|page| page.at.len()).sum::<usize>() + self.open.len()
    }

    /// Whether there is none yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.pages.is_empty() && self.open.is_empty()
    }

    /// What they take, in bytes.
    #[must_use]
    pub fn bytes(&self) -> usize {
        let open = self.open.iter().map(|(_, json)| json.len()).sum::<usize>();
        let times = self.len() * size_of::<Moment>();
        self.pages.iter().map(|page| page.deflated.len()).sum::<usize>() + open + times
    }
}

fn deflate(moments: &[(Moment, Arc<str>)]) -> io::Result<Vec<u8>> {
    let mut to = DeflateEncoder::new(Vec::new(), Compression::default());
    for (_, json) in moments {
        to.write_all(json.as_bytes())?;
        to.write_all(b"\n")?;
    }
    to.finish()
}

fn inflate(deflated: &[u8]) -> io::Result<String> {
    let mut lines = String::new();
    DeflateDecoder::new(deflated).take(LONGEST).read_to_string(&mut lines)?;
    Ok(lines)
}

#[cfg(test)]
// As the core's own tests tell a broadcast.
#[path = "../../core/tests/show/mod.rs"]
mod show;

#[cfg(test)]
mod tests {
    use super::show::{Now, Show};
    use super::*;

    /// A broadcast of so many seconds, troubled from the middle on, with every snapshot there was.
    fn broadcast(seconds: u64) -> (Moments, Vec<Snapshot>) {
        let (mut show, mut moments, mut seen) = (Show::new(), Moments::default(), Vec::new());
        for second in 0..seconds {
            let now = match second {
                s if s < seconds / 2 => Now { queue_ms: 10.0 + (s % 7) as f64, ..Now::default() },
                s => Now { carried_kbps: 4000 + s % 50, dropped_per_second: 10, queue_ms: 1900.0, ..Now::default() },
            };
            let snapshot = show.run(1, &now);
            moments.take(&snapshot);
            // Whoever looks more often than once a second changes nothing.
            moments.take(&snapshot);
            seen.push(snapshot);
        }
        (moments, seen)
    }

    #[test]
    fn every_second_is_found_again_as_it_was_and_small() {
        let (moments, seen) = broadcast(100);
        assert_eq!((moments.len(), moments.last()), (100, Some(seen[99].at)));
        for snapshot in &seen {
            let back = moments.at(snapshot.at).unwrap().read().unwrap();
            assert_eq!((back.at, &back.journey), (snapshot.at, &snapshot.journey));
            assert!(back.verdict == snapshot.verdict && back.weighed == snapshot.weighed, "at {} s", back.at.seconds());
        }
        let written: usize = seen.iter().map(|snapshot| serde_json::to_string(snapshot).unwrap().len()).sum();
        assert!(moments.bytes() * 4 < written, "{} of {written} bytes", moments.bytes());
    }

    #[test]
    fn between_two_seconds_the_one_before_counts_and_where_none_is_near_nothing_is_known() {
        let (mut moments, seen) = broadcast(40);
        let at = |ms| Moment::from_ms(ms);
        assert_eq!(moments.at(at(20_700)).unwrap().read().unwrap().at, at(20_000));
        assert_eq!(
            moments.at(at(36_999)).unwrap().read().unwrap().at,
            at(36_000),
            "among those that are not deflated yet"
        );
        assert!(moments.at(at(500)).is_none(), "before the first");
        assert_eq!(moments.at(at(42_000)).unwrap().read().unwrap().at, at(40_000));
        assert!(moments.at(at(42_100)).is_none(), "long after the last");
        // The clock stood still, as in a replay that jumped: what was before is no answer for what was passed over.
        let later = Snapshot { at: at(90_000), ..seen[39].clone() };
        moments.take(&later);
        assert!(moments.at(at(70_000)).is_none() && moments.at(at(90_500)).is_some());
        // And nothing is taken twice, or out of its order.
        moments.take(&seen[10]);
        assert_eq!(moments.len(), 41);
        assert!(Moments::default().at(at(0)).is_none() && Moments::default().is_empty());
    }
}
