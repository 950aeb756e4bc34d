use std::time::Duration;

use proptest::prelude::*;

use super::*;
use crate::packet::Medium;

fn video(role: Role, time_ms: u32, bytes: usize) -> Packet {
    Packet { role, medium: Medium::Video, track: None, time_ms, payload: vec![0; bytes].into() }
}

fn audio(time_ms: u32) -> Packet {
    Packet { role: Role::Audio, medium: Medium::Audio, track: None, time_ms, payload: vec![0; 4].into() }
}

fn header(slot: HeaderSlot, mark: u8) -> Packet {
    let medium = if slot == HeaderSlot::Video { Medium::Video } else { Medium::Audio };
    Packet { role: Role::Header(slot), medium, track: None, time_ms: 0, payload: vec![mark].into() }
}

/// A server that decodes: it knows whether each frame's predecessors came.
#[derive(Default)]
struct Decoder {
    /// Numbers of the frames that others depend on, as offered.
    last_reference: Option<u32>,
    shown: Vec<u32>,
}

impl Decoder {
    /// `predecessor` is the last offered frame that others depend on, before this one.
    fn take(&mut self, role: Role, number: u32, predecessor: Option<u32>) {
        if role.depends() {
            assert_eq!(self.last_reference, predecessor, "frame {number} was sent without what it depends on");
        }
        if role != Role::Disposable {
            self.last_reference = Some(number);
        }
        self.shown.push(number);
    }
}

#[derive(Debug, Clone)]
enum Step {
    Offer(Role, usize),
    Send(usize),
    Acknowledge(usize),
    Lose,
    Wait(u64),
}

fn any_step() -> impl Strategy<Value = Step> {
    prop_oneof![
        1 => (10..6000_usize).prop_map(|b| Step::Offer(Role::Keyframe, b)),
        8 => (10..2000_usize).prop_map(|b| Step::Offer(Role::Inter, b)),
        4 => (10..900_usize).prop_map(|b| Step::Offer(Role::Disposable, b)),
        5 => Just(Step::Offer(Role::Audio, 4)),
        6 => (1..6_usize).prop_map(Step::Send),
        4 => (1..6_usize).prop_map(Step::Acknowledge),
        1 => Just(Step::Lose),
        6 => (1..120_u64).prop_map(Step::Wait),
    ]
}

proptest! {
    #[test]
    fn every_frame_is_in_one_account_and_what_is_sent_decodes(steps in prop::collection::vec(any_step(), 0..400)) {
        let limits = Limits { queue_ms: 300, queue_bytes: 12_000 };
        let mut exchange = Exchange::new(limits);
        let mut now = Moment::START;
        let mut predecessors = Vec::new();
        let mut reference = None;
        let mut decoder = Decoder::default();
        let mut in_flight: VecDeque<Role> = VecDeque::new();
        for step in steps {
            match step {
                Step::Offer(Role::Audio, _) => exchange.offer(audio(0), now),
                Step::Offer(role, bytes) => {
                    let number = u32::try_from(predecessors.len()).unwrap();
                    exchange.offer(video(role, number, bytes), now);
                    predecessors.push(reference);
                    if role != Role::Disposable {
                        reference = Some(number);
                    }
                    prop_assert!(exchange.queued_bytes <= limits.queue_bytes);
                    prop_assert!(exchange.age_ms(now) <= 2 * limits.queue_ms);
                }
                Step::Send(count) => for _ in 0..count {
                    let Some(out) = exchange.next(now) else { break };
                    if out.role.is_video_frame() {
                        let number = out.time_ms;
                        decoder.take(out.role, number, predecessors[number as usize]);
                    }
                    in_flight.push_back(out.role);
                },
                Step::Acknowledge(count) => for _ in 0..count {
                    if let Some(role) = in_flight.pop_front() { exchange.delivered(role) }
                },
                Step::Lose => {
                    for role in in_flight.drain(..) { exchange.cut_off(role) }
                    exchange.begin_again();
                    decoder = Decoder::default();
                }
                Step::Wait(ms) => now = Moment::after(now.since(Moment::START) + Duration::from_millis(ms)),
            }
            let accounts = exchange.accounts();
            prop_assert!(accounts.video.balances() && accounts.audio.balances());
            let waiting = |audio: bool| {
                let here = exchange.queue.iter().map(|i| i.packet.role).chain(in_flight.iter().copied());
                here.filter(|r| if audio { *r == Role::Audio } else { r.is_video_frame() }).count() as u64
            };
            prop_assert_eq!(accounts.video.queued, waiting(false));
            prop_assert_eq!(accounts.audio.queued, waiting(true));
        }
        prop_assert!(decoder.shown.is_sorted());
    }
}

proptest! {
    /// A queue that is never over its limits drops nothing: all comes out, unchanged and in order, from the first keyframe on.
    #[test]
    fn what_fits_is_never_dropped(
        roles in prop::collection::vec(prop::sample::select(vec![
            Role::Keyframe, Role::Inter, Role::Inter, Role::Disposable, Role::Audio, Role::Note, Role::Header(HeaderSlot::Video),
        ]), 1..200),
        sent_each in 1..8_usize,
    ) {
        let mut exchange = Exchange::new(Limits { queue_ms: 300, queue_bytes: 12_000 });
        let (mut offered, mut sent) = (Vec::new(), Vec::new());
        let first = std::iter::once(&Role::Keyframe);
        for (n, role) in (0_u32..).zip(first.chain(&roles)) {
            let packet = match role {
                Role::Audio => audio(n),
                Role::Note => note(n),
                Role::Header(slot) => Packet { time_ms: n, ..header(*slot, 7) },
                role => video(*role, n, 100),
            };
            let now = Moment::from_ms(u64::from(n) * 20);
            offered.push(packet.clone());
            exchange.offer(packet, now);
            // The rest is sent every few frames, long before any is too old.
            if (n as usize).is_multiple_of(sent_each) {
                sent.extend(std::iter::from_fn(|| exchange.next(now)));
            }
        }
        sent.extend(std::iter::from_fn(|| exchange.next(Moment::from_ms(roles.len() as u64 * 20))));
        prop_assert_eq!(sent, offered);
        prop_assert_eq!((exchange.accounts().video.dropped, exchange.accounts().audio.dropped), (0, 0));
    }
}

/// Offers one frame every 20 ms, a keyframe each 50th, every third other disposable; nothing is sent.
fn offer_seconds(exchange: &mut Exchange, from_ms: u64, seconds: u64) -> Moment {
    let mut now = Moment::from_ms(from_ms);
    for n in 0..seconds * 50 {
        now = Moment::from_ms(from_ms + n * 20);
        let role = match n % 50 {
            0 => Role::Keyframe,
            m if m % 3 == 0 => Role::Disposable,
            _ => Role::Inter,
        };
        exchange.offer(video(role, u32::try_from(from_ms + n * 20).unwrap(), 100), now);
        exchange.offer(audio(u32::try_from(from_ms + n * 20).unwrap()), now);
    }
    now
}

/// The fewest frames that can go so that no dependent frame is older than the limit and what stays decodes: every choice is tried.
fn fewest_to_drop(queue: &[(Role, u64)], limit_ms: u64) -> u32 {
    let stays = |index: usize, dropped: u32| dropped & (1 << index) == 0;
    (0..1_u32 << queue.len())
        .filter(|dropped| {
            let mut decodes = true;
            queue.iter().enumerate().all(|(index, (role, age_ms))| {
                if !stays(index, *dropped) {
                    decodes &= !matches!(role, Role::Keyframe | Role::Inter);
                    // Keyframes and sound are not what is dropped for its age.
                    return role.depends();
                }
                decodes |= *role == Role::Keyframe;
                !role.depends() || decodes && *age_ms <= limit_ms
            })
        })
        .map(u32::count_ones)
        .min()
        .expect("everything may be dropped")
}

proptest! {
    /// All came while nothing waited too long; then time passes, and one more comes.
    #[test]
    fn no_more_is_dropped_than_brings_the_age_down(
        roles in prop::collection::vec(prop::sample::select(vec![
            Role::Keyframe, Role::Inter, Role::Inter, Role::Disposable, Role::Disposable, Role::Audio,
        ]), 1..12),
        apart_ms in 1..90_u64,
        passes_ms in 0..1100_u64,
    ) {
        let limits = Limits { queue_ms: 1000, queue_bytes: 1 << 20 };
        let mut exchange = Exchange::new(limits);
        // A keyframe that is sent already: what comes first can be decoded.
        exchange.offer(video(Role::Keyframe, 0, 50), Moment::START);
        exchange.next(Moment::START);
        for (n, role) in roles.iter().enumerate() {
            let at_ms = n as u64 * apart_ms;
            let packet = if *role == Role::Audio { audio(0) } else { video(*role, u32::try_from(n).unwrap(), 50) };
            exchange.offer(packet, Moment::from_ms(at_ms));
        }
        prop_assert_eq!(exchange.accounts().video.dropped, 0);
        let now = Moment::from_ms((roles.len() as u64 - 1) * apart_ms + passes_ms);
        let queue: Vec<(Role, u64)> =
            exchange.queue.iter().map(|item| (item.packet.role, now.since(item.came).as_millis() as u64)).collect();
        let best = fewest_to_drop(&queue, limits.queue_ms);
        exchange.offer(audio(0), now);
        let dropped = exchange.accounts().video.dropped;
        // Where no keyframe is behind one that others need, the best is to drop all there is: then none goes but for one that comes.
        let needed = queue.iter().rposition(|(role, age_ms)| *role == Role::Inter && *age_ms > limits.queue_ms);
        let is_all = needed.is_some_and(|last| queue[last..].iter().all(|(role, _)| *role != Role::Keyframe));
        if is_all {
            prop_assert!(dropped <= u64::from(best), "{} of {}: {:?}", dropped, best, queue);
        } else {
            prop_assert_eq!(dropped, u64::from(best), "{:?}", queue);
            prop_assert!(!exchange.waits_too_long(now));
        }
    }
}

/// Offers of a broadcast at 60 pictures a second, a keyframe every 60th, every other one disposable, a quarter of them sent.
#[test]
fn a_thin_line_loses_the_rest_of_a_group_and_no_fresh_frame_of_the_next() {
    let mut exchange = Exchange::new(Limits { queue_ms: 900, queue_bytes: 1 << 20 });
    let mut before = 0;
    for n in 0..110_u32 {
        let role = match n % 60 {
            0 => Role::Keyframe,
            m if m % 2 == 1 => Role::Disposable,
            _ => Role::Inter,
        };
        let now = Moment::from_ms(u64::from(n) * 1000 / 60);
        exchange.offer(video(role, n, 100), now);
        if n % 4 == 0 && n < 40 {
            exchange.next(now);
        }
        if n == 90 {
            before = exchange.accounts().video.dropped;
        }
    }
    // Of the first group (50 pictures that waited) everything went when its oldest had to; of the second, nothing.
    assert!((40..=50).contains(&before), "{before}");
    assert_eq!(exchange.queue.iter().filter(|item| item.packet.time_ms >= 60).count(), 50);
}

#[test]
fn with_no_keyframe_behind_what_nobody_needs_makes_room_one_by_one_then_the_end_is_cut_and_sound_stays() {
    let mut exchange = Exchange::new(Limits { queue_ms: 900, queue_bytes: 1 << 20 });
    offer_seconds(&mut exchange, 0, 1);
    // The oldest inter frame, of 20 ms, was over the limit when three more came: for each, one that nobody needs went.
    let waits = |exchange: &Exchange, role| exchange.queue.iter().filter(|item| item.packet.role == role).count();
    assert_eq!((waits(&exchange, Role::Disposable), waits(&exchange, Role::Inter)), (16 - 3, 33));
    assert_eq!(exchange.accounts().audio.dropped, 0);
    // With none of those left, the group ends, and nothing that waits goes for what came behind its end.
    for n in 50..90_u32 {
        exchange.offer(video(Role::Inter, n * 20, 100), Moment::from_ms(u64::from(n) * 20));
    }
    assert_eq!((waits(&exchange, Role::Disposable), waits(&exchange, Role::Inter)), (0, 33 + 13));
    let end = exchange.queue.iter().rfind(|item| item.packet.role == Role::Inter).map(|item| item.packet.time_ms);
    assert_eq!(end, Some(62 * 20));
    offer_seconds(&mut exchange, 1800, 1);
    // Now a keyframe follows: the first group is gone, the second is there.
    let first_video = exchange.queue.iter().find(|i| i.packet.role.is_video_frame()).unwrap();
    assert_eq!(first_video.packet.time_ms, 1800);
}

#[test]
fn every_track_has_headers_of_its_own_and_a_new_connection_gets_them_all() {
    let mut exchange = Exchange::new(Limits { queue_ms: 2000, queue_bytes: 1 << 20 });
    let track = |slot, track, mark| Packet { track, ..header(slot, mark) };
    let old = track(HeaderSlot::Video, Some(1), 3);
    let headers = [
        header(HeaderSlot::Video, 1),
        track(HeaderSlot::Video, Some(1), 4),
        header(HeaderSlot::Audio, 2),
        track(HeaderSlot::Audio, Some(1), 5),
    ];
    for packet in [&[old], &headers[..]].concat() {
        exchange.offer(packet, Moment::START);
    }
    let now = offer_seconds(&mut exchange, 0, 1);
    assert_eq!(exchange.accounts().video.offered, 50, "headers are no frames");
    while exchange.next(now).is_some() {}
    let now = offer_seconds(&mut exchange, 1000, 1);
    exchange.begin_again();
    let sent: Vec<Packet> = std::iter::from_fn(|| exchange.next(now)).collect();
    let payloads = |packets: &[Packet]| packets.iter().map(|p| p.payload.clone()).collect::<Vec<_>>();
    assert_eq!(payloads(&sent[..4]), payloads(&headers));
}

#[test]
fn what_waits_can_be_thrown_away_and_what_follows_begins_at_a_keyframe() {
    let mut exchange = Exchange::new(Limits { queue_ms: 9000, queue_bytes: 1 << 20 });
    exchange.offer(header(HeaderSlot::Video, 1), Moment::START);
    offer_seconds(&mut exchange, 0, 2);
    exchange.drop_what_waits();
    let accounts = exchange.accounts();
    assert_eq!((accounts.video.dropped, accounts.video.queued, accounts.audio.queued), (100, 0, 0));
    // In the middle of a group nothing could be shown; the header that waited is still sent first.
    let inter = video(Role::Inter, 2000, 100);
    exchange.offer(inter, Moment::from_ms(2000));
    let now = offer_seconds(&mut exchange, 3000, 1);
    let sent: Vec<Packet> = std::iter::from_fn(|| exchange.next(now)).collect();
    assert_eq!((sent[0].role, sent[1].role), (Role::Header(HeaderSlot::Video), Role::Keyframe));
    assert_eq!(sent[1].time_ms, 3000);
    assert_eq!(exchange.accounts().video.dropped, 101);
}

#[test]
fn an_outage_keeps_the_newest_and_begins_at_a_keyframe_with_headers() {
    let mut exchange = Exchange::new(Limits { queue_ms: 2000, queue_bytes: 1 << 20 });
    exchange.offer(header(HeaderSlot::Video, 1), Moment::START);
    exchange.offer(header(HeaderSlot::Audio, 2), Moment::START);
    assert_eq!(exchange.next(Moment::START).unwrap().role, Role::Header(HeaderSlot::Video));
    assert_eq!(exchange.next(Moment::START).unwrap().role, Role::Header(HeaderSlot::Audio));
    let now = offer_seconds(&mut exchange, 0, 9);
    exchange.begin_again();
    let sent: Vec<Packet> = std::iter::from_fn(|| exchange.next(now)).collect();
    assert_eq!(sent[0].role, Role::Header(HeaderSlot::Video));
    assert_eq!(sent[0].payload, header(HeaderSlot::Video, 1).payload);
    assert_eq!(sent[1].role, Role::Header(HeaderSlot::Audio));
    assert_eq!(sent[2].role, Role::Keyframe);
    assert!(sent[2].time_ms >= 6000, "not older than the limit: {:?}", sent[2].time_ms);
    assert_eq!(sent[0].time_ms, sent[2].time_ms);
    let accounts = exchange.accounts();
    assert_eq!(accounts.video.offered, 450);
    assert_eq!(accounts.video.queued, sent.iter().filter(|o| o.role.is_video_frame()).count() as u64);
}

#[test]
fn a_header_changed_while_away_is_the_one_sent_again() {
    let mut exchange = Exchange::new(Limits::default());
    exchange.offer(header(HeaderSlot::Video, 1), Moment::START);
    exchange.offer(video(Role::Keyframe, 0, 50), Moment::START);
    exchange.offer(header(HeaderSlot::Video, 9), Moment::START);
    exchange.offer(video(Role::Keyframe, 20, 50), Moment::START);
    exchange.begin_again();
    // It begins at the first keyframe, with the header in force there; the newer header follows in its place.
    let marks: Vec<u8> = std::iter::from_fn(|| exchange.next(Moment::START)).map(|packet| packet.payload[0]).collect();
    assert_eq!(marks, [1, 0, 9, 0]);
}

#[test]
fn a_keyframe_larger_than_the_queue_is_dropped_and_the_next_one_serves() {
    let mut exchange = Exchange::new(Limits { queue_ms: 1000, queue_bytes: 1000 });
    exchange.offer(video(Role::Keyframe, 0, 5000), Moment::START);
    assert!(exchange.is_empty());
    exchange.offer(video(Role::Inter, 20, 50), Moment::START);
    exchange.offer(video(Role::Keyframe, 40, 500), Moment::START);
    assert_eq!(exchange.accounts().video.dropped, 2);
    assert_eq!(exchange.next(Moment::START).unwrap().time_ms, 40);
}

#[test]
fn sound_alone_needs_no_keyframe() {
    let mut exchange = Exchange::new(Limits::default());
    exchange.offer(header(HeaderSlot::Audio, 2), Moment::START);
    exchange.offer(audio(0), Moment::START);
    exchange.begin_again();
    assert!(exchange.could_begin());
    let roles: Vec<Role> = std::iter::from_fn(|| exchange.next(Moment::START)).map(|o| o.role).collect();
    assert!(roles.contains(&Role::Audio));
}

#[test]
fn when_the_broadcast_ends_nothing_stays_queued() {
    let mut exchange = Exchange::new(Limits::default());
    offer_seconds(&mut exchange, 0, 1);
    exchange.clear();
    let accounts = exchange.accounts();
    assert_eq!((accounts.video.queued, accounts.audio.queued), (0, 0));
    assert_eq!(accounts.video.dropped, 50);
    assert!(exchange.is_empty());
}

fn note(time_ms: u32) -> Packet {
    Packet { role: Role::Note, medium: Medium::Data, track: None, time_ms, payload: Vec::new().into() }
}

/// While the server is away everything waits: what it costs to take one more must not grow without end.
#[test]
fn however_small_they_are_only_so_many_messages_wait() {
    let mut exchange = Exchange::new(Limits::default());
    let now = Moment::after(Duration::from_secs(1));
    exchange.offer(header(HeaderSlot::Video, 1), now);
    exchange.offer(video(Role::Keyframe, 0, 100), now);
    (0..4 * MOST_OTHERS).for_each(|_| exchange.offer(note(0), now));
    assert_eq!(exchange.queue.len(), 1 + MOST_OTHERS, "the keyframe, and the newest of the others");
    let sounds = 2 * MOST_WAITING as u64;
    (0..sounds).for_each(|_| exchange.offer(audio(0), now));
    assert!(exchange.queue.len() <= MOST_WAITING);
    let accounts = exchange.accounts();
    assert_eq!((accounts.video.dropped, accounts.audio.offered), (0, sounds), "the keyframe is kept to the last");
    exchange.begin_again();
    let first = exchange.next(now).map(|packet| packet.role);
    assert_eq!(first, Some(Role::Header(HeaderSlot::Video)), "a header that made room is in force all the same");
}

fn exchange(queue_ms: u64, queue_bytes: usize) -> Exchange {
    Exchange::new(Limits { queue_ms, queue_bytes })
}

/// Roles of all that is sent now.
fn sent(exchange: &mut Exchange, now: Moment) -> Vec<Role> {
    std::iter::from_fn(|| exchange.next(now)).map(|packet| packet.role).collect()
}

/// What waits, once the bitrate was lowered at the start and a frame waited so long in the ten seconds after it, for a queue limit of
/// 8 s and frames that came at these moments.
fn patient(longest_ms: u64, came_ms: [u64; 2], now_ms: u64) -> usize {
    let mut exchange = exchange(8000, 1 << 20);
    exchange.offer(video(Role::Keyframe, 0, 50), Moment::START);
    exchange.next(Moment::START);
    exchange.be_patient(Moment::START);
    exchange.patience = Some(Patience { longest_ms, ..exchange.patience.unwrap() });
    for ms in came_ms {
        exchange.offer(video(Role::Disposable, 0, 50), Moment::from_ms(ms));
    }
    exchange.offer(audio(0), Moment::from_ms(now_ms));
    exchange.queue.iter().filter(|item| item.packet.role.depends()).count()
}

#[test]
fn after_a_lower_bitrate_what_waits_may_wait_twice_as_long_for_ten_seconds() {
    assert_eq!(patient(0, [20, 6000], 9999), 2, "one of them has waited longer than the limit");
    assert_eq!(patient(0, [20, 6000], 10_000), 1, "and no longer");
    // Nothing waits twice as long.
    assert_eq!(patient(20_000, [20, 6000], 16_021), 1);
}

#[test]
fn it_may_for_a_minute_while_it_waits_for_less_than_it_did() {
    assert_eq!(patient(12_000, [20_000, 28_000], 31_999), 2, "12 s before, less than that now");
    assert_eq!(patient(12_000, [20_000, 28_000], 32_000), 1, "it grows again: the step was too small");
    assert_eq!(patient(12_000, [50_000, 55_000], 59_999), 2);
    assert_eq!(patient(12_000, [50_000, 55_000], 60_000), 1, "and no longer");
}

#[test]
fn how_long_it_waited_is_seen_in_the_first_ten_seconds_alone() {
    let mut exchange = exchange(8000, 1 << 20);
    exchange.be_patient(Moment::START);
    exchange.offer(video(Role::Keyframe, 0, 50), Moment::START);
    exchange.next(Moment::START);
    exchange.offer(video(Role::Inter, 0, 50), Moment::from_ms(1000));
    for ms in [4000, 9000, 14_000] {
        exchange.offer(audio(0), Moment::from_ms(ms));
    }
    assert_eq!(exchange.patience.unwrap().longest_ms, 8000);
}

#[test]
fn what_viewers_see_of_a_gap_is_told_and_what_was_sent_last() {
    let mut exchange = exchange(3000, 1 << 20);
    assert_eq!((exchange.last_sent(), exchange.freezes(Moment::START)), (None, (Freezes::default(), None)));
    for n in 0..60_u32 {
        let role = if n == 0 { Role::Keyframe } else { Role::Inter };
        let now = Moment::from_ms(u64::from(n) * 20);
        exchange.offer(video(role, n * 20, 50), now);
        exchange.offer(audio(n * 20), now);
        assert_eq!(sent(&mut exchange, now).len(), 2);
    }
    let last = Sent { at: Moment::from_ms(59 * 20), time_ms: 59 * 20, interval_ms: 20 };
    assert_eq!(exchange.last_sent(), Some(last));
    let (freezes, open_ms) = exchange.freezes(Moment::from_ms(59 * 20 + 900));
    assert_eq!((freezes.count, open_ms), (0, Some(900)), "a gap that is still open");
    let now = Moment::from_ms(59 * 20 + 1000);
    exchange.offer(video(Role::Inter, 59 * 20 + 1000, 50), now);
    exchange.next(now);
    let (freezes, open_ms) = exchange.freezes(now);
    assert_eq!((freezes.count, freezes.longest_ms, open_ms), (1, 1000, None));
}

#[test]
fn how_much_waits_is_told_and_whether_anything_does() {
    let mut exchange = exchange(3000, 1 << 20);
    assert!(exchange.is_empty());
    exchange.offer(header(HeaderSlot::Video, 1), Moment::START);
    exchange.next(Moment::START);
    exchange.offer(video(Role::Keyframe, 0, 50), Moment::from_ms(100));
    exchange.offer(audio(0), Moment::from_ms(300));
    let level = exchange.level(Moment::from_ms(900));
    assert_eq!(level, QueueLevel { ms: 800.0, bytes: 54, limit_ms: 3000.0, before_keyframe: 0 });
    assert!(!exchange.is_empty());
    // A header that is due waits as well, though nothing else does.
    exchange.begin_again();
    assert_eq!(exchange.next(Moment::from_ms(900)).unwrap().role, Role::Header(HeaderSlot::Video));
    exchange.begin_again();
    exchange.next(Moment::from_ms(900));
    exchange.next(Moment::from_ms(900));
    exchange.next(Moment::from_ms(900));
    assert!(exchange.is_empty());
    exchange.due.push_back((HeaderSlot::Video, 0));
    assert!(!exchange.is_empty());
}

#[test]
fn what_comes_before_the_first_keyframe_is_dropped_and_counted_and_so_behind_an_interruption() {
    let mut exchange = exchange(3000, 1 << 20);
    let now = Moment::START;
    let offer = |exchange: &mut Exchange, role| exchange.offer(video(role, 0, 50), now);
    for _ in 0..3 {
        offer(&mut exchange, Role::Inter);
    }
    assert_eq!((exchange.level(now).before_keyframe, exchange.accounts().video.dropped), (3, 3));
    offer(&mut exchange, Role::Keyframe);
    offer(&mut exchange, Role::Inter);
    assert_eq!(sent(&mut exchange, now), [Role::Keyframe, Role::Inter]);
    exchange.interrupted();
    offer(&mut exchange, Role::Inter);
    offer(&mut exchange, Role::Disposable);
    assert_eq!((exchange.level(now).before_keyframe, exchange.accounts().video.dropped), (5, 5));
    // A gap that the line made is another matter.
    offer(&mut exchange, Role::Keyframe);
    exchange.drop_what_waits();
    offer(&mut exchange, Role::Inter);
    assert_eq!((exchange.level(now).before_keyframe, exchange.accounts().video.dropped), (5, 7));
}

#[test]
fn a_connection_that_is_left_gets_what_is_fresh_before_the_keyframe_of_the_next() {
    let before = |roles: &[Role], waited_ms: u64| {
        let mut exchange = exchange(3000, 1 << 20);
        exchange.offer(video(Role::Keyframe, 0, 50), Moment::START);
        exchange.next(Moment::START);
        for role in roles {
            let packet = if *role == Role::Audio { audio(0) } else { video(*role, 0, 50) };
            exchange.offer(packet, Moment::START);
        }
        let now = Moment::from_ms(waited_ms);
        std::iter::from_fn(|| exchange.next_before_keyframe(now)).map(|packet| packet.role).collect::<Vec<_>>()
    };
    let (inter, keyframe, sound) = (Role::Inter, Role::Keyframe, Role::Audio);
    assert_eq!(before(&[inter, sound, keyframe, inter], 500), [inter, sound]);
    assert_eq!(before(&[inter, sound, keyframe, inter], 501), [], "it is too old to be worth it");
    assert_eq!(before(&[inter, sound, inter], 0), [], "no keyframe waits: nothing is left yet");
    assert_eq!(before(&[keyframe, inter], 0), []);
    // Sound alone has no keyframe to wait for; and one that begins at a keyframe anyway has been left already.
    let mut alone = exchange(3000, 1 << 20);
    alone.offer(audio(0), Moment::START);
    assert_eq!(alone.next_before_keyframe(Moment::START), None);
    let mut begun = exchange(3000, 1 << 20);
    for role in [keyframe, inter, keyframe] {
        begun.offer(video(role, 0, 50), Moment::START);
    }
    begun.next(Moment::START);
    begun.begin_again();
    assert_eq!(begun.next_before_keyframe(Moment::START), None);
}

#[test]
fn a_connection_can_begin_only_where_a_keyframe_waits() {
    let mut exchange = exchange(3000, 1 << 20);
    exchange.offer(video(Role::Keyframe, 0, 50), Moment::START);
    assert!(exchange.could_begin());
    exchange.next(Moment::START);
    exchange.offer(video(Role::Inter, 20, 50), Moment::START);
    assert!(!exchange.could_begin());
}

#[test]
fn what_is_exactly_at_a_limit_is_within_it() {
    let mut bytes = exchange(3000, 1000);
    bytes.offer(video(Role::Keyframe, 0, 600), Moment::START);
    bytes.offer(video(Role::Inter, 20, 400), Moment::START);
    assert_eq!((bytes.queued_bytes, bytes.accounts().video.dropped), (1000, 0));
    let mut number = exchange(3000, 1 << 20);
    number.offer(video(Role::Keyframe, 0, 1), Moment::START);
    (1..MOST_WAITING).for_each(|_| number.offer(audio(0), Moment::START));
    assert_eq!((number.queue.len(), number.accounts().audio.dropped), (MOST_WAITING, 0));
    let mut age = exchange(300, 1 << 20);
    age.offer(video(Role::Keyframe, 0, 50), Moment::START);
    age.offer(audio(0), Moment::from_ms(600));
    assert_eq!(age.accounts().video.dropped, 0);
    age.offer(audio(0), Moment::from_ms(601));
    assert_eq!(age.accounts().video.dropped, 1, "nothing waits twice as long as the limit");
}

#[test]
fn an_old_note_before_them_makes_no_frame_old() {
    let mut exchange = exchange(300, 1 << 20);
    exchange.offer(note(0), Moment::START);
    exchange.offer(video(Role::Keyframe, 0, 50), Moment::from_ms(1000));
    exchange.offer(video(Role::Inter, 20, 50), Moment::from_ms(1000));
    assert_eq!((exchange.queue.len(), exchange.accounts().video.dropped), (3, 0));
}

#[test]
fn notes_that_were_sent_take_no_room_from_those_that_come() {
    let mut exchange = exchange(3000, 1 << 20);
    for _ in 0..3 {
        (0..200).for_each(|_| exchange.offer(note(0), Moment::START));
        assert_eq!(sent(&mut exchange, Moment::START).len(), 200);
    }
}

#[test]
fn headers_of_only_so_many_tracks_are_kept_and_those_in_force_are_renewed() {
    let mut exchange = exchange(3000, 1 << 20);
    for track in 0..=u8::try_from(MOST_HEADERS).unwrap() {
        exchange.offer(Packet { track: Some(track), ..header(HeaderSlot::Audio, track) }, Moment::START);
        exchange.next(Moment::START);
    }
    exchange.offer(Packet { track: Some(3), ..header(HeaderSlot::Audio, 99) }, Moment::START);
    exchange.next(Moment::START);
    assert_eq!(exchange.headers.len(), MOST_HEADERS);
    assert_eq!(exchange.headers[&(HeaderSlot::Audio, 3)].payload[0], 99);
}

#[test]
fn of_too_many_keyframes_the_oldest_goes_before_any_sound() {
    let mut exchange = exchange(3000, 1000);
    for time_ms in [0, 20, 40] {
        exchange.offer(video(Role::Keyframe, time_ms, 400), Moment::START);
        exchange.offer(audio(time_ms), Moment::START);
    }
    let left: Vec<u32> =
        exchange.queue.iter().filter(|i| i.packet.role == Role::Keyframe).map(|i| i.packet.time_ms).collect();
    assert_eq!((left, exchange.accounts().audio.dropped), (vec![20, 40], 0));
}

#[test]
fn a_keyframe_that_waited_too_long_takes_along_what_needs_it_and_no_note_before_it() {
    let mut exchange = exchange(300, 1 << 20);
    exchange.offer(note(0), Moment::START);
    exchange.offer(video(Role::Keyframe, 0, 50), Moment::START);
    exchange.offer(audio(0), Moment::from_ms(100));
    exchange.offer(video(Role::Inter, 200, 50), Moment::from_ms(200));
    exchange.offer(audio(601), Moment::from_ms(601));
    let left: Vec<Role> = exchange.queue.iter().map(|item| item.packet.role).collect();
    assert_eq!(left, [Role::Note, Role::Audio, Role::Audio]);
    // Nothing could be shown of what goes on from there.
    exchange.offer(video(Role::Inter, 620, 50), Moment::from_ms(620));
    assert_eq!(exchange.accounts().video.dropped, 3);
}
