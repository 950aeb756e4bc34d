//! Moments of a broadcast: a snapshot at the end of each second, so that one can go back to it.
//!
//! They are JSON, deflated as a stream in which one can be read as soon as it is written: one differs little from the one before.
//! After [`PAGE`] of them the stream begins anew, so that going to one is not to go through them all.

use std::io::Read;
use std::sync::Arc;

use flate2::read::DeflateDecoder;
use flate2::{Compress, Compression, FlushCompress, Status};
use moth_core::{Moment, Snapshot};

use crate::brief::brief;

/// Moments in a page. Ours: what a page begins with costs about as much as ten moments that follow, and reading one takes a few
/// milliseconds.
const PAGE: usize = 64;
/// A page is never longer when it is inflated, in bytes. Ours: many times what so many moments take.
const LONGEST: u64 = 16 << 20;
/// A moment says nothing of a time this much later, in seconds. Ours: they are a second apart, and one may be missed.
const FRESH_S: f64 = 2.0;

/// A moment, deflated behind those of its page that came before.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Pressed {
    /// When it was.
    pub at: Moment,
    /// When the first of its page was.
    pub page: Moment,
    /// The stretch of the page's stream that holds it.
    pub chunk: Arc<[u8]>,
}

/// Deflates moments one after another.
#[derive(Default)]
pub struct Press {
    open: Option<(Compress, Moment, usize)>,
    last: Option<Moment>,
}

impl std::fmt::Debug for Press {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.debug_struct("Press").field("last", &self.last).finish_non_exhaustive()
    }
}

impl Clone for Press {
    /// The copy begins a page of its own.
    fn clone(&self) -> Self {
        Self { open: None, last: self.last }
    }
}

impl Press {
    /// Deflates a moment, if it ends a second that none was taken of yet.
    pub fn take(&mut self, snapshot: &Snapshot) -> Option<Pressed> {
        let second = |at: Moment| at.seconds().floor();
        if self.last.is_some_and(|last| second(snapshot.at) <= second(last)) {
            return None;
        }
        // A snapshot that cannot be written down would be a fault of ours: it is left out, as if nobody had looked.
        let json = brief(snapshot).ok()?;
        self.take_line(snapshot.at, &json)
    }

    /// Deflates a moment that is JSON already, with a newline behind it.
    pub fn take_line(&mut self, at: Moment, json: &[u8]) -> Option<Pressed> {
        self.last = Some(at);
        if self.open.as_ref().is_some_and(|(_, _, taken)| *taken == PAGE) {
            self.open = None;
        }
        let (press, page, taken) =
            self.open.get_or_insert_with(|| (Compress::new(Compression::default(), false), at, 0));
        let chunk = deflate(press, json)?;
        *taken += 1;
        Some(Pressed { at, page: *page, chunk: chunk.into() })
    }

    /// What follows begins a page: something before it was lost.
    pub fn turn_the_page(&mut self) {
        self.open = None;
    }
}

fn deflate(press: &mut Compress, line: &[u8]) -> Option<Vec<u8>> {
    let mut chunk = Vec::with_capacity(2048);
    let (before, mut done) = (press.total_in(), 0);
    loop {
        chunk.reserve(1024);
        let status = press.compress_vec(&line[done..], &mut chunk, FlushCompress::Sync).ok()?;
        done = usize::try_from(press.total_in() - before).ok()?;
        // Room that is left tells that everything was written out.
        if done == line.len() && chunk.len() < chunk.capacity() {
            return Some(chunk);
        }
        if status == Status::StreamEnd {
            return None;
        }
    }
}

/// Reads the last moment of the beginning of a page; `None` if it makes no sense.
#[must_use]
pub fn read<'a>(chunks: impl IntoIterator<Item = &'a [u8]>) -> Option<Snapshot> {
    let lines = inflate(chunks);
    let last = lines.strip_suffix(b"\n")?.rsplit(|byte| *byte == b'\n').next()?;
    serde_json::from_slice(last).ok()
}

/// The lines of JSON of the beginning of a page, each with a newline behind it.
#[must_use]
pub fn inflate<'a>(chunks: impl IntoIterator<Item = &'a [u8]>) -> Vec<u8> {
    let stream: Vec<u8> = chunks.into_iter().flatten().copied().collect();
    let mut lines = Vec::new();
    // The stream was not ended, which is told once everything before is read.
    let _ = DeflateDecoder::new(stream.as_slice()).take(LONGEST).read_to_end(&mut lines);
    lines
}

/// Moments in the order in which they were.
#[derive(Debug, Clone, Default)]
pub struct Moments {
    press: Press,
    taken: Vec<Pressed>,
}

/// A moment that was found, and is not inflated yet: whoever shares [`Moments`] with a broadcast lets go of them before.
#[derive(Debug, Clone)]
pub struct Found(Vec<Arc<[u8]>>);

impl Found {
    /// Reads it; `None` if it makes no sense, which would be a fault of ours.
    #[must_use]
    pub fn read(&self) -> Option<Snapshot> {
        read(self.0.iter().map(AsRef::as_ref))
    }
}

impl Moments {
    /// Takes a moment, if it ends a second that none was taken of yet.
    pub fn take(&mut self, snapshot: &Snapshot) {
        self.taken.extend(self.press.take(snapshot));
    }

    /// How everything stood at a time: the newest moment until then. `None` if none is near.
    #[must_use]
    pub fn at(&self, time: Moment) -> Option<Found> {
        let upto = self.taken.partition_point(|taken| taken.at <= time);
        let found = self.taken.get(upto.checked_sub(1)?)?;
        if !is_near(found.at, time) {
            return None;
        }
        let from = self.taken.partition_point(|taken| taken.page < found.page);
        Some(Found(self.taken[from..upto].iter().map(|taken| taken.chunk.clone()).collect()))
    }

    /// When the newest moment was.
    #[must_use]
    pub fn last(&self) -> Option<Moment> {
        self.taken.last().map(|taken| taken.at)
    }

    /// How many there are.
    #[must_use]
    pub fn len(&self) -> usize {
        self.taken.len()
    }

    /// Whether there is none yet.
    #[must_use]
    pub fn is_empty(&self) -> bool {
        self.taken.is_empty()
    }

    /// What they take, in bytes.
    #[must_use]
    pub fn bytes(&self) -> usize {
        self.taken.iter().map(|taken| taken.chunk.len() + size_of::<Pressed>()).sum()
    }
}

/// Whether a moment says something of a time.
#[must_use]
pub fn is_near(moment: Moment, time: Moment) -> bool {
    moment <= time && time.since(moment).as_secs_f64() <= FRESH_S
}

#[cfg(test)]
// As the core's own tests tell a broadcast.
#[path = "../../core/tests/it/show/mod.rs"]
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
            assert_eq!((back.at, &back.verdict.sentence), (snapshot.at, &snapshot.verdict.sentence));
            assert_eq!(brief(&back).unwrap(), brief(snapshot).unwrap(), "at {} s", back.at.seconds());
        }
        let written: usize = seen.iter().map(|snapshot| serde_json::to_string(snapshot).unwrap().len()).sum();
        assert!(moments.bytes() * 8 < written, "{} of {written} bytes", moments.bytes());
    }

    #[test]
    fn between_two_seconds_the_one_before_counts_and_where_none_is_near_nothing_is_known() {
        let (mut moments, seen) = broadcast(40);
        let at = |ms| Moment::from_ms(ms);
        assert_eq!(moments.at(at(20_700)).unwrap().read().unwrap().at, at(20_000));
        assert_eq!(moments.at(at(36_999)).unwrap().read().unwrap().at, at(36_000), "in the page that is written");
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
