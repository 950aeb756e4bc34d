//! Questions to the kernel over netlink (`netlink(7)`).

use std::fmt::Debug;
use std::io;

use netlink_packet_core::{
    NLM_F_DUMP, NLM_F_REQUEST, NetlinkDeserializable, NetlinkHeader, NetlinkMessage, NetlinkPayload,
    NetlinkSerializable,
};
use netlink_sys::{Socket, SocketAddr};

/// Room for one answer of the kernel, which sends at most 32 KiB at once. Ours.
const ANSWER_BYTES: usize = 64 << 10;
/// The kernel answers at once or not at all.
const WITHIN: std::time::Duration = std::time::Duration::from_secs(2);

/// Asks, and gives all answers. With `all` the question is for everything of its kind.
pub(crate) fn ask<T>(protocol: isize, question: impl Into<NetlinkPayload<T>>, all: bool) -> io::Result<Vec<T>>
where
    T: NetlinkSerializable + NetlinkDeserializable + Debug,
{
    let mut socket = Socket::new(protocol)?;
    socket.bind_auto()?;
    socket.connect(&SocketAddr::new(0, 0))?;
    let mut header = NetlinkHeader::default();
    header.flags = NLM_F_REQUEST | if all { NLM_F_DUMP } else { 0 };
    let mut message = NetlinkMessage::new(header, question.into());
    message.finalize();
    let mut bytes = vec![0; message.buffer_len()];
    message.serialize(&mut bytes);
    socket.send(&bytes, 0)?;
    limit_waiting(&socket)?;
    let mut answers = Vec::new();
    let mut answer = vec![0; ANSWER_BYTES];
    loop {
        let size = socket.recv(&mut &mut answer[..], 0)?;
        let mut rest = answer.get(..size).unwrap_or_default();
        while !rest.is_empty() {
            let message =
                NetlinkMessage::<T>::deserialize(rest).map_err(|error| io::Error::other(error.to_string()))?;
            // Messages begin at multiples of four bytes.
            let length = (message.header.length as usize).next_multiple_of(4);
            rest = rest.get(length.max(4)..).unwrap_or_default();
            match message.payload {
                NetlinkPayload::Done(_) => return Ok(answers),
                NetlinkPayload::Error(error) => return Err(error.to_io()),
                NetlinkPayload::InnerMessage(inner) => answers.push(inner),
                _ => {}
            }
        }
        if !all || size == 0 {
            return Ok(answers);
        }
    }
}

fn limit_waiting(socket: &Socket) -> io::Result<()> {
    use std::os::fd::{AsRawFd, BorrowedFd};
    // SAFETY: the descriptor is the socket's, which outlives the borrow.
    #[allow(unsafe_code)]
    let borrowed = unsafe { BorrowedFd::borrow_raw(socket.as_raw_fd()) };
    rustix::net::sockopt::set_socket_timeout(borrowed, rustix::net::sockopt::Timeout::Recv, Some(WITHIN))?;
    Ok(())
}
