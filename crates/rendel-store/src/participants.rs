//! What the backend says of participants, over what their tokens say.

use std::collections::BTreeMap;

use diesel::prelude::*;
use serde_json::Value;

use crate::audit::Note;
use crate::error::StoreError;
use crate::rows::read;
use crate::schema::participants;
use crate::store::Store;

/// What stands over a participant's tokens; what is left out is as the token says.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Amendment {
    /// Their role.
    pub role: Option<String>,
    /// Their name.
    pub name: Option<String>,
    /// What expressions read as `who.claims`.
    pub claims: Option<BTreeMap<String, Value>>,
}

impl Amendment {
    /// Whether everything is as the token says.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

impl Store {
    /// Keeps what stands over a participant's tokens, in place of what stood before.
    pub async fn amend(
        &self,
        session: i64,
        sub: String,
        amendment: Amendment,
        note: Note,
    ) -> Result<(), StoreError> {
        use participants::dsl;
        let amended = self.run_noted(note, move |conn| {
            let one = participants::table.filter(dsl::session.eq(session).and(dsl::sub.eq(&sub)));
            diesel::delete(one).execute(conn)?;
            if !amendment.is_empty() {
                let Amendment { role, name, claims } = amendment;
                let claims = claims.map(|claims| serde_json::json!(claims).to_string());
                let row = (
                    dsl::session.eq(session),
                    dsl::sub.eq(&sub),
                    dsl::role.eq(role),
                    dsl::name.eq(name),
                    dsl::claims.eq(claims),
                );
                diesel::insert_into(participants::table).values(row).execute(conn)?;
            }
            Ok(Some(()))
        });
        amended.await.map(drop)
    }
}

/// What stands over the tokens of a session's participants.
pub(crate) fn amendments(
    conn: &mut PgConnection,
    session: i64,
) -> Result<Vec<(String, Amendment)>, StoreError> {
    use participants::dsl;
    type Row = (String, Option<String>, Option<String>, Option<String>);
    let rows = participants::table.filter(dsl::session.eq(session));
    let rows: Vec<Row> = rows.select((dsl::sub, dsl::role, dsl::name, dsl::claims)).load(conn)?;
    rows.into_iter()
        .map(|(sub, role, name, claims)| {
            let claims = claims.map(|claims| read(&claims)).transpose()?;
            Ok((sub, Amendment { role, name, claims }))
        })
        .collect()
}
