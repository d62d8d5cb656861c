//! What the service itself announces about an update, if the charter asks for it.

use serde_json::Value;

use super::Txn;
use crate::charter::BuiltIn;
use crate::path::{Path, Token};
use crate::state::State;
use crate::update::{Announced, RuleMark, Way, Whose};

impl Txn<'_> {
    /// The announcements of the update: what happened, then what rules announced, then the rules that
    /// failed.
    pub(super) fn announce(&mut self) -> Vec<Announced> {
        let by_rules = std::mem::take(&mut self.log.announced);
        if self.session.charter.rules.built_in.is_empty() {
            return by_rules;
        }
        let mut announced = self.announce_events();
        announced.extend(by_rules);
        let failed = |mark: &RuleMark| {
            let values = [("rule", mark.rule.clone().into()), ("why", mark.failed.clone()?.into())];
            self.built_in(BuiltIn::Failed, values)
        };
        announced.extend(self.log.marks.iter().filter_map(failed));
        announced
    }

    fn built_in<const N: usize>(
        &self,
        what: BuiltIn,
        values: [(&str, Value); N],
    ) -> Option<Announced> {
        let values = values.into_iter().map(|(name, value)| (name.to_owned(), value)).collect();
        let announced = Announced { kind: what.name().to_owned(), rule: None, values };
        self.session.charter.rules.announces(what).then_some(announced)
    }

    fn announce_events(&self) -> Vec<Announced> {
        let (session, charter) = (self.session, &self.session.charter);
        let (before, after) = (&session.indexed.state, self.state());
        let mut announced = Vec::new();
        let passage = self.origin.passage.filter(|passage| passage.of == Whose::Participant);
        if let Some(passage) = passage {
            let what = match passage.way {
                Way::In => Some(BuiltIn::Joined),
                Way::Out => Some(BuiltIn::Left),
                Way::Role => None,
            };
            let (who, role) = (passage.who.clone().into(), passage.role.clone().into());
            let values = [("participant", who), ("role", role)];
            announced.extend(what.and_then(|what| self.built_in(what, values)));
        }
        let plain = |state: &State, field: &Token| {
            state.plain_at(&charter.fields, &Path::of([field.clone()])).unwrap_or_default()
        };
        if self.has_begun([before, after])
            && let Some(field) = &charter.play.seats
        {
            let seats = plain(after, field)["by"].take();
            announced.extend(self.built_in(BuiltIn::Seated, [("seats", seats)]));
        }
        for ballots in &charter.play.ballots {
            let is_open = |state: &State| {
                let path = [ballots.field.clone(), "open".into()];
                state.plain_at(&charter.fields, &Path::of(path)) == Some(Value::Bool(true))
            };
            if !is_open(before) && is_open(after) {
                let results = plain(after, &ballots.field)["results"].take();
                let field = format!("/{}", ballots.field).into();
                let values = [("ballot", field), ("results", results)];
                announced.extend(self.built_in(BuiltIn::Unsealed, values));
            }
        }
        let timed = charter.play.deadlines.iter().map(|deadline| &deadline.field);
        for field in timed.chain(&charter.play.timed).filter(|field| self.origin.fires(field)) {
            let due = plain(before, field)["due"].take();
            let (at, fired) = (format!("/{field}").into(), self.origin.now.into());
            let values = [("at", at), ("due", due), ("fired", fired)];
            announced.extend(self.built_in(BuiltIn::Fired, values));
        }
        announced
    }
}
