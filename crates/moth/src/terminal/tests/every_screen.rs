//! Every screen at every size: with nothing known yet, on air with nothing measured, in calm, in trouble, and with two faults.

use super::*;
use crate::terminal::screens;

const SIZES: [(u16, u16); 4] = [(80, 24), (120, 40), (158, 47), (200, 60)];

/// How things may stand, each with its name.
async fn situations() -> Vec<(&'static str, Arc<Snapshot>)> {
    vec![
        ("nothing", quiet()),
        ("unmeasured", snapshot("calm", 40).await),
        ("calm", snapshot("mute-microphone", 36).await),
        ("trouble", snapshot("bad-route", 26).await),
        ("two", snapshot("two-at-once", 42).await),
    ]
}

#[tokio::test(start_paused = true)]
async fn every_screen_is_drawn_at_every_size_whatever_is_known() {
    for (situation, shown) in situations().await {
        for screen in screens::ALL {
            let is_measured = !["nothing", "unmeasured"].contains(&situation);
            let preparation = if is_measured { with_its_afternoon() } else { before() };
            let mut app = app(Some(shown.clone())).with(Some(preparation));
            app.screen = screen;
            let drawn: Vec<String> =
                SIZES.iter().map(|(width, height)| steady(&drawn(&app, *width, *height))).collect();
            insta::assert_snapshot!(format!("{}_{situation}", screen.name.to_lowercase()), drawn.join("\n"));
        }
    }
}
