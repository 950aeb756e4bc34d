//! Who looks at a broadcast's pictures while it goes by.

use bytes::Bytes;

use crate::recorder::Recorder;

/// Looks at pictures, and notes what it saw. The broadcast never waits for it.
pub trait Onlooker: Send + Sync {
    /// A video message of the broadcast on air, with its timestamp in milliseconds modulo 2³². Returns at once.
    fn video(&self, time_ms: u32, payload: &Bytes, recorder: &Recorder);
}
