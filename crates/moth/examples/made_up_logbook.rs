//! Puts on a dozen evenings with stand-ins and writes the demo's logbook of them: `src/logbook/made_up.sqlite.gz`.
#![allow(missing_docs)]

use std::error::Error;
use std::fmt::Write as _;
use std::io::Write;
use std::path::Path;
use std::time::Duration;

use flate2::Compression;
use flate2::write::GzEncoder;
use jiff::Zoned;
use jiff::civil::date;
use jiff::tz::{Offset, TimeZone};
use moth::logbook::made_up::{SERVICE, SETUP, told};
use moth_core::action::Action;
use moth_core::rate::Bitrate;
use moth_core::{Core, Moment, Settings};
use moth_logbook::{About, Kind, Logbook, Pen};
use moth_stage::{Evening, Theatre};

/// An evening to put on.
struct Night {
    day: i8,
    from: (i8, i8),
    seconds: u64,
    title: &'static str,
    note: &'static str,
    script: String,
    /// What is done, and when.
    deeds: Vec<(f64, Action)>,
}

fn event(script: &mut String, at_s: f64, what: &str, change: &str) {
    let _ = write!(script, "\n[[event]]\nat_s = {at_s:.1}\nwhat = \"{what}\"\n{change}\n");
}

/// A line that has little for the broadcast again and again: so often an hour, for so long, at so much.
fn dips(script: &mut String, from: f64, until: f64, each: f64, long: f64, kbps: u32) {
    let mut at = from;
    let mut n = 0;
    while at + long < until {
        event(script, at, "the link has little left", &format!("line = {{ link_kbps = {kbps} }}"));
        event(script, at + long, "a breath", "line = { link_kbps = 9000 }");
        // Not as regular as a clock.
        at += each * [0.7, 1.2, 0.9, 1.4, 0.8][n % 5];
        n += 1;
    }
}

fn switch(server: &str) -> Action {
    Action::SwitchServer { server: server.into() }
}

fn bitrate(kbps: u64) -> Action {
    Action::SetBitrate { video: Bitrate::from_kbps(kbps) }
}

fn by_hand(advice: &str) -> Action {
    Action::ByHand { advice: advice.into() }
}

fn nights() -> Vec<Night> {
    let radio = "[machine]\nwireless = true\nsignal_dbm = -74\n";
    let night = |day, from, seconds, title, note, script: &str| Night {
        day,
        from,
        seconds,
        title,
        note,
        script: format!("name = \"a night\"\nstory = \"made up\"\nseed = {day}\n{script}"),
        deeds: Vec::new(),
    };
    let mut all = Vec::new();
    all.push(night(2, (21, 4), 900, "First night of the season", "Clear sky, everybody on time.", ""));

    let mut sync = night(3, (21, 1), 1000, "", "", "");
    event(&mut sync.script, 500.0, "the archive sync starts", "line = { others_kbps = 8900 }");
    event(&mut sync.script, 800.0, "the archive sync ends", "line = { others_kbps = 0 }");
    sync.deeds = vec![(540.0, bitrate(2500)), (860.0, bitrate(6000))];
    all.push(sync);

    let mut tired = night(5, (20, 58), 800, "Aldmoor tired again", "Nocturne says they look into it.", "");
    event(&mut tired.script, 420.0, "Aldmoor reads slowly", "server = { name = \"Aldmoor\", reads_kbps = 2600 }");
    tired.deeds = vec![(470.0, switch("Brackwater"))];
    all.push(tired);

    let mut nebula = night(8, (21, 12), 900, "Nebula scene", "", "");
    for at in [300.0, 720.0] {
        event(
            &mut nebula.script,
            at,
            "the nebula",
            "broadcaster = { render_ms = 21 }\nmachine = { gpu_render = 0.99 }",
        );
        event(
            &mut nebula.script,
            at + 60.0,
            "back to the dome",
            "broadcaster = { render_ms = 9 }\nmachine = { gpu_render = 0.5 }",
        );
    }
    all.push(nebula);

    let mut black = night(10, (21, 0), 900, "", "The lights in the valley went out as well.", "");
    event(&mut black.script, 610.0, "Aldmoor goes away", "server = { name = \"Aldmoor\", away = true }");
    event(&mut black.script, 652.0, "Aldmoor is back", "server = { name = \"Aldmoor\", away = false }");
    all.push(black);

    let mut dish = night(12, (21, 6), 800, "", "Kitchen duty: the dome's link goes over the radio.", radio);
    dips(&mut dish.script, 200.0, 780.0, 70.0, 6.0, 1500);
    all.push(dish);

    let mut preset = night(15, (21, 3), 720, "Finer picture tried", "Back to veryfast for good.", "");
    event(
        &mut preset.script,
        240.0,
        "two steps heavier",
        "broadcaster = { encode_ms = 22 }\nmachine = { cpu = 0.84, broadcaster_cpu = 0.71 }",
    );
    preset.deeds = vec![(300.0, Action::LighterPreset), (340.0, Action::LighterPreset)];
    all.push(preset);

    let stall = {
        let mut night = night(17, (21, 2), 900, "", "", "");
        event(&mut night.script, 700.0, "the line has nothing", "line = { link_kbps = 150 }");
        event(&mut night.script, 703.5, "and all of it again", "line = { link_kbps = 12000 }");
        night
    };
    all.push(stall);

    let mut before = night(19, (21, 0), 1000, "The night before the new router", "Old router, in the hall.", radio);
    dips(&mut before.script, 60.0, 990.0, 55.0, 5.0, 1700);
    all.push(before);

    let mut after =
        night(20, (21, 0), 1000, "The night after the new router", "In the dome now, on its own channel.", radio);
    dips(&mut after.script, 500.0, 900.0, 400.0, 3.0, 3200);
    all.push(after);

    let mut within = night(22, (20, 55), 1100, "Repeater switched off half-way", "", radio);
    dips(&mut within.script, 60.0, 540.0, 40.0, 5.0, 1800);
    within.deeds = vec![(550.0, by_hand("switch the repeater on the stairs off"))];
    all.push(within);

    let mut stitch = night(24, (21, 5), 960, "", "", "");
    event(
        &mut stitch.script,
        800.0,
        "plate-stitch starts",
        "broadcaster = { encode_ms = 20 }\nmachine = { cpu = 0.99, broadcaster_cpu = 0.3, other = { name = \"plate-stitch\", share = 0.62 } }",
    );
    event(
        &mut stitch.script,
        900.0,
        "plate-stitch ends",
        "broadcaster = { encode_ms = 8 }\nmachine = { cpu = 0.4, broadcaster_cpu = 0.25, other = { name = \"plate-stitch\", share = 0.01 } }",
    );
    all.push(stitch);
    all
}

async fn put_on(night: &Night, logbook: &mut Logbook) -> Result<i64, Box<dyn Error>> {
    let evening: Evening = night.script.parse()?;
    let began: Zoned = date(2026, 11, night.day)
        .at(night.from.0, night.from.1, 0, 0)
        .to_zoned(TimeZone::fixed(Offset::constant(1)))?;
    let about = About {
        began,
        kind: Kind::Broadcast,
        is_made_up: true,
        setup: SETUP.into(),
        service: SERVICE.into(),
        told: told(),
    };
    let (mut pen, mut core) = (Pen::new(about), Core::new(Settings { servers: evening.servers() }));
    let mut theatre = Theatre::open(&evening, evening.seed)?;
    let mut deeds = night.deeds.iter().peekable();
    let (mut look, mut looks) = (Moment::START, 0);
    while let Some(reading) = theatre.readings.recv().await {
        while look <= reading.at {
            let snapshot = core.snapshot(look);
            moth_relay::scout::tell(&theatre.doubt, &snapshot);
            pen.take(&snapshot);
            looks += 1;
            if looks % 300 == 0 {
                pen.write(logbook)?;
            }
            look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
        }
        if reading.at.seconds() > night.seconds as f64 {
            break;
        }
        core.take(&reading);
        if let Some((_, deed)) = deeds.next_if(|(at, _)| reading.at.seconds() >= *at) {
            Theatre::act(&theatre.relay, &theatre.broadcaster, &theatre.recorder, deed.clone()).await;
            if matches!(deed, Action::SetBitrate { .. }) {
                theatre.relay.be_patient();
            }
        }
    }
    pen.end(logbook)?;
    let nr = pen.nr().ok_or("nobody broadcast")?;
    logbook.write_down(nr, Some(night.title), Some(night.note))?;
    let kept = logbook.kept(nr)?;
    logbook.thin(nr, kept)?;
    Ok(nr)
}

fn main() -> Result<(), Box<dyn Error>> {
    let folder = tempfile::tempdir()?;
    let path = folder.path().join("logbook.sqlite");
    let mut logbook = Logbook::open(&path)?;
    for night in nights() {
        let runtime = tokio::runtime::Builder::new_current_thread().enable_all().start_paused(true).build()?;
        let nr = runtime.block_on(put_on(&night, &mut logbook))?;
        let listed = logbook.listed(nr)?;
        eprintln!("{nr} {}: {:?} {:?}", night.title, listed.digest.lost_percent(), listed.digest.blamed.first());
    }
    logbook.pack()?;
    logbook.check()?;
    logbook.close()?;
    let bytes = std::fs::read(&path)?;
    let mut gz = GzEncoder::new(Vec::new(), Compression::best());
    gz.write_all(&bytes)?;
    let packed = gz.finish()?;
    eprintln!("{} bytes, {} packed", bytes.len(), packed.len());
    std::fs::write(Path::new(env!("CARGO_MANIFEST_DIR")).join("src/logbook/made_up.sqlite.gz"), packed)?;
    Ok(())
}
