//! Sizes and rates by bits per pixel.
//!
//! How many bits a picture needs, and what fewer look like, is data with its source: `bands.toml`.

use std::sync::LazyLock;

use moth_core::rate::Bitrate;
use serde::{Deserialize, Serialize};

use crate::service::Limits;
use crate::text::Size;

/// How much moves in the picture.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, Default, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Motion {
    /// Slides, a still camera.
    Still,
    /// Somebody talks.
    Talking,
    /// A scene that moves: a stage, a walk, most games.
    #[default]
    Moving,
    /// Everything moves at once.
    Fast,
}

impl Motion {
    /// Each of them.
    pub const ALL: [Self; 4] = [Self::Still, Self::Talking, Self::Moving, Self::Fast];

    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Still => "still",
            Self::Talking => "talking",
            Self::Moving => "moving",
            Self::Fast => "fast",
        }
    }
}

/// How good a picture looks for its bits, worst first.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Appearance {
    /// Blocks whenever something moves.
    Blocky,
    /// Soft when much moves.
    Soft,
    /// Clean.
    Good,
    /// More bits than needed.
    Spare,
}

impl Appearance {
    /// Its word.
    #[must_use]
    pub fn word(self) -> &'static str {
        match self {
            Self::Blocky => "blocky",
            Self::Soft => "soft",
            Self::Good => "good",
            Self::Spare => "spare",
        }
    }

    /// What it means.
    #[must_use]
    pub fn meaning(self) -> &'static str {
        BANDS.band.iter().find(|band| band.word == self).map_or("", |band| band.meaning.as_str())
    }
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Bands {
    need: Need,
    /// The highest first.
    band: Vec<Band>,
}

#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Need {
    still: f64,
    talking: f64,
    moving: f64,
    fast: f64,
}

#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Band {
    word: Appearance,
    from: f64,
    meaning: String,
}

/// The file is part of the program; that it is read is a test's business.
static BANDS: LazyLock<Bands> = LazyLock::new(|| toml::from_str(include_str!("bands.toml")).unwrap_or_default());

/// The rate the needs are given for, in frames per second.
const AT_FPS: f64 = 30.0;
/// log2(1.5): twice the frames take 1.5 times the bits.
const GROWTH: f64 = 0.585;

/// The video bitrate at which a picture of this size, rate and motion has exactly what it needs.
#[must_use]
pub fn need(size: Size, fps: f64, motion: Motion) -> Bitrate {
    let need = &BANDS.need;
    let per_pixel = match motion {
        Motion::Still => need.still,
        Motion::Talking => need.talking,
        Motion::Moving => need.moving,
        Motion::Fast => need.fast,
    };
    let frames = AT_FPS * (fps / AT_FPS).powf(GROWTH);
    Bitrate::from_bps((size.pixels() * frames * per_pixel) as u64)
}

/// One choice on the map.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Cell {
    /// Picture size.
    pub size: Size,
    /// Frames per second.
    pub fps: f64,
    /// Bits for each pixel of each frame.
    pub bits_per_pixel: f64,
    /// The bitrate as a share of what this picture needs; 1 is all.
    pub share_of_need: f64,
    /// How that looks.
    pub look: Appearance,
}

impl Cell {
    fn new(size: Size, fps: f64, bitrate: Bitrate, motion: Motion) -> Self {
        let share_of_need = bitrate.bps() as f64 / (need(size, fps, motion).bps() as f64).max(1.0);
        let look =
            BANDS.band.iter().find(|band| share_of_need >= band.from).map_or(Appearance::Blocky, |band| band.word);
        Self { size, fps, bits_per_pixel: bitrate.bps() as f64 / (size.pixels() * fps).max(1.0), share_of_need, look }
    }
}

/// Sizes by rates, with the recommended choice.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct PictureMap {
    /// The bitrate it is made for.
    pub bitrate: Bitrate,
    /// The motion it is made for.
    pub motion: Motion,
    /// The sizes, the biggest first.
    pub sizes: Vec<Size>,
    /// The rates in frames per second, the highest first.
    pub rates: Vec<f64>,
    /// A row for each size, a cell for each rate.
    pub rows: Vec<Vec<Cell>>,
    /// Row and column of the recommended cell.
    pub recommended: (usize, usize),
}

/// The heights offered, in lines: multiples of 72, whose 16:9 widths are whole multiples of 8 as well. Ours.
const STEP_LINES: u32 = 72;
/// The fewest lines offered, and the most. Ours.
const LINES: (u32, u32) = (360, 2160);
/// Sizes of which a fast scene should not go below for a higher frame rate, in lines. Ours.
const LEAST_FOR_RATE: u32 = 540;

/// The sizes one may send of a source: its aspect, multiples of 8 (encoders work in blocks), not larger than it.
#[must_use]
pub fn sizes(source: Size) -> Vec<Size> {
    let aspect = source.pixels() / f64::from(source.height).powi(2).max(1.0);
    let at = |height: u32| {
        let width = (f64::from(height) * aspect / 8.0).round() as u32 * 8;
        Size::new(width.min(source.width / 8 * 8).max(8), height)
    };
    let top = (source.height / 8 * 8).clamp(8, LINES.1);
    let mut heights: Vec<u32> = (LINES.0..top).filter(|h| h.is_multiple_of(STEP_LINES)).collect();
    heights.push(top);
    heights.into_iter().rev().map(at).collect()
}

/// The rates one may send of a source: its own and what it divides into evenly, as far as the service takes them.
#[must_use]
pub fn rates(source_fps: f64, limits: &Limits) -> Vec<f64> {
    let takes = |fps: f64| limits.rates.is_empty() || limits.rates.iter().any(|rate| (rate - fps).abs() < 0.01);
    let mut rates: Vec<f64> =
        [1.0, 2.0, 4.0].iter().map(|d| source_fps / d).filter(|fps| takes(*fps) && *fps >= 24.0 - 0.1).collect();
    if rates.is_empty() {
        rates.push(source_fps);
    }
    rates
}

/// The map for a bitrate.
#[must_use]
pub fn map(bitrate: Bitrate, source: Size, source_fps: f64, motion: Motion, limits: &Limits) -> PictureMap {
    let (sizes, rates) = (sizes(source), rates(source_fps, limits));
    let rows: Vec<Vec<Cell>> =
        sizes.iter().map(|size| rates.iter().map(|fps| Cell::new(*size, *fps, bitrate, motion)).collect()).collect();
    let recommended = recommend(&rows, motion);
    PictureMap { bitrate, motion, sizes, rates, rows, recommended }
}

/// Fine text wants size, fast action wants bits per pixel and frames: the first clean choice in that order.
fn recommend(rows: &[Vec<Cell>], motion: Motion) -> (usize, usize) {
    let columns = rows.first().map_or(0, Vec::len);
    let is_clean = |row: usize, column: usize| rows[row][column].look >= Appearance::Good;
    let by_size = (0..rows.len()).flat_map(|row| (0..columns).map(move |column| (row, column)));
    let by_rate = (0..columns).flat_map(|column| (0..rows.len()).map(move |row| (row, column)));
    let found = match motion {
        Motion::Still | Motion::Talking => by_size.clone().find(|(row, column)| is_clean(*row, *column)),
        Motion::Moving | Motion::Fast => by_rate
            .filter(|(row, column)| is_clean(*row, *column))
            .find(|(row, column)| rows[*row][*column].size.height >= LEAST_FOR_RATE)
            .or_else(|| by_size.clone().find(|(row, column)| is_clean(*row, *column))),
    };
    let richest =
        || by_size.clone().max_by(|a, b| rows[a.0][a.1].share_of_need.total_cmp(&rows[b.0][b.1].share_of_need));
    found.or_else(richest).unwrap_or((0, 0))
}

impl PictureMap {
    /// The recommended choice.
    #[must_use]
    pub fn choice(&self) -> Option<&Cell> {
        self.rows.get(self.recommended.0)?.get(self.recommended.1)
    }

    /// Why it is the recommended one.
    #[must_use]
    pub fn reason(&self) -> String {
        let Some(cell) = self.choice() else { return "there is no size to choose from".into() };
        let bits = format!("{} frames/s give {:.3} bits per pixel", cell.fps, cell.bits_per_pixel);
        let share = crate::text::percent(cell.share_of_need);
        match (cell.look >= Appearance::Good, self.motion) {
            (false, _) => format!(
                "{} at {bits}, {share} of what {} pictures need: even the least demanding choice is {}; a higher bitrate or less motion would help",
                cell.size,
                self.motion.word(),
                cell.look.word()
            ),
            (true, Motion::Still | Motion::Talking) => format!(
                "{} at {bits}, {share} of what {} pictures need: the largest picture that stays clean, and fine text wants size",
                cell.size,
                self.motion.word()
            ),
            (true, Motion::Moving | Motion::Fast) => {
                let why = if self.recommended.1 == 0 {
                    "the largest that stays clean at the highest rate, and motion wants both".to_owned()
                } else {
                    format!(
                        "the largest that stays clean; at a higher rate none of {LEAST_FOR_RATE} lines or more does"
                    )
                };
                format!("{} at {bits}, {share} of what {} pictures need: {why}", cell.size, self.motion.word())
            }
        }
    }

    /// What one step from the recommended choice would cost or give, each in a sentence.
    #[must_use]
    pub fn steps(&self) -> Vec<String> {
        let (row, column) = self.recommended;
        let Some(from) = self.choice() else { return Vec::new() };
        let cell = |row: Option<usize>, column: Option<usize>| self.rows.get(row?)?.get(column?);
        let told = |what: &str, to: Option<&Cell>| {
            let to = to?;
            let gain = (to.size.pixels() * to.fps) / (from.size.pixels() * from.fps);
            let change = if gain >= 1.0 {
                format!("{:.0} % more pixels a second", (gain - 1.0) * 100.0)
            } else {
                format!("{:.0} % fewer pixels a second", (1.0 - gain) * 100.0)
            };
            let wants = need(to.size, to.fps, self.motion).scaled(CLEAN);
            let looks = if to.look >= Appearance::Good {
                format!("{} of the need: {}", crate::text::percent(to.share_of_need), to.look.word())
            } else {
                format!(
                    "{} of the need: {}; clean from {}",
                    crate::text::percent(to.share_of_need),
                    to.look.word(),
                    rounded_up(wants)
                )
            };
            Some(format!("{what}, {} at {} frames/s: {change}, {looks}", to.size, to.fps))
        };
        [
            told("one size up", cell(row.checked_sub(1), Some(column))),
            told("one size down", cell(row.checked_add(1), Some(column))),
            told("the higher rate", cell(Some(row), column.checked_sub(1))),
            told("the lower rate", cell(Some(row), column.checked_add(1))),
        ]
        .into_iter()
        .flatten()
        .collect()
    }
}

/// Up to a bitrate one types in: with it, a picture is what is promised.
fn rounded_up(rate: Bitrate) -> Bitrate {
    const STEP: Bitrate = Bitrate::from_kbps(50);
    Bitrate::from_bps(rate.bps().saturating_add(STEP.bps() - 1)).rounded_down_to(STEP)
}

/// The most that a picture can use: from there on it has more bits than it needs, as `bands.toml` has it.
#[must_use]
pub fn useful(size: Size, fps: f64, motion: Motion) -> Bitrate {
    let spare = BANDS.band.iter().find(|band| band.word == Appearance::Spare).map_or(1.5, |band| band.from);
    rounded_up(need(size, fps, motion).scaled(spare))
}

/// From this share of the need a picture is clean: the lower border of `good` in `bands.toml`. Ours.
const CLEAN: f64 = 0.75;

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    const FULL_HD: Size = Size::new(1920, 1080);

    #[test]
    fn the_bands_are_whole_and_in_order() {
        assert_eq!(
            BANDS.band.iter().map(|b| b.word).collect::<Vec<_>>(),
            [Appearance::Spare, Appearance::Good, Appearance::Soft, Appearance::Blocky]
        );
        assert!(BANDS.band.is_sorted_by(|a, b| a.from > b.from));
        assert_eq!(BANDS.band.last().map(|b| b.from), Some(0.0));
        assert_eq!(BANDS.band.iter().find(|b| b.word == Appearance::Good).map(|b| b.from), Some(CLEAN));
        // The source's own formula, at its own rate.
        assert_eq!(
            need(Size::new(1280, 720), 24.0 * 1.25, Motion::Moving).bps(),
            (1280.0 * 720.0 * 30.0 * 2.0 * 0.07) as u64
        );
        let (thirty, sixty) = (need(FULL_HD, 30.0, Motion::Fast), need(FULL_HD, 60.0, Motion::Fast));
        assert!((sixty.bps() as f64 / thirty.bps() as f64 - 1.5).abs() < 0.001);
    }

    #[test]
    fn there_are_sizes_between_720_and_1080_lines_all_multiples_of_8() {
        let found = sizes(FULL_HD);
        for size in [
            FULL_HD,
            Size::new(1792, 1008),
            Size::new(1664, 936),
            Size::new(1536, 864),
            Size::new(1408, 792),
            Size::new(1280, 720),
        ] {
            assert!(found.contains(&size), "{size} in {found:?}");
        }
        assert_eq!(found.last(), Some(&Size::new(640, 360)));
    }

    #[test]
    fn six_megabits_of_a_moving_scene_are_720p60_and_a_talk_gets_more_lines() {
        let choose = |kbps, motion| {
            let map = map(Bitrate::from_kbps(kbps), FULL_HD, 60.0, motion, &Limits::default());
            let cell = *map.choice().unwrap();
            (cell.size.height, cell.fps, cell.look)
        };
        let (lines, fps, look) = choose(6000, Motion::Moving);
        assert!((720..=864).contains(&lines) && fps == 60.0 && look == Appearance::Good, "{lines} {fps}");
        assert_eq!(choose(6000, Motion::Talking).0, 1080);
        assert!(choose(6000, Motion::Fast).0 < 720);
        assert_eq!(choose(300, Motion::Fast), (360, 30.0, Appearance::Blocky), "nothing is clean: the least demanding");
    }

    #[test]
    fn the_reason_and_the_steps_are_told_with_their_numbers() {
        let map = map(
            Bitrate::from_kbps(6000),
            FULL_HD,
            60.0,
            Motion::Moving,
            &Limits { rates: vec![30.0, 60.0], ..Limits::default() },
        );
        assert!(map.reason().contains("bits per pixel") && map.reason().contains("60 frames/s"));
        let steps = map.steps();
        assert_eq!(steps.len(), 3, "there is no higher rate: {steps:?}");
        assert!(
            steps[0].starts_with("one size up") && steps[0].contains("more pixels") && steps[0].contains("clean from"),
            "{steps:?}"
        );
        assert!(steps[2].starts_with("the lower rate") && steps[2].contains("50 % fewer"), "{steps:?}");
    }

    #[test]
    fn with_the_bitrate_that_it_is_said_to_be_clean_from_it_is_clean() {
        let mut told = 0;
        for kbps in (800..9000).step_by(50) {
            let map = map(Bitrate::from_kbps(kbps), FULL_HD, 60.0, Motion::Moving, &Limits::default());
            for step in map.steps() {
                let Some((what, from)) = step.split_once("clean from ") else { continue };
                let from: Bitrate = from.parse().unwrap();
                assert!(from > Bitrate::from_kbps(kbps), "at {kbps}: {step}");
                let size: Size = what.split([' ', ',']).find_map(|word| word.parse().ok()).unwrap();
                let fps = if what.contains("60 frames/s") { 60.0 } else { 30.0 };
                if what.contains("at 60 ") || what.contains("at 30 ") {
                    assert!(Cell::new(size, fps, from, Motion::Moving).look >= Appearance::Good, "{step}");
                    told += 1;
                }
            }
        }
        assert!(told > 50, "{told}");
    }

    #[test]
    fn a_lower_rate_is_chosen_with_its_reason() {
        let map = map(Bitrate::from_kbps(3850), FULL_HD, 60.0, Motion::Fast, &Limits::default());
        assert_eq!(map.choice().map(|cell| cell.fps), Some(30.0));
        assert!(map.reason().contains("at a higher rate none of 540 lines or more does"), "{}", map.reason());
    }

    #[test]
    fn only_rates_that_the_scene_divides_into_and_the_service_takes() {
        let limits = Limits { rates: vec![30.0, 60.0], ..Limits::default() };
        assert_eq!(rates(60.0, &limits), [60.0, 30.0]);
        assert_eq!(rates(50.0, &Limits::default()), [50.0, 25.0]);
        assert_eq!(rates(120.0, &limits), [60.0, 30.0]);
        assert_eq!(rates(48.0, &limits), [48.0], "a breach is for the check to name");
    }

    proptest! {
        #[test]
        fn sizes_keep_the_aspect_and_are_multiples_of_8(width in 200_u32..4096, height in 200_u32..2160) {
            let source = Size::new(width, height);
            for size in sizes(source) {
                prop_assert!(size.width % 8 == 0 && size.height % 8 == 0);
                prop_assert!(size.width <= width && size.height <= height);
                let aspect = |s: Size| f64::from(s.width) / f64::from(s.height);
                // Half a block of 8 pixels off either way, on both sides.
                let off = 8.0 / f64::from(size.width) + 8.0 / f64::from(size.height);
                prop_assert!((aspect(size) / aspect(source) - 1.0).abs() <= off, "{size} of {source}");
            }
        }

        #[test]
        fn more_bits_never_look_worse(kbps in 100_u64..30_000, more in 0_u64..10_000, motion in 0_usize..4) {
            let map = |kbps| map(Bitrate::from_kbps(kbps), FULL_HD, 60.0, Motion::ALL[motion], &Limits::default());
            let (less, more) = (map(kbps), map(kbps + more));
            for (a, b) in less.rows.iter().flatten().zip(more.rows.iter().flatten()) {
                prop_assert!(b.look >= a.look);
            }
        }
    }
}
