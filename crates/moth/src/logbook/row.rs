//! A broadcast in a row of the list, in characters.

use moth_core::rate::grouped;
use moth_core::suspects::Cause;
use moth_evening::digest::{Blamed, Digest, Slice};
use moth_logbook::Listed;
use moth_logbook::about::Kind;

/// A slice of its length: higher the more was lost.
#[must_use]
pub(crate) fn bar(slice: Slice) -> char {
    match (slice.is_on_air, slice.badness()) {
        (false, _) => ' ',
        (true, 0) => '·',
        (true, 1) => '▂',
        (true, 2) => '▄',
        (true, 3) => '▆',
        (true, _) => '█',
    }
}

/// What was lost of it.
#[must_use]
pub(crate) fn lost_words(digest: &Digest) -> String {
    match digest.lost_percent() {
        None => "no frames".into(),
        Some(0.0) => "none lost".into(),
        Some(percent) if percent < 0.01 => "<0.01 %".into(),
        Some(percent) => format!("{percent:.2} %"),
    }
}

/// What was at fault.
#[must_use]
pub(crate) fn blamed_words(blamed: &Blamed) -> String {
    format!("{}: {}", blamed.fault.word(), blamed.cause.map_or("cause unknown", Cause::words))
}

/// Its title, and what it is if it was no broadcast: what a rehearsal lost, it lost on purpose.
#[must_use]
pub(crate) fn titled(one: &Listed) -> String {
    match (one.about.kind, one.title.as_str()) {
        (Kind::Broadcast, title) => title.to_owned(),
        (kind, "") => kind.word().to_owned(),
        (kind, title) => format!("{}, {title}", kind.word()),
    }
}

/// How many there are, and what they take.
#[must_use]
pub(crate) fn taken(broadcasts: usize, bytes: u64) -> String {
    let many = if broadcasts == 1 { "1 broadcast takes".into() } else { format!("{broadcasts} broadcasts take") };
    format!("{many} {} on disk.", size(bytes))
}

/// Bytes as people read them.
#[must_use]
pub(crate) fn size(bytes: u64) -> String {
    match bytes {
        0..1_000_000 => format!("{} kB", grouped(bytes.div_ceil(1000))),
        1_000_000..100_000_000 => format!("{:.1} MB", bytes as f64 / 1e6),
        _ => format!("{} MB", grouped(bytes / 1_000_000)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use moth_evening::evening::Lost;
    use moth_logbook::About;

    #[test]
    fn a_slice_is_higher_the_more_was_lost_and_nothing_is_not_nobody() {
        let lost =
            |dropped| Slice { lost: Lost { due: 10_000, dropped, ..Lost::default() }, dark_s: 0, is_on_air: true };
        let drawn: String = [0, 5, 50, 400, 900].map(|dropped| bar(lost(dropped))).iter().collect();
        assert_eq!(drawn, "·▂▄▆█");
        assert_eq!(bar(Slice { dark_s: 3, ..lost(0) }), '█');
        assert_eq!(bar(Slice::default()), ' ');
    }

    #[test]
    fn what_was_no_broadcast_is_called_what_it_was() {
        let one = |kind, title: &str| Listed {
            nr: 1,
            about: About {
                began: "2026-11-27T20:00:00Z[UTC]".parse().unwrap(),
                kind,
                is_made_up: true,
                setup: String::new(),
                service: String::new(),
                told: Default::default(),
            },
            first_second: 0,
            title: title.into(),
            note: String::new(),
            is_ended: true,
            thinned: 0,
            digest: Digest::default(),
            bytes: 0,
        };
        assert_eq!(titled(&one(Kind::Broadcast, "First night")), "First night");
        assert_eq!(titled(&one(Kind::Rehearsal, "")), "rehearsal");
        assert_eq!(titled(&one(Kind::Recording, "First night")), "recording, First night");
    }

    #[test]
    fn figures_have_their_units() {
        assert_eq!([size(1), size(1_500_000), size(2_345_000_000)], ["1 kB", "1.5 MB", "2 345 MB"]);
        let lost = |dropped| Digest { lost: Lost { due: 100_000, dropped, ..Lost::default() }, ..Digest::default() };
        assert_eq!(
            [lost(0), lost(3), lost(1230)].map(|digest| lost_words(&digest)),
            ["none lost", "<0.01 %", "1.23 %"]
        );
        assert_eq!(lost_words(&Digest::default()), "no frames");
    }
}
