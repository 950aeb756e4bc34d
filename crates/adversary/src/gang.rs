//! What everybody on the adversary's side shares.

use std::collections::BTreeMap;
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, PoisonError};

/// What everybody on the adversary's side shares.
#[derive(Debug, Clone)]
pub(crate) struct Gang {
    pub(crate) counted: Arc<Mutex<BTreeMap<&'static str, u64>>>,
    /// Nobody asks for the place on air while a new broadcaster does.
    pub(crate) truce: Arc<AtomicBool>,
}

impl Gang {
    pub(crate) fn did(&self, what: &'static str) {
        *self.counted.lock().unwrap_or_else(PoisonError::into_inner).entry(what).or_default() += 1;
    }

    pub(crate) fn keeps_truce(&self) -> bool {
        self.truce.load(Ordering::Relaxed)
    }
}
