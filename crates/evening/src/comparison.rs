//! Two broadcasts, or two stretches, on equal terms: what differs, by how much, and how sure that is.
//!
//! Both are cut to the same time on air, from the beginning. Each figure is compared by the means of blocks of seconds. Losses come in
//! bursts, and a block tells nothing new while the burst of the one before goes on: so blocks of several lengths are tried, and those
//! count whose means lie furthest apart for their number (batch means: R. W. Conway, *Management Science* 10, 1963; that the longest
//! that are still many enough are needed for what comes in bursts: C. Alexopoulos, A. F. Seila in *Handbook of Simulation*, 1998). The
//! interval is Welch's on them (*Biometrika* 34, 1947). A side that lost nothing may still lose up to three in as many frames as were
//! seen (J. A. Hanley, A. Lippman-Hand, *JAMA* 249, 1983).
//!
//! Each interval is shown with 95 % confidence. The sentence names a difference only where 99.5 % exclude that there is none: with ten
//! figures, two equal broadcasts are then called different in one of twenty cases at most (Bonferroni).

use moth_core::State;
use moth_core::history::Second;
use moth_core::rate::grouped;
use moth_core::sentence::capitalised;
use moth_core::student::{Confidence, student};

/// The shortest block, in seconds; others are twice, four times, … as long. Ours: longer than a group of pictures.
const SHORTEST: usize = 4;
/// The fewest blocks on a side from which anything is told. Ours.
const FEWEST: usize = 8;
/// The least time on air on each side, in seconds, from which anything is told. Ours.
pub const LEAST_S: usize = 60;
/// Offered bitrates that are further apart, as a share, are told. Ours.
const OTHER_BITRATE: f64 = 0.05;

/// What is compared.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Measure {
    /// Frames dropped, in percent of those due.
    Dropped,
    /// Frames skipped, in percent of those due.
    Skipped,
    /// Frames lagged, in percent of those due.
    Lagged,
    /// How long the picture stood still for viewers, in seconds an hour.
    Frozen,
    /// Time without a server, in percent.
    Dark,
    /// Time in which frames were being dropped, in percent.
    Losing,
    /// What was carried, in percent of what was asked.
    Carried,
    /// What was carried, in kb/s.
    Sustained,
    /// Round trip, in milliseconds.
    RoundTrip,
    /// Share of all cores in use, in percent.
    Cpu,
    /// Share of the GPU in use, in percent.
    Gpu,
}

impl Measure {
    /// All, what matters most to viewers first.
    pub const ALL: [Self; 11] = [
        Self::Dropped,
        Self::Skipped,
        Self::Lagged,
        Self::Frozen,
        Self::Dark,
        Self::Losing,
        Self::Carried,
        Self::Sustained,
        Self::RoundTrip,
        Self::Cpu,
        Self::Gpu,
    ];

    /// In words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Dropped => "dropped",
            Self::Skipped => "skipped",
            Self::Lagged => "lagged",
            Self::Frozen => "picture still",
            Self::Dark => "dark",
            Self::Losing => "losing",
            Self::Carried => "carried of asked",
            Self::Sustained => "carried",
            Self::RoundTrip => "round trip",
            Self::Cpu => "CPU",
            Self::Gpu => "GPU",
        }
    }

    /// Its word in JSON.
    #[must_use]
    pub fn slug(self) -> &'static str {
        match self {
            Self::Dropped => "dropped_percent",
            Self::Skipped => "skipped_percent",
            Self::Lagged => "lagged_percent",
            Self::Frozen => "frozen_s_per_hour",
            Self::Dark => "dark_percent",
            Self::Losing => "losing_percent",
            Self::Carried => "carried_percent",
            Self::Sustained => "carried_kbps",
            Self::RoundTrip => "rtt_ms",
            Self::Cpu => "cpu_percent",
            Self::Gpu => "gpu_percent",
        }
    }

    /// The unit of a value.
    #[must_use]
    pub fn unit(self) -> &'static str {
        match self {
            Self::Dropped | Self::Skipped | Self::Lagged => "% of frames",
            Self::Frozen => "s an hour",
            Self::Dark | Self::Losing => "% of the time",
            Self::Carried | Self::Cpu | Self::Gpu => "%",
            Self::Sustained => "kb/s",
            Self::RoundTrip => "ms",
        }
    }

    /// Whether it counts frames that were lost.
    fn is_of_frames(self) -> bool {
        matches!(self, Self::Dropped | Self::Skipped | Self::Lagged)
    }

    /// What nobody would notice. Ours.
    fn is_little(self, difference: f64, of: f64) -> bool {
        let least = match self {
            Self::Dropped | Self::Skipped | Self::Lagged => 0.02,
            Self::Frozen | Self::Dark | Self::Losing => 1.0,
            Self::Carried | Self::Cpu | Self::Gpu => 2.0,
            Self::Sustained => 0.02 * of.abs(),
            Self::RoundTrip => (0.05 * of.abs()).max(2.0),
        };
        difference.abs() < least
    }

    /// What a second adds to an amount and to what it is a share of; `None` if that was not known. What is no share counts per second.
    fn of(self, second: &Second) -> Option<(f64, f64)> {
        let percent = |lost: Option<u32>| Some((f64::from(lost?) * 100.0, f64::from(second.due?)));
        let is = |state| second.state.map(|now| if now == state { 100.0 } else { 0.0 });
        let each = |value: Option<f64>| value.map(|value| (value, 1.0));
        match self {
            Self::Dropped => percent(second.dropped),
            Self::Skipped => percent(second.skipped),
            Self::Lagged => percent(second.lagged),
            // Milliseconds a second: so many thousandths of 3600 s an hour.
            Self::Frozen => each(second.frozen_ms.map(|ms| f64::from(ms) * 3.6)),
            Self::Dark => each(is(State::Dark)),
            Self::Losing => each(is(State::Losing)),
            Self::Carried => Some((f64::from(second.sent_kbps?) * 100.0, f64::from(second.asked_kbps?))),
            Self::Sustained => each(second.sent_kbps.map(f64::from)),
            Self::RoundTrip => each(second.rtt_ms.map(f64::from)),
            Self::Cpu => each(second.cpu.map(|share| f64::from(share) * 100.0)),
            Self::Gpu => each(second.gpu.map(|share| f64::from(share) * 100.0)),
        }
        .filter(|(amount, of)| amount.is_finite() && of.is_finite())
    }
}

/// How one measure differs.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Difference {
    /// What is compared.
    pub measure: Measure,
    /// Its mean on the first side, and on the second; `None` if it was not known there.
    pub means: [Option<f64>; 2],
    /// How much more the second has: with 95 % confidence between these two. `None` with too little on a side.
    pub more: Option<(f64, f64)>,
    /// 99.5 % exclude that there is none, and it is more than nobody would notice.
    pub is_told: bool,
}

/// Two sides on equal terms.
#[derive(Debug, Clone, PartialEq)]
pub struct Comparison {
    /// Seconds on air that were compared, the same on both sides.
    pub seconds: usize,
    /// Seconds on air that there were.
    pub on_air: [usize; 2],
    /// What was offered, in kb/s on the mean; `None` if that was not known.
    pub asked_kbps: [Option<f64>; 2],
    /// One for each [`Measure`].
    pub differences: Vec<Difference>,
}

/// Compares two sides.
#[must_use]
pub fn compare(first: &[Second], second: &[Second]) -> Comparison {
    let on_air = [first, second].map(on_air);
    let seconds = on_air[0].len().min(on_air[1].len());
    let cut = [&on_air[0][..seconds], &on_air[1][..seconds]];
    let asked = |second: &Second| second.asked_kbps.map(|asked| (f64::from(asked), 1.0));
    let asked_kbps = cut.map(|side| mean(&side.iter().map(asked).collect::<Vec<_>>()));
    let differences = Measure::ALL.into_iter().map(|measure| difference(measure, cut)).collect();
    Comparison { seconds, on_air: on_air.map(|side| side.len()), asked_kbps, differences }
}

/// The seconds in which somebody broadcast.
#[must_use]
pub fn on_air(seconds: &[Second]) -> Vec<Second> {
    seconds.iter().filter(|second| second.state.is_some()).copied().collect()
}

/// A sum of amounts as a share of what they are of.
fn mean<'a>(values: impl IntoIterator<Item = &'a Option<(f64, f64)>>) -> Option<f64> {
    let known = values.into_iter().flatten();
    let (amount, of) = known.fold((0.0, 0.0), |(amount, of), one| (amount + one.0, of + one.1));
    (of > 0.0).then(|| amount / of)
}

/// A side's mean, the square of how far off it may be, and how many blocks tell that.
#[derive(Debug, Clone, Copy)]
struct Estimate {
    mean: f64,
    variance: f64,
    blocks: usize,
}

fn estimate(values: &[Option<(f64, f64)>]) -> Option<Estimate> {
    let mean_of_all = mean(values)?;
    let mut widest: Option<Estimate> = None;
    let mut length = SHORTEST;
    while values.len() / length >= FEWEST {
        let means: Vec<f64> = values.chunks_exact(length).filter_map(mean).collect();
        if means.len() >= FEWEST {
            let count = means.len() as f64;
            let middle = means.iter().sum::<f64>() / count;
            let spread = means.iter().map(|block| (block - middle).powi(2)).sum::<f64>();
            let variance = spread / (count - 1.0) / count;
            let is_wider = |before: Estimate| margin(variance, means.len()) > margin(before.variance, before.blocks);
            if widest.is_none_or(is_wider) {
                widest = Some(Estimate { mean: mean_of_all, variance, blocks: means.len() });
            }
        }
        length *= 2;
    }
    widest
}

/// How far off a mean may be by so many blocks.
fn margin(variance: f64, blocks: usize) -> f64 {
    student(Confidence::P95, blocks as f64 - 1.0) * variance.sqrt()
}

fn difference(measure: Measure, sides: [&[Second]; 2]) -> Difference {
    let values = sides.map(|side| side.iter().map(|second| measure.of(second)).collect::<Vec<_>>());
    let means = values.each_ref().map(mean);
    let unknown = Difference { measure, means, more: None, is_told: false };
    if sides[0].len() < LEAST_S {
        return unknown;
    }
    let (Some(first), Some(second)) = (estimate(&values[0]), estimate(&values[1])) else { return unknown };
    let more = second.mean - first.mean;
    let variance = first.variance + second.variance;
    let degrees = if variance > 0.0 {
        let part = |side: Estimate| side.variance.powi(2) / (side.blocks as f64 - 1.0);
        variance.powi(2) / (part(first) + part(second)).max(f64::MIN_POSITIVE)
    } else {
        (first.blocks + second.blocks) as f64 - 2.0
    };
    let rare = if measure.is_of_frames() {
        let due = sides.map(|side| side.iter().filter_map(|second| second.due).map(u64::from).sum::<u64>());
        300.0 / due[0].min(due[1]).max(3) as f64
    } else {
        0.0
    };
    let half = |confidence| (student(confidence, degrees) * variance.sqrt()).max(rare);
    let (shown, sure) = (half(Confidence::P95), half(Confidence::P995));
    let is_told = more.abs() > sure && !measure.is_little(more, first.mean);
    Difference { measure, means, more: Some((more - shown, more + shown)), is_told }
}

/// What the sides are called in sentences: `the night before`, `15`.
#[derive(Debug, Clone, Copy)]
pub struct Called<'a> {
    /// The first.
    pub first: &'a str,
    /// The second.
    pub second: &'a str,
}

impl Called<'_> {
    /// As drawings call them, whatever their names are.
    pub const BY_LETTER: Self = Self { first: "A", second: "B" };
}

impl Comparison {
    /// What differs, and how sure that is.
    #[must_use]
    pub fn sentence(&self, called: Called<'_>) -> String {
        let Called { first, second } = called;
        if self.seconds < LEAST_S {
            let least = self.on_air[0].min(self.on_air[1]);
            return format!(
                "Too little to say: {least} s on air on the shorter side, and a minute at least is wanted."
            );
        }
        let mut said = String::new();
        if let [Some(a), Some(b)] = self.asked_kbps
            && (a - b).abs() > OTHER_BITRATE * a.max(b)
        {
            said = format!(
                "{} offered {} kb/s and {} {} kb/s: what depends on it is compared as a share. ",
                capitalised(first),
                number(a),
                second,
                number(b)
            );
        }
        let told: Vec<String> = self.told().map(|difference| difference.words()).collect();
        match told.split_first() {
            None if self.hinted().next().is_some() => {
                let hints: Vec<String> = self.hinted().take(2).map(Difference::words).collect();
                said.push_str(&format!(
                    "It is too little to be sure that they differ. With 95 % confidence, which among so many figures is not enough, {second} {}, \
                     against {first}.",
                    hints.join("; ")
                ));
            }
            None => {
                said.push_str(&format!(
                    "{} and {second} do not differ by more than chance would make",
                    capitalised(first)
                ));
                if let Some(Difference { measure, means: [Some(a), Some(b)], more: Some((least, most)), .. }) =
                    self.differences.first()
                {
                    said.push_str(&format!(
                        ": {} were {} % and {} % of the frames, which is {} (95 % confidence)",
                        measure.words(),
                        value(*measure, *a),
                        value(*measure, *b),
                        span(*measure, *least, *most)
                    ));
                }
                said.push('.');
            }
            Some((leading, rest)) => {
                said.push_str(&format!("Against {first}, {second} {leading}"));
                for next in rest.iter().take(2) {
                    said.push_str(&format!("; {next}"));
                }
                match rest.len() {
                    0 => said.push_str(". Nothing else differs by more than chance would make."),
                    1 | 2 => said.push_str(". The rest does not differ by more than chance would make."),
                    3 => said.push_str(". One figure more differs."),
                    more => said.push_str(&format!(". {} figures more differ.", more - 2)),
                }
            }
        }
        said
    }

    /// The differences of which 95 % of such intervals say that there is one, and 99.5 % do not.
    fn hinted(&self) -> impl Iterator<Item = &Difference> {
        let excludes =
            |difference: &&Difference| difference.more.is_some_and(|(least, most)| least > 0.0 || most < 0.0);
        let matters = |difference: &&Difference| match difference.means {
            [Some(first), Some(second)] => !difference.measure.is_little(second - first, first),
            _ => false,
        };
        self.differences.iter().filter(excludes).filter(matters).filter(|difference| !difference.is_told)
    }

    /// The differences that are told.
    pub fn told(&self) -> impl Iterator<Item = &Difference> {
        // What was carried is told once: as a share where bitrates differ, else as a rate.
        let differs = matches!(self.asked_kbps, [Some(a), Some(b)] if (a - b).abs() > OTHER_BITRATE * a.max(b));
        let twice = if differs { Measure::Sustained } else { Measure::Carried };
        self.differences.iter().filter(move |difference| difference.is_told && difference.measure != twice)
    }
}

impl Difference {
    /// As the end of a sentence about the second side.
    fn words(&self) -> String {
        let ([Some(before), Some(after)], Some((least, most))) = (self.means, self.more) else { return String::new() };
        let is_more = after > before;
        let (low, high) = if is_more { (least, most) } else { (-most, -least) };
        let by = format!("{} to {}", value(self.measure, low.max(0.0)), value(self.measure, high));
        let (a, b) = (value(self.measure, before), value(self.measure, after));
        let more = if is_more { "more" } else { "less" };
        match self.measure {
            Measure::Dropped | Measure::Skipped | Measure::Lagged => {
                let word = self.measure.words();
                let fewer = if is_more { "more" } else { "fewer" };
                format!("{word} {b} % of its frames instead of {a} % ({by} points {fewer}, with 95 % confidence)")
            }
            Measure::Frozen => format!("stood still for {b} s an hour instead of {a} s ({by} s {more})"),
            Measure::Dark => format!("was without a server {b} % of the time instead of {a} % ({by} points {more})"),
            Measure::Losing => format!("was losing frames {b} % of the time instead of {a} % ({by} points {more})"),
            Measure::Carried => format!("carried {b} % of what was asked instead of {a} % ({by} points {more})"),
            Measure::Sustained => format!("carried {b} kb/s instead of {a} kb/s ({by} kb/s {more})"),
            Measure::RoundTrip => format!("had a round trip of {b} ms instead of {a} ms ({by} ms {more})"),
            Measure::Cpu => format!("had {b} % of the cores in use instead of {a} % ({by} points {more})"),
            Measure::Gpu => format!("had {b} % of the GPU in use instead of {a} % ({by} points {more})"),
        }
    }

    /// How much more the second side has, in words.
    #[must_use]
    pub fn span(&self) -> String {
        match (self.means, self.more) {
            ([Some(_), Some(_)], Some((least, most))) => span(self.measure, least, most),
            ([Some(_), Some(_)], None) => "too little to say".into(),
            _ => "not known on both".into(),
        }
    }
}

/// Between so much more and so much less.
fn span(measure: Measure, least: f64, most: f64) -> String {
    let unit = match measure {
        Measure::Sustained => "kb/s",
        Measure::RoundTrip => "ms",
        Measure::Frozen => "s",
        _ => "points",
    };
    let side = |amount: f64| if amount < 0.0 { "less" } else { "more" };
    let (a, b) = (value(measure, least.abs()), value(measure, most.abs()));
    if a == b && a == value(measure, 0.0) {
        return "the same".into();
    }
    if (least < 0.0) == (most < 0.0) {
        let (a, b) = if least < 0.0 { (b, a) } else { (a, b) };
        format!("{a} to {b} {unit} {}", side(least))
    } else {
        format!("between {a} {unit} less and {b} {unit} more")
    }
}

/// A value with as many digits as it deserves.
#[must_use]
pub fn value(measure: Measure, value: f64) -> String {
    match measure {
        Measure::Dropped | Measure::Skipped | Measure::Lagged => format!("{value:.2}"),
        Measure::Sustained => number(value),
        Measure::RoundTrip if value >= 10.0 => number(value),
        _ => format!("{value:.1}"),
    }
}

/// A whole number.
fn number(value: f64) -> String {
    grouped(value.max(0.0).round() as u64)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{RngExt, SeedableRng};
    use rand_pcg::Pcg64;

    /// An evening whose losses come in bursts: begun with this chance a second, of these lengths and sizes.
    fn evening(seed: u64, seconds: usize, begins: f64, length: usize, lost: u32) -> Vec<Second> {
        let mut random = Pcg64::seed_from_u64(seed);
        let mut left = 0;
        let each = |_| {
            if left == 0 && random.random_bool(begins) {
                left = random.random_range(1..=2 * length);
            }
            let is_bad = left > 0;
            left = left.saturating_sub(1);
            let wavers: f32 = random.random_range(-150.0..150.0);
            Second {
                state: Some(if is_bad { State::Losing } else { State::Steady }),
                due: Some(60),
                dropped: Some(if is_bad { random.random_range(0..=2 * lost).min(60) } else { 0 }),
                frozen_ms: Some(0),
                asked_kbps: Some(6160.0),
                sent_kbps: Some(if is_bad { 4000.0 } else { 6100.0 } + wavers),
                rtt_ms: Some(if is_bad { 180.0 } else { 24.0 } + wavers.abs() / 20.0),
                cpu: Some(0.4 + wavers / 3000.0),
                ..Second::default()
            }
        };
        (0..seconds).map(each).collect()
    }

    const CALLED: Called<'static> = Called { first: "the night before", second: "the night after" };

    /// Two hundred pairs each, with bursts of seconds, of half a minute, and of minutes.
    #[test]
    fn equal_evenings_are_called_different_no_oftener_than_is_said() {
        for (begins, length) in [(0.02, 3), (0.004, 25), (0.001, 100)] {
            let wrong = (0..200_u64)
                .filter(|seed| {
                    let sides = [seed * 2, seed * 2 + 1].map(|seed| evening(seed, 1500, begins, length, 10));
                    compare(&sides[0], &sides[1]).told().next().is_some()
                })
                .count();
            assert!(wrong <= 10, "bursts of {length} s: {wrong} of 200");
        }
    }

    #[test]
    fn a_known_difference_is_told_with_its_size_inside_the_interval() {
        let (mut told, mut inside) = (0, 0);
        for seed in 0..200 {
            let before = evening(seed, 1500, 0.02, 5, 10);
            let after = evening(seed + 1000, 1500, 0.0, 1, 0);
            let compared = compare(&before, &after);
            told += usize::from(compared.told().any(|difference| difference.measure == Measure::Dropped));
            // What such bursts lose in the long run: begun with a chance of 0.02 in a quiet second, 5.5 s long, a sixth of the frames.
            let busy = 5.5 / (5.5 + 1.0 / 0.02 - 1.0);
            let truth = busy * 10.0 / 60.0 * 100.0;
            let (least, most) = compared.differences[0].more.unwrap();
            inside += usize::from((least..=most).contains(&-truth));
        }
        assert!(told >= 180, "{told} of 200");
        assert!(inside >= 188, "{inside} of 200");
    }

    #[test]
    fn the_sentence_says_what_differs_and_by_how_much() {
        let compared = compare(&evening(1, 1500, 0.02, 5, 10), &evening(2, 1500, 0.0, 1, 0));
        insta::assert_snapshot!(compared.sentence(CALLED));
        let same = compare(&evening(1, 1500, 0.004, 5, 10), &evening(2, 1500, 0.004, 5, 10));
        insta::assert_snapshot!(same.sentence(CALLED));
    }

    #[test]
    fn too_little_is_said_to_be_too_little_and_what_was_not_known_is_not_told() {
        let compared = compare(&evening(1, 59, 0.5, 5, 10), &evening(2, 3000, 0.0, 1, 0));
        assert_eq!(compared.seconds, 59);
        assert!(compared.sentence(CALLED).starts_with("Too little to say: 59 s on air"));
        assert!(compared.differences.iter().all(|difference| difference.more.is_none() && !difference.is_told));
        let compared = compare(&evening(1, 300, 0.5, 5, 10), &evening(2, 300, 0.0, 1, 0));
        let of = |measure| compared.differences.iter().find(|difference| difference.measure == measure).unwrap();
        assert_eq!((of(Measure::Gpu).means, of(Measure::Gpu).span().as_str()), ([None, None], "not known on both"));
        assert_eq!(compare(&[], &[]).seconds, 0);
    }

    #[test]
    fn sides_are_as_long_as_the_shorter_one_and_only_time_on_air_counts() {
        let mut first = vec![Second::default(); 500];
        first.extend(evening(1, 400, 0.0, 1, 0));
        let compared = compare(&first, &evening(2, 900, 0.0, 1, 0));
        assert_eq!((compared.seconds, compared.on_air), (400, [400, 900]));
    }

    /// What is told of a broadcast elsewhere is what stands here.
    #[test]
    fn the_share_lost_is_that_of_all_frames_due_however_many_a_second_had() {
        let second = |due, dropped| Second {
            state: Some(State::Steady),
            due: Some(due),
            dropped: Some(dropped),
            ..Second::default()
        };
        let side: Vec<Second> = (0..400).map(|n| if n % 2 == 0 { second(60, 0) } else { second(10, 10) }).collect();
        let compared = compare(&side, &side);
        let lost = crate::evening::Lost::of(&side);
        let told = compared.differences[0].means[0].unwrap();
        assert!((told - lost.percent(lost.dropped)).abs() < 1e-9 && told < 15.0, "{told}");
    }

    #[test]
    fn other_bitrates_are_told_and_compared_as_shares() {
        let half = |second: &Second| Second {
            asked_kbps: Some(3080.0),
            sent_kbps: second.sent_kbps.map(|kbps| kbps / 2.0),
            ..*second
        };
        let first = evening(1, 900, 0.0, 1, 0);
        let second: Vec<Second> = first.iter().map(half).collect();
        let compared = compare(&first, &second);
        let sentence = compared.sentence(CALLED);
        assert!(
            sentence.starts_with("The night before offered 6 160 kb/s and the night after 3 080 kb/s"),
            "{sentence}"
        );
        assert_eq!(compared.told().count(), 0, "{sentence}");
    }
}
