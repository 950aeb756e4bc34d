//! Made-up data, and what is read back out of an SVG.

use std::time::Duration;

use moth_core::State;
use moth_core::figure::{Figure, Origin};
use moth_core::history::Second;
use moth_core::journey::Stage;
use moth_core::rate::Bitrate;
use moth_core::reading::ConnectionFigures;
use moth_core::suspects::{Cause, Evidence, Fault, Weighed};
use moth_destination::{FailureKind, LinkError};
use moth_drawing::climb::{Climb, Outcome, Step, Try};
use moth_drawing::evening::{Changed, Evening, Standing, Stood};
use moth_drawing::load::{Load, Machine};
use moth_drawing::measured::{LineTest, ServersTest};
use moth_drawing::names::{Kind, Names};
use moth_drawing::picture::Picture;
use moth_plan::line::LineRun;
use moth_plan::measurement::{Carried, ConnectionLook, ServerResult};
use moth_plan::picture::{Motion, map};
use moth_plan::ranking::Wanted;
use moth_plan::service::Limits;
use moth_plan::surroundings::{Interface, Surroundings};
use moth_plan::text::Size;
use roxmltree::{Document, Node};

/// A broadcast with a bad stretch, one second of which is far worse than any other.
pub fn evening(seconds: u32) -> Evening {
    let second = |n: u32| {
        let bad = (seconds / 3..seconds / 3 + 40).contains(&n);
        let worst = n == seconds / 3 + 7;
        Second {
            state: Some(if bad { State::Losing } else { State::Steady }),
            asked_kbps: Some(6160.0),
            sent_kbps: Some(if bad { 3000.0 + (n % 7) as f32 * 90.0 } else { 6150.0 }),
            queue_ms: Some(if bad { 1900.0 } else { 12.0 }),
            rtt_ms: Some(if worst { 873.0 } else { 21.0 + (n % 5) as f32 }),
            due: Some(60),
            dropped: Some(if worst {
                60
            } else if bad {
                20
            } else {
                0
            }),
            skipped: Some(0),
            lagged: None,
            frozen_ms: Some(if worst { 1433 } else { 0 }),
            cpu: Some(0.4),
            gateway_ms: Some(1.2),
            other_ms: Some(if bad { 190.0 } else { 24.0 }),
            uploads_kbps: Some(0.0),
            ..Second::default()
        }
    };
    let from_s = f64::from(seconds / 3);
    Evening {
        source: "a made-up evening".into(),
        began: Some("2026-11-26T21:04:10+01:00[+01:00]".parse().unwrap()),
        seconds: (0..seconds).map(second).collect(),
        queue_limit_ms: 2000.0,
        verdicts: vec![Stood {
            from_s: from_s + 2.0,
            until_s: from_s + 40.0,
            fault: Fault::Network,
            cause: Some(Cause::LineShort),
            surest_s: from_s + 9.0,
            sentence: "The line to Aldmoor carries 3 250 of the 6 160 kb/s that are asked of it, & <less> than that at its worst."
                .into(),
            confidence: 0.93,
            weighed: vec![
                weighed(Cause::LineShort, 0.93, &[("3 250 kb/s carried of 6 160 kb/s asked", 1.2), ("no other program sends", 0.4)]),
                weighed(Cause::UploadBeyond, 0.04, &[("it never carried more", -1.4)]),
                weighed(Cause::Route, 0.02, &[("Oswin is reached late as well", -0.8)]),
                weighed(Cause::LocalLink, 0.01, &[("the first router answers as soon as ever", -1.6)]),
                weighed(Cause::Heat, 0.0, &[]),
            ],
            evidence: vec![Evidence {
                text: "3 250 kb/s carried of 6 160 kb/s asked".into(),
                origin: Some(Origin::Measured),
                bans: 1.2,
            }],
            would_change: "Next likeliest: an upload beyond this machine.".into(),
            also: vec![],
        }],
        changes: vec![Changed { at_s: from_s + 21.0, what: "bitrate 6 000 → 4 500 kb/s".into() }],
        machines: vec![machine(seconds)],
        server: "Aldmoor".into(),
        standing: Some(standing(from_s + 9.0)),
        servers: Some(servers()),
        line: Some(line()),
        known: vec!["skipped frames: inferred".into()],
        unseen: vec!["the pictures are HEVC, which are not looked at".into()],
        names: names(),
        ..Evening::default()
    }
}

fn names() -> Names {
    let mut names = Names::default();
    for server in ["Aldmoor", "Oswin"] {
        names.add(Kind::Server, server);
    }
    names
}

fn weighed(cause: Cause, share: f64, signs: &[(&str, f64)]) -> Weighed {
    let sign =
        |(text, bans): &(&str, f64)| Evidence { text: (*text).into(), origin: Some(Origin::Measured), bans: *bans };
    Weighed { cause, share, evidence: signs.iter().map(sign).collect() }
}

pub fn machine(seconds: u32) -> Machine {
    let mut machine = Machine { broadcaster: Some("lanternist".into()), ..Machine::default() };
    let (sync, shader) = (machine.place("vault-sync"), machine.place("shader-cache"));
    machine.loads = (0..seconds)
        .map(|n| {
            let busy = (seconds / 2..seconds / 2 + seconds / 5).contains(&n);
            Load {
                cpu: Some(if busy { 0.95 } else { 0.41 }),
                cpu_broadcaster: Some(0.28),
                cpu_other: Some(if busy { (sync, 0.52) } else { (shader, 0.05) }),
                gpu: Some(0.6),
                gpu_other: Some((shader, 0.3)),
                uploads_kbps: Some(if busy { 3400.0 } else { 0.0 }),
                upload: busy.then_some((sync, 3400.0)),
                ..Load::default()
            }
        })
        .collect();
    machine
}

pub fn standing(at_s: f64) -> Standing {
    let stage = |name, word, fault, used: f64, budget: f64, lost: Option<u64>| Stage {
        name,
        budget: Figure { value: Some(budget), origin: Some(Origin::Measured) },
        used: Figure { value: Some(used), origin: Some(Origin::Reported) },
        lost_now: Figure { value: lost, origin: Some(Origin::Measured) },
        lost_total: Figure { value: lost.map(|n| n * 7), origin: Some(Origin::Measured) },
        word,
        fault,
    };
    Standing {
        at_s,
        state: Some(State::Losing),
        stages: [
            stage("render", "lagged", Fault::Rendering, 9.0, 16.7, None),
            stage("encode", "skipped", Fault::Encoder, 8.1, 16.7, Some(0)),
            stage("send", "dropped", Fault::Network, 2100.0, 2000.0, Some(124)),
            stage("ingest", "delivered", Fault::None, 3250.0, 6160.0, Some(2513)),
        ],
        losing: vec![Fault::Network],
        weighed: vec![(Fault::Encoder, vec![weighed(Cause::PresetHeavy, 0.5, &[("a frame takes 8.1 ms", -1.0)])])],
    }
}

fn carried(kbps: &[u64], offered: u64, stall: bool) -> Carried {
    let mut bytes = 0;
    let mut looks =
        vec![ConnectionLook { at: Duration::ZERO, acknowledged_bytes: 0, is_busy: true, figures: Default::default() }];
    for (n, rate) in kbps.iter().enumerate() {
        bytes += rate * 125;
        let at = Duration::from_secs(n as u64 + 1);
        let figures = ConnectionFigures { rtt_ms: Some(40.0 + n as f64), ..ConnectionFigures::default() };
        looks.push(ConnectionLook { at, acknowledged_bytes: bytes, is_busy: true, figures });
    }
    let until = Duration::from_secs(kbps.len() as u64);
    let mut carried = Carried::between(&looks, Duration::ZERO, until, Bitrate::from_kbps(offered)).unwrap();
    carried.stalls.clear();
    if stall {
        carried.stalls.push(moth_plan::measurement::Stall { at_s: 4.2, ms: 900.0 });
    }
    carried
}

pub fn servers() -> ServersTest {
    let server = |name: &str, region: &str, planned: &[u64], above: &[u64], stall| ServerResult {
        server: name.into(),
        address: format!("rtmp://{}.example/live", name.to_lowercase()),
        region: Some(region.into()),
        connect_ms: Some(31.0),
        handshake_ms: Some(64.0),
        planned: (!planned.is_empty()).then(|| carried(planned, 6160, stall)),
        above: (!above.is_empty()).then(|| carried(above, 12_000, false)),
        failure: None,
        cancelled: false,
    };
    let failed = ServerResult {
        failure: Some(LinkError { kind: FailureKind::Refused, why: "it refuses: key of dana is in use".into() }),
        ..server("Thornwick", "north", &[], &[], false)
    };
    ServersTest {
        date: Some("2026-11-26T18:30:00+01:00[+01:00]".parse().unwrap()),
        service: "Greywater".into(),
        line: "attic0, wired".into(),
        wanted: Wanted { planned: Bitrate::from_kbps(6160), headroom: moth_plan::headroom::Headroom::of_percent(25.0) },
        results: vec![
            server("Aldmoor", "south", &[6160, 6120, 6160, 6150], &[9400, 9800, 9700, 9500, 9600], false),
            server("Oswin", "west", &[6160, 5200, 6100, 6160], &[6900, 5100, 6800, 7000, 6700], false),
            server("Brackwater-on-the-Hill", "a region with a long name", &[3100, 2900, 3050, 3010], &[], true),
            failed,
        ],
        is_made_up: true,
    }
}

pub fn line() -> LineTest {
    let run = |shift: u64| LineRun {
        idle_ms: vec![21.0, 22.5, 20.8, 23.0, 21.4, 29.0],
        full_ms: vec![180.0, 260.0, 310.0, 330.0, 335.0, 342.0, 338.0, 900.0],
        own_ms: (0..60).map(|n| 150.0 + f64::from(n) * 3.0).collect(),
        carried: carried(
            &[9000 + shift, 9200, 9150, 9300, 8700, 9250, 9100, 9180, 9210, 6400 + shift],
            100_000,
            shift > 0,
        ),
    };
    LineTest {
        date: Some("2026-11-26T18:20:00+01:00[+01:00]".parse().unwrap()),
        line: "attic0, wired".into(),
        server: "Aldmoor".into(),
        runs: vec![run(0), run(400)],
        around: Surroundings {
            interface: Some(Interface { name: "attic0".into(), ..Interface::default() }),
            uploads: Some(vec![moth_core::machine_load::Upload {
                program: Some("vault-sync".into()),
                rate: Bitrate::from_kbps(2000),
            }]),
            sending: None,
        },
        headroom: moth_plan::headroom::Headroom::of_percent(25.0),
        is_made_up: false,
    }
}

pub fn picture() -> Picture {
    let limits = Limits::default();
    Picture {
        map: map(Bitrate::from_kbps(4500), Size::new(1920, 1080), 60.0, Motion::Moving, &limits),
        now: Some((Size::new(1920, 1080), 60.0)),
        bitrate: "Use 4 500 kb/s of video and 160 kb/s of audio: the line binds it. The upload sustains 6 200 kb/s (measured to Aldmoor)."
            .into(),
        source: "setup evening for Greywater; a scene of 1920x1080 that is moving".into(),
    }
}

pub fn climb() -> Climb {
    let tried = |order, seconds, lost, between, outcome| Try { order, seconds, lost_percent: lost, between, outcome };
    let step = |name: &str, tries| Step { name: name.into(), tries };
    let gave_way = |cause| Outcome::GaveWay { fault: Fault::Network, cause };
    Climb {
        of: "bitrate".into(),
        steps: vec![
            step("3 000 kb/s", vec![tried(1, 40.0, 0.0, Some((0.0, 0.12)), Outcome::Held)]),
            step("3 500 kb/s", vec![]),
            step(
                "4 000 kb/s",
                vec![
                    tried(3, 60.0, 0.0, Some((0.0, 0.1)), Outcome::Held),
                    tried(6, 600.0, 0.01, Some((0.0, 0.02)), Outcome::Held),
                ],
            ),
            step(
                "4 500 kb/s",
                vec![
                    tried(4, 60.0, 0.3, None, Outcome::Unclear),
                    tried(5, 60.0, 1.4, Some((0.7, 2.2)), gave_way(None)),
                ],
            ),
            step("5 000 kb/s", vec![tried(2, 22.0, 6.2, Some((4.4, 8.1)), gave_way(Some(Cause::LineShort)))]),
        ],
        confirmed: Some(2),
        sentence: "4 000 kb/s is held; at 4 500 kb/s the network gives way".into(),
        source: "to Aldmoor, unseen".into(),
        began: Some("2026-11-26T17:00:00+01:00[+01:00]".parse().unwrap()),
        notes: vec!["The line was simulated, shaped like the measurement of 2026-11-26.".into()],
    }
}

/// What is written, where: its left and right edge, its baseline and size, in pixels.
pub struct Label {
    pub text: String,
    pub left: f64,
    pub right: f64,
    pub baseline: f64,
    pub size: f64,
}

pub fn number(node: Node<'_, '_>, name: &str) -> f64 {
    node.attribute(name).unwrap_or_else(|| panic!("{name} of {node:?}")).parse().unwrap()
}

pub fn labels(svg: &Document<'_>) -> Vec<Label> {
    let texts = svg.descendants().filter(|node| node.has_tag_name("text"));
    texts
        .map(|node| {
            let text = node.text().unwrap_or_default().trim().to_owned();
            let size = number(node, "font-size") / 10.0;
            let width = moth_drawing::text_width(&text, size, node.attribute("font-weight") == Some("bold"));
            let x = number(node, "x") / 10.0;
            let left = match node.attribute("text-anchor") {
                Some("end") => x - width,
                Some("middle") => x - width / 2.0,
                _ => x,
            };
            Label {
                text,
                left,
                right: left + width,
                // It is lifted by half the height of an x.
                baseline: number(node, "y") / 10.0 - size * 0.547 / 2.0,
                size,
            }
        })
        .collect()
}

/// Every text of a drawing, a line each.
pub fn words(svg: &str) -> String {
    let document = Document::parse(svg).unwrap();
    labels(&document).into_iter().map(|label| label.text).collect::<Vec<_>>().join("\n")
}

/// The coordinates of a shape, in pixels.
pub fn points(node: Node<'_, '_>) -> Vec<(f64, f64)> {
    let numbers = |text: &str| -> Vec<f64> {
        text.split([' ', ',']).filter(|part| !part.is_empty()).map(|part| part.parse::<f64>().unwrap() / 10.0).collect()
    };
    let pairs = node.attribute("points").map(numbers).unwrap_or_default();
    pairs.chunks_exact(2).map(|pair| (pair[0], pair[1])).collect()
}

/// Whether a drawing is one that could be printed: everything on the page, no text over another.
pub fn assert_legible(svg: &str) {
    let document = Document::parse(svg).unwrap();
    let root = document.root_element();
    let (width, height) = (number(root, "width"), number(root, "height"));
    let labels = labels(&document);
    assert!(labels.len() > 6);
    for label in &labels {
        let is_inside =
            label.left >= 0.0 && label.right <= width && label.baseline <= height && label.baseline >= label.size;
        assert!(is_inside, "{} is off the page: {} to {}", label.text, label.left, label.right);
    }
    for (n, one) in labels.iter().enumerate() {
        for other in &labels[n + 1..] {
            let beside = one.right <= other.left || other.right <= one.left;
            // Of a letter's height most is above its baseline.
            let apart = (one.baseline - other.baseline).abs() >= 0.8 * one.size.min(other.size);
            assert!(beside || apart, "{} stands over {}", one.text, other.text);
        }
    }
    let is_on = |x: f64, y: f64| (0.0..=width).contains(&x) && (0.0..=height).contains(&y);
    for node in document.descendants() {
        match node.tag_name().name() {
            "rect" => {
                let (x, y) = (number(node, "x") / 10.0, number(node, "y") / 10.0);
                let (w, h) = (number(node, "width") / 10.0, number(node, "height") / 10.0);
                assert!(is_on(x, y) && is_on(x + w, y + h), "{node:?} is off the page");
            }
            "circle" => assert!(is_on(number(node, "cx") / 10.0, number(node, "cy") / 10.0), "{node:?}"),
            "polyline" | "polygon" => {
                let points = points(node);
                assert!(!points.is_empty());
                for (x, y) in points {
                    assert!(is_on(x, y), "{x} {y} of {node:?} is off the page");
                }
            }
            _ => {}
        }
    }
}
