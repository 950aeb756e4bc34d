//! A moment that was written down is the same when it is read back.

use crate::show::{Now, Show};
use moth_core::action::Action;
use moth_core::reading::Observation;
use moth_core::{Bitrate, Snapshot};

/// In trouble of two kinds, with a change that is being proved.
fn eventful() -> Snapshot {
    let mut show = Show::new();
    show.run(20, &Now::default());
    let trouble = Now {
        carried_kbps: 4000,
        dropped_per_second: 10,
        skipped_per_second: 10,
        queue_ms: 1900.0,
        encode_ms: 27.0,
        ..Now::default()
    };
    show.run(20, &trouble);
    show.tell(Observation::Acted {
        action: Action::SetBitrate { video: Bitrate::from_kbps(3500) },
        failed: None,
        back: None,
    });
    show.run(12, &trouble)
}

#[test]
fn a_moment_read_back_says_and_shows_what_it_did() {
    for snapshot in [Show::new().run(1, &Now::default()), eventful()] {
        let written = serde_json::to_string(&snapshot).unwrap();
        let back: Snapshot = serde_json::from_str(&written).unwrap();
        assert!(serde_json::to_string(&back).unwrap() == written, "to the last bit");
        assert_eq!((back.at, back.state, &back.server), (snapshot.at, snapshot.state, &snapshot.server));
        assert_eq!(back.journey, snapshot.journey, "the stages, with their words");
        assert!(back.verdict == snapshot.verdict && back.weighed == snapshot.weighed);
        assert_eq!(
            (&back.notices, back.viewers, &back.keeper),
            (&snapshot.notices, snapshot.viewers, &snapshot.keeper)
        );
        assert_eq!((&back.machine, &back.wire), (&snapshot.machine, &snapshot.wire));
        let told = |snapshot: &Snapshot| {
            snapshot.newest_trial().map(|trial| (trial.sentence.clone(), trial.before, trial.after))
        };
        assert_eq!(told(&back), told(&snapshot));
    }
}

#[test]
fn what_grows_with_the_broadcast_is_not_written_and_is_given_back_by_the_whole() {
    let whole = eventful();
    assert!(whole.history.len() > 50 && whole.marks.len() > 2 && whole.undo.is_some());
    let back: Snapshot = serde_json::from_str(&serde_json::to_string(&whole).unwrap()).unwrap();
    assert!(back.history.is_empty() && back.marks.is_empty());
    assert_eq!(back.undo, None, "what is over cannot be undone");
    let among = back.among(&whole);
    assert_eq!((among.history.len(), &among.marks), (whole.history.len(), &whole.marks));
}
