//! What a key comes to.

use super::dialogs::Dialog;
use super::wish::Wish;

/// What a key comes to, beside what it changed in the model: any of these, or nothing.
#[derive(Debug, Default)]
pub(super) struct Reaction {
    /// Something to tell until the next key.
    pub notice: Option<String>,
    /// Something to lie over the screen and take the keys.
    pub dialog: Option<Dialog>,
    /// Something wanted from outside the screen.
    pub wish: Option<Wish>,
    /// Another screen to turn to, by its name.
    pub screen: Option<&'static str>,
}

impl Reaction {
    /// Nothing.
    pub(super) fn none() -> Self {
        Self::default()
    }

    /// Something is told.
    pub(super) fn tell(notice: impl Into<String>) -> Self {
        Self { notice: Some(notice.into()), ..Self::default() }
    }

    /// Something is told, or nothing.
    pub(super) fn telling(notice: Option<String>) -> Self {
        Self { notice, ..Self::default() }
    }

    /// Something lies over the screen.
    pub(super) fn open(dialog: Dialog) -> Self {
        Self { dialog: Some(dialog), ..Self::default() }
    }

    /// Something is wanted.
    pub(super) fn wish(wish: Wish) -> Self {
        Self { wish: Some(wish), ..Self::default() }
    }

    /// With something told.
    pub(super) fn and_tell(self, notice: impl Into<String>) -> Self {
        Self { notice: Some(notice.into()), ..self }
    }
}
