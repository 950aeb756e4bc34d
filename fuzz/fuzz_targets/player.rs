//! Whatever a server that is asked to play a broadcast says.
#![no_main]

moth_fuzz::client_session!(moth_rtmp::session::Player);
