//! Drawn comparisons in characters, for reports and for the screen.

use moth_core::rate::Bitrate;

/// What a column of a band stands for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Part {
    /// Carried even in the worst moments.
    Firm,
    /// Carried in the median second.
    Median,
    /// Not carried.
    Empty,
    /// What is planned.
    Planned,
    /// What must be sustained for the headroom to stay free.
    Wanted,
}

impl Part {
    /// Its mark.
    #[must_use]
    pub fn mark(self) -> char {
        match self {
            Self::Firm => '▇',
            Self::Median => '▒',
            Self::Empty => '·',
            Self::Planned => '┃',
            Self::Wanted => '┊',
        }
    }
}

/// A scale for rates, from zero.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Scale {
    /// What the last column stands for.
    pub to: Bitrate,
    /// How many columns there are.
    pub columns: usize,
}

impl Scale {
    /// A scale that shows all of these.
    #[must_use]
    pub fn over(rates: impl IntoIterator<Item = Bitrate>, columns: usize) -> Self {
        let most = rates.into_iter().max().unwrap_or(Bitrate::ZERO).max(Bitrate::from_kbps(100));
        Self { to: most.scaled(1.04), columns: columns.max(4) }
    }

    /// The column of a rate.
    #[must_use]
    pub fn column(&self, rate: Bitrate) -> usize {
        let share = rate.bps() as f64 / (self.to.bps() as f64).max(1.0);
        ((share * self.columns as f64).round() as usize).min(self.columns - 1)
    }

    /// The ruler: a number at every so many columns, in Mb/s.
    #[must_use]
    pub fn ruler(&self) -> String {
        let mbps = self.to.bps() as f64 / 1e6;
        // Steps people count in, the first that leaves room for its numbers.
        let steps = [0.1, 0.2, 0.5, 1.0, 2.0, 5.0, 10.0, 20.0, 50.0, 100.0, 200.0, 500.0, 1000.0];
        let step = steps.into_iter().find(|step| step / mbps * self.columns as f64 >= 8.0).unwrap_or(mbps);
        let mut line: Vec<char> = vec![' '; self.columns + 10];
        let mut i = 0.0;
        while step * i <= mbps {
            let column = self.column(Bitrate::from_bps((step * i * 1e6) as u64));
            let label = if step < 1.0 { format!("{:.1}", step * i) } else { format!("{:.0}", step * i) };
            let is_last = step * (i + 1.0) > mbps;
            for (at, c) in label.chars().chain(if is_last { " Mb/s" } else { "" }.chars()).enumerate() {
                if let Some(place) = line.get_mut(column + at) {
                    *place = c;
                }
            }
            i += 1.0;
        }
        line.into_iter().collect::<String>().trim_end().to_owned()
    }

    /// A band: firm up to the worst moments, then up to the median second, with what is planned and wanted marked.
    #[must_use]
    pub fn band(&self, p5: Bitrate, sustained: Bitrate, planned: Bitrate, wanted: Bitrate) -> Vec<Part> {
        let reach = |rate: Bitrate| rate.bps() as f64 / (self.to.bps() as f64).max(1.0) * self.columns as f64;
        let (firm, median) = (reach(p5).round() as usize, reach(sustained).round() as usize);
        let (planned, wanted) = (self.column(planned), self.column(wanted));
        (0..self.columns)
            .map(|column| match column {
                _ if column == planned => Part::Planned,
                _ if column == wanted => Part::Wanted,
                _ if column < firm => Part::Firm,
                _ if column < median => Part::Median,
                _ => Part::Empty,
            })
            .collect()
    }
}

/// A series as a line of blocks, each column the lowest of its values, so that no bad second is hidden.
#[must_use]
pub fn series(values: &[Bitrate], to: Bitrate, columns: usize) -> String {
    const BLOCKS: [char; 8] = ['▁', '▂', '▃', '▄', '▅', '▆', '▇', '█'];
    if values.is_empty() || columns == 0 {
        return String::new();
    }
    let columns = columns.min(values.len());
    (0..columns)
        .map(|column| {
            let (from, until) = (column * values.len() / columns, (column + 1) * values.len() / columns);
            let lowest = values[from..until.max(from + 1)].iter().min().copied().unwrap_or(Bitrate::ZERO);
            let level = lowest.bps() as f64 / (to.bps() as f64).max(1.0) * 8.0;
            BLOCKS[(level.ceil() as usize).clamp(1, 8) - 1]
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn kbps(kbps: u64) -> Bitrate {
        Bitrate::from_kbps(kbps)
    }

    #[test]
    fn a_band_shows_worst_median_planned_and_wanted() {
        let scale = Scale { to: kbps(10_000), columns: 20 };
        let band: String =
            scale.band(kbps(4000), kbps(7000), kbps(6000), kbps(8000)).into_iter().map(Part::mark).collect();
        assert_eq!(band, "▇▇▇▇▇▇▇▇▒▒▒▒┃▒··┊···");
        assert_eq!(scale.ruler(), "0         5         10 Mb/s".replacen("         10", "        10", 1));
    }

    #[test]
    fn any_rates_fit_their_scale() {
        for (most, columns) in [(0, 0), (90, 7), (6000, 40), (900_000, 120)] {
            let scale = Scale::over([kbps(most)], columns);
            assert!(scale.column(kbps(most)) < scale.columns);
            assert_eq!(scale.band(kbps(most), kbps(most), kbps(1), kbps(2)).len(), scale.columns);
            assert!(scale.ruler().starts_with('0') && scale.ruler().ends_with("Mb/s"));
        }
    }

    #[test]
    fn a_series_hides_no_bad_second() {
        let mut values = vec![kbps(8000); 60];
        values[31] = kbps(0);
        let line = series(&values, kbps(8000), 20);
        assert_eq!(line.chars().count(), 20);
        assert_eq!(line.chars().filter(|c| *c == '▁').count(), 1);
        assert_eq!(series(&values[..3], kbps(8000), 20), "███");
        assert_eq!(series(&[], kbps(1), 20), "");
    }
}
