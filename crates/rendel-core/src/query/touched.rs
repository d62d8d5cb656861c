//! Which records an update touches.

use std::collections::{BTreeMap, BTreeSet};

use crate::charter::Charter;
use crate::kind::Walk;
use crate::path::{Path, Token};
use crate::state::State;
use crate::update::Change;

/// Records that an update touches.
#[derive(Debug, Default)]
pub(super) struct Touched {
    /// Each with its changed fields; `None` if the whole record may have changed.
    pub(super) records: BTreeMap<Path, Option<BTreeSet<Token>>>,
    /// All at or in these places.
    pub(super) areas: Vec<Path>,
}

impl Touched {
    pub(super) fn of(
        steps: &[Option<Token>],
        charter: &Charter,
        after: &State,
        changes: &[Change],
    ) -> Self {
        let mut touched = Self::default();
        let mut whole = BTreeSet::new();
        for change in changes {
            let (Change::Came(at) | Change::Went(at) | Change::Changed(at)) = change else {
                touched.areas = vec![Path::of::<Token>([])];
                break;
            };
            let tokens = at.tokens();
            let mut on_the_way = steps.iter().zip(tokens);
            if !on_the_way.all(|(step, token)| step.as_ref().is_none_or(|step| step == token)) {
                continue;
            }
            match tokens.get(steps.len()) {
                Some(field) => {
                    let record = Path::of(tokens[..steps.len()].iter().cloned());
                    let fields = touched.records.entry(record);
                    if let Some(fields) = fields.or_insert_with(|| Some(BTreeSet::new())) {
                        fields.insert(field.clone());
                    }
                }
                None if tokens.len() == steps.len() => {
                    whole.insert(at.clone());
                }
                None => touched.areas.push(at.clone()),
            }
        }
        for area in &touched.areas {
            whole.extend(records(steps, charter, after, area.tokens()));
        }
        touched.records.extend(whole.into_iter().map(|path| (path, None)));
        touched
    }
}

/// All records that are there, at or in a place.
pub(super) fn records(
    steps: &[Option<Token>],
    charter: &Charter,
    state: &State,
    within: &[Token],
) -> BTreeSet<Path> {
    let mut steps = steps.to_vec();
    for (step, token) in steps.iter_mut().zip(within) {
        *step = Some(token.clone());
    }
    let mut found = BTreeSet::new();
    Walk::over(&charter.fields, state.root(), &steps, &mut |path, _| {
        found.insert(Path::of(path.iter().cloned()));
    });
    found
}
