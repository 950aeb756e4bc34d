//! Frames lost at one stage: as the broadcaster counts them, and as they are read off the wire.

use std::time::Duration;

use crate::figure::Origin;
use crate::moment::Moment;
use crate::window::Trail;

/// One stage's losses in the broadcast on air, and how many there were in those before it.
#[derive(Debug, Clone, Default)]
pub(in crate::core) struct Losses {
    /// The broadcaster's own count.
    pub(in crate::core) reported: Trail,
    /// What the wire shows.
    pub(in crate::core) inferred: Trail,
    /// When the present run of losses began: no loss in [`crate::facts::CLEAR`] before it.
    pub(in crate::core) since: Option<Moment>,
    /// What was lost in the broadcasts before this one, and how that is known.
    before: Option<(f64, Origin)>,
}

impl Losses {
    /// The count that is gone by: the broadcaster's where there is one, else what the wire shows.
    pub(in crate::core) fn counted(&self) -> (&Trail, Origin) {
        if self.reported.is_known() { (&self.reported, Origin::Reported) } else { (&self.inferred, Origin::Inferred) }
    }

    /// All that were lost, in this broadcast and those before it.
    pub(in crate::core) fn total(&self) -> u64 {
        (self.before.map_or(0.0, |(lost, _)| lost) + self.counted().0.total()).round() as u64
    }

    /// How that total is known: it is inferred if any part of it is.
    pub(in crate::core) fn total_origin(&self) -> Origin {
        let is_counted = self.reported.is_known() || self.inferred.is_known();
        match self.before {
            Some((_, before)) if !is_counted => before,
            Some((lost, Origin::Inferred)) if lost > 0.0 => Origin::Inferred,
            _ => self.counted().1,
        }
    }

    /// Notes where a run of losses begins and ends; one is over when nothing was lost for `clear`.
    pub(in crate::core) fn follow(&mut self, now: Moment, clear: Duration) {
        let is_losing = self.counted().0.within(now, clear) > 0.0;
        self.since = if is_losing { self.since.or(Some(now)) } else { None };
    }

    /// The losses of the next broadcast, of which nothing is known yet; the total goes on.
    pub(in crate::core) fn carried_over(&self) -> Self {
        let lost = self.before.map_or(0.0, |(lost, _)| lost) + self.counted().0.total();
        Self { before: Some((lost, self.total_origin())), ..Self::default() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_broadcaster_that_reports_nothing_is_read_off_the_wire_even_after_one_that_reported() {
        let mut losses = Losses::default();
        losses.reported.set(Moment::from_ms(0), 100.0);
        losses.reported.set(Moment::from_ms(1000), 107.0);
        losses.inferred.add(Moment::from_ms(1000), 3.0);
        assert_eq!((losses.counted().1, losses.total()), (Origin::Reported, 7));

        let mut next = losses.carried_over();
        next.inferred.add(Moment::from_ms(2000), 2.0);
        assert_eq!((next.counted().1, next.total()), (Origin::Inferred, 9));
        assert_eq!(next.counted().0.within(Moment::from_ms(2000), Duration::from_secs(3)), 2.0);
    }

    #[test]
    fn a_total_is_no_surer_than_any_part_of_it_and_stays_what_it_was_when_the_broadcaster_has_left() {
        let reported = |losses: &mut Losses, lost: f64| {
            losses.reported.set(Moment::from_ms(0), 0.0);
            losses.reported.set(Moment::from_ms(1000), lost);
        };
        let mut first = Losses::default();
        reported(&mut first, 7.0);
        let mut left = first.carried_over();
        assert_eq!(
            (left.total(), left.total_origin()),
            (7, Origin::Reported),
            "it was reported, though nobody is there"
        );
        reported(&mut left, 2.0);
        assert_eq!((left.total(), left.total_origin()), (9, Origin::Reported));

        let mut read = Losses::default();
        read.inferred.add(Moment::from_ms(0), 3.0);
        let mut next = read.carried_over();
        reported(&mut next, 2.0);
        assert_eq!((next.total(), next.counted().1, next.total_origin()), (5, Origin::Reported, Origin::Inferred));
    }

    #[test]
    fn a_run_of_losses_begins_with_the_first_and_ends_when_none_came_for_long_enough() {
        let (clear, mut losses) = (Duration::from_secs(5), Losses::default());
        let mut since_at = |ms: u64, lost: f64| {
            losses.inferred.add(Moment::from_ms(ms), lost);
            losses.follow(Moment::from_ms(ms), clear);
            losses.since
        };
        let first = Some(Moment::from_ms(1000));
        let seen: Vec<_> = [(500, 0.0), (1000, 2.0), (4000, 0.0), (5000, 1.0), (9900, 0.0), (10_100, 0.0)]
            .into_iter()
            .map(|(ms, lost)| since_at(ms, lost))
            .collect();
        assert_eq!(seen, [None, first, first, first, first, None]);
    }
}
