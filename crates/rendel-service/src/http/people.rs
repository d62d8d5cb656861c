//! Who is in a session, and what can be done about it.

use std::collections::BTreeMap;

use actix_web::{HttpRequest, HttpResponse, delete, get, patch, post, web};
use chrono::{DateTime, SecondsFormat, Utc};
use rendel_core::{
    Actor, Charter, Extent, Lens, Path, Permission, Power, Problem, ProblemKind, Reader, State,
    Viewer,
};
use rendel_session::update_seen;
use rendel_store::{Amendment, Note};
use rendel_wire::http::{
    AmendParticipant, AmendedParticipant, CueBody, ForgottenParticipant, MayAnswer, MayBody,
    ParticipantList, ParticipantRecord, Removal, RemovalList,
};
use rendel_wire::{SendCue, decode_object};
use serde::Deserialize;
use serde_json::{Value, json};
use uuid::Uuid;

use super::audit::entry;
use super::participants::{MOST_NUMBER, Speaking, inside};
use super::{Answer, SMALL_BODY, Shared, body};
use crate::auth::{backend, check_power};
use crate::clock::now_ms;
use crate::failure::{Failure, no_session};
use crate::session::state_at;
use crate::token::{check_claims, check_name};

/// Who is in a session, what they tell of themselves and what they hold.
#[utoipa::path(tag = "sessions", params(("session" = String, Path)), responses((status = 200, body = ParticipantList),
    (status = 404, description = "`no-session`")), security(("bearer" = [])))]
#[get("/sessions/{session}/participants")]
pub(crate) async fn list(request: HttpRequest, session: web::Path<String>, app: Shared) -> Answer {
    backend(&request, &app)?;
    let who = match app.session_in_memory(&session) {
        Some(held) => held.who().await?,
        None if app.store.session(session.clone()).await?.is_some() => ParticipantList::default(),
        None => return Err(Failure(no_session(&session))),
    };
    Ok(HttpResponse::Ok().json(who))
}

/// Changes a participant's role, name or claims, over what their tokens say and also before they
/// come. Every open connection of theirs goes on under it at once, with the state that they may see
/// then. What is left out stays; `null` is as the token says again.
#[utoipa::path(tag = "sessions", request_body = AmendParticipant, params(("session" = String, Path), ("sub" = String, Path)), responses((status = 200, body = AmendedParticipant, description = "What stands over their tokens now"),
    (status = 404, description = "`no-session`"), (status = 422, description = "`out-of-bounds`: \
        no such role")), security(("bearer" = [])))]
#[patch("/sessions/{session}/participants/{sub}")]
pub(crate) async fn amend(
    request: HttpRequest,
    which: web::Path<(String, String)>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let (session, sub) = which.into_inner();
    let asked: AmendParticipant = decode_object(&body(payload, SMALL_BODY).await?)?;
    check_name("sub", &sub, 128)?;
    if sub == Actor::SERVICE {
        let detail = "\"service\" is the backend itself. Name a participant.";
        return Err(Failure(Problem::new(ProblemKind::NotAllowed, detail)));
    }
    asked.name.iter().flatten().try_for_each(|name| check_name("name", name, 128))?;
    asked.claims.iter().flatten().try_for_each(check_claims)?;
    let held = app.session(&session).await?;
    let charter = held.charter();
    let role = asked.role.iter().flatten().next();
    if let Some(unknown) = role.filter(|role| *role == Actor::SERVICE || !charter.has_role(role)) {
        let detail = format!("The charter has no role {unknown:?} for participants.");
        let problem = Problem::new(ProblemKind::OutOfBounds, detail);
        return Err(Failure(problem.did_you_mean(charter.nearest_role(unknown))));
    }
    let detail = json!({ "sub": sub, "changes": asked });
    let change = |before: Amendment| Amendment {
        role: asked.role.unwrap_or(before.role),
        name: asked.name.unwrap_or(before.name),
        claims: asked.claims.unwrap_or(before.claims),
    };
    let note = Note::of_session(&session, Actor::SERVICE, "changed a participant", detail);
    let keep = async |to| app.store.amend(held.ord(), sub.clone(), to, note).await;
    let Amendment { role, name, claims } = held.amend(sub.clone(), change, keep).await?;
    Ok(HttpResponse::Ok().json(AmendedParticipant { sub, role, name, claims }))
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Since {
    /// Updates after this `seq`.
    #[serde(default)]
    #[param(maximum = 9_007_199_254_740_991_i64)]
    after: u64,
}

/// What the service holds of a participant in a session: their updates, a thousand at a time, what
/// stands over their tokens, whether they were removed, and what the audit says of them.
#[utoipa::path(tag = "sessions", params(Since, ("session" = String, Path), ("sub" = String, Path)), responses((status = 200, body = ParticipantRecord),
    (status = 404, description = "`no-session`")), security(("bearer" = [])))]
#[get("/sessions/{session}/participants/{sub}/record")]
pub(crate) async fn record(
    request: HttpRequest,
    which: web::Path<(String, String)>,
    since: web::Query<Since>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let (session, sub) = which.into_inner();
    if since.after > MOST_NUMBER {
        let detail = "\"after\" is a seq: 0 to 9,007,199,254,740,991.";
        return Err(Failure(Problem::new(ProblemKind::OutOfBounds, detail)));
    }
    let held = app.store.held_of(session.clone(), sub.clone(), since.after).await?;
    let held = held.ok_or_else(|| no_session(&session))?;
    let Amendment { role, name, claims } = held.amendment;
    // What they cast on a secret ballot is told to nobody.
    let charter = app.session(&session).await?.charter().clone();
    let reader = Reader::service();
    let seen = |update: Value| {
        let shown = update_seen(&charter, &reader, &update.to_string().into());
        serde_json::from_str(shown.get()).unwrap_or_default()
    };
    let updates = held.updates.into_iter().map(seen).collect();
    let until = |at: DateTime<Utc>| at.to_rfc3339_opts(SecondsFormat::Millis, true);
    Ok(HttpResponse::Ok().json(ParticipantRecord {
        sub,
        updates,
        after: held.after,
        removed_until: held.removed_until.map(until),
        role,
        name,
        claims,
        acts: held.acts.into_iter().map(entry).collect(),
    }))
}

/// Puts all that the service holds of a participant in a session under a made-up name: in the
/// journal, snapshots, refusals and the audit, and in fields that are filled with the author's id.
/// Their tokens are revoked. Whoever is connected comes back by themselves; what the participant
/// wrote stays.
#[utoipa::path(tag = "sessions", params(("session" = String, Path), ("sub" = String, Path)), responses((status = 200, body = ForgottenParticipant),
    (status = 404, description = "`no-session`")), security(("bearer" = [])))]
#[post("/sessions/{session}/participants/{sub}/forget")]
pub(crate) async fn forget(
    request: HttpRequest,
    which: web::Path<(String, String)>,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let (session, sub) = which.into_inner();
    if sub == Actor::SERVICE {
        let detail = "\"service\" is the backend itself. Name a participant.";
        return Err(Failure(Problem::new(ProblemKind::NotAllowed, detail)));
    }
    let alias = app.forget_participant(&session, &sub).await?;
    Ok(HttpResponse::Ok().json(ForgottenParticipant { alias }))
}

#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[serde(deny_unknown_fields)]
pub(crate) struct Removing {
    /// Seconds within which they may not come back, 0 to 31,536,000; none where it is left out.
    seconds: Option<u64>,
    /// A role, for calls with the service key.
    #[serde(rename = "as")]
    #[param(rename = "as")]
    _as: Option<String>,
}

/// Removes a participant from a session. The backend may, and a role with the power `remove`.
#[utoipa::path(tag = "sessions", params(Removing, ("session" = String, Path), ("sub" = String, Path)), responses((status = 204, description = "They are out"),
    (status = 403, description = "`not-allowed`: the role has not the power"), (status = 404, description = "`no-session`")), security(("bearer" = [])))]
#[delete("/sessions/{session}/participants/{sub}")]
pub(crate) async fn remove(
    request: HttpRequest,
    which: web::Path<(String, String)>,
    removing: web::Query<Removing>,
    app: Shared,
) -> Answer {
    let (session, sub) = which.into_inner();
    let (held, who) = inside(&request, &app, &session).await?;
    check_power(held.charter(), &who, Power::Remove)?;
    if sub == Actor::SERVICE {
        let detail = "\"service\" is the backend itself, which nobody removes. Name a participant.";
        return Err(Failure(Problem::new(ProblemKind::NotAllowed, detail)));
    }
    let seconds = removing.seconds.unwrap_or(0);
    if seconds > 31_536_000 {
        return Err(Failure(Problem::new(
            ProblemKind::OutOfBounds,
            "\"seconds\" goes from 0 to 31,536,000.",
        )));
    }
    let until = now_ms() + seconds * 1_000;
    let detail = json!({ "sub": sub, "seconds": seconds });
    let note = Note::of_session(&session, &who.id, "removed", detail);
    app.store.remove(held.ord(), sub.clone(), stored_time(until), note).await?;
    held.remove(sub, until).await?;
    Ok(HttpResponse::NoContent().finish())
}

fn stored_time(ms: u64) -> DateTime<Utc> {
    i64::try_from(ms)
        .ok()
        .and_then(DateTime::from_timestamp_millis)
        .unwrap_or(DateTime::<Utc>::MAX_UTC)
}

/// Who was removed and may not come back yet. The backend may ask, and a role with the power
/// `remove`.
#[utoipa::path(tag = "sessions", params(Speaking, ("session" = String, Path)), responses((status = 200, body = RemovalList),
    (status = 403, description = "`not-allowed`: the role has not the power"), (status = 404, description = "`no-session`")), security(("bearer" = [])))]
#[get("/sessions/{session}/removals")]
pub(crate) async fn removals(
    request: HttpRequest,
    session: web::Path<String>,
    _speaking: web::Query<Speaking>,
    app: Shared,
) -> Answer {
    let (held, who) = inside(&request, &app, &session).await?;
    check_power(held.charter(), &who, Power::Remove)?;
    let shown = |(sub, until)| Removal {
        sub,
        until: stored_time(until).to_rfc3339_opts(SecondsFormat::Millis, true),
    };
    Ok(HttpResponse::Ok()
        .json(RemovalList { removals: held.removals().list().into_iter().map(shown).collect() }))
}

/// Lets a removed participant come back before the time. The backend may, and a role with the power
/// `remove`.
#[utoipa::path(tag = "sessions", params(Speaking, ("session" = String, Path), ("sub" = String, Path)), responses((status = 204, description = "They may come back"),
    (status = 403, description = "`not-allowed`: the role has not the power"), (status = 404, description = "`no-session`; `not-found`: they are not removed")), security(("bearer" = [])))]
#[delete("/sessions/{session}/removals/{sub}")]
pub(crate) async fn lift(
    request: HttpRequest,
    which: web::Path<(String, String)>,
    _speaking: web::Query<Speaking>,
    app: Shared,
) -> Answer {
    let (session, sub) = which.into_inner();
    let (held, who) = inside(&request, &app, &session).await?;
    check_power(held.charter(), &who, Power::Remove)?;
    let note = Note::of_session(&session, &who.id, "lifted a removal", json!({ "sub": sub }));
    let was_stored = app.store.lift(held.ord(), sub.clone(), note).await?;
    let was_kept = held.removals().lift(&sub);
    if !was_stored && !was_kept {
        let detail = format!("{sub:?} is not removed from {session:?}.");
        return Err(Failure(Problem::new(ProblemKind::NotFound, detail)));
    }
    Ok(HttpResponse::NoContent().finish())
}

/// Sends a cue.
#[utoipa::path(tag = "participants", request_body = CueBody, params(Speaking, ("session" = String, Path)), responses((status = 204, description = "It is on its way"),
    (status = 403, description = "`not-allowed`"), (status = 404, description = "`unknown-path`: \
        no such cue"), (status = 429, description = "`too-fast`")), security(("bearer" = [])))]
#[post("/sessions/{session}/cues")]
pub(crate) async fn cue(
    request: HttpRequest,
    session: web::Path<String>,
    _speaking: web::Query<Speaking>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    let (held, who) = inside(&request, &app, &session).await?;
    let CueBody { name, data, to } = decode_object(&body(payload, SMALL_BODY).await?)?;
    let actor = who.actor(Uuid::nil());
    held.send_cue(actor, SendCue { n: 0, name, data, to }).await?;
    Ok(HttpResponse::NoContent().finish())
}

/// Whether somebody sees what is at a path, and by which line of the charter.
fn sees(charter: &Charter, role: &str, sub: String, path: &Path, state: &State) -> MayAnswer {
    let viewer = Viewer::new(sub, &BTreeMap::new());
    let lens = Lens::new(charter, charter.sight(role), Some(&viewer), state);
    let extent = lens.extent(path);
    let line = charter.roles.get(role).map_or(0, |role| role.see_line);
    let how = match extent {
        Extent::Whole => "all of",
        Extent::Part => "parts of",
        Extent::Nothing => "nothing of",
    };
    let because = match lens.condition(path) {
        Some(source) => {
            let holds = if extent == Extent::Nothing { "does not hold" } else { "holds" };
            format!("{role:?} sees {how} {path}, since {source} {holds}.")
        }
        None => format!("{role:?} sees {how} {path}."),
    };
    let lines: Vec<usize> = Some(line).filter(|line| *line > 0).into_iter().collect();
    MayAnswer {
        allowed: extent != Extent::Nothing,
        takes_effect: extent == Extent::Whole,
        says: lines.iter().map(|line| line_of(charter, *line)).collect(),
        lines,
        because,
        problem: None,
    }
}

fn line_of(charter: &Charter, line: usize) -> String {
    charter.source.lines().nth(line - 1).unwrap_or_default().trim().to_owned()
}

/// Whether a role may make an edit, and by which line of the charter. Changes nothing.
#[utoipa::path(tag = "sessions", request_body = MayBody, params(("session" = String, Path)), responses((status = 200, body = MayAnswer),
    (status = 404, description = "`no-session`"), (status = 422, description = "`out-of-bounds`: \
        no such role")), security(("bearer" = [])))]
#[post("/sessions/{session}/may")]
pub(crate) async fn may(
    request: HttpRequest,
    session: web::Path<String>,
    payload: web::Payload,
    app: Shared,
) -> Answer {
    backend(&request, &app)?;
    let MayBody { role, sub, edit, see } = decode_object(&body(payload, SMALL_BODY).await?)?;
    let held = app.session(&session).await?;
    let charter = held.charter();
    if !charter.has_role(&role) {
        let detail = format!("The charter has no role {role:?}.");
        let problem = Problem::new(ProblemKind::OutOfBounds, detail)
            .did_you_mean(charter.nearest_role(&role));
        return Err(Failure(problem));
    }
    let edit = match (edit, see) {
        (Some(edit), None) => edit,
        (None, Some(path)) => {
            let seq = held.figures().await?.seq;
            let turn = app.documents.turn().await?;
            let state = state_at(&app, &held, seq, &turn).await?;
            return Ok(HttpResponse::Ok().json(sees(
                charter,
                &role,
                sub,
                &Path::parse(&path)?,
                &state,
            )));
        }
        _ => {
            let detail = "Ask for one: \"edit\", or \"see\" with a path.";
            return Err(Failure(Problem::new(ProblemKind::Malformed, detail)));
        }
    };
    let at = edit.at.clone();
    let found = held.may(Actor::new(sub, role.clone(), Uuid::nil()), edit).await?;
    let allowed = found.permission.is_given();
    let (lines, because) = match &found.permission {
        Permission::Service => (vec![], "The backend itself may edit everywhere.".to_owned()),
        Permission::Granted(0) => {
            (vec![], "The charter declares no roles, so everyone may edit everywhere.".to_owned())
        }
        Permission::Granted(line) => {
            (vec![*line], format!("Line {line} of the charter lets {role:?} edit {at}."))
        }
        Permission::Unmet(lines) => (
            lines.clone(),
            format!("The charter lets {role:?} edit {at} under a condition that does not hold."),
        ),
        Permission::Nowhere => (vec![], format!("No line of [roles.{role}] speaks of {at}.")),
    };
    let says = lines.iter().map(|line| line_of(charter, *line)).collect();
    let takes_effect = found.refusal.is_none();
    let answer = MayAnswer { allowed, takes_effect, lines, says, because, problem: found.refusal };
    Ok(HttpResponse::Ok().json(answer))
}
