//! Who is connected and does not publish yet: a few at a time, and the least promising makes room for a newcomer.

use std::sync::{Arc, Mutex, PoisonError};
use std::time::Duration;

use tokio::task::AbortHandle;
use tokio::time::Instant;

/// How far a guest has come. Who has said nothing is turned away before who has.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Progress {
    /// It is connected.
    Silent,
    /// It has said something.
    Speaks,
    /// What it said is the protocol's opening.
    Opened,
    /// It named the application it wants.
    Connected,
    /// It asked to publish, and waits for its turn.
    Asks,
    /// It publishes: it is no guest, takes no room, and is never turned away.
    Publishes,
}

/// Who has been here for so long and does not publish has had its turn, however far it came; whoever asked to is answered. Ours.
const TURN: Duration = Duration::from_secs(1);

#[derive(Debug)]
struct Guest {
    id: u64,
    came: Instant,
    progress: Progress,
    task: Option<AbortHandle>,
}

impl Guest {
    fn has_its_turn(&self) -> bool {
        self.progress >= Progress::Asks || self.came.elapsed() < TURN
    }
}

#[derive(Debug, Default)]
struct Inside {
    known: Vec<Guest>,
    next: u64,
}

impl Inside {
    fn guests(&self) -> impl Iterator<Item = &Guest> {
        self.known.iter().filter(|guest| guest.progress != Progress::Publishes)
    }
}

/// The place before publishing.
#[derive(Debug, Clone)]
pub struct Lobby {
    most: usize,
    inside: Arc<Mutex<Inside>>,
}

/// One guest's stay, which ends when it is dropped.
#[derive(Debug)]
pub struct Stay {
    id: u64,
    inside: Arc<Mutex<Inside>>,
}

impl Lobby {
    /// Room for so many.
    #[must_use]
    pub fn new(most: usize) -> Self {
        Self { most, inside: Arc::default() }
    }

    /// Serves a newcomer in a task of its own. With no room left, one is turned away: of those who have had their turn, else of
    /// all, who has come least far, and of them the oldest.
    /// Gives whether somebody was, once their descriptor is given back: of a crowd at the door no more are taken in at once.
    pub async fn welcome<F>(&self, serve: impl FnOnce(Stay) -> F) -> bool
    where
        F: Future<Output = ()> + Send + 'static,
    {
        let (id, turned_away) = {
            let mut inside = lock(&self.inside);
            let mut turned_away = false;
            // One that published and does so no more is a guest again: there may be more of them than there is room for.
            while inside.guests().count() >= self.most {
                let Some(least) = inside
                    .guests()
                    .min_by_key(|guest| (guest.has_its_turn(), guest.progress, guest.id))
                    .map(|guest| guest.id)
                else {
                    break;
                };
                for guest in inside.known.extract_if(.., |guest| guest.id == least) {
                    if let Some(task) = guest.task {
                        task.abort();
                    }
                    turned_away = true;
                }
            }
            let id = inside.next;
            inside.next += 1;
            inside.known.push(Guest { id, came: Instant::now(), progress: Progress::Silent, task: None });
            (id, turned_away)
        };
        let task = tokio::spawn(serve(Stay { id, inside: self.inside.clone() })).abort_handle();
        if let Some(guest) = lock(&self.inside).known.iter_mut().find(|guest| guest.id == id) {
            guest.task = Some(task);
        }
        if turned_away {
            tokio::task::yield_now().await;
        }
        turned_away
    }
}

impl Stay {
    /// The guest has come so far.
    pub fn progressed(&self, progress: Progress) {
        if let Some(guest) = lock(&self.inside).known.iter_mut().find(|guest| guest.id == self.id) {
            guest.progress = guest.progress.max(progress);
        }
    }

    /// It publishes no more, and is a guest like any other again.
    pub fn ended(&self) {
        if let Some(guest) = lock(&self.inside).known.iter_mut().find(|guest| guest.id == self.id) {
            guest.progress = Progress::Speaks;
        }
    }
}

impl Drop for Stay {
    fn drop(&mut self) {
        lock(&self.inside).known.retain(|guest| guest.id != self.id);
    }
}

fn lock(inside: &Mutex<Inside>) -> std::sync::MutexGuard<'_, Inside> {
    // Nothing that holds the lock can leave it half changed.
    inside.lock().unwrap_or_else(PoisonError::into_inner)
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::future::pending;
    use tokio::sync::mpsc::{UnboundedSender, unbounded_channel};

    /// Tells which guest was turned away, or left.
    struct Gone(u32, UnboundedSender<u32>);

    impl Drop for Gone {
        fn drop(&mut self) {
            let _ = self.1.send(self.0);
        }
    }

    #[tokio::test(start_paused = true)]
    async fn who_has_said_nothing_for_longest_makes_room() {
        let (tell, mut gone) = unbounded_channel();
        let lobby = Lobby::new(3);
        let come = |name: u32, progress: Option<Progress>| {
            let token = Gone(name, tell.clone());
            let lobby = lobby.clone();
            async move {
                lobby
                    .welcome(move |stay| async move {
                        if let Some(progress) = progress {
                            stay.progressed(progress);
                        }
                        let _both = (token, stay);
                        pending::<()>().await;
                    })
                    .await
            }
        };
        for (name, progress) in [(1, Some(Progress::Asks)), (2, None), (3, Some(Progress::Speaks))] {
            assert!(!come(name, progress).await);
        }
        tokio::task::yield_now().await;
        assert!(come(4, None).await, "somebody was turned away");
        assert_eq!(gone.recv().await, Some(2));
        for newcomer in 5..50 {
            assert!(come(newcomer, None).await);
            assert_eq!(
                gone.recv().await,
                Some(newcomer - 1),
                "who asks to publish is never pushed out by who is silent"
            );
        }
    }

    #[tokio::test(start_paused = true)]
    async fn who_publishes_takes_no_room_until_it_ends() {
        let (tell, mut gone) = unbounded_channel();
        let lobby = Lobby::new(2);
        let (end, ended) = tokio::sync::oneshot::channel::<()>();
        let token = Gone(1, tell.clone());
        let publishes = async |stay: Stay| {
            stay.progressed(Progress::Publishes);
            let _ = ended.await;
            stay.ended();
            let _both = (token, stay);
            pending::<()>().await;
        };
        assert!(!lobby.welcome(publishes).await);
        tokio::task::yield_now().await;
        let come = |name: u32| {
            let token = Gone(name, tell.clone());
            lobby.welcome(move |stay| async move {
                let _both = (token, stay);
                pending::<()>().await;
            })
        };
        assert!(!come(2).await && !come(3).await, "there is room for two beside it");
        end.send(()).unwrap();
        tokio::task::yield_now().await;
        assert!(come(4).await);
        let mut left = [gone.recv().await, gone.recv().await];
        left.sort();
        assert_eq!(left, [Some(2), Some(3)], "it has come further than they");
    }

    #[tokio::test(start_paused = true)]
    async fn who_has_come_far_and_stays_there_makes_room_for_who_has_just_come() {
        let (tell, mut gone) = unbounded_channel();
        let lobby = Lobby::new(2);
        let come = |name: u32, progress: Progress| {
            let token = Gone(name, tell.clone());
            lobby.welcome(move |stay| async move {
                stay.progressed(progress);
                let _both = (token, stay);
                pending::<()>().await;
            })
        };
        come(1, Progress::Connected).await;
        come(2, Progress::Asks).await;
        tokio::task::yield_now().await;
        tokio::time::advance(TURN).await;
        come(3, Progress::Silent).await;
        assert_eq!(gone.recv().await, Some(1));
        come(4, Progress::Silent).await;
        assert_eq!(gone.recv().await, Some(3), "who asks is answered");
    }

    #[tokio::test(start_paused = true)]
    async fn who_left_takes_no_room() {
        let lobby = Lobby::new(1);
        for _ in 0..10 {
            assert!(!lobby.welcome(|stay| async move { drop(stay) }).await);
            tokio::task::yield_now().await;
        }
    }
}
