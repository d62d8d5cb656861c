//! Results that are kept up to date by what changed.
//!
//! All who ask the same share an *index*: for each group, that is each value of the one equality or
//! membership in the condition, its rows in order. A *window* is a stretch of one group. Of an
//! update only the records that it touches are looked at, and only the windows in which such a
//! record was or is; a window that has lost a row takes the next one from the index. So nothing is
//! scanned.
//!
//! Cost of a record that changes: O(log rows) and its conditions, for each index that reads what
//! has changed; then O(rows of a result) for each window that it touches. Memory: O(records that
//! match) for each index, O(rows) for each window.

use std::collections::{BTreeMap, BTreeSet};

use serde_json::{Value, json};

use super::asked::{Asked, Bound, Common, Eyes, of_the_moment};
use super::collection::{Collection, turn};
use super::recent::Recent;
use super::rows::{Row, RowStep, RowSteps, Rows, Ticket, Turned};
use super::touched::Touched;
use super::window::Window;
use crate::actor::Actor;
use crate::charter::{Charter, Extent};
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::state::State;
use crate::suggest::nearest;
use crate::update::{Change, Settled};

/// Indexes of a session, bytes of all rows in them, and results.
const INDEXES: usize = 1_024;
const BYTES: usize = 512 << 20;
const RESULTS: usize = 100_000;

/// The standing queries of a session.
#[derive(Debug, Default)]
pub struct Queries {
    collections: BTreeMap<Vec<Option<Token>>, Collection>,
    indexes: usize,
    windows: BTreeMap<u64, Window>,
    places: BTreeMap<Path, BTreeMap<Eyes, BTreeSet<Ticket>>>,
    tickets: BTreeMap<Ticket, Followed>,
    recent: Recent,
    next: u64,
    bytes: usize,
    touched: u64,
}

#[derive(Clone, Debug)]
enum Followed {
    Begun(Box<Bound>),
    Window(u64),
    Place(Box<(Path, Eyes)>),
}

impl Queries {
    /// Whether nobody follows anything.
    pub fn is_empty(&self) -> bool {
        self.tickets.is_empty()
    }

    /// Records and rows that were looked at, ever: what changes have cost.
    pub fn touched(&self) -> u64 {
        self.touched
    }

    /// About the bytes of all indexes.
    pub fn bytes(&self) -> usize {
        self.bytes
    }

    /// The result of a query now, without following it.
    pub fn once(
        charter: &Charter,
        state: &State,
        seq: u64,
        who: &Actor,
        asked: &Asked,
    ) -> Result<Rows, Problem> {
        Self::default().follow(charter, state, seq, who, asked).map(|(_, rows)| rows)
    }

    /// The result of a query now, and a ticket by which its follower is known. Cost O(records) for
    /// what nobody has asked for before, else O(rows).
    pub fn follow(
        &mut self,
        charter: &Charter,
        state: &State,
        seq: u64,
        who: &Actor,
        asked: &Asked,
    ) -> Result<(Ticket, Rows), Problem> {
        let ticket = self.begin(charter, state, who, asked)?;
        match self.go_on(charter, state, seq, ticket, usize::MAX) {
            Ok(Some(rows)) => Ok((ticket, rows)),
            Ok(None) => Err(full()),
            Err(problem) => {
                self.leave(ticket);
                Err(problem)
            }
        }
    }

    /// Begins to follow a query, with a ticket by which its follower is known. The result comes from
    /// [`go_on`](Self::go_on); until then each update goes through
    /// [`handle_settled`](Self::handle_settled), as later.
    pub fn begin(
        &mut self,
        charter: &Charter,
        state: &State,
        who: &Actor,
        asked: &Asked,
    ) -> Result<Ticket, Problem> {
        if self.tickets.len() >= RESULTS {
            return Err(full());
        }
        let query = match (&asked.name, &asked.of, &asked.path) {
            (Some(name), None, None) => charter.queries.get(name).cloned().ok_or_else(|| {
                let known = charter.queries.keys().map(String::as_str);
                let detail = format!("The charter has no query {name:?}.");
                Problem::new(ProblemKind::NotFound, detail).did_you_mean(nearest(name, known))
            })?,
            (None, Some(shape), None) => of_the_moment(shape, charter, who)?,
            (None, None, Some(path)) => return self.follow_place(charter, who, path),
            _ => {
                let detail = "Ask for one of \"name\", \"of\" and \"path\".";
                return Err(Problem::new(ProblemKind::Malformed, detail));
            }
        };
        if let Some(hidden) = query.hidden_from(charter, &who.role) {
            let named = asked.name.as_ref().map(|name| format!("{name:?}"));
            let detail = format!(
                "The role {:?} cannot ask {}: there is nothing at {hidden} for it.",
                who.role,
                named.unwrap_or_else(|| "this".to_owned())
            );
            return Err(Problem::new(ProblemKind::NotAllowed, detail));
        }
        let bound = Bound::of(query, asked, charter, who)?;
        let collection = self.collections.entry(bound.common.query.steps().to_vec()).or_default();
        if collection.get(&bound.common.identity).is_none() {
            if self.indexes >= INDEXES || self.bytes >= BYTES {
                self.drop_unused(&bound.common);
                return Err(full());
            }
            self.indexes += 1;
            self.bytes += collection.make(charter, state, &bound.common).bytes;
        }
        if let Some(index) = collection.get(&bound.common.identity) {
            index.waiting += 1;
        }
        Ok(self.ticket(Followed::Begun(Box::new(bound))))
    }

    /// Looks at no more than so many records that nobody has looked at for this query; gives the
    /// result once that is all of them. Cost O(records) of those, and O(rows).
    pub fn go_on(
        &mut self,
        charter: &Charter,
        state: &State,
        seq: u64,
        ticket: Ticket,
        most: usize,
    ) -> Result<Option<Rows>, Problem> {
        match self.tickets.get(&ticket).cloned() {
            None => return Ok(None),
            Some(Followed::Place(place)) => {
                let (path, eyes) = *place;
                let value = eyes.lens(charter, state).plain_at(&path);
                let rows = value.map(|value| Row { path, value }).into_iter().collect();
                return Ok(Some(Rows { seq, rows, end: None }));
            }
            Some(Followed::Begun(bound)) => {
                let common = &bound.common;
                let Some(collection) = self.collections.get_mut(common.query.steps()) else {
                    return Ok(None);
                };
                let bytes = |collection: &mut Collection| {
                    collection.get(&common.identity).map_or(0, |index| index.bytes)
                };
                let was = bytes(collection);
                self.touched += collection.read(&common.identity, charter, state, most);
                self.bytes = self.bytes + bytes(collection) - was;
                if self.bytes > BYTES {
                    return Err(full());
                }
                match collection.get(&common.identity) {
                    Some(index) if index.unread.is_empty() => index.waiting -= 1,
                    _ => return Ok(None),
                }
                if let Some(window) = self.window(seq, *bound) {
                    self.tickets.insert(ticket, Followed::Window(window));
                }
            }
            Some(Followed::Window(_)) => {}
        }
        let Some(Followed::Window(id)) = self.tickets.get(&ticket) else { return Ok(None) };
        let Some(window) = self.windows.get_mut(id) else { return Ok(None) };
        window.followers.insert(ticket);
        let rows = (0..window.rows.len()).map(|at| window.row(charter, state, at)).collect();
        Ok(Some(Rows { seq, rows, end: window.end(charter, state) }))
    }

    fn follow_place(
        &mut self,
        charter: &Charter,
        who: &Actor,
        path: &Path,
    ) -> Result<Ticket, Problem> {
        if charter.sight(&who.role).most(&charter.fields, path) == Extent::Nothing
            || !charter.fields.has_place(path.tokens())
        {
            let detail = format!("There is nothing at {path}.");
            return Err(Problem::new(ProblemKind::UnknownPath, detail).at(path));
        }
        // All of a collection would be looked at with each change in it.
        if charter.fields.is_collection(path.tokens()) {
            let detail = format!("{path} has many records. Ask for those with \"of\" or a name.");
            return Err(Problem::new(ProblemKind::OutOfBounds, detail).at(path));
        }
        let eyes = Eyes::of(charter, who, charter.sees_by_claims(&who.role));
        let ticket = self.ticket(Followed::Place(Box::new((path.clone(), eyes.clone()))));
        self.places.entry(path.clone()).or_default().entry(eyes).or_default().insert(ticket);
        Ok(ticket)
    }

    fn ticket(&mut self, followed: Followed) -> Ticket {
        self.next += 1;
        let ticket = Ticket(self.next);
        self.tickets.insert(ticket, followed);
        ticket
    }

    /// The window of a query, made where nobody has asked for it.
    fn window(&mut self, seq: u64, bound: Bound) -> Option<u64> {
        let collection = self.collections.get_mut(bound.common.query.steps())?;
        let index = collection.get(&bound.common.identity)?;
        let group = index.groups.entry(bound.group.clone()).or_default();
        let rows: Vec<_> = group.behind(bound.after.as_ref()).take(bound.limit).cloned().collect();
        let of_frame = group.of_frame(&bound.frame());
        let at = match of_frame.binary_search_by(|(after, _)| after.cmp(&bound.after)) {
            Ok(known) => return Some(of_frame[known].1),
            Err(at) => at,
        };
        self.next += 1;
        of_frame.insert(at, (bound.after.clone(), self.next));
        let count = index.picks.entry(bound.frame().1).or_default();
        *count += 1;
        if *count == 1 {
            collection.note_reader(&bound.common.identity);
        }
        let window = Window { bound, rows, followers: BTreeSet::new(), since: seq };
        self.windows.insert(self.next, window);
        Some(self.next)
    }

    /// What tells the result of a ticket from all others, but for where it begins; `None` for what is
    /// at one path.
    pub fn mark(&self, ticket: Ticket) -> Option<Value> {
        let Bound { common, group, limit, .. } = &self.window_of(ticket)?.1.bound;
        Some(json!([common.identity, group.as_str(), limit, common.query.pick]))
    }

    /// The steps from the result after the update `had` to that of now, for a follower that comes
    /// back; `None` if that is beyond the recent past, or if there are more steps than rows.
    pub fn since(
        &self,
        charter: &Charter,
        state: &State,
        seq: u64,
        ticket: Ticket,
        had: u64,
    ) -> Option<RowSteps> {
        let (id, window) = self.window_of(ticket)?;
        if had < window.since || had > seq {
            return None;
        }
        let since = self.recent.since(id, had, window.rows.len())?;
        let steps = since.steps(|at| window.row(charter, state, at));
        let end = window.end(charter, state);
        (steps.len() <= window.rows.len()).then_some(RowSteps { seq, since: Some(had), steps, end })
    }

    fn window_of(&self, ticket: Ticket) -> Option<(u64, &Window)> {
        match self.tickets.get(&ticket)? {
            Followed::Window(id) => Some((*id, self.windows.get(id)?)),
            Followed::Begun(_) | Followed::Place(_) => None,
        }
    }

    /// Somebody follows no more.
    pub fn leave(&mut self, ticket: Ticket) {
        match self.tickets.remove(&ticket) {
            None => {}
            Some(Followed::Place(place)) => {
                let (path, eyes) = *place;
                if let Some(of_path) = self.places.get_mut(&path) {
                    if let Some(followers) = of_path.get_mut(&eyes) {
                        followers.remove(&ticket);
                        if followers.is_empty() {
                            of_path.remove(&eyes);
                        }
                    }
                    if of_path.is_empty() {
                        self.places.remove(&path);
                    }
                }
            }
            Some(Followed::Begun(bound)) => {
                let collection = self.collections.get_mut(bound.common.query.steps());
                if let Some(index) = collection.and_then(|all| all.get(&bound.common.identity)) {
                    index.waiting -= 1;
                }
                self.drop_unused(&bound.common);
            }
            Some(Followed::Window(id)) => {
                let Some(window) = self.windows.get_mut(&id) else { return };
                window.followers.remove(&ticket);
                if window.followers.is_empty() {
                    self.close(id);
                }
            }
        }
    }

    fn close(&mut self, id: u64) {
        let Some(Window { bound, .. }) = self.windows.remove(&id) else { return };
        let identity = &bound.common.identity;
        let collection = self.collections.get_mut(bound.common.query.steps());
        let Some(collection) = collection else { return };
        let Some(index) = collection.get(identity) else { return };
        if let Some(group) = index.groups.get_mut(&bound.group) {
            group.of_frame(&bound.frame()).retain(|(_, known)| *known != id);
            group.windows.retain(|(_, of_frame)| !of_frame.is_empty());
            if group.is_unused() {
                index.groups.remove(&bound.group);
            }
        }
        let pick = bound.frame().1;
        if let Some(count) = index.picks.get_mut(&pick) {
            *count -= 1;
            if *count == 0 {
                index.picks.remove(&pick);
                collection.note_reader(identity);
            }
        }
        self.drop_unused(&bound.common);
    }

    fn drop_unused(&mut self, common: &Common) {
        let Some(collection) = self.collections.get_mut(common.query.steps()) else { return };
        if let Some(index) = collection.get(&common.identity).filter(|index| index.is_unused()) {
            self.bytes -= index.bytes;
            self.indexes -= 1;
            collection.remove(&common.identity);
        }
        if collection.is_empty() {
            self.collections.remove(common.query.steps());
        }
    }

    /// Takes an update in; gives the results that it has made another. `before` and `after` are the
    /// states around it.
    pub fn handle_settled(
        &mut self,
        charter: &Charter,
        before: &State,
        after: &State,
        update: &Settled,
    ) -> Vec<Turned> {
        if self.tickets.is_empty() {
            return Vec::new();
        }
        let changes: Vec<Change> = update
            .effects
            .iter()
            .map(crate::update::Effect::change)
            .chain(update.disclosures.iter().map(|told| Change::Changed(told.at.clone())))
            .collect();
        let mut turned = self.turned_places(charter, (before, after), &changes, update.seq);
        let Self { collections, windows, touched: looks, bytes, recent, .. } = self;
        for (steps, collection) in collections {
            let touched = Touched::of(steps, charter, after, &changes);
            for identity in collection.concerned(&touched) {
                let Some(index) = collection.get(&identity) else { continue };
                let was = index.bytes;
                let (looked, told) =
                    turn(index, windows, charter, (before, after), (&touched, update.seq));
                *looks += looked;
                *bytes = *bytes + index.bytes - was;
                for (window, told) in told {
                    recent.put(window, update.seq, &told.steps.steps);
                    turned.push(told);
                }
            }
        }
        turned
    }

    fn turned_places(
        &mut self,
        charter: &Charter,
        (before, after): (&State, &State),
        changes: &[Change],
        seq: u64,
    ) -> Vec<Turned> {
        let mut paths: BTreeSet<Path> = BTreeSet::new();
        for change in changes {
            let (Change::Came(at) | Change::Went(at) | Change::Changed(at)) = change else {
                paths.extend(self.places.keys().cloned());
                break;
            };
            let around =
                (0..at.tokens().len()).map(|len| Path::of(at.tokens()[..len].iter().cloned()));
            paths.extend(around.filter(|path| self.places.contains_key(path)));
            let inside = self.places.range(at.clone()..).map(|(path, _)| path);
            paths.extend(inside.take_while(|path| path.is_within(at)).cloned());
        }
        let mut turned = Vec::new();
        for path in paths {
            for (eyes, followers) in self.places.get(&path).into_iter().flatten() {
                self.touched += 2;
                let was = eyes.lens(charter, before).plain_at(&path);
                let step = match (was, eyes.lens(charter, after).plain_at(&path)) {
                    (Some(_), None) => RowStep::Out { at: 0 },
                    (None, Some(value)) => {
                        RowStep::In { at: 0, row: Row { path: path.clone(), value } }
                    }
                    (Some(was), Some(value)) if was != value => RowStep::Change { at: 0, value },
                    _ => continue,
                };
                let steps = RowSteps { seq, since: None, steps: vec![step], end: None };
                turned.push(Turned { tickets: followers.clone(), steps });
            }
        }
        turned
    }
}

fn full() -> Problem {
    let detail = "The session follows as many queries as it can. Leave one, or ask for less.";
    Problem::new(ProblemKind::Full, detail).with("limit", "queries")
}
