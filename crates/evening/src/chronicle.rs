//! What is written down of a broadcast as it goes: each verdict for as long as it stood, each change and what came of it, the
//! load by program, and every name, so that it can be drawn, reported and given away afterwards.

use std::sync::{Mutex, MutexGuard, PoisonError};

use crate::evening::{Changed, Evening, Standing, Stood};
use crate::load::{Load, Machine, Part};
use crate::moments::{Found, Moments};
use crate::names::{Kind, Names};
use jiff::Zoned;
use moth_core::figure::Origin;
use moth_core::history::Mark;
use moth_core::machine_load::MachineLoad;
use moth_core::suspects::{Cause, Fault, Suspect};
use moth_core::trial::Trial;
use moth_core::{Moment, Snapshot, State};

/// What was written down, in its parts.
#[derive(Debug, Clone, Default)]
pub struct Written {
    /// Every verdict.
    pub verdicts: Vec<Stood>,
    /// Every mark, changes among them.
    pub marks: Vec<Mark>,
    /// What came of the changes.
    pub trials: Vec<Trial>,
    /// The load on every machine.
    pub machines: Vec<Machine>,
    /// Every name that words may hold.
    pub names: Names,
}

/// A broadcast, as far as it went.
#[derive(Debug, Clone, Default)]
pub struct Chronicle {
    verdicts: Vec<Stood>,
    standing: Option<(Fault, Option<Cause>)>,
    changes: Vec<Changed>,
    /// What was before belongs to another broadcast.
    since: Moment,
    /// Every mark: the core forgets the oldest.
    marks: Vec<Mark>,
    trials: Vec<Trial>,
    machines: Vec<Machine>,
    names: Names,
    /// How everything stood, second by second, where that is to be looked back at.
    moments: Option<Moments>,
}

impl Chronicle {
    /// One that also keeps how everything stood in each second, to be looked back at.
    #[must_use]
    pub fn with_moments() -> Self {
        Self::default().and_moments()
    }

    /// The same, and from now on it also keeps how everything stood in each second.
    #[must_use]
    pub fn and_moments(self) -> Self {
        Self { moments: Some(Moments::default()), ..self }
    }

    /// One of a broadcast that began then: marks and changes from before belong to another.
    #[must_use]
    pub fn since(since: Moment) -> Self {
        Self { since, ..Self::default() }
    }

    /// How everything stood at the end of a second, by its place in the history; `None` if that was not kept.
    #[must_use]
    pub fn moment(&self, second: usize) -> Option<Found> {
        // The first look in the second that follows.
        let until = Moment::from_ms((second as u64 + 2) * 1000 - 1);
        self.moments.as_ref()?.at(until)
    }

    /// Writes down what is new.
    pub fn take(&mut self, snapshot: &Snapshot) {
        if let Some(moments) = &mut self.moments {
            moments.take(snapshot);
        }
        self.take_verdict(snapshot);
        self.take_marks(snapshot);
        self.take_trials(snapshot);
        let seconds = snapshot.history.len();
        let machines = std::iter::once(&snapshot.machine).chain(&snapshot.others);
        for load in machines {
            self.take_machine(load, seconds);
        }
        for server in snapshot.servers.iter().chain([&snapshot.server]) {
            self.names.add(Kind::Server, server);
            // A server that was named by its address goes by that, and its host may be told by itself.
            if let Some((host, _)) = server.rsplit_once(':') {
                self.names.add(Kind::Address, host);
            }
        }
    }

    /// Every verdict so far.
    #[must_use]
    pub fn verdicts(&self) -> &[Stood] {
        &self.verdicts
    }

    /// Every mark so far, changes among them.
    #[must_use]
    pub fn marks(&self) -> &[Mark] {
        &self.marks
    }

    /// What came of the changes so far.
    #[must_use]
    pub fn trials(&self) -> &[Trial] {
        &self.trials
    }

    /// The load on every machine so far.
    #[must_use]
    pub fn machines(&self) -> &[Machine] {
        &self.machines
    }

    /// Every name so far that words may hold.
    #[must_use]
    pub fn names(&self) -> &Names {
        &self.names
    }

    /// A chronicle that was kept.
    #[must_use]
    pub fn of(written: Written) -> Self {
        let Written { verdicts, marks, trials, machines, names } = written;
        let changed = marks.iter().filter(|mark| mark.is_change);
        let changes = changed.map(|mark| Changed { at_s: mark.at.seconds(), what: mark.text.clone() }).collect();
        Self { verdicts, changes, marks, trials, machines, names, standing: None, since: Moment::START, moments: None }
    }

    fn take_verdict(&mut self, snapshot: &Snapshot) {
        let (verdict, now) = (&snapshot.verdict, snapshot.at.seconds());
        if self.standing.is_some()
            && let Some(last) = self.verdicts.last_mut()
        {
            last.until_s = now;
        }
        let standing = (verdict.fault != Fault::None).then_some((verdict.fault, verdict.cause));
        if standing != self.standing {
            self.standing = standing;
            if let Some((fault, cause)) = standing {
                self.verdicts.push(Stood {
                    from_s: now,
                    until_s: now,
                    fault,
                    cause,
                    surest_s: now,
                    sentence: String::new(),
                    confidence: 0.0,
                    weighed: Vec::new(),
                    evidence: Vec::new(),
                    would_change: String::new(),
                    also: Vec::new(),
                });
            }
        }
        let Some(last) = self.verdicts.last_mut().filter(|_| standing.is_some()) else { return };
        for suspect in verdict.suspects.iter().skip(1) {
            let also = (suspect.fault, suspect.cause);
            if !last.also.contains(&also) {
                last.also.push(also);
            }
        }
        // Of an outage, which is as sure from its first moment on, what is told last says most: for how long, and why.
        let goes_on = snapshot.state == Some(State::Dark) && verdict.confidence >= last.confidence;
        if verdict.confidence > last.confidence || goes_on {
            last.confidence = verdict.confidence;
            last.surest_s = now;
            last.sentence.clone_from(&verdict.sentence);
            last.evidence.clone_from(&verdict.evidence);
            last.would_change.clone_from(&verdict.would_change);
            last.weighed = verdict.suspects.first().map(|suspect| suspect.weighed.clone()).unwrap_or_default();
            for suspect in &verdict.suspects {
                self.names.join(&sayings(suspect));
            }
        }
    }

    fn take_marks(&mut self, snapshot: &Snapshot) {
        let marks = &snapshot.marks;
        let known = self.marks.last().and_then(|last| marks.iter().rposition(|mark| mark == last));
        let new = &marks[known.map_or(0, |known| known + 1)..];
        for mark in new.iter().filter(|mark| mark.at >= self.since) {
            if mark.is_change {
                self.changes.push(Changed { at_s: mark.at.seconds(), what: mark.text.clone() });
            }
            self.marks.push(mark.clone());
        }
    }

    fn take_trials(&mut self, snapshot: &Snapshot) {
        for trial in snapshot.trials.iter().filter(|trial| trial.since >= self.since) {
            match self.trials.iter_mut().rev().find(|known| known.since == trial.since && known.action == trial.action)
            {
                Some(known) if known == trial => {}
                Some(known) => known.clone_from(trial),
                None => self.trials.push(trial.clone()),
            }
        }
    }

    fn take_machine(&mut self, load: &MachineLoad, seconds: usize) {
        let found = self.machines.iter().position(|machine| machine.host == load.host);
        let place = found.unwrap_or_else(|| {
            self.machines.push(Machine { host: load.host.clone(), ..Machine::default() });
            self.machines.len() - 1
        });
        let machine = &mut self.machines[place];
        if machine.loads.len() >= seconds {
            return;
        }
        // Programs that sentences may name though no load is told of them.
        let shares = [&load.busiest_other, &load.gpu_busiest_other, &load.gpu_encode_other];
        let named = shares.into_iter().flatten().map(|(name, _)| name).chain(&load.broadcaster_name);
        let uploads = load.uploads.iter().flatten().filter_map(|upload| upload.program.as_ref());
        for program in named.chain(uploads).chain(load.disk_busiest.as_ref().map(|(name, _)| name)) {
            self.names.add(Kind::Program, program);
        }
        if machine.broadcaster.is_none() {
            machine.broadcaster.clone_from(&load.broadcaster_name);
        }
        let of = loaded(machine, load);
        // A machine that was met late has seconds of which nothing is known.
        machine.loads.resize(seconds - 1, Load::default());
        machine.loads.push(of);
    }

    /// What is kept on the way through a recording, to go back to: the load is left out, as it is the same whenever it passes.
    #[must_use]
    pub fn waypoint(&self) -> Self {
        self.without_machines()
    }

    /// Goes back to a waypoint, so many seconds after the beginning.
    pub fn go_back(&mut self, waypoint: &Self, seconds: usize) {
        let mut machines = std::mem::take(&mut self.machines);
        machines.iter_mut().for_each(|machine| machine.loads.truncate(seconds));
        // What was passed once passes in the same way again.
        let moments = self.moments.take();
        *self = Self { machines, moments, ..waypoint.without_machines() };
    }

    fn without_machines(&self) -> Self {
        Self {
            verdicts: self.verdicts.clone(),
            standing: self.standing,
            since: self.since,
            changes: self.changes.clone(),
            marks: self.marks.clone(),
            trials: self.trials.clone(),
            machines: Vec::new(),
            names: self.names.clone(),
            moments: None,
        }
    }

    /// The broadcast as plain data, with how it stood when `standing` was taken.
    #[must_use]
    pub fn evening(&self, last: &Snapshot, standing: &Snapshot, source: String, began: Option<Zoned>) -> Evening {
        let history = &last.history;
        let known = [("skipped", last.skipped.origin), ("lagged", last.lagged.origin)];
        let known =
            known.map(|(kind, origin)| format!("{kind} frames: {}", origin.map_or("not available", Origin::word)));
        let is_known = |machine: &&Machine| machine.loads.iter().any(|load| *load != Load::default());
        Evening {
            source,
            is_made_up: false,
            began,
            seconds: (0..history.len()).filter_map(|second| history.get(second)).copied().collect(),
            queue_limit_ms: last.queue_limit_ms,
            verdicts: self.verdicts.clone(),
            changes: self.changes.clone(),
            trials: self.trials.clone(),
            machines: self.machines.iter().filter(is_known).cloned().collect(),
            server: standing.server.clone(),
            standing: Some(standing_of(standing)),
            servers: None,
            line: None,
            known: known.to_vec(),
            unseen: last.wire.unseen.iter().cloned().collect(),
            names: self.names.clone(),
        }
    }
}

/// A chronicle that somebody else writes. One who failed in the middle of it left whole entries behind.
pub fn lock(chronicle: &Mutex<Chronicle>) -> MutexGuard<'_, Chronicle> {
    chronicle.lock().unwrap_or_else(PoisonError::into_inner)
}

/// How everything stands.
#[must_use]
pub fn standing_of(snapshot: &Snapshot) -> Standing {
    Standing {
        at_s: snapshot.at.seconds(),
        state: snapshot.state,
        stages: snapshot.journey.clone(),
        losing: snapshot.verdict.suspects.iter().map(|suspect| suspect.fault).collect(),
        weighed: snapshot.weighed.clone(),
    }
}

/// What a stage is held at fault for now, as it stands; `None` if it loses nothing.
#[must_use]
pub fn standing_now(snapshot: &Snapshot, stage: Fault) -> Option<Stood> {
    let (verdict, now) = (&snapshot.verdict, snapshot.at.seconds());
    let suspect = verdict.suspects.iter().find(|suspect| suspect.fault == stage)?;
    // Since when a second suspect stands is not told.
    let from_s = if suspect.fault == verdict.fault { verdict.since.seconds() } else { now };
    Some(Stood {
        from_s,
        until_s: now,
        fault: stage,
        cause: suspect.cause,
        surest_s: now,
        sentence: suspect.sentence.clone(),
        confidence: suspect.confidence,
        weighed: suspect.weighed.clone(),
        evidence: suspect.evidence.clone(),
        would_change: suspect.would_change.clone(),
        also: Vec::new(),
    })
}

/// What a server, or the system, said in its own words: who knows what is in them.
fn sayings(suspect: &Suspect) -> Names {
    let mut names = Names::default();
    if matches!(suspect.cause, Some(Cause::ServerAway | Cause::ServerRefuses)) {
        // The sentence repeats it after a colon.
        let said = suspect.evidence.iter().filter(|sign| suspect.sentence.contains(&format!(": {}", sign.text)));
        said.for_each(|sign| names.add(Kind::Saying, &sign.text));
    }
    names
}

fn loaded(machine: &mut Machine, load: &MachineLoad) -> Load {
    let single = |share: Option<f64>| share.map(|share| share as f32);
    let mut part = |program: &Option<(String, f64)>| -> Option<Part> {
        let (name, share) = program.as_ref()?;
        Some((machine.place(name), *share as f32))
    };
    let (cpu_other, gpu_other, encode_other) =
        (part(&load.busiest_other), part(&load.gpu_busiest_other), part(&load.gpu_encode_other));
    let upload = load.uploads.as_ref().and_then(|uploads| uploads.first());
    let upload = upload.map(|upload| (machine.place(upload.name()), upload.rate.kbps() as f32));
    Load {
        cpu: single(load.cpu),
        cpu_broadcaster: single(load.broadcaster_cpu),
        cpu_other,
        gpu: single(load.gpu_render),
        gpu_other,
        encode: single(load.gpu_encode),
        encode_other,
        uploads_kbps: load.uploads_in_all().map(|rate| rate.kbps() as f32),
        upload,
        disk_write_ms: single(load.disk_write_ms),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::time::Duration;

    use moth_core::action::Action;
    use moth_core::rate::Bitrate;
    use moth_core::{Core, Settings};
    use moth_stage::{Theatre, shipped};

    /// An evening with two changes ten seconds apart, looked at five times a second, and how it stood at each look.
    async fn seen(seconds: u64) -> Vec<Snapshot> {
        let evening = shipped().into_iter().find(|e| e.slug == "archive-sync").unwrap();
        let mut core = Core::new(Settings { servers: evening.servers() });
        let mut theatre = Theatre::open(&evening, 41).unwrap();
        let mut snapshots = Vec::new();
        let mut look = Moment::START;
        let mut deeds = [(30.0, 5000), (40.0, 2500)].into_iter().peekable();
        while let Some(reading) = theatre.readings.recv().await {
            while look <= reading.at {
                snapshots.push(core.snapshot(look));
                look = Moment::after(look.since(Moment::START) + Duration::from_millis(200));
            }
            if reading.at.seconds() > seconds as f64 {
                break;
            }
            core.take(&reading);
            if let Some((_, kbps)) = deeds.next_if(|(at, _)| reading.at.seconds() >= *at) {
                let action = Action::SetBitrate { video: Bitrate::from_kbps(kbps) };
                Theatre::act(&theatre.relay, &theatre.broadcaster, &theatre.recorder, action).await;
                theatre.relay.be_patient();
            }
        }
        snapshots
    }

    fn written(snapshots: &[Snapshot]) -> (Chronicle, Evening) {
        let mut chronicle = Chronicle::default();
        snapshots.iter().for_each(|snapshot| chronicle.take(snapshot));
        let last = snapshots.last().unwrap();
        let evening = chronicle.evening(last, last, "an evening".into(), None);
        (chronicle, evening)
    }

    #[tokio::test(start_paused = true)]
    async fn each_second_can_be_looked_back_at_also_after_a_recording_was_gone_through_again() {
        let snapshots = seen(40).await;
        let mut chronicle = Chronicle::with_moments();
        snapshots.iter().for_each(|snapshot| chronicle.take(snapshot));
        let is_kept = |chronicle: &Chronicle, second: usize| {
            let (moment, end_s) = (chronicle.moment(second).unwrap().read().unwrap(), second as f64 + 1.0);
            // The first look once the second was over.
            assert!((end_s..end_s + 0.2).contains(&moment.at.seconds()), "{second}: {}", moment.at.seconds());
            let then = snapshots.iter().find(|snapshot| snapshot.at == moment.at).unwrap();
            assert_eq!(moment.verdict.sentence, then.verdict.sentence);
            assert_eq!(moment.accounts, then.accounts);
        };
        let moments = chronicle.moments.as_ref().unwrap();
        let bytes = moments.bytes() / moments.len();
        assert!(bytes < 560, "{bytes} bytes a second");
        (0..39).for_each(|second| is_kept(&chronicle, second));
        assert!(chronicle.moment(60).is_none(), "that is still to come");
        let waypoint = chronicle.waypoint();
        chronicle.go_back(&waypoint, 20);
        snapshots.iter().filter(|snapshot| snapshot.at.seconds() > 20.0).for_each(|snapshot| chronicle.take(snapshot));
        (0..39).for_each(|second| is_kept(&chronicle, second));
        assert!(written(&snapshots).0.moment(5).is_none(), "it is not kept where nobody looks back");
    }

    #[tokio::test(start_paused = true)]
    async fn every_change_is_written_down_once_and_one_that_was_overtaken_as_it_ended() {
        let (_, evening) = written(&seen(60).await);
        let changed: Vec<&str> = evening.changes.iter().map(|change| change.what.as_str()).collect();
        assert_eq!(changed, ["video bitrate to 5 000 kb/s", "video bitrate to 2 500 kb/s"]);
        assert_eq!(evening.trials.len(), 2);
        assert!(evening.trials[0].is_over && evening.trials[0].sentence.contains("changed before it could be told"));
        assert_eq!(evening.verdicts[0].cause, Some(Cause::UploadBeyond));
        assert!(evening.verdicts[0].weighed.len() > 3 && !evening.verdicts[0].evidence.is_empty());
        assert_eq!(evening.machines.len(), 1);
        assert_eq!(evening.machines[0].loads.len(), evening.seconds.len());
        assert_eq!(evening.machines[0].broadcaster.as_deref(), Some("stand-in"));
    }

    /// A replay goes back and forth, and what is drawn of it afterwards is what would have been drawn without.
    #[tokio::test(start_paused = true)]
    async fn gone_back_to_a_waypoint_and_on_again_it_is_the_same() {
        let snapshots = seen(60).await;
        let (_, straight) = written(&snapshots);
        let waypoint_at = 160;
        let mut chronicle = Chronicle::default();
        snapshots[..waypoint_at].iter().for_each(|snapshot| chronicle.take(snapshot));
        let waypoint = chronicle.waypoint();
        snapshots[waypoint_at..250].iter().for_each(|snapshot| chronicle.take(snapshot));
        chronicle.go_back(&waypoint, snapshots[waypoint_at - 1].history.len());
        snapshots[waypoint_at..].iter().for_each(|snapshot| chronicle.take(snapshot));
        let last = snapshots.last().unwrap();
        assert_eq!(chronicle.evening(last, last, "an evening".into(), None), straight);
    }

    /// The second upload, and who writes most to the disk, stand in sentences and in no drawing.
    #[test]
    fn every_program_that_a_sentence_may_name_is_left_out() {
        use moth_core::machine_load::Upload;
        let mut core = Core::new(Settings { servers: vec!["Aldmoor".into()] });
        let mut snapshot = core.snapshot(Moment::from_ms(3000));
        let upload = |program: &str| Upload { program: Some(program.into()), rate: Bitrate::from_kbps(900) };
        snapshot.machine = MachineLoad {
            broadcaster_name: Some("lanternist".into()),
            uploads: Some(vec![upload("vault-sync"), upload("plate-share")]),
            disk_busiest: Some(("plate-store".into(), Bitrate::from_kbps(40_000))),
            ..MachineLoad::default()
        };
        let mut chronicle = Chronicle::default();
        chronicle.take(&snapshot);
        let mut evening = chronicle.evening(&snapshot, &snapshot, "an evening".into(), None);
        evening.unseen = vec!["lanternist, vault-sync, plate-share and plate-store at Aldmoor".into()];
        let said = &evening.anonymous().unseen[0];
        for name in ["lanternist", "vault-sync", "plate-share", "plate-store", "Aldmoor"] {
            assert!(!said.contains(name), "{said}");
        }
    }
}
