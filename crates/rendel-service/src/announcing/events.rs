//! Announcements as CloudEvents 1.0, in the JSON format.

use std::collections::BTreeMap;

use chrono::{DateTime, SecondsFormat, Utc};
use rendel_core::Charter;
use rendel_store::NewAnnouncement;
use serde_json::{Value, json};
use uuid::Uuid;

/// What an announcement is about.
#[derive(Clone, Debug)]
pub(crate) struct Subject {
    pub(crate) session: String,
    pub(crate) charter: String,
    pub(crate) version: u32,
}

impl Subject {
    /// A session of a charter.
    pub(crate) fn of(session: &str, charter: &Charter) -> Self {
        let (session, version) = (session.to_owned(), charter.version);
        Self { session, charter: charter.name.clone(), version }
    }
}

/// An announcement of something that happened at a time, in milliseconds since 1970 UTC. `told` has
/// what it says beside its subject.
pub(crate) fn event(
    about: &Subject,
    kind: &str,
    at: u64,
    told: BTreeMap<&str, Value>,
) -> NewAnnouncement {
    let id = Uuid::now_v7();
    let time = i64::try_from(at).ok().and_then(DateTime::<Utc>::from_timestamp_millis);
    let mut data = json!({
        "session": about.session, "charter": about.charter, "version": about.version,
    });
    for (name, value) in told {
        data[name] = value;
    }
    let event = json!({
        "specversion": "1.0",
        "id": id,
        "source": format!("/v1/sessions/{}", about.session),
        "type": kind,
        "time": time.unwrap_or_default().to_rfc3339_opts(SecondsFormat::Millis, true),
        "datacontenttype": "application/json",
        "data": data,
    });
    NewAnnouncement {
        id,
        session: about.session.clone(),
        charter: about.charter.clone(),
        kind: kind.to_owned(),
        event: event.to_string(),
    }
}
