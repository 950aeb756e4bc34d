//! NVIDIA GPUs, which tell the kernel nothing of their load: through the vendor's library, loaded when it is there.

use std::fs;
use std::path::Path;

use nvml_wrapper::Nvml;
use nvml_wrapper::struct_wrappers::device::ProcessUtilizationSample;

use crate::gpu::GpuShares;
use crate::programs::program;

/// The vendor's library, if there is a GPU for it.
#[derive(Debug, Default)]
pub(crate) enum Nvidia {
    /// Not looked for yet.
    #[default]
    Unknown,
    /// There is no such GPU, or no library for it.
    Absent,
    /// It answers.
    Here(Box<Nvml>, u64),
}

impl Nvidia {
    /// The engines' shares lately; `None` without such a GPU.
    pub(crate) fn look(&mut self, proc: &Path, but: &[i32]) -> Option<GpuShares> {
        if matches!(self, Self::Unknown) {
            // The library is loaded only where the kernel's driver is: its absence would otherwise be searched for in vain.
            *self = match is_there(proc).then(Nvml::init) {
                Some(Ok(library)) => Self::Here(Box::new(library), 0),
                Some(Err(_)) | None => Self::Absent,
            };
        }
        let Self::Here(library, seen) = self else { return None };
        let device = library.device_by_index(0).ok()?;
        let percent = |value: u32| f64::from(value) / 100.0;
        // With nothing new to tell it says that it found none, which is no failure.
        let samples = device.process_utilization_stats(*seen).unwrap_or_default();
        *seen = samples.iter().map(|sample| sample.timestamp).max().unwrap_or(*seen);
        let busiest = |share: fn(&ProcessUtilizationSample) -> u32| {
            let of = samples.iter().filter_map(|s| Some((i32::try_from(s.pid).ok()?, share(s))));
            let (pid, share) =
                of.filter(|(pid, share)| *share > 0 && !but.contains(pid)).max_by_key(|(_, share)| *share)?;
            Some((program(proc, pid)?.name, percent(share)))
        };
        Some(GpuShares {
            render: device.utilization_rates().ok().map(|rates| percent(rates.gpu)),
            video: device.encoder_utilization().ok().map(|encoder| percent(encoder.utilization)),
            render_other: busiest(|s| s.sm_util),
            video_other: busiest(|s| s.enc_util),
        })
    }
}

/// Whether the kernel's driver for such a GPU is loaded.
fn is_there(proc: &Path) -> bool {
    fs::read_dir(proc.join("driver/nvidia/gpus")).is_ok_and(|mut gpus| gpus.next().is_some())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn without_the_driver_the_library_is_not_looked_for_and_without_the_library_nothing_is_told() {
        let dir = tempfile::tempdir().unwrap();
        assert!(!is_there(dir.path()));
        assert_eq!(Nvidia::default().look(dir.path(), &[]), None);
        let gpu = dir.path().join("driver/nvidia/gpus/0000:01:00.0");
        fs::create_dir_all(&gpu).unwrap();
        fs::write(gpu.join("information"), "Model: \t\t a made-up GPU\n").unwrap();
        assert!(is_there(dir.path()));
        let mut nvidia = Nvidia::default();
        if nvidia.look(dir.path(), &[]).is_none() {
            assert!(matches!(nvidia, Nvidia::Absent), "and it is not tried again each second");
        }
    }
}
