//! How a connection enters: its first frame, and who it is.

use rendel_core::{Problem, ProblemKind};
use rendel_session::{Had, WayIn};
use rendel_wire::{Enter, FromParticipant};
use tokio::sync::oneshot;

use super::messages::{Message, Messages};
use super::{Connection, End, Inside, no_token};
use crate::auth::check_role;
use crate::failure::{no_session, shutting_down};
use crate::guests::guest;
use crate::identity::Identity;
use crate::rate::Rate;
use crate::session::{Ask, Entry, SessionHandle};

impl Connection {
    /// Waits for the first frame, which must be `enter`.
    pub(super) async fn enter(
        &mut self,
        messages: &mut Messages,
        session: &str,
        token: Option<String>,
    ) -> Result<Inside, End> {
        let within = self.app.config.enter_within;
        let first =
            tokio::time::timeout(within, self.first_frame(messages)).await.map_err(|_| {
                let detail = format!(
                    "The first frame, \"enter\", must come within {} s.",
                    within.as_secs_f64()
                );
                Problem::new(ProblemKind::Silent, detail)
            })??;
        let FromParticipant::Enter(frame) = first else {
            return Err(Problem::new(
                ProblemKind::Malformed,
                "The first frame of a connection is \"enter\".",
            )
            .into());
        };
        let (handle, told, token) = self.identify(&frame, session, token).await?;
        let who = handle.amendments().over(&told);
        check_role(handle.charter(), &who)?;
        let (answer, answered) = oneshot::channel();
        let Enter { client, seen, epoch, audience, presence, fields, stateless, .. } = frame;
        let had = seen.zip(epoch).zip(audience);
        let had = had.map(|((seen, epoch), audience)| Had { seen, epoch, audience });
        if let Some(said) = &presence {
            handle.charter().presence.check(said)?;
        }
        let entry = Entry {
            told: told.clone(),
            client,
            way: if stateless { WayIn::Queries } else { WayIn::Replica { had } },
            encoding: self.way(),
            address: self.admission.address.clone(),
            outbound: self.outbound.clone(),
            presence,
            fields,
            token,
            answer,
        };
        handle.tell(Ask::Enter(Box::new(entry))).await?;
        let entered = answered.await.map_err(|_| shutting_down())??;
        // Four times as often as it is told on: a burst is no offence, a flood is.
        let words = Rate::of(
            "presence, holds, cues and queries",
            handle.charter().presence.rate.saturating_mul(4).max(40),
        );
        Ok(Inside { session: handle, entered, told, words, passed_over: None })
    }

    async fn first_frame(&mut self, messages: &mut Messages) -> Result<FromParticipant, End> {
        loop {
            match messages.next().await {
                Ok(Message::Ping(payload)) => self.socket.pong(&payload).await?,
                Ok(Message::Pong) => {}
                other => return self.read(other)?.map_err(End::from),
            }
        }
    }

    /// Who enters: by a token, or as a guest where the charter lets guests in. Who calls is found
    /// out first: a stranger does not learn which sessions there are. A guest is given a token with
    /// which they are the same guest when they come back.
    async fn identify(
        &mut self,
        frame: &Enter,
        session: &str,
        header: Option<String>,
    ) -> Result<(SessionHandle, Identity, Option<String>), Problem> {
        let token = frame.token.clone().or(header);
        if session.is_empty() || session.len() > 64 {
            return Err(token.map_or_else(no_token, |_| no_session(session)));
        }
        if let Some(token) = token {
            let who = Identity::of(&token, session, &self.app)?;
            self.count_guest(&who.id)?;
            return Ok((self.app.session(session).await?, who, None));
        }
        // What a stranger asks for is not brought into memory before it is known that they may come.
        if !self.app.lets_guests_in(session).await {
            return Err(no_token());
        }
        let handle = self.app.session(session).await.map_err(|_| no_token())?;
        let role = handle.charter().session.guests.clone().ok_or_else(no_token)?;
        let (who, token) = guest(&self.app.keys, session, &role)?;
        self.count_guest(&who.id)?;
        Ok((handle, who, Some(token)))
    }

    fn count_guest(&mut self, id: &str) -> Result<(), Problem> {
        if crate::guests::is_guest(id) {
            let admitted = self.app.guests.admit(&self.admission.address, id);
            self.guest = Some(admitted.inspect_err(|problem| self.app.metrics.count(problem))?);
        }
        Ok(())
    }
}
