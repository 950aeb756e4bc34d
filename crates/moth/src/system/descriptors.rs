//! File descriptors: what listens takes few ([`crate::outlets::few`], the relay's lobby), and the limit is raised besides.

/// Many times what is ever open. Some programs that are begun walk over all that could be, and a system may allow a thousand
/// million. Ours.
#[cfg(unix)]
const ENOUGH: u64 = 8192;

/// Raises this process's limit on open files, as far as the system allows it. Some systems begin with 256.
#[cfg(unix)]
pub fn raise() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    if limit.current.is_none_or(|current| current >= ENOUGH) {
        return;
    }
    let raised = Rlimit { current: Some(limit.maximum.unwrap_or(ENOUGH).min(ENOUGH)), ..limit };
    if let Err(error) = setrlimit(Resource::Nofile, raised) {
        tracing::debug!(%error, "the limit on open files stays as it is");
    }
}

/// There is no such limit here.
#[cfg(not(unix))]
pub fn raise() {}
