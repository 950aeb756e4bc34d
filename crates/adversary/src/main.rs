//! `cargo run -p moth-adversary -- --minutes 30`

#[cfg(not(unix))]
fn main() -> std::process::ExitCode {
    eprintln!("it knows signals and sockets of Unix only");
    std::process::ExitCode::from(2)
}

#[cfg(unix)]
fn main() -> std::process::ExitCode {
    command::run()
}

#[cfg(unix)]
mod command {
    use std::path::PathBuf;
    use std::process::ExitCode;
    use std::time::Duration;

    use clap::Parser;
    use moth_adversary::SiegePlan;

    /// Misbehaves around a real moth on every side at once, and looks whether the broadcast bears it. Build the moth first.
    #[derive(Debug, Parser)]
    struct Options {
        /// For so long in all.
        #[arg(long, default_value_t = 1.0)]
        minutes: f64,
        /// A new moth and a new seed after so many seconds.
        #[arg(long, default_value_t = 60.0)]
        each: f64,
        /// The first seed.
        #[arg(long, default_value_t = 1)]
        seed: u64,
        /// The moth's program (without it: the one built beside this).
        #[arg(long)]
        moth: Option<PathBuf>,
    }

    pub(super) fn run() -> ExitCode {
        let options = Options::parse();
        let beside = || std::env::current_exe().ok()?.parent().map(|dir| dir.join("moth"));
        let Some(moth) = options.moth.or_else(beside).filter(|moth| moth.exists()) else {
            eprintln!(
                "the moth's program is not there: build it first (`cargo build -p moth`), or name it with --moth"
            );
            return ExitCode::from(2);
        };
        let runs = (options.minutes * 60.0 / options.each).ceil().max(1.0) as u64;
        for seed in options.seed..options.seed + runs {
            let plan = SiegePlan {
                moth: moth.clone(),
                seed,
                long: Duration::from_secs_f64(options.each.clamp(5.0, 86_400.0)),
            };
            match moth_adversary::run(&plan) {
                Ok(report) => {
                    let slowest = report.on_air_after.iter().max().copied().unwrap_or_default();
                    println!(
                        "seed {seed}: borne. {} attacks of {} kinds; {} broadcasters, on air after {slowest:.1?} at the most; \
                     a line at the latest after {:.1?}; {} kB, {} files open at the most; ended after {:.1?}",
                        report.attacks.values().sum::<u64>(),
                        report.attacks.len(),
                        report.on_air_after.len(),
                        report.longest_silence,
                        report.most_kb,
                        report.most_descriptors,
                        report.ended_after
                    );
                }
                Err(why) => {
                    eprintln!("seed {seed}: {why}");
                    return ExitCode::FAILURE;
                }
            }
        }
        ExitCode::SUCCESS
    }
}
