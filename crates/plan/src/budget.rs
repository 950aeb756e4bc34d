//! The bitrate to use, and what binds it.

use moth_core::rate::Bitrate;
use serde::Serialize;

use crate::headroom::Headroom;
use crate::service::Limits;

/// Bitrates are proposed in steps of this much. Ours.
const STEP: Bitrate = Bitrate::from_kbps(50);

/// What a budget is made from. Every bitrate is one of payload, headers of the network left out.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Means {
    /// What the upload sustains: the median second of a test.
    pub sustained: Bitrate,
    /// What it carries in its worst moments: the 5th percentile of the seconds, if a test told.
    pub worst_moments: Option<Bitrate>,
    /// How much of the line is to stay free. 25 % by default: at most 75–80 % of the sustained upload is what
    /// practitioners use, audio included.
    pub headroom: Headroom,
    /// What others on the line are left before anything else.
    pub household: Bitrate,
    /// Audio wanted.
    pub audio: Bitrate,
    /// The test carried all it was offered: the line may have more.
    pub at_least: bool,
    /// The most that the picture can use; more would be seen by nobody.
    pub useful: Option<Bitrate>,
}

/// What keeps the bitrate from being higher.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Binding {
    /// What the line sustains, less headroom, household and audio.
    Line,
    /// What was measured, less headroom, household and audio: the line may carry more, as it carried all it was offered.
    Measured,
    /// What the line carries in its worst moments.
    WorstMoments,
    /// What the picture can use, where the service names no limit.
    Picture,
    /// What the service takes.
    Service,
}

impl Binding {
    /// In plain words.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Line => "the upload binds: what it sustains, less headroom",
            Self::Measured => {
                "what was measured binds, less headroom; the upload may have more, it carried all it was offered"
            }
            Self::Picture => "the picture can use no more, and the service names no limit",
            Self::WorstMoments => "the worst moments of the upload bind, not its median",
            Self::Service => "the service's limit binds, the upload has more",
        }
    }
}

/// A bitrate budget.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Budget {
    /// The most video may take.
    pub video: Bitrate,
    /// What audio takes.
    pub audio: Bitrate,
    /// What keeps it from being more.
    pub binding: Binding,
    /// What of the sustained upload stays free.
    pub left: Bitrate,
}

impl Budget {
    /// The bitrate to type in: the budget, down to a round number.
    #[must_use]
    pub fn advised(&self) -> Bitrate {
        self.video.rounded_down_to(STEP)
    }

    /// Video and audio together.
    #[must_use]
    pub fn total(&self) -> Bitrate {
        Bitrate::from_bps(self.video.bps().saturating_add(self.audio.bps()))
    }
}

/// The budget for a line and a service. Audio comes first, within the service's limit and the line's: sound is missed
/// more than picture.
#[must_use]
pub fn budget(means: &Means, limits: &Limits) -> Budget {
    let by_median = means.headroom.leaves_of(means.sustained.less(means.household));
    let by_worst = means.worst_moments.map(|worst| worst.less(means.household));
    let (line, line_binding) = match by_worst {
        Some(worst) if worst < by_median => (worst, Binding::WorstMoments),
        _ if means.at_least => (by_median, Binding::Measured),
        _ => (by_median, Binding::Line),
    };
    let audio = means.audio.min(limits.audio().unwrap_or(means.audio)).min(line);
    let by_line = line.less(audio);
    let (video, binding) = match limits.video() {
        Some(limit) if limit < by_line => (limit, Binding::Service),
        None if means.useful.is_some_and(|useful| useful < by_line) => {
            (means.useful.unwrap_or(by_line), Binding::Picture)
        }
        _ => (by_line, line_binding),
    };
    let total = Bitrate::from_bps(video.bps() + audio.bps());
    Budget { video, audio, binding, left: means.sustained.less(total) }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn means(sustained_kbps: u64) -> Means {
        Means {
            sustained: Bitrate::from_kbps(sustained_kbps),
            worst_moments: None,
            headroom: Headroom::of_percent(25.0),
            household: Bitrate::ZERO,
            audio: Bitrate::from_kbps(160),
            at_least: false,
            useful: None,
        }
    }

    #[test]
    fn a_quarter_stays_free_and_audio_is_in_it() {
        let found = budget(&means(8000), &Limits::default());
        assert_eq!((found.video, found.binding), (Bitrate::from_kbps(5840), Binding::Line));
        assert_eq!(found.advised(), Bitrate::from_kbps(5800));
        assert_eq!(found.left, Bitrate::from_kbps(2000));
    }

    #[test]
    fn whichever_is_lowest_binds() {
        let limits = Limits { video_soft: Some(Bitrate::from_kbps(6000)), ..Limits::default() };
        assert_eq!(budget(&means(20_000), &limits).binding, Binding::Service);
        let wavering = Means { worst_moments: Some(Bitrate::from_kbps(3000)), ..means(8000) };
        let found = budget(&wavering, &limits);
        assert_eq!((found.video, found.binding), (Bitrate::from_kbps(2840), Binding::WorstMoments));
        let shared = Means { household: Bitrate::from_kbps(2000), ..means(8000) };
        assert_eq!(budget(&shared, &limits).video, Bitrate::from_kbps(4340));
    }

    #[test]
    fn what_only_says_at_least_is_not_said_to_bind_the_upload_and_nobody_needs_more_than_the_picture_can_use() {
        let offered = budget(&Means { at_least: true, ..means(8000) }, &Limits::default());
        assert_eq!((offered.video, offered.binding), (Bitrate::from_kbps(5840), Binding::Measured));
        let useful = Some(Bitrate::from_kbps(5800));
        let fast = Means { useful, ..means(100_000) };
        let found = budget(&fast, &Limits::default());
        assert_eq!((found.video, found.binding), (Bitrate::from_kbps(5800), Binding::Picture));
        // A limit of the service's says what is wanted there.
        let limits = Limits { video_soft: Some(Bitrate::from_kbps(9000)), ..Limits::default() };
        assert_eq!(budget(&fast, &limits).binding, Binding::Service);
    }

    #[test]
    fn a_line_smaller_than_its_sound_leaves_nothing_for_video() {
        let found = budget(&means(100), &Limits::default());
        assert_eq!((found.video, found.audio), (Bitrate::ZERO, Bitrate::from_kbps(75)));
    }

    fn rates() -> impl Strategy<Value = Bitrate> {
        (0_u64..100_000_000).prop_map(Bitrate::from_bps)
    }

    fn any_means() -> impl Strategy<Value = Means> {
        (rates(), proptest::option::of(rates()), (0.0..90.0).prop_map(Headroom::of_percent), rates(), 0_u64..2_000_000)
            .prop_map(|(sustained, worst_moments, headroom, household, audio)| Means {
                sustained,
                worst_moments,
                headroom,
                household,
                audio: Bitrate::from_bps(audio),
                at_least: false,
                useful: None,
            })
    }

    fn any_limits() -> impl Strategy<Value = Limits> {
        let maybe = || proptest::option::of(rates());
        (maybe(), maybe(), maybe(), maybe()).prop_map(|(video_soft, video_hard, audio_soft, audio_hard)| Limits {
            video_soft,
            video_hard,
            audio_soft,
            audio_hard,
            ..Limits::default()
        })
    }

    proptest! {
        #[test]
        fn no_limit_is_ever_exceeded(means in any_means(), limits in any_limits()) {
            let found = budget(&means, &limits);
            for limit in [limits.video_soft, limits.video_hard].into_iter().flatten() {
                prop_assert!(found.video <= limit && found.advised() <= limit);
            }
            for limit in [limits.audio_soft, limits.audio_hard, Some(means.audio)].into_iter().flatten() {
                prop_assert!(found.audio <= limit);
            }
            // A bit for rounding to whole bits.
            let kept = means.sustained.less(means.household).bps() as f64 * (1.0 - means.headroom.percent() / 100.0) + 1.0;
            prop_assert!(found.total().bps() as f64 <= kept);
            prop_assert!(means.worst_moments.is_none_or(|worst| found.total() <= worst));
        }

        #[test]
        fn nothing_is_lost_when_a_limit_rises(means in any_means(), limits in any_limits(), more in rates(), which in 0..6) {
            let before = budget(&means, &limits);
            let (mut richer, mut looser) = (means, limits.clone());
            let raise = |limit: &mut Option<Bitrate>| {
                *limit = limit.map(|l| Bitrate::from_bps(l.bps() + more.bps()));
            };
            match which {
                0 => richer.sustained = Bitrate::from_bps(means.sustained.bps() + more.bps()),
                1 => raise(&mut richer.worst_moments),
                2 => raise(&mut looser.video_soft),
                3 => raise(&mut looser.video_hard),
                4 => raise(&mut looser.audio_hard),
                _ => raise(&mut looser.audio_soft),
            }
            let after = budget(&richer, &looser);
            prop_assert!(after.total() >= before.total());
            if which < 4 {
                prop_assert!(after.video >= before.video);
            }
        }

        #[test]
        fn wanting_less_for_others_never_costs_bitrate(means in any_means(), limits in any_limits(), less in 0.0..1.0) {
            let before = budget(&means, &limits);
            let after = budget(&Means { household: means.household.scaled(less), headroom: Headroom::of_percent(means.headroom.percent() * less), ..means }, &limits);
            prop_assert!(after.total() >= before.total());
        }
    }
}
