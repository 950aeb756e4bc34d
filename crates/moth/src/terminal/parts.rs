//! Parts that screens are put together of. Each draws what it is given, and knows nothing of the rest.

pub(super) mod fitness;
pub(super) mod journey;
pub(super) mod lanes;
pub(super) mod load;
pub(super) mod time_view;
pub(super) mod trial;
pub(super) mod verdict;
pub(super) mod viewers;
