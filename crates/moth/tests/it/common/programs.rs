//! The programs that the tests run, and where they are.

use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

/// Whether every program is there. Without one the test is skipped, loudly; under CI that is a failure.
/// `nginx-stream` is nginx's module of that name.
pub fn have(programs: &[&str]) -> bool {
    let path = std::env::var_os("PATH").unwrap_or_default();
    let found = |name: &str| {
        let in_path = || {
            std::env::split_paths(&path).chain(["/usr/sbin".into(), "/sbin".into()]).any(|dir| dir.join(name).is_file())
        };
        match name {
            "nginx-stream" => module("ngx_stream_module.so").is_some(),
            "node-media-server" => node_media_server().is_dir(),
            "pypi" => pypi().is_file(),
            "python3-gi" => python_with_gstreamer().is_some(),
            _ => in_path(),
        }
    };
    let missing: Vec<&&str> =
        programs.iter().filter(|p| !found(p) || (**p == "nginx" && rtmp_module().is_none())).collect();
    if missing.is_empty() {
        return true;
    }
    let what = format!("needs {missing:?} (nginx with its RTMP module); ./scripts/test installs them where it can");
    assert!(std::env::var_os("CI").is_none(), "this test {what}");
    eprintln!("\n*** SKIPPED: this test {what} ***\n");
    false
}

pub fn module(name: &str) -> Option<PathBuf> {
    let places = ["/usr/lib/nginx/modules", "/usr/lib64/nginx/modules", "/usr/share/nginx/modules"];
    places.iter().map(|place| Path::new(place).join(name)).find(|path| path.exists())
}

pub fn rtmp_module() -> Option<PathBuf> {
    module("ngx_rtmp_module.so")
}

/// A Python with the current ffmpeg and PyAV, which ./scripts/test installs from their registry.
fn pypi() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/tools/python/bin/python")
}

/// The current ffmpeg, as PyPI has it.
pub fn current_ffmpeg() -> PathBuf {
    let found = Command::new(concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/tools/python/bin/python"))
        .args(["-c", "import imageio_ffmpeg; print(imageio_ffmpeg.get_ffmpeg_exe())"])
        .output()
        .unwrap();
    PathBuf::from(String::from_utf8(found.stdout).unwrap().trim())
}

/// A second RTMP server, which ./scripts/test installs from its registry.
pub fn node_media_server() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/tools/node_modules/node-media-server")
}

/// A Python that has GStreamer: a system's own, where another stands before it in the path.
pub fn python_with_gstreamer() -> Option<&'static str> {
    let has = |python: &&str| {
        let words = "import gi; gi.require_version('Gst', '1.0'); from gi.repository import Gst";
        let tried = Command::new(python).args(["-c", words]).stderr(Stdio::null()).status();
        tried.is_ok_and(|status| status.success())
    };
    ["python3", "/usr/bin/python3"].into_iter().find(has)
}
