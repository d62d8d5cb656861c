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
use std::ops::Bound::{Excluded, Unbounded};
use std::sync::Arc;

use serde_json::{Value, json};

use super::asked::{Asked, Bound, Common, Eyes, Placed, of_the_moment};
use super::order::Position;
use super::recent::Recent;
use super::rows::{Row, RowStep, RowSteps, Rows};
use crate::actor::Actor;
use crate::canonical::CanonicalText;
use crate::charter::{Charter, Extent};
use crate::kind::Walk;
use crate::path::{Path, Token};
use crate::problem::{Problem, ProblemKind};
use crate::state::State;
use crate::suggest::nearest;
use crate::update::{Change, Settled};

/// Indexes of a session, bytes of all rows in them, and results.
const INDEXES: usize = 1_024;
const BYTES: usize = 256 << 20;
const RESULTS: usize = 100_000;
/// About the bytes of a path that is still to be looked at.
const UNREAD: usize = 96;

/// Stands for one who follows one result.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ticket(u64);

/// The standing queries of a session.
#[derive(Debug, Default)]
pub struct Queries {
    indexes: BTreeMap<String, Index>,
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

/// The rows of all who ask the same, but for the group and where they begin.
#[derive(Debug)]
struct Index {
    common: Arc<Common>,
    /// Records that were not looked at yet, and how many wait until all are.
    unread: Vec<Path>,
    waiting: usize,
    rows: BTreeMap<Path, Placed>,
    groups: BTreeMap<CanonicalText, Group>,
    /// What windows send, with how many do.
    picks: BTreeMap<Option<Arc<BTreeSet<String>>>, usize>,
    bytes: usize,
}

/// What tells windows of a group apart, but for where they begin: of windows with the same, one
/// that begins later ends later.
type Frame = (usize, Option<Arc<BTreeSet<String>>>);

/// Where a window begins, and its number.
type Begin = (Option<Position>, u64);

#[derive(Debug, Default)]
struct Group {
    rows: BTreeSet<Position>,
    /// For each frame the windows by where they begin. Nearly always there is one.
    windows: Vec<(Frame, Vec<Begin>)>,
}

#[derive(Debug)]
struct Window {
    bound: Bound,
    rows: Vec<Position>,
    followers: BTreeSet<Ticket>,
    /// The update after which it was made.
    since: u64,
}

/// What an update made of a result, and who follows it.
#[derive(Clone, Debug, PartialEq)]
pub struct Turned {
    /// Who follows it.
    pub tickets: BTreeSet<Ticket>,
    /// What they are told.
    pub steps: RowSteps,
}

/// Records that a change touches: those of them by path, or all in a map or list.
#[derive(Debug, Default)]
struct Touched {
    /// Each with its changed fields; `None` if the whole record may have changed.
    records: BTreeMap<Path, Option<BTreeSet<Token>>>,
}

impl Group {
    /// The windows in which something at a position is a row or may become one.
    fn at(&self, position: &Position, windows: &BTreeMap<u64, Window>, found: &mut BTreeSet<u64>) {
        for (_, of_frame) in &self.windows {
            let before = of_frame.partition_point(|(after, _)| after.as_ref() < Some(position));
            for (_, id) in of_frame[..before].iter().rev() {
                match windows.get(id).and_then(Window::bound_of_full) {
                    // Those that begin before it end before it too.
                    Some(last) if last < position => break,
                    _ => {
                        found.insert(*id);
                    }
                }
            }
        }
    }

    /// The windows of a frame, in the order in which they begin.
    fn of_frame(&mut self, frame: &Frame) -> &mut Vec<Begin> {
        let known = self.windows.iter().position(|(known, _)| known == frame);
        let at = known.unwrap_or_else(|| {
            self.windows.reserve_exact(1);
            self.windows.push((frame.clone(), Vec::with_capacity(1)));
            self.windows.len() - 1
        });
        &mut self.windows[at].1
    }

    /// The rows behind a position.
    fn behind(&self, after: Option<&Position>) -> impl Iterator<Item = &Position> {
        let from = after.map_or(Unbounded, Excluded);
        self.rows.range((from, Unbounded))
    }

    fn is_unused(&self) -> bool {
        self.rows.is_empty() && self.windows.is_empty()
    }
}

impl Window {
    /// The last row, where no more fit in.
    fn bound_of_full(&self) -> Option<&Position> {
        self.rows.last().filter(|_| self.rows.len() >= self.bound.limit)
    }
}

impl Index {
    fn of(charter: &Charter, state: &State, common: Arc<Common>) -> Self {
        let mut index = Self {
            common,
            unread: Vec::new(),
            waiting: 0,
            rows: BTreeMap::new(),
            groups: BTreeMap::new(),
            picks: BTreeMap::new(),
            bytes: 0,
        };
        let mut records = BTreeSet::new();
        index.records(charter, state, &[], &mut records);
        index.unread = records.into_iter().collect();
        index.bytes = index.unread.len() * UNREAD;
        index
    }

    /// Looks at some records for the first time; gives how many. What changes meanwhile is put where
    /// it belongs whether it was looked at or not.
    fn read(&mut self, charter: &Charter, state: &State, most: usize) -> u64 {
        let rest = self.unread.len().saturating_sub(most);
        let read = self.unread.split_off(rest);
        for path in &read {
            self.bytes -= UNREAD;
            let placed = self.common.place(charter, state, path);
            self.put(path, placed);
        }
        if rest == 0 {
            self.unread = Vec::new();
        }
        read.len() as u64
    }

    /// Puts a record where it belongs now.
    fn put(&mut self, path: &Path, now: Option<Placed>) {
        let was = self.rows.remove(path);
        for group in was.iter().flat_map(|was| &was.groups) {
            let position = was.as_ref().map(|was| &was.position);
            if let Some((of, position)) = self.groups.get_mut(group).zip(position) {
                of.rows.remove(position);
                if of.is_unused() {
                    self.groups.remove(group);
                }
            }
        }
        self.bytes -= was.as_ref().map_or(0, bytes);
        let Some(now) = now else { return };
        for group in &now.groups {
            let of = self.groups.entry(group.clone()).or_default();
            of.rows.insert(now.position.clone());
        }
        self.bytes += bytes(&now);
        self.rows.insert(path.clone(), now);
    }

    /// All records that may be rows and lie at or in a place.
    fn records(
        &self,
        charter: &Charter,
        state: &State,
        within: &[Token],
        found: &mut BTreeSet<Path>,
    ) {
        let query = &self.common.query;
        let mut steps = query.steps().to_vec();
        for (step, token) in steps.iter_mut().zip(within) {
            *step = Some(token.clone());
        }
        Walk::over(&charter.fields, state.root(), &steps, &mut |path, _| {
            found.insert(Path::of(path.iter().cloned()));
        });
        let place = Path::of(within.iter().cloned());
        let known = self.rows.range(place.clone()..).map(|(path, _)| path);
        found.extend(known.take_while(|path| path.is_within(&place)).cloned());
    }
}

/// About the bytes of a row in an index.
fn bytes(placed: &Placed) -> usize {
    let path: usize = placed.position.1.tokens().iter().map(|token| token.len() + 24).sum();
    let groups: usize = placed.groups.iter().map(|group| group.as_str().len() + 48).sum();
    160 + path + groups + 2 * placed.position.bytes()
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
        let identity = &bound.common.identity;
        if !self.indexes.contains_key(identity) {
            if self.indexes.len() >= INDEXES || self.bytes >= BYTES {
                return Err(full());
            }
            let index = Index::of(charter, state, bound.common.clone());
            self.bytes += index.bytes;
            self.indexes.insert(identity.clone(), index);
        }
        if let Some(index) = self.indexes.get_mut(identity) {
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
                let Some(index) = self.indexes.get_mut(&bound.common.identity) else {
                    return Ok(None);
                };
                let was = index.bytes;
                self.touched += index.read(charter, state, most);
                self.bytes = self.bytes + index.bytes - was;
                if self.bytes > BYTES {
                    return Err(full());
                }
                if !index.unread.is_empty() {
                    return Ok(None);
                }
                index.waiting -= 1;
                if let Some(window) = self.window(seq, *bound) {
                    self.tickets.insert(ticket, Followed::Window(window));
                }
            }
            Some(Followed::Window(_)) => {}
        }
        let Some(Followed::Window(id)) = self.tickets.get(&ticket) else { return Ok(None) };
        let Some(window) = self.windows.get_mut(id) else { return Ok(None) };
        window.followers.insert(ticket);
        let rows = window.rows.iter().map(|row| window.row(charter, state, row)).collect();
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
        let index = self.indexes.get_mut(&bound.common.identity)?;
        let group = index.groups.entry(bound.group.clone()).or_default();
        let rows: Vec<_> = group.behind(bound.after.as_ref()).take(bound.limit).cloned().collect();
        let of_frame = group.of_frame(&bound.frame());
        let at = match of_frame.binary_search_by(|(after, _)| after.cmp(&bound.after)) {
            Ok(known) => return Some(of_frame[known].1),
            Err(at) => at,
        };
        self.next += 1;
        of_frame.insert(at, (bound.after.clone(), self.next));
        *index.picks.entry(bound.frame().1).or_default() += 1;
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

    /// What has become of the result of a ticket for a follower who has had it after the update
    /// `had`, all at once; `None` where that is beyond the recent past, or more than the rows.
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
        let steps = since.steps(|at| window.row(charter, state, &window.rows[at]));
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
                if let Some(index) = self.indexes.get_mut(&bound.common.identity) {
                    index.waiting -= 1;
                }
                self.drop_unused(&bound.common.identity);
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
        let Some(index) = self.indexes.get_mut(identity) else { return };
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
            }
        }
        self.drop_unused(identity);
    }

    fn drop_unused(&mut self, identity: &str) {
        let index = self.indexes.get(identity);
        if let Some(index) = index.filter(|index| index.picks.is_empty() && index.waiting == 0) {
            self.bytes -= index.bytes;
            self.indexes.remove(identity);
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
        let Self { indexes, windows, touched, bytes, recent, .. } = self;
        for index in indexes.values_mut() {
            let was = index.bytes;
            let (looked, told) =
                index.turn(windows, charter, (before, after), (&changes, update.seq));
            *touched += looked;
            *bytes = *bytes + index.bytes - was;
            for (window, told) in told {
                recent.put(window, update.seq, &told.steps.steps);
                turned.push(told);
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

impl Touched {
    fn of(index: &Index, charter: &Charter, after: &State, changes: &[Change]) -> Self {
        let mut records: BTreeMap<Path, Option<BTreeSet<Token>>> = BTreeMap::new();
        let depth = index.common.query.depth();
        let mut whole = BTreeSet::new();
        for change in changes {
            let (Change::Came(at) | Change::Went(at) | Change::Changed(at)) = change else {
                index.records(charter, after, &[], &mut whole);
                break;
            };
            let tokens = at.tokens();
            if !index.common.query.concerns(tokens) {
                continue;
            }
            match tokens.get(depth) {
                Some(field) => {
                    let query = &index.common.query;
                    let is_read = query.decides(field.as_str()) || index.sends(field.as_str());
                    if is_read || index.common.eyes.is_own() {
                        let record = Path::of(tokens[..depth].iter().cloned());
                        let fields = records.entry(record).or_insert_with(|| Some(BTreeSet::new()));
                        if let Some(fields) = fields {
                            fields.insert(field.clone());
                        }
                    }
                }
                None if tokens.len() == depth => {
                    whole.insert(at.clone());
                }
                None => index.records(charter, after, tokens, &mut whole),
            }
        }
        records.extend(whole.into_iter().map(|path| (path, None)));
        Self { records }
    }
}

impl Index {
    /// Whether some window may send a field.
    fn sends(&self, field: &str) -> bool {
        self.picks.keys().any(|pick| pick.as_ref().is_none_or(|pick| pick.contains(field)))
    }

    /// Takes changes in; gives how many records and rows were looked at, and what each window that
    /// turned is told.
    fn turn(
        &mut self,
        windows: &mut BTreeMap<u64, Window>,
        charter: &Charter,
        states: (&State, &State),
        (changes, seq): (&[Change], u64),
    ) -> (u64, Vec<(u64, Turned)>) {
        let touched = Touched::of(self, charter, states.1, changes);
        let mut affected: BTreeMap<u64, BTreeSet<Path>> = BTreeMap::new();
        let (mut moved, mut turned, mut looked) = (Vec::new(), Vec::new(), 0);
        for (path, fields) in &touched.records {
            let query = &self.common.query;
            let decides = fields
                .as_ref()
                .is_none_or(|fields| fields.iter().any(|field| query.decides(field.as_str())));
            let was = self.rows.get(path);
            // Who sees what may have changed with it.
            let now = match decides || self.common.eyes.is_own() {
                true => {
                    looked += 1;
                    self.common.place(charter, states.1, path)
                }
                false => was.cloned(),
            };
            let mut at = BTreeSet::new();
            for placed in [was, now.as_ref()].into_iter().flatten() {
                for group in placed.groups.iter().filter_map(|group| self.groups.get(group)) {
                    group.at(&placed.position, windows, &mut at);
                }
            }
            for window in at {
                affected.entry(window).or_default().insert(path.clone());
            }
            moved.push((path.clone(), now));
        }
        for (path, now) in moved {
            if self.rows.get(&path) != now.as_ref() {
                self.put(&path, now);
            }
        }
        for (id, paths) in affected {
            let Some(window) = windows.get_mut(&id) else { continue };
            let (steps, rows) = window.turn(self, charter, states, &touched, &paths);
            looked += rows;
            if !steps.is_empty() {
                let end = window.end(charter, states.1);
                let tickets = window.followers.clone();
                turned.push((
                    id,
                    Turned { tickets, steps: RowSteps { seq, since: None, steps, end } },
                ));
            }
        }
        (looked, turned)
    }
}

impl Window {
    fn row(&self, charter: &Charter, state: &State, position: &Position) -> Row {
        let path = position.1.clone();
        Row { value: self.bound.common.value(charter, state, &path), path }
    }

    fn end(&self, charter: &Charter, state: &State) -> Option<super::asked::Place> {
        let last = self.bound_of_full()?;
        Some(self.bound.common.place_of(charter, state, &last.1))
    }

    /// Brings the rows up to what the index says, of which only those at `paths` may have changed;
    /// gives the steps, and how many rows were looked at.
    fn turn(
        &mut self,
        index: &Index,
        charter: &Charter,
        (before, after): (&State, &State),
        touched: &Touched,
        paths: &BTreeSet<Path>,
    ) -> (Vec<RowStep>, u64) {
        let group = index.groups.get(&self.bound.group);
        // Beyond the last row of a full result there may be others that nobody has looked at.
        let bound = self.bound_of_full().cloned();
        let came = paths.iter().filter_map(|path| {
            let placed = index.rows.get(path)?;
            let is_here = placed.groups.contains(&self.bound.group)
                && self.bound.after.as_ref().is_none_or(|after| placed.position > *after)
                && bound.as_ref().is_none_or(|bound| placed.position <= *bound);
            is_here.then(|| placed.position.clone())
        });
        let stays = self.rows.iter().filter(|row| !paths.contains(&row.1)).cloned();
        let mut rows: Vec<Position> = stays.chain(came).collect();
        rows.sort();
        let mut looked = 0;
        if rows.len() < self.bound.limit
            && let Some(group) = group
        {
            let last = bound.as_ref().or(rows.last()).or(self.bound.after.as_ref()).cloned();
            let missing = self.bound.limit - rows.len();
            let more: Vec<_> = group.behind(last.as_ref()).take(missing).cloned().collect();
            looked += more.len() as u64;
            rows.extend(more);
        }
        rows.truncate(self.bound.limit);
        let was = std::mem::replace(&mut self.rows, rows);
        let mut steps = Vec::new();
        let mut list: Vec<&Path> = was.iter().map(|row| &row.1).collect();
        let now: BTreeMap<&Path, usize> =
            self.rows.iter().enumerate().map(|(at, row)| (&row.1, at)).collect();
        for at in (0..list.len()).rev() {
            if !now.contains_key(list[at]) {
                list.remove(at);
                steps.push(RowStep::Out { at });
            }
        }
        let known: BTreeSet<&Path> = list.iter().copied().collect();
        // What was not touched is in order, and what was may be. Each of the rest goes right behind
        // the last that is in its place and comes before it.
        let mut settled: BTreeSet<usize> =
            list.iter().filter(|path| !paths.contains(**path)).map(|path| now[*path]).collect();
        for (at, path) in list.iter().enumerate().filter(|(_, path)| paths.contains(**path)) {
            let is_settled = |path: &&&Path| settled.contains(&now[**path]);
            let before = list[..at].iter().rev().find(is_settled).map(|path| now[*path]);
            let after = list[at + 1..].iter().find(is_settled).map(|path| now[*path]);
            let rank = now[*path];
            if before.is_none_or(|before| before < rank) && after.is_none_or(|after| rank < after) {
                settled.insert(rank);
            }
        }
        let place = |list: &[&Path], settled: &BTreeSet<usize>, rank: usize| {
            let before = settled.range(..rank).next_back().map(|rank| &self.rows[*rank].1);
            before
                .and_then(|before| list.iter().position(|path| *path == before))
                .map_or(0, |at| at + 1)
        };
        for path in paths.iter().filter(|path| known.contains(path)) {
            let rank = now[path];
            let at = list.iter().position(|known| *known == path);
            let Some(at) = at.filter(|_| !settled.contains(&rank)) else { continue };
            list.remove(at);
            let to = place(&list, &settled, rank);
            list.insert(to, path);
            settled.insert(rank);
            if at != to {
                steps.push(RowStep::Move { at, to });
            }
        }
        let comes = self.rows.iter().enumerate().filter(|(_, row)| !known.contains(&row.1));
        for (rank, row) in comes {
            let at = place(&list, &settled, rank);
            list.insert(at, &row.1);
            settled.insert(rank);
            looked += 1;
            let value = self.bound.common.value(charter, after, &row.1);
            steps.push(RowStep::In { at, row: Row { path: row.1.clone(), value } });
        }
        for path in paths.iter().filter(|path| known.contains(path)) {
            let fields = touched.records.get(path).and_then(Option::as_ref);
            let is_sent = fields.is_none_or(|fields| {
                fields.iter().any(|field| self.bound.common.sends(field.as_str()))
            });
            if is_sent || self.bound.common.eyes.is_own() {
                looked += 2;
                let value = self.bound.common.value(charter, after, path);
                if value != self.bound.common.value(charter, before, path) {
                    steps.push(RowStep::Change { at: now[path], value });
                }
            }
        }
        // The place of the last row may be another where nothing that is sent of it is.
        if steps.is_empty()
            && let Some(last) = self.bound_of_full()
            && was.last() != Some(last)
        {
            let value = self.bound.common.value(charter, after, &last.1);
            steps.push(RowStep::Change { at: self.rows.len() - 1, value });
        }
        (steps, looked)
    }
}

fn full() -> Problem {
    let detail = "The session follows as many queries as it can. Leave one, or ask for less.";
    Problem::new(ProblemKind::Full, detail).with("limit", "queries")
}
