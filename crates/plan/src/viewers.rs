//! What it takes to watch a broadcast, and what it costs in data.

use moth_core::rate::Bitrate;
use serde::Serialize;

/// What a viewer's line must sustain for every bit of the stream: a player that has fallen behind must be able to
/// catch up. The same quarter that is left free on the way up. Ours.
const MARGIN: f64 = 1.25;

/// Figures for viewers, and for whoever pays for data.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct Viewers {
    /// What their download must sustain, in bits per second, if the service passes the stream on as it is.
    pub download: Bitrate,
    /// Data for one viewer and hour, in gigabytes (10⁹ bytes); as much goes up from here.
    pub gb_per_hour: f64,
}

/// What a stream of so much video and audio takes.
#[must_use]
pub fn viewers(total: Bitrate) -> Viewers {
    Viewers { download: total.scaled(MARGIN), gb_per_hour: total.bps() as f64 * 3600.0 / 8.0 / 1e9 }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn eight_megabits_for_an_hour_are_3_6_gigabytes() {
        let figures = viewers(Bitrate::from_kbps(8000));
        assert_eq!(figures.gb_per_hour, 3.6);
        assert_eq!(figures.download, Bitrate::from_kbps(10_000));
    }
}
