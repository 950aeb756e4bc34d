//! What is on a screen, on paper: drawings as SVG, and as PDF made of the same SVG.
//!
//! The same data as tables is in [`table`]. A drawing's way: plain data ([`evening`]) → a drawing ([`lanes`]) on a [`sheet`] → a file ([`export`]). Nothing here knows a
//! terminal, a network or a clock.

pub mod evening;
pub mod export;
mod face;
pub mod lanes;
pub mod sheet;
pub mod table;
mod theme;
mod ticks;

pub use export::{ExportError, Format};
pub use face::width as text_width;
pub use sheet::Drawing;
pub use theme::Theme;
