//! What is kept on disk.
