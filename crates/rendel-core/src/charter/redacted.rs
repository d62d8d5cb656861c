//! An update as it is sent to an audience, and to members of the audience that see more.

use std::collections::{BTreeMap, BTreeSet};

use super::sight::Sight;
use crate::grantees::{Grantees, SightKey, Viewer};
use crate::kind::Fields;
use crate::op::Op;
use crate::path::{Path, Token};
use crate::update::{Disclosure, Effect, Effects, PrivatePatch, Settled, Verdict};

/// An update on its way to an audience.
#[derive(Debug)]
pub struct RedactedUpdate<'t> {
    sight: &'t Sight,
    fields: &'t Fields,
    update: &'t Settled,
    /// How it changes visibility within the audience.
    disclosures: Vec<&'t Disclosure>,
    by_place: BTreeMap<(usize, &'t [Token]), &'t Disclosure>,
    by_key: BTreeMap<&'t SightKey, Vec<&'t Disclosure>>,
}

impl<'t> RedactedUpdate<'t> {
    /// The keys of participants that may be shown more than the whole audience.
    pub fn recipients(&self) -> impl Iterator<Item = &'t SightKey> {
        self.by_key.keys().copied()
    }

    /// What a participant is shown in addition to the audience; `None` if that is nothing. Cost
    /// O(places that they see × effects).
    pub fn beside(&self, viewer: &Viewer) -> Option<PrivatePatch> {
        let own = self.of(viewer);
        let theirs = self.update.effects.iter();
        let theirs = theirs.filter_map(|effect| self.effect_of(&own, effect, viewer));
        let mut effects: Effects = theirs.collect();
        effects.extend(self.turned_for(viewer));
        if effects.is_empty() {
            return None;
        }
        // An earlier value is shown only to participants that saw it.
        let told = |verdict: &Verdict| {
            let path = Path::parse(&verdict.at).ok()?;
            let inside = |told: &&Disclosure| {
                told.from.has(viewer) && told.to.has(viewer) && path.is_within(&told.at)
            };
            own.iter().any(inside).then(|| verdict.clone())
        };
        let mut verdicts: Vec<_> = self.update.verdicts.iter().filter_map(told).collect();
        if !verdicts.is_empty() {
            let open = self.sight.update(self.fields, self.update).verdicts;
            let which = |verdict: &Verdict| (verdict.rule.clone(), verdict.edit);
            verdicts.retain(|own| open.iter().all(|open| which(open) != which(own)));
            verdicts.extend(open);
            verdicts.sort_by_key(which);
        }
        let Settled { seq, client, n, .. } = *self.update;
        Some(PrivatePatch { seq, by: self.update.by.clone(), client, n, effects, verdicts })
    }

    /// The places that a participant sees or saw by one of their keys, in order.
    fn of(&self, viewer: &Viewer) -> Vec<&'t Disclosure> {
        let keyed = viewer.keys().filter_map(|key| self.by_key.get(&key));
        let mut own: Vec<_> = keyed.flatten().copied().collect();
        own.sort_by_key(|told| (told.secret, told.at.tokens()));
        own.dedup_by_key(|told| (told.secret, told.at.tokens()));
        own
    }

    fn effect(&self, effect: &Effect, sees: &dyn Fn(&Disclosure) -> bool) -> Option<Effect> {
        let seen = |secret: usize, place: &[Token]| {
            self.by_place.get(&(secret, place)).is_some_and(|told| sees(told))
        };
        self.sight.effect(self.fields, effect, &seen)
    }

    /// An effect as all are shown it.
    pub(crate) fn open(&self, effect: &Effect) -> Option<Effect> {
        self.effect(effect, &|told| {
            told.from == Grantees::All && told.to == Grantees::All && told.is_throughout()
        })
    }

    /// An effect that a participant is shown in addition: it lies in a place that they see before
    /// and after, and the audience does not.
    pub(crate) fn theirs(&self, effect: &Effect, viewer: &Viewer) -> Option<Effect> {
        self.effect_of(&self.of(viewer), effect, viewer)
    }

    fn effect_of(&self, own: &[&Disclosure], effect: &Effect, viewer: &Viewer) -> Option<Effect> {
        let change = effect.change();
        let within = |told: &Disclosure| change.path().is_some_and(|at| at.is_within(&told.at));
        let is_theirs = |told: &Disclosure| told.stays_with(viewer);
        let is_inside = own.iter().any(|told| is_theirs(told) && within(told));
        is_inside.then(|| self.effect(effect, &is_theirs)).flatten()
    }

    /// A place is shown to those who did not see it.
    fn shown(&self, told: &Disclosure) -> Option<Effect> {
        let value = told.value.clone()?;
        let value = self.sight.value_as(self.fields, &told.at, value, &|_, _| true)?;
        Some(Effect::new(&told.at, Op::Show(value)))
    }

    /// The places that are shown to or hidden from the whole audience after the effects.
    pub(crate) fn turned(&self) -> Effects {
        let turned = |told: &&Disclosure| {
            let was = told.from == Grantees::All && !told.is_anew;
            match (was, told.to == Grantees::All) {
                (true, true) if told.is_interrupted => self.shown(told),
                (false, true) => self.shown(told),
                (true, false) if !told.is_gone => Some(Effect::new(&told.at, Op::Hide)),
                _ => None,
            }
        };
        self.disclosures.iter().filter_map(turned).collect()
    }

    /// The places that are shown to or hidden from one participant in addition.
    pub(crate) fn turned_for(&self, viewer: &Viewer) -> Effects {
        let turned = |told: &Disclosure| {
            let saw = told.from.has(viewer) && told.from != Grantees::All && !told.is_anew;
            if told.to == Grantees::All || told.stays_with(viewer) {
                None
            } else if told.to.has(viewer) {
                self.shown(told)
            } else {
                (saw && !told.is_gone).then(|| Effect::new(&told.at, Op::Hide))
            }
        };
        self.of(viewer).into_iter().filter_map(turned).collect()
    }
}

impl Disclosure {
    /// Whether somebody sees the place before and after, and not all do.
    fn stays_with(&self, viewer: &Viewer) -> bool {
        let is_theirs = |seers: &Grantees| *seers != Grantees::All && seers.has(viewer);
        self.is_throughout() && is_theirs(&self.from) && is_theirs(&self.to)
    }

    /// Whether every participant that sees the place before and after saw it throughout.
    fn is_throughout(&self) -> bool {
        !self.is_anew && !self.is_interrupted
    }
}

impl Sight {
    /// An update on its way to participants with this sight. Cost O(places that it touches).
    pub fn told<'t>(&'t self, fields: &'t Fields, update: &'t Settled) -> RedactedUpdate<'t> {
        let secrets = if update.disclosures.is_empty() { BTreeSet::new() } else { self.secrets() };
        let of_ours = |told: &&Disclosure| secrets.contains(&told.secret);
        let disclosures: Vec<_> = update.disclosures.iter().filter(of_ours).collect();
        let mut by_key = BTreeMap::<_, Vec<_>>::new();
        for told in &disclosures {
            let keys: BTreeSet<_> = told.from.keys().chain(told.to.keys()).collect();
            keys.into_iter().for_each(|key| by_key.entry(key).or_default().push(*told));
        }
        let place = |told: &&'t Disclosure| ((told.secret, told.at.tokens()), *told);
        let by_place = disclosures.iter().map(place).collect();
        RedactedUpdate { sight: self, fields, update, disclosures, by_place, by_key }
    }
}
