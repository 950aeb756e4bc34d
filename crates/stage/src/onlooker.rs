//! Looks at the stand-in broadcaster's pictures, which are small, at once: an evening on a paused clock waits for nobody.

use std::sync::{Mutex, PoisonError};

use bytes::Bytes;
use moth_core::figure::Origin;
use moth_core::reading::Observation;
use moth_picture::Eye;
use moth_relay::{Onlooker, Recorder};

#[derive(Default)]
pub(crate) struct DirectOnlooker(Mutex<Eye>);

impl Onlooker for DirectOnlooker {
    fn video(&self, time_ms: u32, payload: &Bytes, recorder: &Recorder) {
        // An eye that was left half way begins anew at the next keyframe.
        let seen = self.0.lock().unwrap_or_else(PoisonError::into_inner).take(time_ms, payload);
        match seen {
            Ok(Some(change)) => recorder.note(Origin::Measured, Observation::Picture(change)),
            Ok(None) => {}
            Err(blind) => recorder.note(Origin::Measured, Observation::Unseen { why: blind.to_string() }),
        }
    }
}
