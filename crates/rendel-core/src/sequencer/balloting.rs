//! Ballots: what is cast, counted, unsealed and begun anew.

use serde_json::{Value, json};

use super::{Present, Sequencer};
use crate::actor::Actor;
use crate::charter::{Ballots, Power};
use crate::edit::Edit;
use crate::kind::{BallotCell, BallotField, CHOICE, Settlement, Site, Votes, papers_of};
use crate::op::{Act, Op};
use crate::path::{Path, inner};
use crate::problem::{Problem, ProblemKind};
use crate::update::{Effect, Effects, Settled};

/// Milliseconds between two counts of a ballot.
const COUNT_EVERY: u64 = 250;
/// Ballots of one field.
const MOST_BALLOTS: u64 = 100_000;

impl Sequencer {
    /// What an act on a ballot would do.
    pub(super) fn play_ballot(
        &self,
        present: &Present,
        act: &Act,
        (of, now): (&BallotField, &BallotCell),
        actor: &Actor,
        site: &Site<'_>,
    ) -> Result<Settlement, Problem> {
        let may = |power: Power| match self.charter.has_power(&actor.role, power) {
            true => Ok(()),
            false => {
                let detail = format!("Only who has the power {:?} does that.", power.name());
                Err(Problem::new(ProblemKind::NotAllowed, detail))
            }
        };
        let name = &site.path.tokens()[0];
        let papers = Path::of([papers_of(name)]);
        let own = inner(&papers, &actor.id);
        let fields = &self.charter.fields;
        let had = || present.state.plain_at(fields, &inner(&own, CHOICE));
        let votes = || self.votes(present, &papers);
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
                        effects.push(Effect::new(&papers, Op::Put { id, value }));
                    }
                }
                let has_cast = |who: &str| {
                    who == actor.id || present.state.has(fields, inner(&papers, who).tokens())
                };
                let seats = present.state.seats(&self.charter).filter(|_| of.unseals_itself());
                if seats.is_some_and(|(_, seats)| {
                    !seats.is_gathering() && seats.all().all(|(who, _)| has_cast(who))
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
                let drop = |who: &String| Effect::new(inner(&papers, who), Op::Drop);
                effects.extend(votes.keys().map(drop));
            }
            _ => effects.extend(now.told(site.path, &of.counted(now, &votes()))),
        }
        Ok(Settlement { effects, verdict: site.applied_verdict() })
    }

    /// What was cast by whom. Cost O(ballots).
    fn votes(&self, present: &Present, papers: &Path) -> Votes {
        let Some(Value::Object(ballots)) = present.state.plain_at(&self.charter.fields, papers)
        else {
            return Votes::new();
        };
        let choice = |(who, mut ballot): (String, Value)| (who, ballot[CHOICE].take());
        ballots.into_iter().map(choice).collect()
    }

    /// Ballots that an update touches are counted on the next beat.
    pub(super) fn note_cast(&mut self, update: &Settled) {
        let play = &self.charter.play;
        if !play.ballots.is_empty()
            && update
                .effects
                .iter()
                .any(|effect| effect.op.is_reset() || play.holds_ballots(&effect.at))
        {
            let beat = (update.at / COUNT_EVERY + 1).saturating_mul(COUNT_EVERY);
            self.count_at.get_or_insert(beat);
        }
    }

    /// Counts all ballots of the charter.
    pub(super) fn to_count(&self) -> Vec<Edit> {
        let at = |ballots: &Ballots| Path::of([ballots.field.clone()]).to_string();
        self.charter.play.ballots.iter().map(|ballots| Edit::new(at(ballots), "count")).collect()
    }
}

/// A register is another now.
pub(super) fn set(path: &Path, value: Value) -> Effect {
    match value {
        Value::Null => Effect::new(path, Op::Clear),
        value => Effect::new(path, Op::Set(value.into())),
    }
}
