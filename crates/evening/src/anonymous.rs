//! What is to be drawn, without the names in it.

use crate::evening::Evening;
use crate::load::Machine;
use crate::measured::{LineTest, ServersTest};
use crate::names::{Kind, Names, Veil};

impl ServersTest {
    /// Names that it holds.
    pub fn name(&self, names: &mut Names) {
        names.add(Kind::Service, &self.service);
        names.add(Kind::Line, &self.line);
        for result in &self.results {
            names.add(Kind::Server, &result.server);
            names.add(Kind::Address, &result.address);
            if let Some(region) = &result.region {
                names.add(Kind::Region, region);
            }
            if let Some(failure) = &result.failure {
                names.add(Kind::Saying, &failure.why);
            }
        }
    }

    /// Without names.
    #[must_use]
    pub fn anonymous(mut self, veil: &Veil) -> Self {
        self.service = veil.hide(&self.service);
        self.line = veil.hide(&self.line);
        for result in &mut self.results {
            result.server = veil.hide(&result.server);
            result.address = veil.hide(&result.address);
            result.region = result.region.as_deref().map(|region| veil.hide(region));
            if let Some(failure) = &mut result.failure {
                failure.why = veil.hide(&failure.why);
            }
        }
        self
    }
}

impl LineTest {
    /// Names that it holds.
    pub fn name(&self, names: &mut Names) {
        names.add(Kind::Server, &self.server);
        names.add(Kind::Line, &self.line);
        if let Some(interface) = &self.around.interface {
            names.add(Kind::Line, &interface.name);
        }
        for upload in self.around.uploads.iter().flatten() {
            if let Some(program) = &upload.program {
                names.add(Kind::Program, program);
            }
        }
    }

    /// Without names.
    #[must_use]
    pub fn anonymous(mut self, veil: &Veil) -> Self {
        self.server = veil.hide(&self.server);
        self.line = veil.hide(&self.line);
        if let Some(interface) = &mut self.around.interface {
            interface.name = veil.hide(&interface.name);
        }
        for upload in self.around.uploads.iter_mut().flatten() {
            upload.program = upload.program.as_deref().map(|program| veil.hide(program));
        }
        self
    }
}

impl Machine {
    fn anonymous(&mut self, veil: &Veil) {
        self.host = self.host.as_deref().map(|host| veil.hide(host));
        self.broadcaster = self.broadcaster.as_deref().map(|program| veil.hide(program));
        for program in &mut self.programs {
            *program = veil.hide(program);
        }
    }
}

impl Evening {
    /// The same without names, addresses and programs.
    #[must_use]
    pub fn anonymous(mut self) -> Self {
        let mut names = std::mem::take(&mut self.names);
        for machine in &self.machines {
            machine.host.iter().for_each(|host| names.add(Kind::Machine, host));
            machine.broadcaster.iter().chain(&machine.programs).for_each(|program| names.add(Kind::Program, program));
        }
        names.add(Kind::Server, &self.server);
        self.servers.iter().for_each(|test| test.name(&mut names));
        self.line.iter().for_each(|test| test.name(&mut names));
        let veil = names.veil();
        let hide = |text: &mut String| *text = veil.hide(text);
        // A file is named by whoever made it. That a broadcast is made up is no name.
        self.source = if self.is_made_up { "a demo, all made up" } else { "a recorded broadcast" }.into();
        hide(&mut self.server);
        let stood = self.verdicts.iter_mut();
        let mut weighed: Vec<_> = Vec::new();
        for verdict in stood {
            hide(&mut verdict.sentence);
            hide(&mut verdict.would_change);
            verdict.evidence.iter_mut().for_each(|evidence| hide(&mut evidence.text));
            weighed.extend(verdict.weighed.iter_mut());
        }
        weighed
            .extend(self.standing.iter_mut().flat_map(|standing| standing.weighed.iter_mut().flat_map(|(_, all)| all)));
        for evidence in weighed.into_iter().flat_map(|weighed| &mut weighed.evidence) {
            hide(&mut evidence.text);
        }
        self.changes.iter_mut().for_each(|change| hide(&mut change.what));
        for trial in &mut self.trials {
            hide(&mut trial.title);
            hide(&mut trial.sentence);
            trial.next.iter_mut().for_each(|next| hide(&mut next.title));
        }
        self.known.iter_mut().chain(&mut self.unseen).for_each(hide);
        self.machines.iter_mut().for_each(|machine| machine.anonymous(&veil));
        self.servers = self.servers.map(|test| test.anonymous(&veil));
        self.line = self.line.map(|test| test.anonymous(&veil));
        self
    }
}
