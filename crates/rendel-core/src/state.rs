//! The live value of a session.

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::actor::ClientKey;
use crate::canonical::weight;
use crate::charter::{Ballots, Charter, Lens, Pattern, Sight, Turn};
use crate::document::Document;
use crate::edit::Edit;
use crate::grantees::Viewer;
use crate::kind::{
    Applying, Before, Cell, Field, Fields, Kind as _, Loading, Memory, Record, Seats, SeatsField,
    TurnCell, TurnField, Walk,
};
use crate::op::Op;
use crate::patch::{Patch, PatchOp};
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::rewrite::Rewrite;
use crate::sequence::{Anchored, View};
use crate::stamp::Stamp;
use crate::totals::Totals;
use crate::update::{Effect, Settled};

/// Stored effects or a stored state that do not fit the charter: the journal was damaged or belongs
/// to another charter.
#[derive(Clone, Debug, PartialEq, thiserror::Error)]
#[error("update {seq} at {at:?} does not fit the state: {why}")]
pub struct Misfit {
    /// The update.
    pub seq: u64,
    /// The path of its effect.
    pub at: String,
    /// What is wrong.
    pub why: String,
}

/// The whole value of a session at one `seq`.
///
/// Maps are persistent trees, so a clone costs a few pointers per top-level field whatever the size
/// of the state; the sequencer settles each proposal on one, the service writes snapshots from one.
#[derive(Clone, Debug, PartialEq, Serialize, Deserialize)]
pub struct State {
    root: Record,
    weight: i64,
    memory: Memory,
}

impl State {
    /// The state that a session opens with: the charter's initial values, and `opening` over them.
    pub fn open(charter: &Charter, opening: Option<&Value>) -> Result<Self, Problem> {
        let fields = &charter.fields;
        let root = match opening {
            Some(plain) => {
                check_no_ballots(charter, plain)?;
                fields.load(&Path::of::<String>([]), plain, Loading::ASKED)?
            }
            None => fields.initial(Stamp::OPENING),
        };
        let mut state = Self::of(fields, root, Memory::new(charter.memory));
        let totals = Totals::of(fields, &state.root, &charter.play.totals);
        for effect in state.following(charter, &totals, &Totals::default())? {
            let begun = state.apply_one(fields, &effect, Stamp::OPENING, None);
            begun.map_err(|misfit| Problem::new(ProblemKind::Unavailable, misfit.to_string()))?;
        }
        Ok(state)
    }

    fn of(fields: &Fields, root: Record, memory: Memory) -> Self {
        let weight = i64::try_from(weight(&fields.plain(&root))).unwrap_or(i64::MAX);
        Self { root, weight, memory }
    }

    /// The state as plain JSON, the only representation that leaves the service. Cost O(size).
    pub fn plain(&self, fields: &Fields) -> Value {
        fields.plain(&self.root)
    }

    /// The plain value at `path`, or `None` if nothing is there.
    pub fn plain_at(&self, fields: &Fields, path: &Path) -> Option<Value> {
        fields.plain_at(&self.root, path.tokens())
    }

    /// Whether something is at `tokens`.
    pub(crate) fn has(&self, fields: &Fields, tokens: &[Token]) -> bool {
        fields.has(&self.root, tokens)
    }

    /// Visits the paths that a pattern is about and that lie within `tokens`.
    pub(crate) fn each_at(
        &self,
        fields: &Fields,
        pattern: &Pattern,
        tokens: &[Token],
        visit: &mut dyn FnMut(&[Token]),
    ) {
        let Some(mut steps) = pattern.tokens().filter(|_| pattern.may_lead_into(tokens)) else {
            return;
        };
        for (step, token) in steps.iter_mut().zip(tokens) {
            *step = Some(token.clone());
        }
        Walk::over(fields, &self.root, &steps, &mut |path, _| visit(path));
    }

    /// Applies the effects of a settled update. Cost O(effects × log size).
    pub fn apply(&mut self, fields: &Fields, update: &Settled) -> Result<(), Misfit> {
        for (effect, stamp) in update.stamped(update.key()) {
            self.apply_one(fields, effect, stamp, None)?;
        }
        self.age(fields, update.seq);
        Ok(())
    }

    /// Applies an update and gives it as a JSON Patch (RFC 6902) against the plain state as it is
    /// shown. Cost as [`apply`](Self::apply), and for a changed text O(its length).
    pub fn patch(
        &mut self,
        fields: &Fields,
        update: &Settled,
        sight: &Sight,
    ) -> Result<Vec<PatchOp>, Misfit> {
        Ok(self.patches(fields, update, sight, &[])?.0)
    }

    /// The same with a patch for each of those who see more of the update, against the state as it
    /// is shown to them.
    pub fn patches(
        &mut self,
        fields: &Fields,
        update: &Settled,
        sight: &Sight,
        viewers: &[&Viewer],
    ) -> Result<(Vec<PatchOp>, Vec<Vec<PatchOp>>), Misfit> {
        let told = sight.told(fields, update);
        let mut ops = Vec::new();
        let mut theirs = vec![Vec::new(); viewers.len()];
        for (effect, stamp) in update.stamped(update.key()) {
            let shown = told.open(effect);
            let shown = shown.map_or(Ok(vec![]), |seen| self.ops(fields, update.seq, seen))?;
            for (ops, viewer) in theirs.iter_mut().zip(viewers) {
                match told.theirs(effect, viewer) {
                    None => ops.extend(shown.iter().cloned()),
                    Some(seen) => ops.extend(self.ops(fields, update.seq, seen)?),
                }
            }
            ops.extend(shown);
            self.apply_one(fields, effect, stamp, None)?;
        }
        self.age(fields, update.seq);
        for turned in told.turned() {
            let turned = self.ops(fields, update.seq, turned)?;
            theirs.iter_mut().for_each(|ops| ops.extend(turned.iter().cloned()));
            ops.extend(turned);
        }
        for (ops, viewer) in theirs.iter_mut().zip(viewers) {
            for turned in told.turned_for(viewer) {
                ops.extend(self.ops(fields, update.seq, turned)?);
            }
        }
        Ok((ops, theirs))
    }

    fn ops(&self, fields: &Fields, seq: u64, effect: Effect) -> Result<Vec<PatchOp>, Misfit> {
        if let Op::Reset(value) = effect.op {
            return Ok(vec![PatchOp::Replace { path: String::new(), value }]);
        }
        let mut patch = Patch::default();
        let there = fields.patch(&self.root, effect.at.tokens(), &effect, &mut patch);
        let why = || Misfit { seq, at: effect.at.to_string(), why: "nothing there".to_owned() };
        there.ok_or_else(why)?;
        Ok(patch.ops)
    }

    /// The edits that lead to the state that a document asks for, from this one as it is shown.
    /// Cost O(size).
    pub fn edits_for(
        &self,
        charter: &Charter,
        document: &Document,
        sight: &Sight,
        viewer: Option<&Viewer>,
    ) -> Result<Vec<Edit>, Problem> {
        let plain = Lens::new(charter, sight, viewer, self).plain();
        let wanted = document.applied_to(&plain, charter.limits.state).map_err(Problem::bounded)?;
        let mut rewrite = Rewrite::new(charter.limits.edits);
        charter.fields.rewrite(&plain, &wanted, &mut rewrite).map_err(Problem::bounded)?;
        Ok(rewrite.edits)
    }

    /// What is known of how a place came to be what it is.
    pub fn standing(&self, fields: &Fields, path: &Path) -> Provenance {
        let tokens = path.tokens();
        let latest = fields.latest(&self.root, tokens);
        let runs = match fields.find(&self.root, tokens) {
            Some((Field::Text(_), Cell::Text(text))) => Some(text.authors()),
            _ => None,
        };
        let part = |name: &str| {
            let at = Path::of(tokens.iter().cloned().chain([name.into()]));
            let seq = fields.latest(&self.root, at.tokens());
            (at, seq)
        };
        let each = fields.each_at(tokens).into_iter().flat_map(Fields::iter);
        let parts = each.map(|(name, _)| part(name)).collect();
        Provenance { latest, parts, runs }
    }

    /// Where the character is now that `client`, having seen `seen`, saw at `index` of the text at
    /// `path`.
    pub fn anchored(
        &self,
        fields: &Fields,
        path: &Path,
        seen: u64,
        client: ClientKey,
        index: usize,
    ) -> Option<Anchored> {
        let (field, cell) = fields.find(&self.root, path.tokens())?;
        field.anchored(cell, View { seen, client }, index)
    }

    /// Does what an effect says. `before` receives what it finds. Gives the update that made the record
    /// around the place, or 0 if there is no record around it.
    pub(crate) fn apply_one(
        &mut self,
        fields: &Fields,
        effect: &Effect,
        stamp: Stamp,
        before: Option<&mut Before>,
    ) -> Result<u64, Misfit> {
        let misfit = |why: String| Misfit { seq: stamp.seq, at: effect.at.to_string(), why };
        if let Op::Reset(plain) = &effect.op {
            let root = fields
                .load(&effect.at, plain, Loading::settled(stamp))
                .map_err(|problem| misfit(problem.detail().to_owned()))?;
            *self = Self::of(fields, root, self.memory.emptied());
            return Ok(0);
        }
        let mut applying =
            Applying { stamp, memory: &mut self.memory, growth: 0, before, record: 0 };
        fields.apply(&mut self.root, effect.at.tokens(), effect, &mut applying).map_err(misfit)?;
        self.weight += applying.growth;
        Ok(applying.record)
    }

    /// After all effects of an update: what is remembered becomes older. Never between two of them,
    /// which were settled with one memory.
    pub(crate) fn age(&mut self, fields: &Fields, seq: u64) {
        let root = &mut self.root;
        self.memory.age(seq, |path, horizon| fields.forget(root, path.tokens(), horizon));
    }

    /// What is remembered of what is gone.
    pub(crate) fn memory(&self) -> &Memory {
        &self.memory
    }

    /// About how many bytes the plain state takes as JSON; kept up to date with each effect.
    pub fn weight(&self) -> u64 {
        u64::try_from(self.weight).unwrap_or(0)
    }

    pub(crate) fn root(&self) -> &Record {
        &self.root
    }

    /// Who sits where, where the charter has seats.
    pub(crate) fn seats<'s>(&'s self, charter: &'s Charter) -> Option<(&'s SeatsField, &'s Seats)> {
        let field = charter.play.seats.as_ref()?;
        match charter.fields.find(self.root(), std::slice::from_ref(field))? {
            (Field::Seats(field), Cell::Seats(cell)) => Some((field, cell)),
            _ => None,
        }
    }

    /// The seat of a participant.
    pub(crate) fn seat_of(&self, charter: &Charter, who: &str) -> Option<String> {
        self.seats(charter)?.1.seat_of(who).map(str::to_owned)
    }

    /// Whose turn it is.
    pub(crate) fn turn<'s>(
        &'s self,
        charter: &'s Charter,
        field: &Token,
    ) -> Option<(&'s TurnField, &'s TurnCell)> {
        match charter.fields.find(self.root(), std::slice::from_ref(field))? {
            (Field::Turn(field), Cell::Turn(cell)) => Some((field, cell)),
            _ => None,
        }
    }

    /// What has to be told for what follows by itself to be right: totals that are others now, and
    /// turns of seats that are free. `was` is what the totals came to when they were right.
    pub(crate) fn following(
        &self,
        charter: &Charter,
        totals: &Totals,
        was: &Totals,
    ) -> Result<Vec<Effect>, Problem> {
        let Charter { fields, play, .. } = charter;
        let mut effects = totals.outstanding(fields, &self.root, &play.totals, was)?;
        for Turn { field, .. } in &play.turns {
            let Some(((turn, cell), (of, seats))) =
                self.turn(charter, field).zip(self.seats(charter))
            else {
                continue;
            };
            let next = turn.kept_up(cell, of, seats);
            if next != *cell {
                let next = turn.plain(&next);
                effects.push(Effect::new(Path::of([field.clone()]), Op::Set(next.into())));
            }
        }
        Ok(effects)
    }
}

/// How a place came to be what it is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Provenance {
    /// The update that last changed it; 0 where none did or that is not known.
    pub latest: u64,
    /// Of a record, its fields, each with the update that last changed it.
    pub parts: Vec<(Path, u64)>,
    /// Of a text, its runs, each with the update that it came with; 0 where that is not remembered.
    pub runs: Option<Vec<(String, u64)>>,
}

/// Nobody has cast anything before a session begins.
fn check_no_ballots(charter: &Charter, opening: &Value) -> Result<(), Problem> {
    for Ballots { records, .. } in &charter.play.ballots {
        let cast = opening.get(records.as_str()).and_then(Value::as_object);
        if cast.is_some_and(|cast| !cast.is_empty()) {
            let detail = format!("/{records} is what participants cast. Leave it out.");
            let problem = Problem::new(ProblemKind::OutOfBounds, detail);
            return Err(problem.at(Path::of([records.clone()])));
        }
    }
    Ok(())
}
