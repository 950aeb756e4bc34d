//! What is on a screen, on paper: drawings as SVG, as PDF made of the same SVG, and reports of several pages.
//!
//! The same data as tables is in [`table`]. A drawing's way: plain data ([`evening`], [`measured`], …) → a drawing ([`lanes`],
//! [`why`], …) on a `sheet` → a file ([`export`]). Nothing here knows a terminal, a network or a clock.
//!
//! ```
//! // A duration on a time axis, in seconds.
//! assert_eq!(moth_drawing::ticks::clock(75.0), "01:15");
//! // The width of a text in pixels, at a size of 12 pixels.
//! assert!(moth_drawing::text_width("frames", 12.0, false) > 20.0);
//! ```

pub mod climb;
pub mod comparison;
pub mod export;
mod face;
mod hatch;
pub mod journey;
mod lane;
pub mod lanes;
pub mod line;
pub mod machine;
mod over;
mod page;
mod paper;
pub mod picture;
pub mod report;
pub mod servers;
mod sheet;
pub mod summary;
pub mod table;
mod theme;
pub mod ticks;
mod time;
pub mod trial;
pub mod why;

pub use moth_evening::{evening, load, measured, names};

pub use export::{ExportError, Format};
pub use face::width as text_width;
pub use paper::Paper;
pub use sheet::Drawing;
pub use theme::Theme;
