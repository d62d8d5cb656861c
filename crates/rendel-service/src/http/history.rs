//! What a participant can undo, how a value came about, and reverting the session.

use std::collections::BTreeMap;
use std::sync::Arc;

use actix_web::{HttpRequest, HttpResponse, get, post, web};
use rendel_core::{
    Actor, Effect, Extent, Lens, Path, Power, Problem, ProblemKind, Proposal, Settled, Undoable,
    VerdictKind,
};
use rendel_session::{Status, update_seen};
use rendel_wire::http::{RevertBody, Why, WhyLost, WhyMade, WhyPart, WhyRun};
use rendel_wire::{decode_object, described};
use serde::Deserialize;
use uuid::Uuid;

use super::participants::{Speaking, counted_as, inside};
use super::{Answer, SMALL_BODY, Shared, body, settled};
use crate::auth::check_power;
use crate::budget::Cost;
use crate::failure::Failure;
use crate::session::{Answered, Begun, state_at};

/// Updates of a chain that one call follows.
const MOST: usize = 50;
/// Conflicts among which what lost is looked for.
const CONFLICTS: i64 = 200;
/// Authors of runs of a text that one call looks up.
const AUTHORS: usize = 200;

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Whose {
    /// A participant, for calls with the service key; omit it for the caller.
    of: Option<String>,
    /// A client, where each has a history of its own.
    #[param(value_type = Option<String>)]
    client: Option<Uuid>,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// What a participant can undo and redo now, and what would be skipped.
#[utoipa::path(tag = "participants", params(Whose, ("session" = String, Path)), responses((status = 200, body = described::Undoable)),
    security(("bearer" = [])))]
#[get("/sessions/{session}/undo")]
pub(crate) async fn undoable(
    request: HttpRequest,
    session: web::Path<String>,
    whose: web::Query<Whose>,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    app.budget.charge(session.id(), &who, Cost::Page, &app.metrics)?;
    let client = whose.client.unwrap_or_default();
    let actor = match &whose.of {
        Some(of) if who.role == Actor::SERVICE => Actor::new(of, Actor::SERVICE, client),
        Some(of) if *of != who.id => {
            let detail = "Only the backend asks what somebody else can undo. Leave out \"of\".";
            return Err(Failure(Problem::new(ProblemKind::NotAllowed, detail)));
        }
        _ => who.actor(client),
    };
    let undoable: Undoable = session.undoable(actor).await?;
    Ok(HttpResponse::Ok().json(undoable))
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct WhyQuery {
    /// The path of a field, or of a record or element (RFC 6901).
    path: String,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// How the value at a path came about: the updates that made it, newest first, and what lost against
/// it. Found by a chain from update to update, not by reading the journal.
#[utoipa::path(tag = "participants", params(WhyQuery, ("session" = String, Path)), responses((status = 200, body = Why),
    (status = 410, description = "`gone`: nothing is there, or nothing that you see")), security(("bearer" = [])))]
#[get("/sessions/{session}/why")]
pub(crate) async fn why(
    request: HttpRequest,
    session: web::Path<String>,
    asked: web::Query<WhyQuery>,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    app.budget.charge(session.id(), &who, Cost::Page, &app.metrics)?;
    let (charter, reader, path) = (session.charter(), who.reader(), Path::parse(&asked.path)?);
    // A participant that may not see the place gets the same answer as if it did not exist.
    let reading = session.read(Some(path.clone()), who.reader()).await?;
    let (seq, state) = session.state().await?;
    let mut standing = state.standing(&charter.fields, &path);
    let sight = charter.sight(&reader.role);
    if !sight.is_whole() {
        // Neither that a hidden field is there nor when it changed.
        let lens = Lens::new(charter, sight, Some(&reader.viewer), &state);
        standing.parts.retain(|(at, _)| lens.extent(at) == Extent::Whole);
        if let Some(latest) = standing.parts.iter().map(|(_, seq)| *seq).max() {
            standing.latest = latest;
        }
    }
    let row = async |seq: u64| {
        let rows = app.store.journal(session.ord(), seq, seq, 1).await?;
        let Some(row) = rows.into_iter().next() else { return Ok::<_, Failure>(None) };
        let row: Arc<str> = row.into();
        let shown = update_seen(charter, &reader, &row);
        let read = |row: &str| serde_json::from_str::<Settled>(row).ok();
        Ok(read(&row).zip(read(shown.get())))
    };
    let touches = |effect: &Effect| {
        let change = effect.change();
        let is_beside = |at: &Path| at.is_within(&path) || path.is_within(at);
        change.path().is_none_or(is_beside)
    };
    let (mut made, mut next) = (Vec::new(), standing.latest);
    let mut undone_by = BTreeMap::new();
    let (mut is_whole, mut links) = (true, 0);
    while next > 0 {
        let found = if links < MOST { row(next).await? } else { None };
        let Some((update, shown)) = found else {
            is_whole = false;
            break;
        };
        links += 1;
        let touching = update.effects.iter().zip(&update.since);
        let since = touching.filter(|(effect, _)| touches(effect)).map(|(_, since)| *since).max();
        next = since.filter(|since| *since < update.seq).unwrap_or(0);
        let is_there = |(_, effect): &(usize, &Effect)| touches(effect);
        let (indexes, effects): (Vec<usize>, Vec<Effect>) = shown
            .effects
            .iter()
            .enumerate()
            .filter(is_there)
            .map(|(at, one)| (at, one.clone()))
            .unzip();
        let verdicts = shown.verdicts.iter().filter(|verdict| verdict.at == asked.path);
        let verdicts: Vec<_> = verdicts.cloned().collect();
        // Of what is hidden there is nothing to tell, nor that it was.
        if effects.is_empty() && verdicts.is_empty() && !sight.is_whole() {
            continue;
        }
        for seq in shown.undoes.iter().flat_map(|undoes| &undoes.updates) {
            undone_by.entry(*seq).or_insert(update.seq);
        }
        let rule = shown.rules.iter().find(|mark| {
            indexes.iter().any(|index| (mark.first..mark.first + mark.count).contains(index))
        });
        made.push(WhyMade {
            seq: update.seq,
            by: shown.by.clone(),
            at: update.at,
            effects,
            verdicts,
            rule: rule.map(|mark| mark.rule.clone()),
            gesture: shown.gesture,
            note: shown.note,
            undoes: shown.undoes,
            undone_by: undone_by.get(&update.seq).copied(),
        });
    }
    let first = made.last().map_or(0, |made: &WhyMade| made.seq);
    let mut lost = Vec::new();
    for row in app.store.conflicts(session.ord(), u64::MAX, CONFLICTS).await? {
        let seen = update_seen(charter, &reader, &row.into());
        let Ok(update) = serde_json::from_str::<Settled>(seen.get()) else { continue };
        let dropped = update
            .verdicts
            .iter()
            .filter(|verdict| verdict.verdict == VerdictKind::Dropped && verdict.at == asked.path);
        lost.extend(dropped.filter(|_| update.seq > first).map(|verdict| WhyLost {
            seq: update.seq,
            by: update.by.clone(),
            at: update.at,
            verdict: verdict.clone(),
        }));
    }
    let mut authors: BTreeMap<u64, Option<String>> = BTreeMap::new();
    let mut runs = Vec::new();
    for (text, seq) in standing.runs.into_iter().flatten() {
        if !authors.contains_key(&seq) && authors.len() < AUTHORS {
            let by = if seq == 0 { None } else { row(seq).await?.map(|(_, shown)| shown.by) };
            authors.insert(seq, by);
        }
        let by = authors.get(&seq).cloned().flatten();
        runs.push(WhyRun { text, seq: Some(seq).filter(|seq| *seq > 0), by });
    }
    let parts = standing.parts.into_iter().map(|(at, seq)| WhyPart { at, seq });
    Ok(HttpResponse::Ok().json(Why {
        at: asked.path.clone(),
        seq,
        value: serde_json::from_str(&reading.json).unwrap_or_default(),
        made,
        is_whole,
        lost,
        parts: parts.collect(),
        runs,
    }))
}

/// Takes the session, or one record or field of it, back to how it was at an earlier `seq`, as one new
/// update that can itself be undone. Fields that keep rules of play and lists that only grow stay as
/// they are. The backend may, and a role with the power `revert`, which needs no permission to edit
/// for it. A revert by a participant does not change records that belong to somebody else, nor what the
/// turn of another seat governs.
#[utoipa::path(tag = "participants", request_body = RevertBody, params(Speaking, ("session" = String, Path), ("Idempotency-Key" = Option<String>, Header)),
    responses((status = 200, description = "The settled update", body = described::SettledUpdate), (status = 204, description = "Nothing was to be changed"),
    (status = 403, description = "`not-allowed`: the role has not the power"), (status = 409, description = "`from-the-future`"), (status = 410, description = "`too-old`, `gone`"),
    (status = 413, description = "`too-large`: it takes more than 100,000 edits")), security(("bearer" = [])))]
#[post("/sessions/{session}/revert")]
pub(crate) async fn revert(
    request: HttpRequest,
    session: web::Path<String>,
    _speaking: web::Query<Speaking>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    let (session, who) = inside(&request, &app, &session).await?;
    check_power(session.charter(), &who, Power::Revert)?;
    if who.role != Actor::SERVICE && session.figures().await?.status == Status::Frozen {
        let detail = "The session is frozen: only the backend takes it back now.";
        return Err(Failure(Problem::new(ProblemKind::Frozen, detail)));
    }
    app.budget.charge(session.id(), &who, Cost::Page, &app.metrics)?;
    let body = body(payload, SMALL_BODY).await?;
    let (actor, n) = counted_as(&request, &who, &session, &body)?;
    let RevertBody { to, at, note } = decode_object(&body)?;
    let at = Path::parse(at.as_deref().unwrap_or_default())?;
    // Attributed to the participant, and allowed by the power alone.
    let actor = Actor::new(actor.id.clone(), Actor::SERVICE, actor.client);
    let (seq, state) = match session.begin_patch(actor.clone(), n, None).await? {
        Begun::Against { seq, state } => (seq, state),
        Begun::Known(answered) => return Ok(settled(answered)),
    };
    let turn = app.documents.turn().await?;
    let past = state_at(&app, &session, to, &turn).await?;
    let (charter, reader) = (session.charter().clone(), who.reader());
    let asker = Actor::new(reader.viewer.id.clone(), reader.role.clone(), Uuid::nil())
        .with_claims(who.claims.clone());
    let edits = turn.work(move || {
        let sight = charter.sight(&reader.role);
        state.edits_back_to(&past, &charter, &at, (&asker, sight))
    });
    let edits = edits.await.inspect_err(|problem| app.metrics.count(problem))?;
    let note = note.or_else(|| Some(format!("back to {to}")));
    let proposal = Proposal { note, is_revert: true, ..Proposal::new(n, Some(seq), edits) };
    let answered = session.end_patch(actor, proposal, None).await;
    let (charter, reader) = (session.charter(), who.reader());
    if charter.sight(&reader.role).is_whole() {
        return Ok(settled(answered?));
    }
    // It was settled with the backend's rights; the answer shows what the participant sees.
    let answered = answered.map_err(|problem| {
        let detail =
            "The session cannot be reverted to that point. Revert one record after the other.";
        Problem::new(problem.kind(), detail)
    })?;
    let shown = match answered.json {
        Some(_) => {
            let row = app.store.journal(session.ord(), answered.seq, answered.seq, 1).await?.pop();
            row.map(|row| update_seen(charter, &reader, &row.into()).into_inner().to_string())
        }
        None => None,
    };
    Ok(settled(Answered { json: shown.map(Into::into), ..answered }))
}
