//! A side of a comparison as a curve over its time on air.

use moth_core::history::Second;

use crate::evening::Lost;

/// Something that is drawn.
#[derive(Debug, Clone, Copy)]
pub struct Quantity {
    /// What it is.
    pub name: &'static str,
    /// In which unit.
    pub unit: &'static str,
    of: fn(&[Second]) -> Option<f64>,
}

/// What was lost, of all kinds.
pub const LOST: Quantity = Quantity {
    name: "lost",
    unit: "% of frames",
    of: |seconds| {
        let lost = Lost::of(seconds);
        // Frames that waited are dropped in one second and were due in those before.
        (lost.due > 0).then(|| lost.percent(lost.all()).min(100.0))
    },
};
/// What was carried.
pub const CARRIED: Quantity =
    Quantity { name: "carried", unit: "kb/s", of: |seconds| mean(seconds, |second| second.sent_kbps) };
/// The round trip.
pub const ROUND_TRIP: Quantity =
    Quantity { name: "round trip", unit: "ms", of: |seconds| mean(seconds, |second| second.rtt_ms) };

fn mean(seconds: &[Second], of: fn(&Second) -> Option<f32>) -> Option<f64> {
    let known: Vec<f64> = seconds.iter().filter_map(of).filter(|value| value.is_finite()).map(f64::from).collect();
    (!known.is_empty()).then(|| known.iter().sum::<f64>() / known.len() as f64)
}

impl Quantity {
    /// Points of a curve, a column each where something is known: the time in its middle, in seconds on air, and the value. So many
    /// columns stand for so many seconds, of which a side may have fewer.
    #[must_use]
    pub fn points(&self, on_air: &[Second], seconds: usize, columns: usize) -> Vec<(f64, f64)> {
        // A column for a second, where there are fewer.
        let columns = columns.min(seconds);
        let edge = |n: usize| seconds * n / columns;
        let column = |n: usize| {
            let (from, until) = (edge(n), edge(n + 1).min(on_air.len()));
            Some((f64::midpoint(edge(n) as f64, edge(n + 1) as f64), (self.of)(on_air.get(from..until)?)?))
        };
        (0..columns).filter_map(column).collect()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_column_has_what_its_seconds_come_to_and_ends_where_the_side_does() {
        let second =
            |n: u32| Second { due: Some(50), dropped: Some(n), sent_kbps: Some(n as f32), ..Second::default() };
        let side: Vec<Second> = (0..6).map(second).collect();
        assert_eq!(LOST.points(&side, 8, 4), [(1.0, 1.0), (3.0, 5.0), (5.0, 9.0)]);
        assert_eq!(CARRIED.points(&side, 6, 100).last(), Some(&(5.5, 5.0)));
        assert_eq!(ROUND_TRIP.points(&side, 6, 3), []);
        assert_eq!(LOST.points(&[], 0, 3), []);
    }
}
