//! The simple handshake (section 5.2): C0 C1 C2 against S0 S1 S2.
//!
//! Neither side checks the other's random bytes: real peers send digests, zeros or stale copies there,
//! and nothing depends on them.

use bytes::{Buf, BytesMut};

/// Bytes in each of C1, C2, S1 and S2.
pub const PACKET_BYTES: usize = 1536;
/// The only version in use.
const VERSION: u8 = 3;

/// Why the opening bytes are not RTMP.
#[derive(Debug, Clone, Copy, PartialEq, Eq, thiserror::Error)]
pub enum HandshakeError {
    /// The first byte is not version 3.
    #[error("the first byte is {0:#04x}, not RTMP's version 3: whatever this is, it is not an RTMP peer")]
    Version(u8),
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Awaiting {
    Greeting,
    Echo,
    Done,
}

/// One side of a handshake.
#[derive(Debug)]
pub struct Handshake {
    awaiting: Awaiting,
    client: bool,
}

impl Handshake {
    /// The server's side: it speaks when spoken to.
    #[must_use]
    pub fn server() -> Self {
        Self { awaiting: Awaiting::Greeting, client: false }
    }

    /// The client's side; C0 and C1 are appended to `out` at once.
    #[must_use]
    pub fn client(out: &mut BytesMut) -> Self {
        out.extend_from_slice(&greeting());
        Self { awaiting: Awaiting::Greeting, client: true }
    }

    /// Takes what it can from `input`, appends what must be sent to `out`, and tells whether the
    /// handshake is over; what is left in `input` is then chunks.
    ///
    /// # Errors
    /// [`HandshakeError`] if the peer does not speak RTMP.
    pub fn advance(&mut self, input: &mut BytesMut, out: &mut BytesMut) -> Result<bool, HandshakeError> {
        loop {
            match self.awaiting {
                Awaiting::Greeting => {
                    // The version is looked at as soon as it is there: garbage should not have to fill a packet.
                    match input.first() {
                        Some(&version) if version != VERSION => return Err(HandshakeError::Version(version)),
                        _ if input.len() < 1 + PACKET_BYTES => return Ok(false),
                        _ => {}
                    }
                    input.advance(1);
                    let packet = input.split_to(PACKET_BYTES);
                    if !self.client {
                        out.extend_from_slice(&greeting());
                    }
                    out.extend_from_slice(&packet);
                    self.awaiting = Awaiting::Echo;
                }
                Awaiting::Echo => {
                    if input.len() < PACKET_BYTES {
                        return Ok(false);
                    }
                    input.advance(PACKET_BYTES);
                    self.awaiting = Awaiting::Done;
                }
                Awaiting::Done => return Ok(true),
            }
        }
    }
}

/// Version, a zero time and zero version field (which asks for the simple handshake), and filling.
/// The filling is arbitrary by section 5.2.3, so it need not be random.
fn greeting() -> [u8; 1 + PACKET_BYTES] {
    let mut bytes = [0; 1 + PACKET_BYTES];
    bytes[0] = VERSION;
    for (i, byte) in bytes.iter_mut().enumerate().skip(9) {
        *byte = (i * 31 % 251) as u8;
    }
    bytes
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_sides_finish_however_the_bytes_are_split() {
        for step in [1, 7, 1536, 5000] {
            let (mut to_server, mut to_client) = (BytesMut::new(), BytesMut::new());
            let mut client = Handshake::client(&mut to_server);
            let mut server = Handshake::server();
            let (mut at_server, mut at_client) = (BytesMut::new(), BytesMut::new());
            let (mut server_done, mut client_done) = (false, false);
            for _ in 0..20_000 {
                if !to_server.is_empty() {
                    at_server.extend_from_slice(&to_server.split_to(step.min(to_server.len())));
                    server_done = server.advance(&mut at_server, &mut to_client).unwrap();
                }
                if !to_client.is_empty() {
                    at_client.extend_from_slice(&to_client.split_to(step.min(to_client.len())));
                    client_done = client.advance(&mut at_client, &mut to_server).unwrap();
                }
            }
            assert!(server_done && client_done, "in steps of {step}");
            assert!(at_server.is_empty() && at_client.is_empty());
        }
    }

    #[test]
    fn something_else_is_recognised_by_its_first_byte() {
        let mut input = BytesMut::from(&b"GET / HTTP/1.1\r\n"[..]);
        let error = Handshake::server().advance(&mut input, &mut BytesMut::new()).unwrap_err();
        assert_eq!(error, HandshakeError::Version(b'G'));
    }
}
