//! Where snapshots go beside the screen: the HTTP endpoint, and whoever is told of a verdict.

pub mod alarm;
pub mod endpoint;
mod few;
pub mod herald;
pub mod json_line;
pub mod line_printer;
pub mod metrics;
pub mod one_line;
mod openmetrics;

use std::net::SocketAddr;
use std::sync::Arc;

use moth_core::Snapshot;
use tokio::sync::watch;

use crate::cli::{AlarmOptions, ShowOptions};
use crate::failure::Failure;
use herald::{Bell, Herald};

/// What was asked for.
#[derive(Debug, Clone, Default)]
pub struct OutletPlan {
    serve: Option<SocketAddr>,
    serve_beyond: bool,
    alarm: AlarmOptions,
}

impl From<&ShowOptions> for OutletPlan {
    fn from(options: &ShowOptions) -> Self {
        Self { serve: options.serve, serve_beyond: options.serve_beyond, alarm: options.alarm.clone() }
    }
}

/// Where snapshots go.
#[derive(Default)]
pub struct Outlets {
    newest: Option<watch::Sender<Option<Arc<Snapshot>>>>,
    herald: Option<Herald>,
}

impl OutletPlan {
    /// Opens what was asked for. Call on a tokio runtime.
    ///
    /// # Errors
    /// If the endpoint cannot be opened.
    pub async fn open(self, bell: Bell) -> Result<Outlets, Failure> {
        let newest = match self.serve {
            Some(address) => {
                let (newest, to_serve) = watch::channel(None);
                endpoint::serve(address, self.serve_beyond, to_serve).await?;
                Some(newest)
            }
            None => None,
        };
        Ok(Outlets { newest, herald: Herald::new(&self.alarm, bell) })
    }
}

impl Outlets {
    /// Takes a snapshot. Nothing is waited for.
    pub fn take(&mut self, snapshot: &Arc<Snapshot>) {
        if let Some(herald) = &mut self.herald {
            herald.look(snapshot);
        }
        if let Some(newest) = &self.newest {
            newest.send_replace(Some(snapshot.clone()));
        }
    }
}
