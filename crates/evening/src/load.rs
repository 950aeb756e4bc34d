//! The load on a machine as plain data, second by second and by program.

use serde::{Deserialize, Serialize};

/// A machine, as long as it was looked at.
#[derive(Debug, Clone, PartialEq, Default, Serialize, Deserialize)]
pub struct Machine {
    /// Its name, if it is another machine of the same streamer; `None` is the one the moth runs on.
    pub host: Option<String>,
    /// The broadcaster's program, if it is known.
    pub broadcaster: Option<String>,
    /// Every other program that was the busiest of its second in anything.
    pub programs: Vec<String>,
    /// One for each second since the beginning.
    #[serde(skip)]
    pub loads: Vec<Load>,
}

/// A program, by its place among [`Machine::programs`], and its part of something.
pub type Part = (u16, f32);

/// A second's load. Shares are from 0 to 1; what was not known is `None`.
#[derive(Debug, Clone, Copy, PartialEq, Default)]
pub struct Load {
    /// Share of all cores in use.
    pub cpu: Option<f32>,
    /// Share of all cores that the broadcaster took.
    pub cpu_broadcaster: Option<f32>,
    /// The busiest other program's share of all cores.
    pub cpu_other: Option<Part>,
    /// Share of the GPU's rendering engine in use.
    pub gpu: Option<f32>,
    /// The other program that used it most.
    pub gpu_other: Option<Part>,
    /// Share of the GPU's encoder block in use.
    pub encode: Option<f32>,
    /// The other program that used it most.
    pub encode_other: Option<Part>,
    /// What other programs sent, in kb/s.
    pub uploads_kbps: Option<f32>,
    /// The one that sent most, and how much, in kb/s.
    pub upload: Option<Part>,
    /// Mean time a write to the disk took, in milliseconds.
    pub disk_write_ms: Option<f32>,
}

impl Machine {
    /// The place of a program, which is added if it is new.
    pub fn place(&mut self, program: &str) -> u16 {
        let found = self.programs.iter().position(|known| known == program);
        let place = found.unwrap_or_else(|| {
            self.programs.push(program.to_owned());
            self.programs.len() - 1
        });
        u16::try_from(place).unwrap_or(u16::MAX)
    }

    /// A program's name.
    #[must_use]
    pub fn program(&self, place: u16) -> &str {
        self.programs.get(usize::from(place)).map_or("another program", String::as_str)
    }
}
