//! Servers and the line, measured over the stand-in line on a paused clock.

use std::time::Duration;

use moth_core::rate::Bitrate;
use moth_destination::FailureKind;
use moth_plan::line::{Buffer, read};
use moth_plan::measurement::ServerResult;
use moth_plan::ranking::{Grade, RoutesFinding, Wanted, rank};
use moth_plan::surroundings::Surroundings;
use moth_plan::text::Size;
use moth_relay::measure::{MeasurePlan, ServerPhase, Target, run_line, test_server};
use moth_stage::{Afternoon, Evening, LineShape, ShapedServer};
use tokio::sync::watch;

const PLANNED: Bitrate = Bitrate::from_kbps(6160);
const WANTED: Wanted = Wanted { planned: PLANNED, headroom: moth_plan::headroom::Headroom::of_percent(25.0) };

fn plan() -> MeasurePlan {
    MeasurePlan {
        length: Duration::from_secs(10),
        planned: PLANNED,
        up_to: PLANNED.scaled(2.0),
        size: Size::new(1280, 720),
        fps: 60.0,
    }
}

async fn test_all(afternoon: &Afternoon) -> Vec<ServerResult> {
    let (_keep, mut cancel) = watch::channel(false);
    let mut results = Vec::new();
    for server in afternoon.servers() {
        let target = Target { server: server.clone(), region: None };
        let key = Afternoon::key().unwrap();
        results.push(test_server(&*afternoon.dialer(), &target, key, &plan(), &mut cancel, |_| {}).await);
    }
    results
}

fn evening(text: &str) -> Evening {
    format!("name = \"x\"\nstory = \"y\"\n{text}").parse().unwrap()
}

fn within(rate: Bitrate, kbps: f64, share: f64) -> bool {
    (rate.kbps() / kbps - 1.0).abs() <= share
}

#[tokio::test(start_paused = true)]
async fn the_afternoons_servers_are_ranked_and_each_fault_is_named() {
    for seed in [1, 41, 77] {
        let afternoon = Afternoon::shipped(seed).unwrap();
        let results = test_all(&afternoon).await;
        let ranking = rank(&results, WANTED);
        let order: Vec<(&str, Grade)> = ranking.places.iter().map(|p| (p.server.as_str(), p.grade)).collect();
        assert_eq!(order[0].0, "Brackwater", "{order:?}");
        assert_eq!(order[5], ("Farrowgate", Grade::Failed), "{order:?}");
        let grade = |name: &str| order.iter().find(|(server, _)| *server == name).unwrap().1;
        assert_eq!([grade("Cindervale"), grade("Elmsreach")], [Grade::Holds; 2], "{order:?}");
        assert_eq!([grade("Aldmoor"), grade("Dunmere")], [Grade::Short; 2], "{order:?}");
        let of = |name: &str| results.iter().find(|r| r.server == name).unwrap();
        let sustained = |name: &str| of(name).best().unwrap().sustained;
        assert!(within(sustained("Cindervale"), 9800.0, 0.1), "{}", sustained("Cindervale"));
        assert!(within(sustained("Dunmere"), 5100.0, 0.1), "{}", sustained("Dunmere"));
        assert!(within(sustained("Aldmoor"), 4300.0, 0.1), "{}", sustained("Aldmoor"));
        let place = |name: &str| ranking.places.iter().find(|p| p.server == name).unwrap().sentence.clone();
        assert!(place("Aldmoor").contains("the server reads slowly"), "{}", place("Aldmoor"));
        assert!(place("Dunmere").contains("the line or the route"), "{}", place("Dunmere"));
        assert_eq!(of("Farrowgate").failure.as_ref().unwrap().kind, FailureKind::PortClosed);
        assert_eq!(ranking.finding, RoutesFinding::Servers);
        assert!(
            of("Elmsreach").planned.as_ref().unwrap().jitter_ms > of("Brackwater").planned.as_ref().unwrap().jitter_ms
        );
        assert!((50.0..62.0).contains(&of("Elmsreach").connect_ms.unwrap()), "two ways of 27 ms");
    }
}

#[tokio::test(start_paused = true)]
async fn a_line_too_small_for_all_of_them_is_called_the_line() {
    let afternoon = Afternoon::open(&evening("[line]\nup_kbps = 4000"), 5);
    let ranking = rank(&test_all(&afternoon).await, WANTED);
    assert_eq!(ranking.finding, RoutesFinding::Line, "{}", ranking.sentence);
    assert!(ranking.sentence.contains("about 3 9") || ranking.sentence.contains("about 4 0"), "{}", ranking.sentence);
}

#[tokio::test(start_paused = true)]
async fn a_refused_key_is_said_and_the_key_is_not() {
    let afternoon = Afternoon::shipped(1).unwrap();
    let (_keep, mut cancel) = watch::channel(false);
    let key = moth_destination::StreamKey::new("some-wrong-key").unwrap();
    let target = Target { server: afternoon.servers()[1].clone(), region: None };
    let result = test_server(&*afternoon.dialer(), &target, key, &plan(), &mut cancel, |_| {}).await;
    let failure = result.failure.unwrap();
    assert_eq!(failure.kind, FailureKind::Refused);
    assert!(
        failure.why.contains("NetStream.Publish.BadName") && !failure.why.contains("some-wrong-key"),
        "{}",
        failure.why
    );
}

#[tokio::test(start_paused = true)]
async fn what_was_measured_until_it_was_cancelled_is_kept() {
    let afternoon = Afternoon::shipped(1).unwrap();
    let (stop, mut cancel) = watch::channel(false);
    let target = Target { server: afternoon.servers()[1].clone(), region: Some("north".into()) };
    let mut phases = Vec::new();
    let result =
        test_server(&*afternoon.dialer(), &target, Afternoon::key().unwrap(), &plan(), &mut cancel, |progress| {
            if phases.last() != Some(&progress.phase) {
                phases.push(progress.phase);
            }
            if progress.elapsed > Duration::from_secs(7) {
                stop.send_replace(true);
            }
        })
        .await;
    assert_eq!(phases, [ServerPhase::Connecting, ServerPhase::Planned, ServerPhase::Above, ServerPhase::Done]);
    assert!(result.cancelled && result.failure.is_none());
    assert!(result.planned.is_some() && result.above.is_some_and(|above| above.per_second.len() == 2));
}

#[tokio::test(start_paused = true)]
async fn the_line_is_measured_and_a_deep_buffer_told_from_a_shallow_one() {
    let mut depths = Vec::new();
    for buffer_ms in [40, 500] {
        let afternoon = Afternoon::open(&evening(&format!("[line]\nup_kbps = 8000\nbuffer_ms = {buffer_ms}")), 3);
        let (_keep, mut cancel) = watch::channel(false);
        let plan = MeasurePlan { up_to: Bitrate::from_kbps(100_000), ..plan() };
        let server = &afternoon.servers()[0];
        let run = run_line(&*afternoon.dialer(), server, Afternoon::key().unwrap(), &plan, &mut cancel, |_| {}).await;
        let run = run.unwrap();
        assert!(within(run.carried.sustained, 8000.0, 0.1), "{}", run.carried.sustained);
        assert_eq!(run.idle_ms.len(), 10);
        assert!(run.full_ms.len() > 15, "{}", run.full_ms.len());
        let reading = read(&[run], &Surroundings::default(), WANTED.headroom).unwrap();
        depths.push((reading.buffer.unwrap(), reading.bufferbloat_ms.unwrap(), reading.rpm.unwrap()));
    }
    assert_eq!(depths[0].0, Buffer::Shallow, "{depths:?}");
    assert_eq!(depths[1].0, Buffer::Deep, "{depths:?}");
    assert!(depths[1].1 > 250.0 && depths[0].2 > 2 * depths[1].2, "{depths:?}");
}

#[tokio::test(start_paused = true)]
async fn a_line_shaped_like_a_measurement_measures_like_it() {
    let seconds = [4000, 4200, 2500, 4100].map(Bitrate::from_kbps);
    let shape = LineShape { per_second: seconds.to_vec(), round_trip_ms: 30.0, jitter_ms: 1.0, buffer_ms: 250.0 };
    let server = ShapedServer::open(&shape, 7).unwrap();
    let (_keep, mut cancel) = watch::channel(false);
    let target = Target { server: server.server().clone(), region: None };
    let key = ShapedServer::key().unwrap();
    let up = MeasurePlan { up_to: Bitrate::from_kbps(9000), ..plan() };
    let result = test_server(&*server.dialer(), &target, key.clone(), &up, &mut cancel, |_| {}).await;
    let above = result.above.as_ref().unwrap();
    // The mean of its seconds is 3 700; the worst of them come again and again.
    assert!(within(above.sustained, 3900.0, 0.12) && above.worst.kbps() < 3200.0, "{above:?}");
    let run = run_line(&*server.dialer(), &target.server, key, &up, &mut cancel, |_| {}).await.unwrap();
    let reading = read(&[run], &Surroundings::default(), WANTED.headroom).unwrap();
    assert!((25.0..45.0).contains(&reading.idle_rtt_ms.unwrap()), "{reading:?}");
    assert!((60.0..250.0).contains(&reading.bufferbloat_ms.unwrap()), "{reading:?}");
    assert!(ShapedServer::open(&LineShape { per_second: Vec::new(), ..shape }, 7).is_none());
}
