//! Trials: chance is hardly ever called help, and help is told.

use moth_core::trial::weigh::{LOOKS, LostSecond, Says, weigh};
use rand::{RngExt, SeedableRng};
use rand_pcg::Pcg64Mcg;

/// How frames are lost when nobody changes anything.
#[derive(Debug, Clone, Copy)]
enum Noise {
    /// Each frame by itself, at a rate.
    Even(f64),
    /// Short spikes, so many seconds apart on the mean.
    Spikes(f64),
    /// Bad and good stretches (E. N. Gilbert, *Bell System Technical Journal* 39, 1960), seconds on the mean.
    Stretches { bad: f64, good: f64 },
    /// A dip at a regular interval.
    Regular(usize),
}

/// Seconds of noise.
fn seconds(noise: Noise, count: usize, rng: &mut Pcg64Mcg) -> Vec<LostSecond> {
    let mut bad = false;
    let phase = rng.random_range(0..30_usize);
    let depth = rng.random_range(3..50_u32);
    let mut wait = 0.0;
    (0..count)
        .map(|second| {
            let lost = match noise {
                Noise::Even(rate) => (0..60).filter(|_| rng.random_bool(rate)).count() as u32,
                Noise::Spikes(apart) => {
                    wait -= 1.0;
                    if wait <= 0.0 {
                        wait = -apart * rng.random_range(0.001..1.0_f64).ln();
                        rng.random_range(5..60)
                    } else {
                        0
                    }
                }
                Noise::Stretches { bad: long, good } => {
                    if rng.random_bool(1.0 / if bad { long } else { good }) {
                        bad = !bad;
                    }
                    if bad { rng.random_range(1..=depth) } else { 0 }
                }
                Noise::Regular(each) => {
                    if (second + phase).is_multiple_of(each) {
                        depth
                    } else {
                        0
                    }
                }
            };
            LostSecond { due: 60, lost }
        })
        .collect()
}

/// One of the kinds of noise.
fn any_noise(rng: &mut Pcg64Mcg) -> Noise {
    match rng.random_range(0..4) {
        0 => Noise::Even(rng.random_range(0.0005..0.08)),
        1 => Noise::Spikes(rng.random_range(3.0..40.0)),
        2 => Noise::Stretches { bad: rng.random_range(1.5..6.0), good: rng.random_range(4.0..60.0) },
        _ => Noise::Regular(rng.random_range(4..30)),
    }
}

/// What a trial comes to: the first look that says something.
fn trial(before: &[LostSecond], after: &[LostSecond]) -> Says {
    let told = LOOKS.iter().map(|look| weigh(before, &after[..*look]).map_or(Says::Unclear, |w| w.says));
    told.into_iter().find(|says| *says != Says::Unclear).unwrap_or(Says::Unclear)
}

const CASES: u64 = 10_000;

#[test]
fn noise_alone_is_called_help_in_less_than_one_case_of_twenty() {
    // In trouble or at any time, and by the kind of noise.
    let mut called = [[0_u32; 2]; 6];
    for seed in 0..CASES {
        let mut rng = Pcg64Mcg::seed_from_u64(seed);
        let noise = any_noise(&mut rng);
        let all = seconds(noise, 400, &mut rng);
        // People change something while frames are being lost, not at any time.
        let in_trouble = seed % 2 == 0;
        let change = if in_trouble {
            (60..300).find(|second| all[second - 2..*second].iter().any(|s| s.lost > 0)).unwrap_or(60)
        } else {
            rng.random_range(60..300)
        };
        // What waits when the change is made is not counted.
        let says = trial(&all[..change], &all[change + 4..change + 64]);
        let kind = match noise {
            Noise::Even(_) => 2,
            Noise::Spikes(_) => 3,
            Noise::Stretches { .. } => 4,
            Noise::Regular(_) => 5,
        };
        for group in [usize::from(in_trouble), kind] {
            called[group][0] += 1;
            called[group][1] += u32::from(says == Says::Fewer);
        }
    }
    println!("cases and those called helped, at any time, in trouble, even, spikes, stretches, regular: {called:?}");
    for [cases, helped] in called {
        assert!(f64::from(helped) < 0.05 * f64::from(cases), "{helped} of {cases} called helped");
    }
}

#[test]
fn a_change_that_matters_is_told_within_a_minute_in_nine_of_ten_cases() {
    let (mut told, mut quickly) = (0_u32, 0_u32);
    for seed in 0..CASES {
        let mut rng = Pcg64Mcg::seed_from_u64(seed ^ 0xA5A5);
        // Half a minute or more of a trouble that takes at least one frame of a hundred, most of the time; then no more
        // than a fifth of it.
        let length = rng.random_range(32..=60);
        let noise = match rng.random_range(0..3) {
            0 => Noise::Even(rng.random_range(0.01..0.3)),
            1 => Noise::Stretches { bad: rng.random_range(4.0..20.0), good: rng.random_range(1.0..2.5) },
            _ => Noise::Regular(rng.random_range(2..=4)),
        };
        let mut before = vec![LostSecond { due: 60, lost: 0 }; 60];
        before.extend(seconds(noise, length, &mut rng));
        let left = rng.random_range(0.0..0.2);
        let after: Vec<LostSecond> = seconds(noise, 60, &mut rng)
            .into_iter()
            .map(|s| LostSecond { lost: (0..s.lost).filter(|_| rng.random_bool(left)).count() as u32, ..s })
            .collect();
        told += u32::from(trial(&before, &after) == Says::Fewer);
        quickly += u32::from(weigh(&before, &after[..LOOKS[1]]).unwrap().says == Says::Fewer);
    }
    println!("{told} of {CASES} told, {quickly} of them after {} s", LOOKS[1]);
    assert!(f64::from(told) > 0.9 * CASES as f64, "{told} of {CASES} told");
    assert!(f64::from(quickly) > 0.6 * CASES as f64, "{quickly} of {CASES} told after {} s", LOOKS[1]);
}

#[test]
fn a_change_that_did_nothing_is_not_called_help_and_mostly_told() {
    let mut told = 0_u32;
    for seed in 0..2000 {
        let mut rng = Pcg64Mcg::seed_from_u64(seed ^ 0x5A5A);
        let noise = Noise::Even(rng.random_range(0.02..0.3));
        let all = seconds(noise, 124, &mut rng);
        told += u32::from(trial(&all[..60], &all[64..]) == Says::NotFewer);
    }
    assert!(told > 1900, "{told} of 2000 told not to help");
}
