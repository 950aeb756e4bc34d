//! Compares what came back with what was handed over.
//!
//! Frames are known again by their content. Contents repeat (silence, a still picture), and servers may give frames other timestamps: of
//! all ways in which the two clocks may differ, the one that most frames speak for is taken, and none if it is not clear.

use std::collections::HashMap;
use std::time::Duration;

use moth_core::Moment;
use moth_core::played_back::{PlayedBack, Returned};

use super::frame::Frame;

/// A content that was handed over more often than this tells nothing. Ours.
const MOST_ALIKE: usize = 64;
/// So many frames must speak for a difference of the clocks. Ours.
const FEWEST: usize = 10;
/// Servers mostly leave timestamps as they are: no difference is taken to be the right one if it has this share of the votes that the best
/// one has. Where contents repeat with each group of pictures, others have nearly as many. Ours.
const AS_GOOD: f64 = 0.9;
/// What was handed over so shortly before the end, beside the delay, may still be on its way. Ours.
const ON_ITS_WAY: Duration = Duration::from_millis(700);
/// A server gives a keyframe out within so long after it came in here, or it gives out none. Ours.
const GIVEN_OUT: Duration = Duration::from_secs(5);

/// Compares what came back, in the order it came, until `end`, with what was handed over meanwhile, in that order. Gives what follows of
/// it: the counts and the delays.
pub(crate) fn compare(handed: &[Frame], back: &[Frame], end: Moment) -> PlayedBack {
    let Some(first_back) = back.first() else { return PlayedBack::default() };
    // Servers may give pictures and sound clocks of their own.
    let [pictures, sound] = [true, false].map(|is_picture| Kind::of(handed, back, is_picture));
    // Pictures, if there are any: sound is sent in lumps by some broadcasters.
    let timed = if pictures.matches.is_empty() { &sound } else { &pictures };
    // What a server kept for who comes is older than what it gives out live: the later half is live.
    let live_from = Moment::after(first_back.came.since(Moment::START) + end.since(first_back.came) / 2);
    let delays = |from: Moment| {
        let of = timed.matches.iter().filter(|m| m.back >= from);
        let mut delays: Vec<f64> = of.map(|m| m.back.since(m.handed).as_secs_f64() * 1000.0).collect();
        delays.sort_by(f64::total_cmp);
        delays
    };
    let median = |delays: &[f64]| delays.get(delays.len() / 2).copied();
    let late = delays(live_from);
    let delay_ms = median(&late);
    // Where nothing came at last, what was on its way is told by what came before.
    let way_ms = delay_ms.or_else(|| median(&delays(Moment::START))).unwrap_or_default();
    let by = end.before(Duration::from_secs_f64(way_ms / 1000.0) + ON_ITS_WAY);
    let returned = |kind: &Kind| {
        let came = kind.back.len() as u64;
        let Some(first) = kind.matches.iter().map(|m| m.handed).min() else {
            return Returned { came, of: withheld(&kind.handed, first_back, end, came) };
        };
        let within = |at: Moment| at >= first && at <= by;
        let of = kind.handed.iter().filter(|f| within(f.came)).count() as u64;
        Returned { came: kind.matches.iter().filter(|m| within(m.handed)).count() as u64, of: Some(of) }
    };
    PlayedBack {
        pictures: returned(&pictures),
        sound: returned(&sound),
        delay_ms,
        longest_delay_ms: late.last().copied(),
        begins_behind_ms: delay_ms.zip(timed.age_of_first()).map(|(delay, first)| (first - delay).max(0.0)),
        ..PlayedBack::default()
    }
}

/// The frames of a kind, and which of them came back.
struct Kind {
    handed: Vec<Frame>,
    back: Vec<Frame>,
    /// How far the server's timestamps are behind ours, modulo 2³² ms; `None` if that is not clear.
    difference: Option<u32>,
    matches: Vec<Match>,
}

/// A frame that came back.
struct Match {
    handed: Moment,
    back: Moment,
}

impl Kind {
    fn of(handed: &[Frame], back: &[Frame], is_picture: bool) -> Self {
        let only = |frames: &[Frame]| frames.iter().filter(|f| f.is_picture == is_picture).copied().collect::<Vec<_>>();
        let (handed, back) = (only(handed), only(back));
        let difference = difference(&handed, &back);
        let matches = difference.map_or_else(Vec::new, |difference| matched(&handed, &back, difference));
        Self { handed, back, difference, matches }
    }

    /// How old the first frame that came back was by then, in milliseconds: it may have come in before anybody took note.
    fn age_of_first(&self) -> Option<f64> {
        let (noted, first) = (self.handed.first()?, self.back.first()?);
        let earlier_ms = noted.time_ms.wrapping_sub(first.time_ms.wrapping_add(self.difference?)).cast_signed();
        let ms = |at: Moment| at.since(Moment::START).as_secs_f64() * 1000.0;
        Some(ms(first.came) - ms(noted.came) + f64::from(earlier_ms))
    }
}

/// Of so many frames of a kind none came back, though it was time; `None` if some came, or it may have been too early. Servers begin to
/// give out pictures with a keyframe.
fn withheld(handed: &[Frame], first_back: &Frame, end: Moment, came: u64) -> Option<u64> {
    let ours = || handed.iter().filter(|f| f.came >= first_back.came);
    let from = ours().find(|f| f.is_keyframe || !f.is_picture).map(|f| f.came);
    let Some(from) = from else { return (came == 0 && ours().next().is_none()).then_some(0) };
    let is_time = end.since(from) >= GIVEN_OUT;
    (came == 0 && is_time).then(|| ours().filter(|f| f.came >= from).count() as u64)
}

/// How far the server's timestamps are behind ours, modulo 2³² ms; `None` if that is not clear.
fn difference(handed: &[Frame], back: &[Frame]) -> Option<u32> {
    let mut alike: HashMap<u64, Vec<&Frame>> = HashMap::new();
    for frame in handed {
        alike.entry(frame.print).or_default().push(frame);
    }
    let mut votes: HashMap<u32, usize> = HashMap::new();
    let mut voters = 0;
    for frame in back {
        let Some(candidates) = alike.get(&frame.print).filter(|c| c.len() <= MOST_ALIKE) else { continue };
        voters += 1;
        for candidate in candidates.iter().filter(|candidate| candidate.came <= frame.came) {
            *votes.entry(candidate.time_ms.wrapping_sub(frame.time_ms)).or_default() += 1;
        }
    }
    let best = votes.values().copied().max().filter(|best| *best >= FEWEST && 2 * best > voters)?;
    let has = |difference: u32, share: f64| votes.get(&difference).is_some_and(|v| *v as f64 >= share * best as f64);
    if has(0, AS_GOOD) {
        return Some(0);
    }
    let mut good = votes.keys().copied().filter(|difference| has(*difference, AS_GOOD));
    let only = good.next()?;
    good.next().is_none().then_some(only)
}

/// The frames that came back, each with when it was handed over.
fn matched(handed: &[Frame], back: &[Frame], difference: u32) -> Vec<Match> {
    let mut ours: HashMap<(u64, u32), Moment> = handed.iter().map(|f| ((f.print, f.time_ms), f.came)).collect();
    let found = back.iter().filter_map(|frame| {
        // Each is found once, however often it comes back.
        let handed = ours.remove(&(frame.print, frame.time_ms.wrapping_add(difference)))?;
        Some(Match { handed, back: frame.came })
    });
    found.collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Ten seconds of 50 pictures and as many frames of sound a second, handed over from `from_ms` on.
    fn handed(from_ms: u64, print: impl Fn(bool, u64) -> u64) -> Vec<Frame> {
        let frame = |n: u64, is_picture: bool| Frame {
            came: Moment::from_ms(n * 20),
            is_picture,
            is_keyframe: is_picture && n.is_multiple_of(100),
            time_ms: u32::try_from(n * 20 + 5000).unwrap(),
            print: print(is_picture, n),
        };
        (from_ms / 20..500).flat_map(|n| [frame(n, true), frame(n, false)]).collect()
    }

    /// What a server gives out of it so much later, with its own clock.
    fn back(handed: &[Frame], delay_ms: u64, clock_ms: u32) -> Vec<Frame> {
        let later = |frame: &Frame| Frame {
            came: Moment::after(frame.came.since(Moment::START) + Duration::from_millis(delay_ms)),
            time_ms: frame.time_ms.wrapping_sub(clock_ms),
            ..*frame
        };
        let back = handed.iter().map(later);
        back.filter(|frame| frame.came <= END).collect()
    }

    const END: Moment = Moment::from_ms(10_000);

    fn unlike(is_picture: bool, n: u64) -> u64 {
        2 * n + u64::from(is_picture)
    }

    #[test]
    fn the_delay_is_found_whatever_clock_the_server_has_also_across_the_wrap() {
        for clock_ms in [0, 700, 4_000_000_000] {
            let handed = handed(0, unlike);
            let found = compare(&handed, &back(&handed, 430, clock_ms), END);
            assert_eq!((found.delay_ms, found.longest_delay_ms), (Some(430.0), Some(430.0)));
            assert_eq!(found.begins_behind_ms, Some(0.0));
            // The last ones are on their way: handed over from 0 to 8 870 ms, 20 ms apart.
            assert_eq!(found.pictures, Returned { came: 444, of: Some(444) });
            assert_eq!(found.sound, Returned { came: 444, of: Some(444) });
        }
    }

    #[test]
    fn pictures_and_sound_may_have_clocks_of_their_own() {
        let handed = handed(0, unlike);
        let mut back = back(&handed, 430, 0);
        back.iter_mut().filter(|frame| frame.is_picture).for_each(|frame| frame.time_ms -= 1234);
        let found = compare(&handed, &back, END);
        assert_eq!((found.delay_ms, found.begins_behind_ms), (Some(430.0), Some(0.0)));
        assert_eq!([found.pictures.of, found.sound.of], [Some(444); 2]);
        assert_eq!([found.pictures.came, found.sound.came], [444; 2]);
    }

    #[test]
    fn frames_that_stay_out_are_counted_also_where_they_cease_to_come() {
        let handed = handed(0, unlike);
        let mut back = back(&handed, 200, 0);
        back.retain(|frame| !(frame.is_picture && frame.time_ms % 400 == 0));
        let found = compare(&handed, &back, END);
        assert_eq!(
            (found.pictures, found.sound.came),
            (Returned { came: 433, of: Some(456) }, found.sound.of.unwrap())
        );
        back.retain(|frame| frame.came < Moment::from_ms(5000));
        let stalled = compare(&handed, &back, END);
        assert_eq!((stalled.pictures.of, stalled.delay_ms), (Some(456), None), "nothing came of late");
        assert!(stalled.pictures.came < 290, "{stalled:?}");
    }

    #[test]
    fn still_pictures_and_silence_are_known_by_the_clock_they_had() {
        // Each group of two seconds is like the one before, and all sound is one.
        let handed = handed(0, |is_picture, n| if is_picture { n % 100 } else { 7 });
        let found = compare(&handed, &back(&handed, 430, 0), END);
        assert_eq!((found.delay_ms, found.pictures.of), (Some(430.0), Some(444)));
        // On another clock it is not clear which is which, and nothing is said.
        let other = compare(&handed, &back(&handed[400..], 430, 700), END);
        assert_eq!((other.delay_ms, other.pictures.of), (None, None));
        assert!(other.pictures.came > 250);
    }

    #[test]
    fn where_a_server_begins_with_what_it_kept_that_is_told_apart_from_the_delay() {
        // Note was taken from 2 s on; at 3 s the server gives out all since 1 s at once, and goes on live.
        let all = handed(0, unlike);
        let mut back = back(&all[100..], 300, 0);
        for frame in &mut back {
            frame.came = frame.came.max(Moment::from_ms(3000));
        }
        let found = compare(&all[200..], &back, END);
        assert_eq!((found.delay_ms, found.begins_behind_ms), (Some(300.0), Some(1700.0)));
        let pictures = found.pictures;
        assert_eq!(Some(pictures.came), pictures.of, "what came in before note was taken is not counted");
    }

    #[test]
    fn what_is_encoded_anew_is_counted_and_not_compared() {
        let handed = handed(0, unlike);
        let mut back = back(&handed, 800, 0);
        for frame in &mut back {
            frame.print += 100_000;
        }
        let found = compare(&handed, &back, END);
        assert_eq!((found.delay_ms, found.pictures.of, found.sound.of), (None, None, None));
        assert!(found.pictures.came > 400);
    }

    #[test]
    fn sound_alone_shows_that_pictures_are_kept_back() {
        let handed = handed(0, unlike);
        let mut back = back(&handed, 100, 0);
        back.retain(|frame| !frame.is_picture);
        let found = compare(&handed, &back, END);
        assert_eq!((found.pictures.came, found.delay_ms), (0, Some(100.0)));
        assert!(found.pictures.is_withheld() && found.sound.came > 400, "{found:?}");
        assert_eq!(compare(&handed, &[], END), PlayedBack::default());
        // Without a keyframe since, a server has had nothing to begin with: that says nothing of it.
        let mut rare = handed;
        rare.iter_mut().for_each(|frame| frame.is_keyframe = false);
        let early = compare(&rare, &back, END);
        assert_eq!((early.pictures.came, early.pictures.of), (0, None));
        assert!(!early.pictures.is_withheld() && early.delay_ms.is_some());
        // Nor has it where the only one came a moment ago.
        rare.iter_mut()
            .filter(|frame| frame.is_picture && frame.came == Moment::from_ms(8000))
            .for_each(|f| f.is_keyframe = true);
        assert_eq!(compare(&rare, &back, END).pictures.of, None);
    }
}
