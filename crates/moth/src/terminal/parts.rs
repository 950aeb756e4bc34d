//! Parts that screens are put together of. Each draws what it is given, and knows nothing of the rest.

pub(super) mod carried;
pub(super) mod climb;
pub(super) mod evening;
pub(super) mod evenings;
pub(super) mod fitness;
pub(super) mod foot;
pub(super) mod journey;
pub(super) mod lane;
pub(super) mod lanes;
pub(super) mod letters;
pub(super) mod load;
pub(super) mod machine_lanes;
pub(super) mod rehearsal_heading;
pub(super) mod rungs;
pub(super) mod scroll;
pub(super) mod sides;
pub(super) mod soak;
pub(super) mod time_view;
pub(super) mod trial;
pub(super) mod verdict;
pub(super) mod viewers;
pub(super) mod waiting;
