//! How many screens a moth has at a time.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

/// Screens at a time. Ours: each draws a few times a second.
pub(crate) const MOST: usize = 10;

/// Screens that are there.
#[derive(Debug, Clone, Default)]
pub(crate) struct Guests(Arc<AtomicUsize>);

/// One of them, counted until it is gone.
pub(super) struct Guest(Guests);

impl Drop for Guest {
    fn drop(&mut self) {
        self.0.0.fetch_sub(1, Ordering::AcqRel);
    }
}

impl Guests {
    /// Whether nobody is there.
    pub(crate) fn is_empty(&self) -> bool {
        self.0.load(Ordering::Acquire) == 0
    }

    /// One more; `None` if there are as many as there may be.
    pub(super) fn come(&self) -> Option<Guest> {
        let come =
            self.0.fetch_update(Ordering::AcqRel, Ordering::Acquire, |there| (there < MOST).then_some(there + 1));
        come.ok().map(|_| Guest(self.clone()))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn so_many_come_in_and_who_leaves_makes_room() {
        let guests = Guests::default();
        let mut there: Vec<Guest> = (0..MOST).filter_map(|_| guests.come()).collect();
        assert_eq!((there.len(), guests.come().is_none()), (MOST, true));
        there.pop();
        assert!(guests.come().is_some());
    }
}
