//! What is decided before going live. No I/O, no clock, no interface: measurements and wishes in, advice out.
//!
//! - [`service`]: where one broadcasts to, and what it takes.
//! - [`setup`]: a named set of choices.
//! - [`measurement`]: from looks at a busy connection to what it carried.
//! - [`line`]: what the line can do, in plain words.
//! - [`surroundings`]: the interface in use and who else uploads.
//! - [`ranking`]: servers in the order of what they can hold, and whose fault it is when they cannot.
//! - [`budget`]: the bitrate to use, and what binds it.
//! - [`picture`]: sizes and rates by bits per pixel.
//! - [`breach`]: what of a setup the service does not take.
//! - [`check`]: is this machine fit for a broadcast.
//! - [`conversation`]: talking with viewers against the finest picture.
//! - [`viewers`]: what it takes to watch it.
//!
//! ```
//! use moth_plan::text::Size;
//!
//! let size: Size = "1280x720".parse()?;
//! assert_eq!(size.pixels(), 921_600.0);
//! # Ok::<(), Box<dyn std::error::Error>>(())
//! ```

pub mod breach;
pub mod budget;
pub mod check;
pub mod conversation;
pub mod headroom;
pub mod line;
pub mod measurement;
pub mod picture;
pub mod ranking;
pub mod service;
pub mod setup;
pub mod surroundings;
pub mod text;
pub mod viewers;
