//! The ladder of a climb, from the setup and from what was asked for.

use moth_core::frame_rate::FrameRate;
use moth_core::rate::Bitrate;
use moth_plan::picture::{rates, sizes};
use moth_plan::text::Size;
use moth_rehearsal::ladder::{Kind, Ladder, Value};
use moth_store::results::History;

use crate::failure::Failure;
use crate::setup_in_use::SetupInUse;
use crate::setup_in_use::basis::Basis;

/// Up to here steps are a quarter of a megabit, over it half a one. Ours.
const FINE_UP_TO: Bitrate = Bitrate::from_kbps(6000);
/// Where a climb of bitrates begins, if nobody says. Ours.
const LOW: Bitrate = Bitrate::from_kbps(1000);

/// What bounds a ladder, in the words of the command line.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Bounds {
    /// The lightest rung.
    pub from: Option<String>,
    /// The heaviest.
    pub to: Option<String>,
    /// Between two bitrates.
    pub step: Option<Bitrate>,
}

/// The ladder, and what the setup is at. `history` is what was measured.
///
/// # Errors
/// [`Failure::Rungs`] if a bound is no such value, or nothing lies between them.
pub fn ladder(kind: Kind, bounds: &Bounds, in_use: &SetupInUse, history: &History) -> Result<(Ladder, Value), Failure> {
    let (ladder, start) = match kind {
        Kind::Bitrate => (bitrates(bounds, in_use, history)?, Value::Bitrate(in_use.setup.bitrate)),
        Kind::Preset => presets(bounds, in_use)?,
        Kind::Picture => (pictures(bounds, in_use)?, picture(in_use.setup.size, in_use.setup.rate)),
    };
    if ladder.rungs().is_empty() {
        return Err(wrong("nothing lies between --from and --to".into()));
    }
    Ok((ladder, start))
}

fn wrong(why: String) -> Failure {
    Failure::Rungs(why)
}

fn bitrates(bounds: &Bounds, in_use: &SetupInUse, history: &History) -> Result<Ladder, Failure> {
    let rate = |option: &str, text: &Option<String>| {
        let parse = |text: &String| text.parse::<Bitrate>().map_err(|error| wrong(format!("{option}: {error}")));
        text.as_ref().map(parse).transpose()
    };
    let to = rate("--to", &bounds.to)?.unwrap_or_else(|| highest(in_use, history));
    let from = rate("--from", &bounds.from)?.unwrap_or(LOW.min(to));
    let default = Bitrate::from_kbps(if to <= FINE_UP_TO { 250 } else { 500 });
    let step = bounds.step.unwrap_or(default);
    if step < Bitrate::from_kbps(10) {
        return Err(wrong("--step: expected at least 10 kb/s".into()));
    }
    for (option, rate) in [("--from", from), ("--to", to)] {
        if !(100_000..=200_000_000).contains(&rate.bps()) {
            return Err(wrong(format!("{option}: expected a video bitrate from 100 kb/s to 200 Mb/s")));
        }
    }
    if from > to {
        return Err(wrong(format!("--from {from} is over --to {to}")));
    }
    Ok(Ladder::of_bitrates(from, to, step))
}

/// No higher than the service takes, if it says; else what was measured; else twice what the setup has.
fn highest(in_use: &SetupInUse, history: &History) -> Bitrate {
    let measured = || {
        let basis = Basis::newest(history, &in_use.service_name, in_use.server_in_use(history).as_deref())?;
        Some(basis.sustained.rounded_down_to(Bitrate::from_kbps(250)))
    };
    in_use.service.limits.video().or_else(measured).unwrap_or(in_use.setup.bitrate.scaled(2.0))
}

fn presets(bounds: &Bounds, in_use: &SetupInUse) -> Result<(Ladder, Value), Failure> {
    let presets = &in_use.setup.broadcaster.presets;
    if presets.is_empty() {
        return Err(wrong(
            "the setup names no presets: put `presets`, the lightest first, into its [broadcaster] in the configuration"
                .into(),
        ));
    }
    let known = || presets.join(", ");
    let place = |what: &str, name: &String| {
        let found = presets.iter().position(|preset| preset == name);
        found.ok_or_else(|| wrong(format!("{what} `{name}` is none of the setup's presets; there is: {}", known())))
    };
    let bound = |option: &str, text: &Option<String>| text.as_ref().map(|name| place(option, name)).transpose();
    let from = bound("--from", &bounds.from)?.unwrap_or(0);
    let to = bound("--to", &bounds.to)?.unwrap_or(presets.len() - 1);
    let preset = in_use.setup.preset.as_ref();
    let start = preset.ok_or_else(|| wrong(format!("the setup has no `preset`; there is: {}", known())))?;
    let rungs = presets.iter().cloned().enumerate().map(|(place, name)| Value::Preset(place, name));
    let rungs = rungs.filter(|rung| matches!(rung, Value::Preset(place, _) if (from..=to).contains(place)));
    Ok((Ladder::new(Kind::Preset, rungs.collect()), Value::Preset(place("the setup's preset", start)?, start.clone())))
}

/// Sizes and rates as on Plan's map, the lightest first: every size that the source can be made into, those between 720 and 1080
/// lines among them, at every rate that the service takes.
fn pictures(bounds: &Bounds, in_use: &SetupInUse) -> Result<Ladder, Failure> {
    let bound = |option: &str, text: &Option<String>| {
        let parse = |text: &String| {
            parse_picture(text).ok_or_else(|| wrong(format!("{option}: expected a picture like 1280x720@60")))
        };
        text.as_ref().map(parse).transpose()
    };
    let (from, to) = (bound("--from", &bounds.from)?, bound("--to", &bounds.to)?);
    let (setup, limits) = (&in_use.setup, &in_use.service.limits);
    let rates = rates(setup.source_rate(), limits);
    let all = sizes(setup.source()).into_iter().flat_map(|size| rates.iter().map(move |fps| picture(size, *fps)));
    // A bound need not be on the map, and is a rung all the same.
    let ends = from.iter().chain(&to).cloned();
    let within = |value: &Value| {
        from.as_ref().is_none_or(|from| value.load() >= from.load())
            && to.as_ref().is_none_or(|to| value.load() <= to.load())
    };
    Ok(Ladder::new(Kind::Picture, all.chain(ends).filter(within).collect()))
}

fn picture(size: Size, fps: f64) -> Value {
    Value::Picture { width: size.width, height: size.height, fps: FrameRate::from_fps(fps) }
}

fn parse_picture(text: &str) -> Option<Value> {
    let (size, fps) = text.split_once('@')?;
    let (size, fps): (Size, FrameRate) = (size.parse().ok()?, fps.parse().ok()?);
    (fps <= FrameRate::whole(240)).then(|| picture(size, fps.fps()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::setup_in_use;
    use moth_store::config::Change;

    fn words(kind: Kind, from: &str, to: &str, in_use: &SetupInUse) -> Result<Vec<String>, String> {
        let some = |text: &str| (!text.is_empty()).then(|| text.to_owned());
        let bounds = Bounds { from: some(from), to: some(to), step: None };
        let found = ladder(kind, &bounds, in_use, &History::default()).map_err(|failure| failure.to_string())?;
        Ok(found.0.rungs().iter().map(Value::word).collect())
    }

    #[test]
    fn without_bounds_a_climb_goes_up_to_what_the_service_takes() {
        let (mut in_use, _folder) = setup_in_use::of_the_demo().unwrap();
        let rungs = words(Kind::Bitrate, "", "", &in_use).unwrap();
        assert_eq!((rungs[0].as_str(), rungs[1].as_str(), rungs.last().unwrap().as_str()), ("1000k", "1500k", "8000k"));
        assert_eq!(words(Kind::Bitrate, "2M", "3M", &in_use).unwrap(), ["2000k", "2250k", "2500k", "2750k", "3000k"]);
        let pictures = words(Kind::Picture, "", "", &in_use).unwrap();
        assert!(pictures.contains(&"1664x936@60".to_owned()), "between 720 and 1080 lines: {pictures:?}");
        assert_eq!(pictures.last().unwrap(), "1920x1080@60");
        assert_eq!(words(Kind::Picture, "1280x720@30", "1280x720@60", &in_use).unwrap().last().unwrap(), "1280x720@60");
        in_use.change(&Change::Bitrate(Bitrate::from_kbps(2000))).unwrap();
        in_use.service.limits = moth_plan::service::Limits::default();
        assert_eq!(words(Kind::Bitrate, "", "", &in_use).unwrap().last().unwrap(), "4000k", "twice the setup's");
    }

    #[test]
    fn presets_are_the_setups_own_and_what_cannot_be_is_said() {
        let (mut in_use, _folder) = setup_in_use::of_the_demo().unwrap();
        assert!(words(Kind::Preset, "", "", &in_use).unwrap_err().contains("names no presets"));
        in_use.setup.broadcaster.presets = ["superfast", "veryfast", "faster", "medium"].map(str::to_owned).to_vec();
        let (found, start) = ladder(Kind::Preset, &Bounds::default(), &in_use, &History::default()).unwrap();
        assert_eq!((found.rungs().len(), start), (4, Value::Preset(1, "veryfast".into())));
        assert_eq!(words(Kind::Preset, "faster", "medium", &in_use).unwrap(), ["faster", "medium"]);
        for (kind, from, to, said) in [
            (Kind::Preset, "slow", "", "`slow` is none of the setup's presets; there is: superfast"),
            (Kind::Preset, "medium", "superfast", "nothing lies between"),
            (Kind::Bitrate, "5M", "4M", "--from 5 000 kb/s is over --to 4 000 kb/s"),
            (Kind::Bitrate, "fast", "", "--from: "),
            (Kind::Bitrate, "1k", "", "from 100 kb/s"),
            (Kind::Picture, "720p60", "", "expected a picture like 1280x720@60"),
            (Kind::Picture, "1280x720@60", "1280x720@30", "nothing lies between"),
        ] {
            let told = words(kind, from, to, &in_use).unwrap_err();
            assert!(told.contains(said), "{told}");
        }
    }
}
