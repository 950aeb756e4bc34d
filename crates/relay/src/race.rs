//! Which of a name's addresses answers first: one that never answers must not keep the others from being tried.

use std::io;
use std::net::SocketAddr;
use std::time::Duration;

use futures::StreamExt;
use futures::stream::FuturesUnordered;
use tokio::time::{Instant, timeout};

/// The next address is tried after this long without an answer (RFC 8305, section 5, recommends 250 ms), or at once after a refusal.
const NEXT: Duration = Duration::from_millis(250);

/// Tries the addresses, each a little after the one before; gives what the first that answers gave, and how long that took by
/// itself. If none does, what the last one said.
pub(crate) async fn race<T, F>(addresses: &[SocketAddr], connect: impl Fn(SocketAddr) -> F) -> io::Result<(T, Duration)>
where
    F: Future<Output = io::Result<T>>,
{
    let mut waiting = families_in_turn(addresses).into_iter();
    let mut tries = FuturesUnordered::new();
    let mut said = io::Error::from(io::ErrorKind::AddrNotAvailable);
    loop {
        if let Some(address) = waiting.next() {
            let trying = connect(address);
            tries.push(async move {
                let began = Instant::now();
                trying.await.map(|found| (found, began.elapsed()))
            });
        }
        let ended = if waiting.len() > 0 { timeout(NEXT, tries.next()).await } else { Ok(tries.next().await) };
        match ended {
            Ok(Some(Ok(found))) => return Ok(found),
            Ok(Some(Err(error))) => said = error,
            Ok(None) => return Err(said),
            Err(_) => {}
        }
    }
}

/// The families take turns, the one the resolver put first beginning (RFC 8305, section 4).
fn families_in_turn(addresses: &[SocketAddr]) -> Vec<SocketAddr> {
    let first = addresses.first().is_some_and(SocketAddr::is_ipv4);
    let (mut one, mut other): (Vec<SocketAddr>, Vec<SocketAddr>) =
        addresses.iter().rev().partition(|address| address.is_ipv4() == first);
    let mut in_turn = Vec::with_capacity(addresses.len());
    while in_turn.len() < addresses.len() {
        in_turn.extend(one.pop());
        in_turn.extend(other.pop());
    }
    in_turn
}

#[cfg(test)]
mod tests {
    use super::*;
    use tokio::time::sleep;

    const SIX: [&str; 2] = ["[2001:db8::1]:1935", "[2001:db8::2]:1935"];
    const FOUR: [&str; 2] = ["192.0.2.1:1935", "192.0.2.2:1935"];

    fn addresses(texts: &[&str]) -> Vec<SocketAddr> {
        texts.iter().map(|text| text.parse().unwrap()).collect()
    }

    fn ms(ms: u64) -> Duration {
        Duration::from_millis(ms)
    }

    #[test]
    fn families_take_turns() {
        let all = addresses(&[SIX[0], SIX[1], FOUR[0], FOUR[1]]);
        assert_eq!(families_in_turn(&all), addresses(&[SIX[0], FOUR[0], SIX[1], FOUR[1]]));
        assert_eq!(families_in_turn(&addresses(&FOUR)), addresses(&FOUR));
        assert!(families_in_turn(&[]).is_empty());
    }

    #[tokio::test(start_paused = true)]
    async fn an_address_that_never_answers_costs_a_quarter_of_a_second() {
        let began = Instant::now();
        let all = addresses(&[SIX[0], SIX[1], FOUR[0], FOUR[1]]);
        let answers = |address: SocketAddr| async move {
            sleep(if address.is_ipv4() { ms(30) } else { ms(100_000) }).await;
            Ok(address)
        };
        // What it took is its own round trip, and not the wait for the one before.
        assert_eq!(race(&all, answers).await.unwrap(), (FOUR[0].parse().unwrap(), ms(30)));
        assert_eq!(began.elapsed(), ms(280));
    }

    #[tokio::test(start_paused = true)]
    async fn after_a_refusal_the_next_is_tried_at_once_and_a_slow_one_may_still_win() {
        let began = Instant::now();
        let all = addresses(&[SIX[0], FOUR[0], SIX[1], FOUR[1]]);
        let slow = all[0];
        let answers = |address: SocketAddr| async move {
            match address {
                first if first == slow => sleep(ms(400)).await,
                _ => return Err(io::Error::from(io::ErrorKind::ConnectionRefused)),
            }
            Ok(address)
        };
        assert_eq!(race(&all, answers).await.unwrap(), (all[0], ms(400)));
        assert_eq!(began.elapsed(), ms(400));
    }

    #[tokio::test(start_paused = true)]
    async fn if_none_answers_the_last_word_is_told() {
        let refuses = |_| async { Err::<(), _>(io::Error::from(io::ErrorKind::ConnectionRefused)) };
        assert_eq!(race(&addresses(&FOUR), refuses).await.unwrap_err().kind(), io::ErrorKind::ConnectionRefused);
        assert_eq!(race(&[], refuses).await.unwrap_err().kind(), io::ErrorKind::AddrNotAvailable);
    }
}
