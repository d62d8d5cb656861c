//! Looking for a seat.

use std::sync::Arc;

use actix_web::{HttpRequest, HttpResponse, post, web};
use rendel_core::{Actor, Charter, Problem, ProblemKind, Sequencer};
use rendel_store::{Note, StoreError};
use rendel_wire::decode_object;
use rendel_wire::http::{FindSeat, FoundSeat, OpenSession};
use serde_json::json;

use super::charters::no_charter;
use super::sessions::{findable, in_words};
use super::tokens::{check_role, check_seconds, check_whom, issued};
use super::{Answer, BACKEND_BODY, Shared, body};
use crate::app::App;
use crate::auth::backend;
use crate::failure::Failure;

/// Sessions that one look asks for a seat.
const ASKED: i64 = 16;
/// How often one begins anew because somebody else was quicker.
const TRIES: usize = 8;

/// Finds a session with a free seat, or opens one, and gives the seat to a participant, with a
/// token to come with. Two calls at one moment never get the same seat, nor open a session each where
/// one is enough. One participant may look ten times at once, and then once a second.
#[utoipa::path(tag = "sessions", request_body = FindSeat, responses(
    (status = 201, body = FoundSeat), (status = 404, description = "`not-found`: no such charter"),
    (status = 409, description = "`seat-taken`"),
    (status = 422, description = "`out-of-bounds`: no such role, seat or label; or the opening state does not fit")), security(("bearer" = [])))]
#[post("/seats")]
pub(crate) async fn find(request: HttpRequest, payload: web::Payload, app: Shared) -> Answer {
    backend(&request, &app)?;
    let asked: FindSeat = decode_object(&body(payload, BACKEND_BODY).await?)?;
    check_whom(&asked.sub, asked.name.as_deref())?;
    let seconds = check_seconds(asked.expires_in)?;
    let row = app.store.charter(asked.charter.clone(), None).await?;
    let Some(row) = row else { return Err(no_charter(&app, &asked.charter, None).await) };
    let charter = Charter::parse(&row.source)
        .map_err(|_| Problem::new(ProblemKind::Charter, "The stored charter cannot be read."))?;
    check_role(&charter, &asked.role)?;
    charter.check_labels(&asked.labels)?;
    if asked.opening.is_some() {
        // Whether it comes to be used or not.
        Sequencer::open(charter.clone().into(), asked.opening.as_ref())?;
    }
    if !charter.has_seats() {
        let detail = format!("The charter {:?} has no seats.", asked.charter);
        return Err(Failure(Problem::new(ProblemKind::OutOfBounds, detail)));
    }
    asked.seat.iter().try_for_each(|seat| charter.check_seat(seat))?;
    app.budget.charge_search(&asked.charter, &asked.sub, &app.metrics)?;
    let search = format!("{} {}", asked.charter, in_words(&asked.labels).join(","));
    let searching = app.searches.of(&search);
    let _alone = searching.lock().await;
    let (session, seat, opened) = seat(&app, &asked, &charter, row.version, &search).await?;
    let detail = json!({ "sub": asked.sub, "role": asked.role, "seat": seat });
    app.store.note(Note::of_session(&session, Actor::SERVICE, "gave a seat", detail)).await?;
    let token = issued(&app, &session, &asked.sub, asked.name.as_deref(), &asked.role, seconds)?;
    let found = FoundSeat { session, seat, opened, token: token.token, expires: token.expires };
    Ok(HttpResponse::Created().json(found))
}

/// A seat of a session that has one, or of a new one; and whether it is new.
async fn seat(
    app: &Arc<App>,
    asked: &FindSeat,
    charter: &Charter,
    version: i32,
    search: &str,
) -> Result<(String, String, bool), Failure> {
    let labels = in_words(&asked.labels);
    let ask = async |session: &str| -> Result<Option<String>, Problem> {
        let held = app.session(session).await?;
        match held.give_seat(asked.sub.clone(), asked.seat.clone()).await {
            Ok(seat) => Ok(Some(seat)),
            // It was taken, or the session has ended, since that was noted.
            Err(problem)
                if matches!(problem.kind(), ProblemKind::SeatTaken | ProblemKind::Ended) =>
            {
                Ok(None)
            }
            Err(problem) => Err(problem),
        }
    };
    for _ in 0..TRIES {
        let (found, last) = app
            .store
            .with_free_seats(asked.charter.clone(), labels.clone(), search.to_owned(), ASKED)
            .await?;
        for session in found {
            if let Some(seat) = ask(&session).await? {
                return Ok((session, seat, false));
            }
        }
        let id = uuid::Uuid::now_v7().to_string();
        let opening = OpenSession {
            id: Some(id.clone()),
            charter: asked.charter.clone(),
            version: None,
            opening: asked.opening.clone(),
            labels: asked.labels.clone(),
        };
        let sought = Some((search.to_owned(), last + 1));
        let findable = findable(charter.clone(), &opening, &id, sought)?;
        let plain = asked.opening.as_ref().map(ToString::to_string);
        let name = asked.charter.clone();
        match app.store.open_session(id.clone(), name, version, plain, findable, None).await {
            Ok(_) => {
                app.opened.notify_one();
                app.note_announced();
            }
            // Another service has opened one at the same moment: that has a seat.
            Err(StoreError::Exists) => continue,
            Err(error) => return Err(error.into()),
        }
        if let Some(seat) = ask(&id).await? {
            return Ok((id, seat, true));
        }
    }
    let detail = "Others were quicker each time. Try again.";
    Err(Failure(Problem::new(ProblemKind::SeatTaken, detail)))
}
