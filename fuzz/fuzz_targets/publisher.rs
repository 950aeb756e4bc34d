//! Whatever a server that is asked to take a broadcast says.
#![no_main]

moth_fuzz::client_session!(moth_rtmp::session::Publisher);
