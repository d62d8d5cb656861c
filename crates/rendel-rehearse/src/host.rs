//! A process that drives the session, with the connections on its side.

use std::collections::{BTreeMap, BTreeSet, VecDeque};
use std::sync::Arc;

use rendel_session::{ConnectionId, Content, Input, Session, To, Welcomed};
use rendel_wire::{FromService, PresenceFrame, settled_frame};
use uuid::Uuid;

use crate::follower::Follower;
use crate::participant::Part;

/// Frames that wait for one connection.
const QUEUE: usize = 24;

/// A process, as long as it lives.
#[derive(Debug)]
pub(crate) struct Host {
    /// None once it was killed or has stopped.
    pub(crate) machine: Option<Session>,
    pub(crate) epoch: u64,
    pub(crate) outlets: BTreeMap<ConnectionId, Outlet>,
    pub(crate) followers: Vec<Follower>,
    /// What came while an append was under way.
    pub(crate) mailbox: VecDeque<Input>,
    /// Calls without an answer.
    pub(crate) calls: BTreeSet<u64>,
    /// For when its next timeout is planned.
    pub(crate) timeout: Option<u64>,
}

/// A connection on the service's side.
#[derive(Debug)]
pub(crate) struct Outlet {
    pub(crate) person: usize,
    pub(crate) who: String,
    pub(crate) part: Part,
    pub(crate) client: Uuid,
    pub(crate) audience: Option<usize>,
    queue: VecDeque<Queued>,
    /// Something is being written to it.
    pub(crate) is_busy: bool,
    /// It lost its backlog.
    behind: Option<Behind>,
    /// The last update that it was given.
    taken: Option<u64>,
    pub(crate) is_ended: bool,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Behind {
    Unasked,
    Asked,
}

/// A frame, as it goes out and as it is read by everybody who gets it.
#[derive(Debug)]
pub(crate) struct Told {
    pub(crate) text: String,
    pub(crate) frame: FromService,
}

#[derive(Clone, Debug)]
struct Queued {
    told: Arc<Told>,
    seq: Option<u64>,
    /// It says nothing of the state.
    is_aside: bool,
}

/// What a connection writes next.
#[derive(Debug, Default)]
pub(crate) struct Writing {
    pub(crate) frames: Vec<Arc<Told>>,
    /// It is to be caught up, from there.
    pub(crate) behind: Option<Option<u64>>,
}

impl Outlet {
    pub(crate) fn new(person: usize, who: String, part: Part, client: Uuid) -> Self {
        Self {
            person,
            who,
            part,
            client,
            audience: None,
            queue: VecDeque::new(),
            is_busy: false,
            behind: None,
            taken: None,
            is_ended: false,
        }
    }

    /// Nothing that they were shown as somebody else goes out any more; a welcome comes in its place.
    pub(crate) fn drop_shown(&mut self) {
        self.queue.retain(|one| one.is_aside);
        self.audience = None;
        self.taken = None;
    }

    fn put(&mut self, queued: Queued) {
        if self.behind.is_some() || self.is_ended {
            return;
        }
        self.queue.push_back(queued);
        if self.queue.len() > QUEUE {
            self.queue.clear();
            self.behind = Some(Behind::Unasked);
        }
    }

    /// Takes all that waits.
    pub(crate) fn take(&mut self) -> Writing {
        let queue = std::mem::take(&mut self.queue);
        self.taken = queue.iter().rev().find_map(|one| one.seq).or(self.taken);
        let mut writing =
            Writing { frames: queue.into_iter().map(|one| one.told).collect(), behind: None };
        if self.behind == Some(Behind::Unasked) {
            self.behind = Some(Behind::Asked);
            self.audience = None;
            writing.behind = Some(self.taken);
        }
        writing
    }
}

impl Host {
    pub(crate) fn new(machine: Session, epoch: u64) -> Self {
        Self {
            machine: Some(machine),
            epoch,
            outlets: BTreeMap::new(),
            followers: Vec::new(),
            mailbox: VecDeque::new(),
            calls: BTreeSet::new(),
            timeout: None,
        }
    }

    /// Puts what is shown into the queues.
    pub(crate) fn show(&mut self, to: &To, content: Content) -> Result<(), String> {
        let is_aside = matches!(content, Content::Aside(_));
        let (text, seq, audience) = match content {
            Content::Welcome(welcomed) => {
                (whole(&welcomed), Some(welcomed.seq), Some(welcomed.audience))
            }
            Content::Begin { .. } | Content::Instead { .. } => return Ok(()),
            Content::Updates(entries) => {
                let last = entries.last().map(|entry| entry.seq);
                (settled_frame(entries.iter().map(|entry| &*entry.update)), last, None)
            }
            Content::Presence(of) => {
                (FromService::Presence(PresenceFrame { of }).encode(), None, None)
            }
            Content::Frame(json) | Content::Aside(json) => (json.to_string(), None, None),
        };
        let frame = FromService::decode(text.as_bytes())
            .map_err(|problem| format!("{problem} in {text}"))?;
        let told = Arc::new(Told { text, frame });
        for (id, outlet) in &mut self.outlets {
            let is_meant = match to {
                To::Audience(audience) => outlet.audience == Some(*audience),
                To::AudienceBut(audience, (who, client)) => {
                    outlet.audience == Some(*audience)
                        && !(outlet.who == *who && outlet.client == *client)
                }
                To::These(these) => outlet.audience.is_some() && these.contains(id),
                To::One(one) => id == one,
            };
            if is_meant {
                if audience.is_some() {
                    outlet.audience = audience;
                    outlet.behind = None;
                }
                outlet.put(Queued { told: told.clone(), seq, is_aside });
            }
        }
        Ok(())
    }
}

/// A `welcome` with its state in it.
fn whole(welcomed: &Welcomed) -> String {
    match (&welcomed.state, welcomed.head.strip_suffix('}')) {
        (Some((_, state)), Some(head)) => format!("{head},\"state\":{state}}}"),
        _ => welcomed.head.clone(),
    }
}
