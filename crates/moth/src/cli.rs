//! The words of the command line.

use std::path::PathBuf;

use clap::{Args, Parser, Subcommand};

/// Watches a live broadcast, says where frames are lost and why, and mends it.
#[derive(Debug, Parser)]
#[command(name = "moth", version, max_term_width = 100)]
pub struct Cli {
    /// What to do.
    #[command(subcommand)]
    pub command: Command,
}

/// What to do.
#[derive(Debug, Subcommand)]
pub enum Command {
    /// Stand between a broadcaster and its server: relay, watch, judge and mend a real broadcast
    Watch(WatchOptions),
    /// The whole application on a made-up evening, with stand-ins for broadcaster, line, servers and machine
    Demo(DemoOptions),
}

/// `moth watch`
#[derive(Debug, Args)]
pub struct WatchOptions {
    /// The ingest server, rtmp://HOST[:PORT]/APP or rtmps://…; given again, further servers to move to
    ///
    /// The stream key is never part of it: that comes from --key-file or MOTH_STREAM_KEY.
    #[arg(long, value_name = "ADDRESS", required = true)]
    pub to: Vec<String>,

    /// A file that holds the stream key and nothing else (else MOTH_STREAM_KEY is used)
    #[arg(long, value_name = "FILE")]
    pub key_file: Option<PathBuf>,

    /// Where the broadcaster publishes to, with any local key
    #[arg(long, value_name = "ADDRESS", default_value = "rtmp://127.0.0.1:19350/moth")]
    pub listen: String,

    /// Drop frames once they have waited this long, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = 2000, value_parser = clap::value_parser!(u64).range(200..=30_000))]
    pub queue_ms: u64,

    /// Never let more than this wait, in MiB
    #[arg(long, value_name = "MIB", default_value_t = 16, value_parser = clap::value_parser!(u32).range(1..=512))]
    pub queue_mib: u32,

    /// How it is shown.
    #[command(flatten)]
    pub show: ShowOptions,
}

/// `moth demo`
#[derive(Debug, Args)]
pub struct DemoOptions {
    /// Which evening to put on
    #[arg(long, value_name = "SLUG", default_value = "archive-sync")]
    pub evening: String,

    /// Name the evenings there are
    #[arg(long)]
    pub list: bool,

    /// The seed of everything random in it
    #[arg(long, value_name = "NUMBER")]
    pub seed: Option<u64>,

    /// How it is shown.
    #[command(flatten)]
    pub show: ShowOptions,
}

/// How it is shown.
#[derive(Debug, Args)]
pub struct ShowOptions {
    /// No terminal: one JSON object per second on standard output (docs/snapshot.md)
    #[arg(long)]
    pub headless: bool,

    /// Stop after so many seconds
    #[arg(long = "for", value_name = "SECONDS", value_parser = clap::value_parser!(u64).range(1..=1_000_000))]
    pub run_for: Option<u64>,

    /// Write a log to this file (without it: standard error if --headless, else none)
    #[arg(long, value_name = "FILE")]
    pub log: Option<PathBuf>,
}
