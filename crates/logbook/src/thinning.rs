//! How old broadcasts become smaller, and when they go.
//!
//! What was lost, and everything around it, is kept as it was. Where ten seconds in a row are quiet, each measured figure keeps its
//! lowest and its highest value in the seconds in which they were, and the others become their own mean: sums and extremes are as
//! before, and what is all the same packs to next to nothing. Of how everything stood, one moment in [`QUIET_EACH`] seconds stays where
//! it was quiet.

use std::collections::BTreeMap;
use std::time::Duration;

use jiff::{SignedDuration, Timestamp};
use moth_core::{Moment, State};
use moth_evening::moments::{self, Press, Pressed};
use rusqlite::params;

use crate::about::{Listed, Wanted};
use crate::columns::{self, Column};
use crate::error::LogbookError;
use crate::kept::Kept;
use crate::logbook::{COUNT, Logbook};
use crate::pen::{STRETCH, number, us};

/// A broadcast is thinned once it is so old, in days. Ours: last month's evenings are still gone through second by second.
pub const AFTER_DAYS: i64 = 30;
/// Seconds that are thinned together. Ours.
const GROUP: usize = 10;
/// Nothing is thinned so close to a loss, in seconds. Ours: what led to it, and what followed.
const AROUND_A_LOSS: usize = 15;
/// Nothing is thinned so close to a verdict, a mark or a change, in seconds. Ours: as long as a trial takes to be told.
const AROUND: usize = 60;
/// Of quiet stretches a moment each so many seconds stays. Ours.
pub(crate) const QUIET_EACH: usize = 60;

/// How long broadcasts are kept; without a limit for ever.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub struct Limits {
    /// They go once they are so old, in days.
    pub days: Option<u32>,
    /// The oldest go once all together take more, in bytes.
    pub bytes: Option<u64>,
}

impl Logbook {
    /// What goes by these limits, the oldest first. What goes on stays.
    ///
    /// # Errors
    /// [`LogbookError`].
    pub fn beyond(&self, limits: Limits, now: Timestamp) -> Result<Vec<Listed>, LogbookError> {
        let mut all = self.list(&Wanted::default())?;
        all.reverse();
        let mut taken: u64 = all.iter().map(|one| one.bytes).sum();
        let mut going = Vec::new();
        for one in all {
            let age = now.duration_since(one.on_air_at().timestamp());
            let is_old = limits.days.is_some_and(|days| age > SignedDuration::from_hours(24 * i64::from(days)));
            if (is_old || limits.bytes.is_some_and(|most| taken > most)) && !self.goes_on(&one, now)? {
                taken -= one.bytes;
                going.push(one);
            }
        }
        Ok(going)
    }

    /// Thins the oldest broadcast that is due; `false` if none is.
    ///
    /// # Errors
    /// [`LogbookError`]; it is as it was then.
    pub fn thin_one(&mut self, now: Timestamp) -> Result<bool, LogbookError> {
        let due = SignedDuration::from_hours(24 * AFTER_DAYS);
        let all = self.list(&Wanted::default())?;
        let is_due = |one: &&Listed| one.thinned == 0 && now.duration_since(one.on_air_at().timestamp()) > due;
        let Some(one) = all.iter().rev().find(is_due) else { return Ok(false) };
        let kept = self.kept(one.nr)?;
        self.thin(one.nr, kept)?;
        self.give_room_back()?;
        Ok(true)
    }

    /// Thins a broadcast, whatever its age.
    ///
    /// # Errors
    /// [`LogbookError`]; it is as it was then.
    pub fn thin(&mut self, nr: i64, mut kept: Kept) -> Result<(), LogbookError> {
        let quiet = quiet(&kept);
        thin_columns(&mut kept.seconds, &quiet, columns::measured());
        let mut loads: Vec<_> = kept.chronicle.machines().iter().map(|machine| machine.loads.clone()).collect();
        loads.iter_mut().for_each(|loads| thin_columns(loads, &quiet, columns::loads()));
        let path = self.path().to_owned();
        let fail = |error| LogbookError::of(&path, error);
        let deed = self.db.transaction().map_err(fail)?;
        deed.execute("DELETE FROM second WHERE broadcast = ?1", [nr]).map_err(fail)?;
        for from in (kept.first_second..kept.seconds.len()).step_by(STRETCH) {
            let until = (from + STRETCH).min(kept.seconds.len());
            let own = loads.iter().map(|loads| &loads[from.min(loads.len())..until.min(loads.len())]);
            let packed = columns::pack(&kept.seconds[from..until], &own.collect::<Vec<_>>());
            let sql = "INSERT INTO second (broadcast, first, seconds, columns) VALUES (?1, ?2, ?3, ?4)";
            deed.execute(sql, params![nr, number(from), number(until - from), packed]).map_err(fail)?;
        }
        let thinned = thin_moments(&deed, nr, &quiet).map_err(fail)?;
        deed.execute("DELETE FROM moment WHERE broadcast = ?1", [nr]).map_err(fail)?;
        for pressed in thinned {
            let sql = "INSERT INTO moment (broadcast, page_us, at_us, chunk) VALUES (?1, ?2, ?3, ?4)";
            let Pressed { at, page, chunk } = pressed;
            deed.execute(sql, params![nr, us(page), us(at), chunk.as_ref()]).map_err(fail)?;
        }
        deed.execute("UPDATE broadcast SET thinned = 1 WHERE nr = ?1", [nr]).map_err(fail)?;
        deed.execute(COUNT, [nr]).map_err(fail)?;
        deed.commit().map_err(fail)
    }
}

/// In which seconds nothing happened, nor close by.
fn quiet(kept: &Kept) -> Vec<bool> {
    let seconds = &kept.seconds;
    let mut quiet = vec![true; seconds.len()];
    let mut disturb = |from: f64, until: f64, around: usize| {
        let from = (from.max(0.0) as usize).saturating_sub(around).min(seconds.len());
        let until = ((until.max(0.0) as usize).saturating_add(around + 1)).min(seconds.len());
        quiet[from..until.max(from)].fill(false);
    };
    for (at, second) in seconds.iter().enumerate() {
        let lost = [second.dropped, second.skipped, second.lagged, second.frozen_ms];
        let is_calm = matches!(second.state, None | Some(State::Steady));
        if !is_calm || lost.into_iter().flatten().any(|lost| lost > 0) {
            disturb(at as f64, at as f64, AROUND_A_LOSS);
        }
    }
    kept.chronicle.verdicts().iter().for_each(|stood| disturb(stood.from_s, stood.until_s, AROUND));
    kept.chronicle.marks().iter().for_each(|mark| disturb(mark.at.seconds(), mark.at.seconds(), AROUND));
    quiet
}

fn thin_columns<T: 'static>(all: &mut [T], quiet: &[bool], columns: impl Iterator<Item = &'static Column<T>>) {
    let columns: Vec<_> = columns.collect();
    for (group, quiet) in all.chunks_exact_mut(GROUP).zip(quiet.chunks_exact(GROUP)) {
        if quiet.iter().all(|quiet| *quiet) {
            columns.iter().for_each(|column| thin_group(group, column));
        }
    }
}

/// The lowest and the highest value stay where they are; the others become their mean.
fn thin_group<T>(group: &mut [T], (_, get, set): &Column<T>) {
    let values: Option<Vec<f32>> = group.iter().map(|one| columns::float(get(one))).collect();
    // Where some were not known, which were is left as it was.
    let Some(values) = values.filter(|values| values.iter().all(|value| value.is_finite())) else { return };
    let extreme = |is: fn(f32, f32) -> bool| {
        (1..values.len()).fold(0, |best, at| if is(values[at], values[best]) { at } else { best })
    };
    let (lowest, highest) = (extreme(|a, b| a < b), extreme(|a, b| a > b));
    let others = || (0..values.len()).filter(|at| *at != lowest && *at != highest);
    let sum: f64 = others().map(|at| f64::from(values[at])).sum();
    let mean = (sum / others().count().max(1) as f64) as f32;
    for at in others() {
        set(&mut group[at], mean.to_bits());
    }
}

/// The moments that stay, in pages of their own.
fn thin_moments(db: &rusqlite::Connection, nr: i64, quiet: &[bool]) -> rusqlite::Result<Vec<Pressed>> {
    let mut find = db.prepare("SELECT page_us, at_us, chunk FROM moment WHERE broadcast = ?1 ORDER BY at_us")?;
    let mut rows = find.query([nr])?;
    let mut pages: BTreeMap<i64, Vec<(i64, Vec<u8>)>> = BTreeMap::new();
    while let Some(row) = rows.next()? {
        pages.entry(row.get(0)?).or_default().push((row.get(1)?, row.get(2)?));
    }
    let (mut press, mut stay, mut newest) = (Press::default(), Vec::new(), None);
    for moments in pages.into_values() {
        let lines = moments::inflate(moments.iter().map(|(_, chunk)| chunk.as_slice()));
        for ((at, _), line) in moments.iter().zip(lines.split_inclusive(|byte| *byte == b'\n')) {
            let at = Moment::after(Duration::from_micros(u64::try_from(*at).unwrap_or(0)));
            // It tells of the second that it ended.
            let second = (at.seconds() as usize).saturating_sub(1);
            let is_quiet = quiet.get(second).copied().unwrap_or(false);
            let is_early = newest.is_some_and(|newest| second < newest + QUIET_EACH);
            if is_quiet && is_early {
                continue;
            }
            newest = Some(second);
            stay.extend(press.take_line(at, line));
        }
    }
    Ok(stay)
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_core::history::Second;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn extremes_stay_where_they_are_and_sums_as_they_are(values in prop::collection::vec(0.0_f32..9000.0, 40)) {
            let second = |value: &f32| Second { sent_kbps: Some(*value), due: Some(60), ..Second::default() };
            let before: Vec<Second> = values.iter().map(second).collect();
            let mut after = before.clone();
            thin_columns(&mut after, &[true; 40], columns::measured());
            for (was, is) in before.chunks(GROUP).zip(after.chunks(GROUP)) {
                let of = |group: &[Second]| group.iter().filter_map(|s| s.sent_kbps).collect::<Vec<f32>>();
                let (was, is) = (of(was), of(is));
                for extreme in [f32::min, f32::max] {
                    let bound = was.iter().copied().reduce(extreme).unwrap();
                    let at = was.iter().position(|value| *value == bound).unwrap();
                    prop_assert_eq!(is[at], bound);
                    prop_assert_eq!(is.iter().copied().reduce(extreme).unwrap(), bound);
                }
                let sum = |group: &[f32]| group.iter().map(|value| f64::from(*value)).sum::<f64>();
                prop_assert!((sum(&was) - sum(&is)).abs() <= 0.01 * GROUP as f64);
            }
        }
    }

    #[test]
    fn what_was_not_known_or_not_quiet_is_left_as_it_was() {
        let mut seconds: Vec<Second> = (0..20_u8)
            .map(|n| Second {
                rtt_ms: Some(f32::from(n % 7)),
                cpu: (n != 3).then_some(f32::from(n)),
                ..Second::default()
            })
            .collect();
        let before = seconds.clone();
        let mut quiet = [true; 20];
        quiet[12] = false;
        thin_columns(&mut seconds, &quiet, columns::measured());
        assert!(seconds[..10].iter().zip(&before).all(|(after, before)| after.cpu == before.cpu));
        assert_ne!(seconds[..10], before[..10]);
        assert_eq!(seconds[10..], before[10..]);
    }
}
