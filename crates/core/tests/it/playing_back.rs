//! When the broadcast is played back by itself, and what is kept of it.

use moth_core::action::Action;
use moth_core::notice::NoticeKind;
use moth_core::played_back::{PlayedBack, Returned};
use moth_core::reading::{Automatics, LinkChange, Observation, Reading};
use moth_core::{Core, Moment, Origin, Settings};

struct Show(Core, u64);

impl Show {
    fn new(play_back: bool) -> Self {
        let servers = vec!["Aldmoor".to_owned(), "Dunmere".to_owned()];
        let mut show = Self(Core::new(Settings { servers }), 0);
        show.tell(Observation::Automatics(Automatics { play_back, ..Automatics::default() }));
        show
    }

    fn tell(&mut self, what: Observation) {
        self.0.take(&Reading { at: Moment::from_ms(self.1), origin: Origin::Measured, what });
    }

    fn on_air_at(&mut self, server: &str) {
        self.tell(Observation::Broadcaster { present: true });
        self.up(server);
    }

    fn up(&mut self, server: &str) {
        self.tell(Observation::Link(LinkChange::Up { server: server.to_owned() }));
    }

    /// Lets so many seconds pass; what it wanted in them.
    fn pass(&mut self, seconds: u64) -> Vec<Action> {
        let mut wanted = Vec::new();
        for _ in 0..seconds {
            self.1 += 1000;
            let _ = self.0.snapshot(Moment::from_ms(self.1));
            wanted.extend(std::iter::from_fn(|| self.0.take_wish()));
        }
        wanted
    }
}

fn played(server: &str, pictures: u64) -> PlayedBack {
    PlayedBack {
        server: server.into(),
        seconds: 10.0,
        pictures: Returned { came: pictures, of: Some(600) },
        sound: Returned { came: 470, of: Some(470) },
        delay_ms: Some(300.0),
        ..PlayedBack::default()
    }
}

#[test]
fn with_consent_it_is_wanted_once_at_each_server_of_each_broadcast_when_it_has_begun_there() {
    let mut show = Show::new(true);
    assert_eq!(show.pass(10), [], "nobody is on air");
    show.on_air_at("Aldmoor");
    assert_eq!(show.pass(4), []);
    assert_eq!(show.pass(60), [Action::PlayBack]);
    // A connection that is made again is no other server.
    show.up("Aldmoor");
    assert_eq!(show.pass(60), []);
    show.up("Dunmere");
    assert_eq!(show.pass(60), [Action::PlayBack]);
    show.tell(Observation::Broadcaster { present: false });
    assert_eq!(show.pass(60), []);
    show.on_air_at("Dunmere");
    assert_eq!(show.pass(60), [Action::PlayBack]);
    let mut without = Show::new(false);
    without.on_air_at("Aldmoor");
    assert_eq!(without.pass(60), [], "without consent it never is");
}

#[test]
fn what_came_of_it_is_marked_and_kept_for_as_long_as_the_connection_is_the_same() {
    let mut show = Show::new(false);
    show.on_air_at("Aldmoor");
    show.pass(20);
    show.tell(Observation::PlayedBack(played("Dunmere", 600)));
    let snapshot = show.0.snapshot(Moment::from_ms(show.1));
    assert_eq!(snapshot.played_back, None, "of a server that was left it says nothing");
    show.tell(Observation::PlayedBack(played("Aldmoor", 600)));
    let snapshot = show.0.snapshot(Moment::from_ms(show.1));
    assert_eq!(snapshot.played_back, Some(played("Aldmoor", 600)));
    assert!(snapshot.marks.last().unwrap().text.starts_with("Aldmoor plays it: 600 of 600 pictures"));
    assert_eq!(snapshot.answered.unwrap().failed, None);
    assert!(snapshot.undo.is_none() && snapshot.trials.is_empty(), "it changes nothing");
    show.up("Aldmoor");
    assert_eq!(show.0.snapshot(Moment::from_ms(show.1)).played_back, None);
}

#[test]
fn a_server_that_gives_out_sound_alone_is_a_notice() {
    let odd = |pictures: u64| {
        let mut show = Show::new(false);
        show.on_air_at("Aldmoor");
        show.pass(20);
        show.tell(Observation::PlayedBack(played("Aldmoor", pictures)));
        let notices = show.0.snapshot(Moment::from_ms(show.1)).notices;
        notices.into_iter().find(|notice| notice.kind == NoticeKind::NoPicture).map(|notice| notice.text)
    };
    assert_eq!(odd(600), None);
    assert!(odd(0).unwrap().starts_with("Aldmoor gives out sound and no picture"));
}
