//! Holds: soft locks on paths, shown to everyone, which go by themselves.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};

use crate::actor::Actor;
use crate::charter::{Charter, Extent};
use crate::path::Path;
use crate::problem::{Problem, ProblemKind};
use crate::update::{Change, Effect};

/// A path that somebody holds, and with it all that is inside.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Hold {
    /// The path.
    pub at: String,
    /// The participant.
    pub by: String,
    /// When it goes, in milliseconds since 1970 UTC, if it is not renewed.
    pub until: u64,
}

/// What became of holds.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct HoldChange {
    /// Those that were taken, renewed or taken over.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub taken: Vec<Hold>,
    /// The paths that nobody holds any more.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub freed: Vec<String>,
}

/// The holds of a session. A state machine as [`Presence`](crate::Presence) is one.
#[derive(Clone, Debug, Default)]
pub struct Holds {
    held: BTreeMap<Path, HoldEntry>,
    changed: BTreeSet<Path>,
}

#[derive(Clone, Debug)]
struct HoldEntry {
    by: String,
    for_ms: u64,
    until: u64,
}

/// A hold of which less than this part is over is not told anew when it is renewed by use.
const FRESH: u64 = 4;

impl Holds {
    /// Takes or renews a hold for so many milliseconds. Taking over what somebody else holds must
    /// have been allowed.
    pub fn handle_hold(
        &mut self,
        charter: &Charter,
        actor: &Actor,
        path: &Path,
        for_ms: Option<u64>,
        takes_over: bool,
        now: u64,
    ) -> Result<(), Problem> {
        let rules = &charter.holds;
        let millis =
            |duration: std::time::Duration| u64::try_from(duration.as_millis()).unwrap_or(u64::MAX);
        let (standard, longest) = (millis(rules.standard), millis(rules.longest));
        let for_ms = for_ms.unwrap_or(standard.min(longest));
        if !(1..=longest).contains(&for_ms) {
            let detail =
                format!("A hold lasts from 1 to {longest} ms; renew it while it is in use.");
            return Err(Problem::new(ProblemKind::OutOfBounds, detail).at(path));
        }
        let is_allowed =
            rules.at.is_empty() || rules.at.iter().any(|pattern| pattern.matches(path.tokens()));
        if !is_allowed || path.tokens().is_empty() {
            let detail = format!("The charter's [holds] does not let {path} be held.");
            return Err(Problem::new(ProblemKind::NotAllowed, detail).at(path));
        }
        let in_the_way: Vec<Path> =
            self.of_somebody_else(&actor.id, path).map(|(path, _)| path.clone()).collect();
        if let (Some(first), false) = (in_the_way.first(), takes_over) {
            return Err(self.held_problem(first, path));
        }
        let own = self.held.values().filter(|held| held.by == actor.id).count();
        if own >= rules.most && !self.held.contains_key(path) {
            let detail =
                format!("One participant holds at most {} paths. Release one first.", rules.most);
            return Err(Problem::new(ProblemKind::Full, detail).at(path).with("limit", "holds"));
        }
        in_the_way.iter().for_each(|path| self.free(path));
        self.held.insert(
            path.clone(),
            HoldEntry { by: actor.id.clone(), for_ms, until: now.saturating_add(for_ms) },
        );
        self.changed.insert(path.clone());
        Ok(())
    }

    /// Gives a hold up. Gives whether it was there.
    pub fn handle_release(&mut self, who: &str, path: &Path) -> bool {
        let is_own = self.held.get(path).is_some_and(|held| held.by == who);
        if is_own {
            self.free(path);
        }
        is_own
    }

    /// Somebody has left, and what they held is free.
    pub fn handle_left(&mut self, who: &str) {
        let own: Vec<_> = self
            .held
            .iter()
            .filter(|(_, held)| held.by == who)
            .map(|(path, _)| path.clone())
            .collect();
        own.iter().for_each(|path| self.free(path));
    }

    /// What was settled renews the holds under which it was made, and frees what is no longer
    /// there.
    pub fn handle_settled(&mut self, who: &str, effects: &[Effect], now: u64) {
        if self.held.is_empty() {
            return;
        }
        for effect in effects {
            let path = &effect.at;
            let is_gone = |held: &Path| match effect.change() {
                Change::Went(gone) => held.is_within(&gone),
                Change::Reset => true,
                Change::Came(_) | Change::Changed(_) => false,
            };
            let gone: Vec<_> = self.held.keys().filter(|held| is_gone(held)).cloned().collect();
            gone.iter().for_each(|path| self.free(path));
            for (held_path, held) in self.held.iter_mut().filter(|(held, _)| path.is_within(held)) {
                let until = now.saturating_add(held.for_ms);
                if held.by == who && until > held.until + held.for_ms / FRESH {
                    held.until = until;
                    self.changed.insert(held_path.clone());
                }
            }
        }
    }

    /// Frees what was not renewed in time.
    pub fn handle_timeout(&mut self, now: u64) {
        let over: Vec<_> = self
            .held
            .iter()
            .filter(|(_, held)| held.until <= now)
            .map(|(path, _)| path.clone())
            .collect();
        over.iter().for_each(|path| self.free(path));
    }

    /// When a hold goes next.
    pub fn poll_timeout(&self) -> Option<u64> {
        self.held.values().map(|held| held.until).min()
    }

    /// What changed since the last time.
    pub fn poll_changed(&mut self) -> HoldChange {
        let mut change = HoldChange::default();
        for path in std::mem::take(&mut self.changed) {
            match self.hold(&path) {
                Some(hold) => change.taken.push(hold),
                None => change.freed.push(path.to_string()),
            }
        }
        change
    }

    /// All of them, by path.
    pub fn list(&self) -> Vec<Hold> {
        self.held.keys().filter_map(|path| self.hold(path)).collect()
    }

    /// Why what somebody's edits would do is refused, what they cascade to included: where it
    /// changes what another holds, and holds are binding.
    pub fn refusal(&self, charter: &Charter, actor: &Actor, effects: &[Effect]) -> Option<Problem> {
        if !charter.holds.is_binding || self.held.is_empty() || actor.role == Actor::SERVICE {
            return None;
        }
        let sight = charter.sight(&actor.role);
        effects.iter().find_map(|effect| {
            let change = effect.change();
            let path = change.path()?;
            let (held, _) = self.of_somebody_else(&actor.id, path).next()?;
            Some(match sight.extent(&charter.fields, held) {
                Extent::Whole | Extent::Part => self.held_problem(held, path),
                Extent::Nothing => {
                    let detail = "Somebody holds something there. Wait until it is free.";
                    Problem::new(ProblemKind::Held, detail).at(path)
                }
            })
        })
    }

    fn of_somebody_else<'h>(
        &'h self,
        who: &str,
        path: &Path,
    ) -> impl Iterator<Item = (&'h Path, &'h HoldEntry)> {
        let is_in_the_way = |held: &Path| held.is_within(path) || path.is_within(held);
        self.held.iter().filter(move |(held_path, held)| held.by != who && is_in_the_way(held_path))
    }

    fn held_problem(&self, held: &Path, asked: &Path) -> Problem {
        let hold =
            self.hold(held).unwrap_or(Hold { at: held.to_string(), by: String::new(), until: 0 });
        let detail =
            format!("{held} is held by {:?}. Wait until it is free, or ask them.", hold.by);
        Problem::new(ProblemKind::Held, detail)
            .at(asked)
            .with("held", hold.at)
            .with("by", hold.by)
            .with("until", hold.until)
    }

    fn hold(&self, path: &Path) -> Option<Hold> {
        let held = self.held.get(path)?;
        Some(Hold { at: path.to_string(), by: held.by.clone(), until: held.until })
    }

    fn free(&mut self, path: &Path) {
        self.held.remove(path);
        self.changed.insert(path.clone());
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::op::Op;
    use serde_json::Value;
    use uuid::Uuid;

    const CHARTER: &str = r#"
charter = "sheet"
version = 1
[holds]
kind = "binding"
for = "10s"
longest = "60s"
most = 2
[state.pressings]
kind = "map"
[state.pressings.each.brix]
kind = "register"
"#;

    fn actor(id: &str) -> Actor {
        Actor::new(id, "participant", Uuid::nil())
    }

    fn path(at: &str) -> Path {
        Path::parse(at).unwrap()
    }

    #[test]
    fn a_hold_covers_what_is_inside_and_goes_by_itself() {
        let charter = Charter::parse(CHARTER).unwrap();
        let mut holds = Holds::default();
        let take = |holds: &mut Holds, who: &str, at: &str, over, now| {
            holds
                .handle_hold(&charter, &actor(who), &path(at), None, over, now)
                .map_err(|problem| problem.kind())
        };
        assert_eq!(take(&mut holds, "oda", "/pressings/p1", false, 0), Ok(()));
        assert_eq!(
            holds.poll_changed().taken,
            [Hold { at: "/pressings/p1".into(), by: "oda".into(), until: 10_000 }]
        );
        let cleared = |at: &str| [Effect::new(path(at), Op::Clear)];
        for at in ["/pressings/p1", "/pressings/p1/brix", "/pressings"] {
            assert_eq!(take(&mut holds, "bram", at, false, 1), Err(ProblemKind::Held), "{at}");
            let refusal = holds.refusal(&charter, &actor("bram"), &cleared(at));
            assert_eq!(refusal.map(|problem| problem.kind()), Some(ProblemKind::Held), "{at}");
        }
        assert_eq!(holds.refusal(&charter, &actor("oda"), &cleared("/pressings/p1/brix")), None);
        assert_eq!(
            holds.refusal(&charter, &actor("bram"), &cleared("/pressings/p10/brix")),
            None,
            "another record"
        );
        assert_eq!(take(&mut holds, "bram", "/pressings/p2", false, 1), Ok(()));
        // In use it is renewed, and told when a good part of its time was over.
        holds.poll_changed();
        holds.handle_settled("oda", &cleared("/pressings/p1/brix"), 1_000);
        assert_eq!(
            (holds.poll_changed(), holds.poll_timeout()),
            (HoldChange::default(), Some(10_000))
        );
        holds.handle_settled("oda", &cleared("/pressings/p1/brix"), 9_000);
        holds.handle_timeout(18_999);
        let change = holds.poll_changed();
        assert_eq!((change.taken.len(), change.freed), (1, vec!["/pressings/p2".to_owned()]));
        holds.handle_timeout(19_000);
        assert_eq!(
            (holds.poll_changed().freed, holds.list().len()),
            (vec!["/pressings/p1".to_owned()], 0)
        );
    }

    #[test]
    fn a_hold_is_bounded_and_can_be_taken_over_and_freed() {
        let charter = Charter::parse(CHARTER).unwrap();
        let mut holds = Holds::default();
        let take = |holds: &mut Holds, who: &str, at: &str, for_ms, over| {
            holds
                .handle_hold(&charter, &actor(who), &path(at), for_ms, over, 0)
                .map_err(|problem| problem.kind())
        };
        assert_eq!(
            take(&mut holds, "oda", "/pressings/p1", Some(60_001), false),
            Err(ProblemKind::OutOfBounds)
        );
        assert_eq!(take(&mut holds, "oda", "/pressings/p1", Some(60_000), false), Ok(()));
        assert_eq!(take(&mut holds, "oda", "/pressings/p2", None, false), Ok(()));
        assert_eq!(take(&mut holds, "oda", "/pressings/p3", None, false), Err(ProblemKind::Full));
        assert_eq!(take(&mut holds, "bram", "/pressings/p1/brix", None, true), Ok(()));
        assert!(!holds.handle_release("oda", &path("/pressings/p1")), "it is not theirs any more");
        assert!(holds.handle_release("oda", &path("/pressings/p2")));
        holds.handle_left("bram");
        assert!(holds.list().is_empty());
    }

    #[test]
    fn a_hold_goes_with_its_record_or_element_and_with_a_reset() {
        let charter = Charter::parse(CHARTER).unwrap();
        let drop = Effect::new(path("/pressings/p1"), Op::Drop);
        let remove = Effect::new(path("/pressings/p1"), Op::Remove);
        let reset = Effect::new(path(""), Op::Reset(Value::Null));
        let beside = Effect::new(path("/pressings/p2"), Op::Drop);
        let clear = Effect::new(path("/pressings/p1/brix"), Op::Clear);
        for (effect, is_freed) in
            [(drop, true), (remove, true), (reset, true), (beside, false), (clear, false)]
        {
            let mut holds = Holds::default();
            let at = path("/pressings/p1/brix");
            holds.handle_hold(&charter, &actor("oda"), &at, None, false, 0).unwrap();
            holds.handle_settled("bram", std::slice::from_ref(&effect), 9_000);
            assert_eq!(holds.list().is_empty(), is_freed, "{effect:?}");
            // What somebody else does under it renews nothing.
            holds.handle_timeout(10_000);
            assert!(holds.list().is_empty(), "{effect:?}");
        }
    }

    #[test]
    fn all_that_a_change_would_do_is_asked_for_and_a_condition_does_nothing() {
        let charter = Charter::parse(CHARTER).unwrap();
        let mut holds = Holds::default();
        let at = path("/pressings/p2");
        holds.handle_hold(&charter, &actor("oda"), &at, None, false, 0).unwrap();
        let effect = |at: &str| Effect::new(path(at), Op::Drop);
        let refusal = |effects: &[Effect]| {
            holds.refusal(&charter, &actor("bram"), effects).map(|problem| problem.kind())
        };
        let cascade = [effect("/pressings/p1"), effect("/pressings/p2")];
        assert_eq!(refusal(&cascade), Some(ProblemKind::Held));
        assert_eq!((refusal(&cascade[..1]), refusal(&[])), (None, None));
    }
}
