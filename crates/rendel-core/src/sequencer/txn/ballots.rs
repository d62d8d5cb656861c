//! Ballots: what is cast, counted, unsealed and restarted.

use serde_json::{Value, json};

use super::Txn;
use crate::actor::Actor;
use crate::charter::Power;
use crate::kind::{
    BallotCell, BallotField, CHOICE, EditContext, Settlement, Votes, ballot_records,
};
use crate::op::{Act, Op};
use crate::path::{Path, inner};
use crate::problem::{Problem, ProblemKind};
use crate::update::{Effect, Effects};

/// Ballots of one field.
const MOST_BALLOTS: u64 = 100_000;

impl Txn<'_> {
    /// What an act on a ballot would do.
    pub(super) fn play_ballot(
        &self,
        act: &Act,
        (of, now): (&BallotField, &BallotCell),
        actor: &Actor,
        site: &EditContext<'_>,
    ) -> Result<Settlement, Problem> {
        let may = |power: Power| match self.session.charter.has_power(&actor.role, power) {
            true => Ok(()),
            false => {
                let detail = format!("This needs the power {:?}.", power.name());
                Err(Problem::new(ProblemKind::NotAllowed, detail))
            }
        };
        let name = &site.path.tokens()[0];
        let records = Path::of([ballot_records(name)]);
        let own = inner(&records, &actor.id);
        let fields = self.fields();
        let had = || self.state().plain_at(fields, &inner(&own, CHOICE));
        let votes = || self.votes(&records);
        let may_cast = |role: &str| of.check_voter(now, role).is_ok();
        let mut effects = Effects::new();
        match act {
            Act::Cast { .. } | Act::Withdraw(_) if actor.role == Actor::SERVICE => {
                let detail = "The backend has no ballot. Cast with a participant's token.";
                return Err(Problem::new(ProblemKind::NotAllowed, detail));
            }
            Act::Cast { choice, round } => {
                now.check_round(*round)?;
                let choice = of.check_cast(now, &actor.role, choice)?;
                let had = had();
                match &had {
                    Some(had) if *had == choice => {}
                    Some(_) => effects.push(set(&inner(&own, CHOICE), choice.clone())),
                    None if now.cast() >= MOST_BALLOTS => {
                        let detail = format!("A ballot takes at most {MOST_BALLOTS}.");
                        let problem = Problem::new(ProblemKind::Full, detail);
                        return Err(problem.with("limit", "ballots"));
                    }
                    None => {
                        let (id, value) = (Some(actor.id.clone()), json!({ CHOICE: choice }));
                        effects.push(Effect::new(&records, Op::Put { id, value }));
                    }
                }
                let has_cast = |who: &str| {
                    who == actor.id || self.state().has(fields, inner(&records, who).tokens())
                };
                let seats =
                    self.state().seats(&self.session.charter).filter(|_| of.unseals_itself());
                if seats.is_some_and(|(_, seats)| {
                    let mut waited = seats.all().filter(|(who, _)| self.may_vote(who, &may_cast));
                    !seats.is_gathering() && waited.all(|(who, _)| has_cast(who))
                }) {
                    let mut votes = votes();
                    votes.insert(actor.id.clone(), choice);
                    effects.extend(now.told(site.path, &of.unsealed(now, &votes)));
                }
            }
            Act::Withdraw(round) => {
                now.check_round(*round)?;
                of.check_voter(now, &actor.role)?;
                if had().is_none() {
                    let detail = "You have cast nothing here.";
                    return Err(Problem::new(ProblemKind::Gone, detail));
                }
                effects.push(Effect::new(&own, Op::Drop));
            }
            Act::Unseal(round) => {
                may(Power::Unseal)?;
                now.check_round(*round)?;
                effects.extend(now.told(site.path, &of.unsealed(now, &votes())));
            }
            Act::Restart { question, round } => {
                may(Power::Restart)?;
                now.check_round(*round)?;
                let votes = votes();
                let next = of.restarted(now, &votes, question.as_deref())?;
                effects.extend(now.told(site.path, &next));
                let drop = |who: &String| Effect::new(inner(&records, who), Op::Drop);
                effects.extend(votes.keys().map(drop));
            }
            _ => effects.extend(now.told(site.path, &of.counted(now, &votes()))),
        }
        Ok(Settlement { effects, verdict: site.applied_verdict() })
    }

    /// The ballots by participant. Cost O(ballots).
    fn votes(&self, records: &Path) -> Votes {
        let Some(Value::Object(ballots)) = self.state().plain_at(self.fields(), records) else {
            return Votes::new();
        };
        let choice = |(who, mut ballot): (String, Value)| (who, ballot[CHOICE].take());
        ballots.into_iter().map(choice).collect()
    }
}

/// A register gets another value.
pub(super) fn set(path: &Path, value: Value) -> Effect {
    match value {
        Value::Null => Effect::new(path, Op::Clear),
        value => Effect::new(path, Op::Set(value.into())),
    }
}
