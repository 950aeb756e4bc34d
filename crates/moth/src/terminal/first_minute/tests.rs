//! From an empty folder to a setup one can go live with.

use ratatui::Terminal;
use ratatui::backend::TestBackend;

use super::*;

const PUBLISH_TO: &str = "rtmp://127.0.0.1:19350/moth";

struct Desk {
    dir: tempfile::TempDir,
    first: FirstMinute,
}

impl Desk {
    fn new(text: Option<&str>) -> Self {
        let dir = tempfile::tempdir().unwrap();
        if let Some(text) = text {
            std::fs::write(dir.path().join("moth.toml"), text).unwrap();
        }
        let options = SetupInUseOptions { config: Some(dir.path().join("moth.toml")), setup: None };
        let first = FirstMinute::open(&options, PUBLISH_TO, Palette::Plain).unwrap();
        Self { dir, first }
    }

    fn press(&mut self, code: KeyCode) -> Option<Wanted> {
        self.first.take(&Event::Key(code.into()))
    }

    fn write(&mut self, text: &str) {
        text.chars().for_each(|c| drop(self.press(KeyCode::Char(c))));
        self.press(KeyCode::Enter);
    }

    fn paste(&mut self, text: &str) {
        self.first.take(&Event::Paste(text.into()));
    }

    fn drawn(&self, width: u16, height: u16) -> String {
        let mut terminal = Terminal::new(TestBackend::new(width, height)).unwrap();
        terminal.draw(|frame| draw(frame, &self.first)).unwrap();
        terminal.backend().to_string()
    }

    fn file(&self) -> String {
        std::fs::read_to_string(self.dir.path().join("moth.toml")).unwrap_or_default()
    }
}

#[test]
fn an_empty_folder_becomes_a_setup_one_goes_live_with() {
    let mut desk = Desk::new(None);
    insta::assert_snapshot!("service_158x47", desk.drawn(158, 47));
    insta::assert_snapshot!("service_80x24", desk.drawn(80, 24));
    desk.write("Nocturne");
    desk.write("8");
    desk.paste("Aldmoor rtmp://aldmoor.nocturne.invalid/live\r\nrtmp://dunmere.nocturne.invalid/live\r\n");
    insta::assert_snapshot!("servers_typed_80x24", desk.drawn(80, 24));
    desk.press(KeyCode::Enter);
    assert_eq!(desk.file(), "", "nothing is written before it is left");
    desk.press(KeyCode::Enter);
    assert!(desk.file().contains("dunmere.nocturne.invalid"));
    desk.paste("orbit-77\n");
    let shown = desk.drawn(80, 24);
    assert!(shown.contains("it is not shown") && !shown.contains("orbit"), "{shown}");
    desk.press(KeyCode::Enter);
    assert_eq!(desk.first.keys.read("nocturne").unwrap().unwrap().expose(), "orbit-77");
    desk.write("6000");
    insta::assert_snapshot!("picture_80x24", desk.drawn(80, 24));
    (0..3).for_each(|_| drop(desk.press(KeyCode::Enter)));
    insta::assert_snapshot!("broadcaster_158x47", desk.drawn(158, 47));
    insta::assert_snapshot!("broadcaster_80x24", desk.drawn(80, 24));
    assert_eq!(desk.press(KeyCode::Char('y')), Some(Wanted::Copy(PUBLISH_TO.into())));
    assert_eq!(desk.press(KeyCode::Enter), Some(Wanted::GoLive("nocturne".into())));
    assert!(!desk.file().contains("orbit"));

    // The same again: it is all there.
    let options = SetupInUseOptions { config: Some(desk.dir.path().join("moth.toml")), setup: None };
    let mut again = FirstMinute::open(&options, PUBLISH_TO, Palette::Plain).unwrap();
    let enter = Event::Key(KeyCode::Enter.into());
    assert_eq!(again.take(&enter), Some(Wanted::GoLive("nocturne".into())));
}

#[test]
fn every_step_may_be_left_out_and_what_is_missing_then_is_said() {
    let mut desk = Desk::new(None);
    (0..4).for_each(|_| drop(desk.press(KeyCode::Tab)));
    assert_eq!(desk.press(KeyCode::Enter), None);
    let shown = desk.drawn(110, 30);
    assert!(shown.contains("evening still lacks a server and its stream key"), "{shown}");
    (0..5).for_each(|_| drop(desk.press(KeyCode::Esc)));
    let shown = desk.drawn(110, 30);
    assert!(shown.contains("My service") && shown.contains("no server yet"), "{shown}");
    assert_eq!(desk.press(KeyCode::Enter), None);
    desk.press(KeyCode::Char('k'));
    desk.write("orbit-77");
    let kept = desk.first.keys.read("my-service").unwrap();
    assert_eq!(kept.unwrap().expose(), "orbit-77");
    assert!(desk.drawn(110, 30).contains("the stream key is kept"), "and back to the list");
    desk.press(KeyCode::Char('p'));
    desk.press(KeyCode::Esc);
    assert!(desk.drawn(110, 30).contains("Which setup do you go live with?"));
}

#[test]
fn what_is_wrong_is_said_and_stays_to_be_corrected() {
    let mut desk = Desk::new(None);
    desk.write("Nocturne");
    desk.write("");
    desk.write("http://aldmoor.nocturne.invalid/live");
    let shown = desk.drawn(110, 30);
    assert!(shown.contains("scheme `http`") && shown.contains("http://aldmoor"), "{shown}");
    (0..36).for_each(|_| drop(desk.press(KeyCode::Backspace)));
    desk.write("aldmoor.nocturne.invalid/live");
    assert!(desk.drawn(110, 30).contains("rtmp://aldmoor.nocturne.invalid/live"));
    // One that was wrong goes again.
    desk.press(KeyCode::Up);
    desk.press(KeyCode::Delete);
    assert!(!desk.drawn(110, 30).contains("rtmp://aldmoor.nocturne.invalid/live"));
}

#[test]
fn setups_are_changed_renamed_and_removed_and_the_file_stays_as_it_was_written() {
    let mut desk = Desk::new(Some(moth_store::config::TEMPLATE));
    insta::assert_snapshot!("setups_158x47", desk.drawn(158, 47));
    insta::assert_snapshot!("setups_80x24", desk.drawn(80, 24));
    desk.press(KeyCode::Char('c'));
    (0..4).for_each(|_| drop(desk.press(KeyCode::Tab)));
    let unchanged = moth_store::config::TEMPLATE;
    assert_eq!(desk.file(), unchanged);
    (0..5).for_each(|_| drop(desk.press(KeyCode::Esc)));
    desk.press(KeyCode::Char('r'));
    desk.write(" DOME");
    assert!(desk.drawn(80, 24).contains("small letters"), "{}", desk.drawn(80, 24));
    (0..5).for_each(|_| drop(desk.press(KeyCode::Backspace)));
    desk.write("-2");
    assert!(desk.file().contains("[setups.comet-night-2.reconnect]"));
    desk.press(KeyCode::Char('d'));
    desk.press(KeyCode::Char('x'));
    desk.press(KeyCode::Char('n'));
    assert!(desk.file().contains("comet-night-2"));
    desk.press(KeyCode::Char('d'));
    desk.press(KeyCode::Char('y'));
    assert!(!desk.file().contains("setups.comet") && !desk.file().contains("[services.nocturne]"));
    assert!(desk.drawn(80, 24).contains("Where do you broadcast to?"));
}

#[test]
fn it_is_drawn_at_any_size() {
    let mut desk = Desk::new(Some(moth_store::config::TEMPLATE));
    for page in ['l', 'c', 'k', 'p'] {
        desk.press(KeyCode::Char(page));
        for (width, height) in [(1, 1), (20, 3), (40, 10), (79, 23), (200, 60), (300, 10)] {
            desk.drawn(width, height);
        }
        (0..5).for_each(|_| drop(desk.press(KeyCode::Esc)));
    }
}
