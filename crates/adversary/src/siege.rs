//! All of it at once, and whether it is borne.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, PoisonError};
use std::time::{Duration, Instant};

use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;
use tokio::task::JoinSet;
use tokio::time::sleep;

use crate::gang::Gang;
use crate::stage::Stage;
use crate::watch::Watch;
use crate::{clients, publishers, screens, servers};

/// A broadcaster stays on air for so long, in seconds, before another takes its place. Ours.
const SHIFT_S: std::ops::Range<u64> = 8..20;
/// An attacker that asks for the place on air is answered within this. Ours.
const ANSWERED: Duration = Duration::from_secs(6);
/// A new broadcaster gets on air within this. Ours.
const COMES_ON_AIR: Duration = Duration::from_secs(3);
/// The moth ends within this of being asked: it sends and settles for 2.5 s, and an unoptimised build takes longer for the rest. Ours.
const ENDS: Duration = Duration::from_secs(5);

/// What is to be done.
#[derive(Debug, Clone)]
pub struct SiegePlan {
    /// The moth's program.
    pub moth: PathBuf,
    /// Where everything is drawn from.
    pub seed: u64,
    /// For how long.
    pub long: Duration,
}

/// What was borne.
#[derive(Debug, Clone, Default)]
pub struct Report {
    /// How often what was done.
    pub attacks: BTreeMap<&'static str, u64>,
    /// The longest time without a line of JSON.
    pub longest_silence: Duration,
    /// The most memory it held, in kB.
    pub most_kb: u64,
    /// The most files it had open.
    pub most_descriptors: usize,
    /// How long each new broadcaster waited.
    pub on_air_after: Vec<Duration>,
    /// How long it took to end.
    pub ended_after: Duration,
}

/// Its own for each part: what one draws does not depend on how fast another is.
fn noise(seed: u64, part: u64) -> Pcg64Mcg {
    Pcg64Mcg::seed_from_u64(seed.wrapping_mul(1_000_003).wrapping_add(part))
}

/// Besieges a moth for as long as is wanted, and looks at it all the while.
///
/// # Errors
/// What was not borne, in a sentence; or what could not be begun.
pub fn run(plan: &SiegePlan) -> Result<Report, String> {
    let runtime = tokio::runtime::Builder::new_multi_thread().worker_threads(2).enable_all().build();
    runtime.map_err(|error| format!("the adversary could not be started: {error}"))?.block_on(besiege(plan))
}

/// A new broadcaster gets on air. An attacker that asked for the place before the truce may have it by right for a while, if the machine
/// was too busy to answer it earlier; then the new one is refused, as any broadcaster would be, and tries again.
async fn comes_on_air(port: u16) -> Result<Duration, String> {
    let by = Instant::now() + ANSWERED;
    loop {
        match publishers::comes_on_air(port, COMES_ON_AIR).await {
            Err(why) if why.contains("another broadcaster is already publishing") && Instant::now() < by => {
                sleep(Duration::from_millis(300)).await;
            }
            outcome => return outcome,
        }
    }
}

async fn besiege(plan: &SiegePlan) -> Result<Report, String> {
    let mut stage = Stage::set(&plan.moth)?;
    let watch = Watch::begin(stage.lines().await?, stage.moth_id());
    watch.first_line().await.map_err(|what| format!("{what}:\n{}", stage.log()))?;
    let gang = Gang { counted: Arc::default(), truce: Arc::new(AtomicBool::new(true)) };
    let mut cast = JoinSet::new();
    cast.spawn(servers::run(stage.server_port, noise(plan.seed, 0), gang.clone()));
    for part in 1..4 {
        cast.spawn(publishers::run(stage.publish_port, noise(plan.seed, part), gang.clone()));
    }
    cast.spawn(clients::feed(stage.feed_port, noise(plan.seed, 4), gang.clone()));
    cast.spawn(clients::http(stage.http_port, noise(plan.seed, 5), gang.clone()));
    cast.spawn(clients::socket(stage.socket(), noise(plan.seed, 6), gang.clone()));
    for part in 9..12 {
        cast.spawn(screens::run(stage.socket(), noise(plan.seed, part), gang.clone()));
    }
    cast.spawn(clients::programs(plan.moth.clone(), stage.socket(), noise(plan.seed, 7), gang.clone()));

    let mut noise = noise(plan.seed, 8);
    let (began, mut on_air_after) = (Instant::now(), Vec::new());
    while began.elapsed() < plan.long {
        on_air_after.push(comes_on_air(stage.publish_port).await?);
        stage.broadcast()?;
        if let Err(what) = watch.broadcast_begins().await {
            stage.broadcaster_stays()?;
            return Err(format!("{what}:\n{}", stage.log()));
        }
        gang.truce.store(false, Ordering::Relaxed);
        let shift = Duration::from_secs(noise.random_range(SHIFT_S)).min(plan.long.saturating_sub(began.elapsed()));
        let by = Instant::now() + shift;
        while Instant::now() < by {
            if by.duration_since(Instant::now()) < ANSWERED {
                gang.truce.store(true, Ordering::Relaxed);
            }
            sleep(Duration::from_millis(200)).await;
            stage.broadcaster_stays()?;
            watch.all_is_well()?;
        }
        let killed = noise.random_range(0..2) == 0;
        watch.broadcast_ends();
        if began.elapsed() < plan.long {
            stage.end_broadcast(killed);
        }
    }
    watch.ending();
    let ended_after = stage.end(ENDS).await?;
    watch.all_is_well()?;
    let attacks = gang.counted.lock().unwrap_or_else(PoisonError::into_inner).clone();
    cast.abort_all();
    stage.left_well()?;
    let (longest_silence, most_kb, most_descriptors) = watch.seen();
    Ok(Report { attacks, longest_silence, most_kb, most_descriptors, on_air_after, ended_after })
}
