//! Choosing a change: what can be changed, each with what it costs and what is expected of it.

use moth_core::Snapshot;
use moth_core::action::Action;
use moth_core::frame_rate::FrameRate;
use moth_core::keeper::Mode;
use moth_core::proposal::{
    Proposal, RAISED, heavier_preset, lighter_preset, to_bitrate, to_failover, to_keeper, to_lines, to_play_back,
    to_priority, to_rate, to_server,
};
use moth_core::rate::Bitrate;
use ratatui::style::Style;
use ratatui::text::{Line, Span};

use crate::cli::meant;
use crate::terminal::style::format::{fit, wrap};
use crate::terminal::style::palette::Palette;

/// What kind of change is looked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// The video bitrate.
    Bitrate,
    /// The server.
    Server,
    /// The encoder preset.
    Preset,
    /// The picture's size.
    Size,
    /// The frame rate.
    Rate,
    /// The broadcaster's scheduling priority.
    Priority,
    /// The automatic bitrate.
    Keeper,
    /// Changing servers by itself.
    Failover,
    /// Playing the broadcast back.
    Playback,
    /// What only the user can do.
    Hand,
}

impl Kind {
    /// All of them, in the order of the list.
    pub const ALL: [Self; 10] = [
        Self::Bitrate,
        Self::Server,
        Self::Preset,
        Self::Size,
        Self::Rate,
        Self::Priority,
        Self::Keeper,
        Self::Failover,
        Self::Playback,
        Self::Hand,
    ];

    /// Its key, on Watch and Why.
    #[must_use]
    pub fn key(self) -> char {
        match self {
            Self::Bitrate => 'b',
            Self::Server => 's',
            Self::Preset => 'p',
            Self::Size => 'z',
            Self::Rate => 'r',
            Self::Priority => 'o',
            Self::Keeper => 'k',
            Self::Failover => 'x',
            Self::Playback => 'l',
            Self::Hand => 'h',
        }
    }

    /// What it is.
    #[must_use]
    pub fn words(self) -> &'static str {
        match self {
            Self::Bitrate => "video bitrate",
            Self::Server => "server",
            Self::Preset => "encoder preset",
            Self::Size => "picture size",
            Self::Rate => "frame rate",
            Self::Priority => "broadcaster's priority",
            Self::Keeper => "keeper: the automatic bitrate",
            Self::Failover => "changing servers by itself",
            Self::Playback => "playing it back",
            Self::Hand => "by your own hand",
        }
    }

    /// In a word.
    #[must_use]
    pub fn short(self) -> &'static str {
        match self {
            Self::Bitrate => "bitrate",
            Self::Server => "server",
            Self::Preset => "preset",
            Self::Size => "size",
            Self::Rate => "frame rate",
            Self::Priority => "priority",
            Self::Keeper => "keeper",
            Self::Failover => "servers by itself",
            Self::Playback => "play back",
            Self::Hand => "by hand",
        }
    }

    /// The kind of an action.
    #[must_use]
    pub fn of(action: &Action) -> Self {
        match action {
            Action::SetBitrate { .. } => Self::Bitrate,
            Action::SwitchServer { .. } => Self::Server,
            Action::LighterPreset | Action::HeavierPreset => Self::Preset,
            Action::SetSize { .. } => Self::Size,
            Action::SetRate { .. } => Self::Rate,
            Action::SetPriority { .. } => Self::Priority,
            Action::SetKeeper { .. } => Self::Keeper,
            Action::SetFailover { .. } => Self::Failover,
            Action::PlayBack => Self::Playback,
            Action::ByHand { .. } => Self::Hand,
        }
    }
}

/// A change being chosen.
#[derive(Debug, Clone, PartialEq)]
pub struct Choice {
    /// What is changed.
    pub kind: Kind,
    /// What it may be changed to.
    pub options: Vec<Proposal>,
    /// The one under the cursor.
    pub at: usize,
    /// A bitrate that is being typed.
    pub typed: String,
}

impl Choice {
    /// The choices of a kind, what the verdict proposes first; `None` if there is nothing to choose.
    #[must_use]
    pub fn of(kind: Kind, snapshot: &Snapshot) -> Option<Self> {
        let proposed = || snapshot.verdict.all_proposals().into_iter().filter(|p| Kind::of(&p.action) == kind).cloned();
        let mut options: Vec<Proposal> = proposed().collect();
        for option in all(kind, snapshot) {
            if !options.iter().any(|there| there.action == option.action) {
                options.push(option);
            }
        }
        (!options.is_empty()).then(|| Self { kind, options, at: 0, typed: String::new() })
    }

    /// Whether something may be typed in the place of choosing.
    pub(super) fn is_typed(&self) -> bool {
        self.kind == Kind::Bitrate
    }

    /// What is typed, as it is likely meant, and why that is said back; `None` if it is plain, or a change by so much.
    fn said_back(&self) -> Option<(Bitrate, &'static str)> {
        let (rate, why) = meant::bitrate(&self.typed).ok()?;
        (!self.typed.starts_with(['+', '-'])).then_some((rate, why?))
    }

    /// The cursor up or down.
    pub(super) fn step(&mut self, down: bool) {
        let last = self.options.len().saturating_sub(1);
        self.at = if down { (self.at + 1).min(last) } else { self.at.saturating_sub(1) };
        self.typed.clear();
    }

    /// What is chosen: what was typed, else what is under the cursor.
    ///
    /// # Errors
    /// What is wrong with what was typed.
    pub(super) fn chosen(&self, snapshot: &Snapshot) -> Result<Proposal, String> {
        if self.typed.is_empty() {
            return self.options.get(self.at).cloned().ok_or_else(|| "nothing is chosen".into());
        }
        let words =
            ["bitrate".to_owned(), self.said_back().map_or_else(|| self.typed.clone(), |(rate, _)| rate.to_text())];
        match crate::tell::words::meaning(&words, Some(snapshot))? {
            crate::tell::words::Meaning::Act(Action::SetBitrate { video }) => {
                Ok(to_bitrate(video, bitrate_now(snapshot), &snapshot.stream))
            }
            _ => Err("a bitrate is wanted here, like 4500k".into()),
        }
    }
}

fn bitrate_now(snapshot: &Snapshot) -> Bitrate {
    let measured = snapshot.video_kbps.value.map(|kbps| Bitrate::from_bps((kbps * 1000.0) as u64));
    snapshot.stream.video_bitrate.or(snapshot.intended.video_bitrate).or(measured).unwrap_or_default()
}

/// All that a kind may be changed to.
fn all(kind: Kind, snapshot: &Snapshot) -> Vec<Proposal> {
    let stream = &snapshot.stream;
    match kind {
        Kind::Bitrate => {
            let now = bitrate_now(snapshot);
            let round = Bitrate::from_kbps(50);
            let to = |share: f64| to_bitrate(now.scaled(share).rounded_down_to(round), now, stream);
            if now < Bitrate::from_kbps(200) { Vec::new() } else { [0.9, 0.75, 0.5, 1.1, 1.25].map(to).into() }
        }
        Kind::Server => {
            let others = snapshot.servers.iter().filter(|server| **server != snapshot.server);
            others.map(|server| to_server(server)).collect()
        }
        Kind::Preset => vec![lighter_preset(stream), heavier_preset(stream)],
        Kind::Size => {
            let lines = [1440, 1080, 936, 900, 810, 720, 648, 540].into_iter();
            lines.filter(|lines| stream.height != Some(*lines)).filter_map(|lines| to_lines(lines, stream)).collect()
        }
        Kind::Rate => {
            let is_now = |fps: u32| stream.fps.is_some_and(|now| (now - f64::from(fps)).abs() < 1.0);
            [60, 50, 48, 30, 25]
                .into_iter()
                .filter(|fps| !is_now(*fps))
                .map(|fps| to_rate(FrameRate::whole(fps), stream))
                .collect()
        }
        Kind::Priority => [RAISED, 0, 5].map(to_priority).into(),
        Kind::Keeper => {
            let modes = [Mode::Advise, Mode::Act, Mode::Off].into_iter();
            // Off is there while it rests, too: a mode chosen anew lets it begin again.
            modes.filter(|mode| *mode != snapshot.keeper.mode || snapshot.keeper.rests).map(to_keeper).collect()
        }
        Kind::Failover => vec![to_failover(!snapshot.failover)],
        Kind::Playback => vec![to_play_back()],
        Kind::Hand => Vec::new(),
    }
}

/// The list, and what the one under the cursor costs and promises.
pub(super) fn lines(choice: &Choice, palette: Palette, columns: usize) -> Vec<Line<'static>> {
    let mut lines = Vec::new();
    for (i, option) in choice.options.iter().enumerate() {
        let here = i == choice.at && choice.typed.is_empty();
        let hand = if option.possible { "" } else { " (by hand)" };
        let text = fit(&format!("{}{hand}", option.title), columns.saturating_sub(3));
        let (lead, style) = if here { ("▸ ", palette.strong()) } else { ("  ", Style::new()) };
        lines.push(Line::from(vec![Span::styled(lead, palette.strong()), Span::styled(text, style)]));
    }
    if choice.kind == Kind::Bitrate {
        let typed = if choice.typed.is_empty() {
            "or type one, like 4500k or -10%".into()
        } else {
            format!("▸ {}▏", choice.typed)
        };
        let style = if choice.typed.is_empty() { palette.faint() } else { palette.strong() };
        lines.push(Line::styled(if choice.typed.is_empty() { format!("  {typed}") } else { typed }, style));
        // Before it counts, not after.
        let said = choice.said_back().map(|(rate, why)| format!("  = {rate} ({why})"));
        lines.extend(said.iter().flat_map(|said| wrap(said, columns)).map(Line::raw));
    }
    lines.push(Line::default());
    if let (Some(option), true) = (choice.options.get(choice.at), choice.typed.is_empty()) {
        for told in [format!("It costs: {}.", option.cost), format!("Expected: {}.", option.expected)] {
            lines.extend(wrap(&told, columns).into_iter().map(Line::raw));
        }
    }
    lines
}
