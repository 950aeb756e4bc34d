//! File descriptors: what listens takes few ([`crate::few`], the relay's lobby), and the limit is raised besides.

/// Raises this process's limit on open files to what the system allows it. Some systems begin with 256.
#[cfg(unix)]
pub fn raise() {
    use rustix::process::{Resource, Rlimit, getrlimit, setrlimit};
    let limit = getrlimit(Resource::Nofile);
    let raised = Rlimit { current: limit.maximum, ..limit };
    if let Err(error) = setrlimit(Resource::Nofile, raised) {
        tracing::debug!(%error, "the limit on open files stays as it is");
    }
}

/// There is no such limit here.
#[cfg(not(unix))]
pub fn raise() {}
