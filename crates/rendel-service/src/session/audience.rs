//! Audiences: those who see the same share one encoding of the state and of each update, and one
//! digest.

use std::collections::BTreeMap;
use std::sync::Arc;

use bytestring::ByteString;
use rendel_core::{Charter, Problem, ProblemKind, Settled, Sight, State};

use crate::connection::Snapshot;

/// Which of a session's audiences somebody is in.
pub(super) type AudienceId = usize;

/// The audiences of a session. The first sees everything.
pub(super) struct Audiences {
    pub(super) all: Vec<Audience>,
    of_role: BTreeMap<String, AudienceId>,
}

pub(super) struct Audience {
    pub(super) sight: Sight,
    /// The last encoded state, which serves late joiners while the updates after it are in memory.
    pub(super) snapshot: Option<Arc<Snapshot>>,
    /// Follows what is shown, while somebody follows by patches.
    pub(super) patcher: Option<Patcher>,
}

impl Audiences {
    pub(super) fn of(charter: &Charter) -> Self {
        let mut all = vec![Audience::new(Sight::WHOLE)];
        let mut of_role = BTreeMap::new();
        for (name, role) in &charter.roles {
            let at =
                all.iter().position(|audience| audience.sight == role.see).unwrap_or_else(|| {
                    all.push(Audience::new(role.see.clone()));
                    all.len() - 1
                });
            of_role.insert(name.clone(), at);
        }
        Self { all, of_role }
    }

    pub(super) fn of_role(&self, role: &str) -> AudienceId {
        self.of_role.get(role).copied().unwrap_or(0)
    }

    pub(super) fn forget_snapshots(&mut self) {
        self.all.iter_mut().for_each(|audience| audience.snapshot = None);
    }
}

impl Audience {
    fn new(sight: Sight) -> Self {
        Self { sight, snapshot: None, patcher: None }
    }

    /// A stored update as this audience is shown it.
    pub(super) fn seen(&self, charter: &Charter, json: &Arc<str>) -> Arc<str> {
        seen(&self.sight, charter, json)
    }
}

/// A stored update as it is shown.
pub(crate) fn seen(sight: &Sight, charter: &Charter, json: &Arc<str>) -> Arc<str> {
    if sight.is_whole() {
        return json.clone();
    }
    // What cannot be read is not passed on: nobody could say what is in it.
    let Ok(update) = serde_json::from_str::<Settled>(json) else { return Arc::from("") };
    seen_update(sight, charter, &update, json)
}

pub(super) fn seen_update(
    sight: &Sight,
    charter: &Charter,
    update: &Settled,
    json: &Arc<str>,
) -> Arc<str> {
    let shown = sight.update(&charter.fields, update);
    if shown == *update {
        json.clone()
    } else {
        serde_json::to_string(&shown).unwrap_or_default().into()
    }
}

/// The refusal of a path at which nothing is, or nothing that is shown.
pub(crate) fn nothing_at(path: &rendel_core::Path) -> Problem {
    Problem::new(ProblemKind::UnknownPath, format!("There is nothing at {path}.")).at(path)
}

/// The state as it was last shown, which patches are made against.
pub(super) struct Patcher(pub(super) State);

impl Patcher {
    pub(super) fn follow(
        &mut self,
        charter: &Charter,
        sight: &Sight,
        updates: &[Arc<str>],
    ) -> Vec<ByteString> {
        let patch = |json: &Arc<str>| {
            let update: Settled = serde_json::from_str(json).map_err(|error| error.to_string())?;
            let ops = self
                .0
                .patch(&charter.fields, &update, sight)
                .map_err(|misfit| misfit.to_string())?;
            serde_json::to_string(&ops).map(ByteString::from).map_err(|error| error.to_string())
        };
        let patches: Result<Vec<_>, String> = updates.iter().map(patch).collect();
        // Without its patch a follower ends, and comes back for the state.
        patches
            .inspect_err(|error| tracing::error!(%error, "an update could not be told as a patch"))
            .unwrap_or_default()
    }
}
