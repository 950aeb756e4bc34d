//! `cargo run --release -p moth-keeping`: prints how well the keeper does.

use clap::Parser;
use moth_core::Moment;
use moth_keeping::contender::Keeping;
use moth_keeping::trace::{PER_SECOND, SECONDS, Trace};
use moth_keeping::tryout::try_out;
use moth_keeping::{Row, row, text, trace};
use rayon::prelude::*;

/// Broadcasts over line traces with the keeper and with others, and counts what came of it.
#[derive(Debug, Parser)]
struct Options {
    /// Traces of each of the families the keeper was tuned on.
    #[arg(long, default_value_t = 20)]
    traces: u64,
    /// Traces of each of the families held out.
    #[arg(long, default_value_t = 20)]
    held_out: u64,
    /// Traces of each of the test cases of others.
    #[arg(long, default_value_t = 20)]
    published: u64,
    /// The first seed; those held out begin nine million later, those of others as much later again.
    #[arg(long, default_value_t = 1)]
    seed: u64,
    /// Tell what the keeper did on one trace, by its number, instead.
    #[arg(long, value_name = "TRACE")]
    follow: Option<usize>,
}

fn main() {
    let options = Options::parse();
    let held_out = options.seed + 9_000_000;
    let mut traces = trace::traces(&trace::KNOWN, options.seed..options.seed + options.traces);
    traces.extend(trace::traces(&trace::HELD_OUT, held_out..held_out + options.held_out));
    let published = held_out + 9_000_000;
    traces.extend(trace::traces(&trace::PUBLISHED, published..published + options.published));
    if let Some(trace) = options.follow.and_then(|number| traces.get(number)) {
        return follow(trace);
    }
    let rows: Vec<Row> = traces.par_iter().map(row).collect();
    for (row, number) in rows.iter().zip(0_u32..) {
        let keeper = &row.results[0];
        let over = keeper.dropped;
        if over > 0.003 || keeper.worst_changes > 2 || row.is_steady && keeper.changes > 0 {
            let share = keeper.video_bits / row.clairvoyant_bits * 100.0;
            let (family, changes) = (row.family, keeper.changes);
            eprintln!("trace {number}, {family}: {:.2} % dropped, {changes} changes, {share:.0} %", over * 100.0);
        }
    }
    print!("{}", text(&rows));
}

/// Tells what the keeper did, beside what the line carried.
fn follow(trace: &Trace) {
    let mut keeper = Keeping::new(trace.ceiling_kbps);
    let result = try_out(trace, &mut keeper);
    println!("{}: ceiling {:.0} kb/s, buffer {:.0} ms", trace.family, trace.ceiling_kbps, trace.buffer_ms);
    let line = |second: u64| {
        let values = &trace.kbps[second as usize * PER_SECOND..(second as usize + 1) * PER_SECOND];
        values.iter().sum::<f64>() / values.len() as f64
    };
    let (mut marks, end) =
        (keeper.marks(Moment::from_ms(SECONDS as u64 * 1000)).into_iter().peekable(), SECONDS as u64);
    for second in (0..end).step_by(5) {
        println!("{second:4} s  line {:6.0} kb/s", line(second));
        while let Some(mark) = marks.next_if(|mark| mark.at.seconds() < (second + 5) as f64) {
            println!("          {:.1} s  {}", mark.at.seconds(), mark.text);
        }
    }
    println!("{:.2} % dropped, {} changes", result.dropped * 100.0, result.changes);
}
