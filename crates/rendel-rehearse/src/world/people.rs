//! Participants: how they come, go, send and are told.

use std::collections::BTreeSet;
use std::ops::RangeInclusive;
use std::sync::Arc;

use rendel_core::Actor;
use rendel_session::{Entry, Had, Heard, Input, WayIn};
use rendel_wire::{FromParticipant, FromService, LeftWhy, RowStepsFrame, RowsFrame};

use super::{Event, ROLES, World, short};
use crate::host::{Outlet, Told};
use crate::participant::{HIDDEN, Link, OWN, Part, Whim};
use crate::plan::Fault;

/// The words of a text that only some may see.
fn words(text: &str) -> BTreeSet<&str> {
    let word =
        |part: &'_ str| part.find(|letter: char| !letter.is_alphanumeric()).unwrap_or(part.len());
    text.split(OWN).skip(1).map(|part| &part[..word(part)]).collect()
}

impl World {
    pub(super) fn connect(&mut self, person: usize) -> Result<(), String> {
        let Some(host) = self.host() else {
            self.plan_in(500, Event::Connect { person });
            return Ok(());
        };
        if self.people[person].link.is_some() || self.people[person].has_gone {
            return Ok(());
        }
        if self.is(Fault::Roles, 4) && !self.people[person].is_amended {
            let part = Part::any(&ROLES, &mut self.chance);
            self.note(|| format!("{person} comes as {part:?}"));
            self.people[person].part = part;
        }
        let id = self.next;
        self.next += 1;
        let of = &mut self.people[person];
        of.handle_connected(Link { id, host, is_in: false });
        let who = of.part.actor(&of.id, of.replica.client());
        let enter = of.replica.enter(None);
        let had = enter.seen.zip(enter.epoch).zip(enter.audience);
        let had = had.map(|((seen, epoch), audience)| Had { seen, epoch, audience });
        let entry = Entry {
            connection: id,
            who,
            name: of.id.clone(),
            way: WayIn::Replica { had },
            presence: enter.presence,
            fields: false,
            token: None,
            seat: None,
        };
        let outlet = Outlet::new(person, of.id.clone(), of.part.clone(), of.replica.client());
        self.hosts[host].outlets.insert(id, outlet);
        self.note(|| format!("{person} connects as {id} with {had:?}"));
        let wait = 1 + self.chance.within(0..50);
        self.plan_in(wait, Event::Arrive { host, input: Input::Entered(Box::new(entry)) });
        if self.is(Fault::Cuts, 3) {
            let wait = self.chance.within(0..20_000);
            self.plan_in(wait, Event::Cut { person, link: id });
        }
        Ok(())
    }

    /// A connection is gone on both sides; whoever had it comes back.
    pub(super) fn cut(&mut self, person: usize, link: u64, why: LeftWhy) -> Result<(), String> {
        let Some(gone) = self.people[person].link.filter(|known| known.id == link) else {
            return Ok(());
        };
        self.people[person].link = None;
        self.note(|| format!("connection {link} of {person} is gone"));
        let wait = 1 + self.chance.within(0..3_000);
        let input = Input::Left { connection: link, why };
        self.plan_in(wait, Event::Arrive { host: gone.host, input });
        let wait = 100 + self.chance.within(0..4_000);
        self.plan_in(wait, Event::Connect { person });
        Ok(())
    }

    pub(super) fn deliver(
        &mut self,
        person: usize,
        link: u64,
        part: &Part,
        frames: &[Arc<Told>],
    ) -> Result<(), String> {
        let Some(known) = self.people[person].link.filter(|known| known.id == link) else {
            return Ok(());
        };
        for told in frames {
            let Told { text, frame } = &**told;
            self.frames += 1;
            self.note(|| format!("{person} gets {}", short(text)));
            if part.role != "steward" && text.contains(HIDDEN) {
                return Err(format!("{person} was shown what is hidden: {text}"));
            }
            self.check_told(person, frame)?;
            if matches!(frame, FromService::Welcome(_)) {
                self.people[person].shown_as = part.clone();
            }
            let before = self.people[person].replica.seq();
            let outgoing = self.people[person].handle(frame.clone())?;
            self.send(person, known.host, link, outgoing);
            // Nothing else changes what it holds.
            if matches!(
                frame,
                FromService::Welcome(_) | FromService::Settled(_) | FromService::Resync(_)
            ) {
                self.check_replica(person)?;
            }
            match frame {
                FromService::Rows(RowsFrame { query, .. })
                | FromService::RowSteps(RowStepsFrame { query, .. }) => {
                    self.check_rows(person, *query)?;
                }
                _ => {}
            }
            if part.role != "steward" {
                self.check_words(person, told, before)?;
            }
        }
        Ok(())
    }

    /// Whoever may not see everything is told no word that they may not see. What comes beside an
    /// update counts once that is there.
    fn check_words(&mut self, person: usize, told: &Told, before: u64) -> Result<(), String> {
        let of = &mut self.people[person];
        let (mut first, mut text) = (before, told.text.clone());
        match &told.frame {
            FromService::PrivatePatch(_) => {
                of.told.push_str(&text);
                return Ok(());
            }
            FromService::Welcome(welcome) => {
                of.told.clear();
                // What was told of a refusal then is told again.
                let mut welcome = welcome.clone();
                let updates = welcome.updates.as_ref().map_or(0, Vec::len) as u64;
                first = first.min(welcome.seq - updates);
                welcome.outcomes.clear();
                text = FromService::Welcome(welcome).encode();
            }
            FromService::Refused(_) | FromService::Outcome(_) => first = 0,
            _ => {}
        }
        let text = std::mem::take(&mut of.told) + &text;
        if !text.contains(OWN) {
            return Ok(());
        }
        let (part, service) = (&of.shown_as, &Part::new(Actor::SERVICE));
        let last = of.replica.seq();
        let seen = |range: RangeInclusive<u64>, part: &Part| {
            let truth = range.filter_map(|seq| self.journal.truth(seq, &of.id, part));
            truth.map(|state| state.to_string()).collect::<String>()
        };
        let theirs = of.secrets.clone() + &seen(before.min(last)..=last, part);
        // A state may be of a moment ago; but what is still there and not theirs to see is not in it.
        let (earlier, all) = (seen(first.min(last)..=last, part), seen(last..=last, service));
        let all = words(&all);
        let known = words(&earlier).into_iter().filter(|word| !all.contains(word));
        let known: BTreeSet<_> = known.chain(words(&theirs)).collect();
        match words(&text).difference(&known).next() {
            Some(word) => Err(format!("{person} was told {word}, which they may not see: {text}")),
            None => Ok(()),
        }
    }

    pub(super) fn send(
        &mut self,
        person: usize,
        host: usize,
        link: u64,
        frames: Vec<FromParticipant>,
    ) {
        for frame in frames {
            let frame = match frame {
                FromParticipant::Propose(frame) => {
                    self.people[person].replica.note_sent(frame.n);
                    Heard::Propose(frame)
                }
                FromParticipant::Digest(digest) => {
                    Heard::Digest { seq: digest.seq, sha256: digest.sha256, yours: digest.yours }
                }
                FromParticipant::Presence(said) => Heard::Said(said),
                FromParticipant::FollowUndo(_) => Heard::FollowUndo,
                FromParticipant::FollowQuery(frame) => Heard::FollowQuery(frame),
                FromParticipant::LeaveQuery(frame) => Heard::LeaveQuery(frame.query),
                FromParticipant::Hold(hold) => {
                    Heard::Hold { n: hold.n, at: hold.at, for_ms: hold.for_ms, over: hold.over }
                }
                FromParticipant::Release(release) => {
                    Heard::Release { n: release.n, at: release.at }
                }
                FromParticipant::Cue(cue) => Heard::Cue(cue),
                _ => continue,
            };
            self.note(|| format!("{person} sends {frame:?}"));
            // What is sent arrives in order: everything takes as long.
            let input = Input::Frame { connection: link, frame };
            self.plan_in(20, Event::Arrive { host, input });
        }
    }

    pub(super) fn act(&mut self, person: usize) -> Result<(), String> {
        if self.is_calm {
            return Ok(());
        }
        self.steps = self.steps.saturating_sub(1);
        let wait = self.chance.within(0..2 * 400 * self.people.len().max(1) as u64 / 4 + 1);
        self.plan_in(wait, Event::Act { person });
        match self.people[person].whim(&mut self.chance) {
            Whim::Rest => Ok(()),
            Whim::Leave => match self.people[person].link {
                Some(link) => self.cut(person, link.id, LeftWhy::Left),
                None => Ok(()),
            },
            Whim::Send(frames) => {
                if let Some(link) = self.people[person].link.filter(|link| link.is_in) {
                    self.send(person, link.host, link.id, frames);
                }
                Ok(())
            }
        }
    }
}
