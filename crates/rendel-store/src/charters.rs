//! Published charters.

use chrono::{DateTime, Utc};
use diesel::prelude::*;

use crate::audit::Note;
use crate::error::StoreError;
use crate::schema::charters;
use crate::store::Store;

/// A published charter.
#[derive(Clone, Debug, PartialEq, Eq, Queryable, Selectable)]
#[diesel(table_name = charters)]
pub struct CharterRow {
    /// Its name.
    pub name: String,
    /// Its version.
    pub version: i32,
    /// A line for people.
    pub title: String,
    /// The text, as it was published.
    pub source: String,
    /// When it was published.
    pub published: DateTime<Utc>,
}

impl Store {
    /// Keeps a charter. `Exists` if its name and version are there already, with whatever text.
    pub async fn publish_charter(
        &self,
        name: String,
        version: i32,
        title: String,
        source: String,
        note: Note,
    ) -> Result<(), StoreError> {
        use charters::dsl;
        let published = self.run_noted(note, move |conn| {
            let row = (
                dsl::name.eq(name),
                dsl::version.eq(version),
                dsl::title.eq(title),
                dsl::source.eq(source),
            );
            diesel::insert_into(charters::table).values(row).execute(conn)?;
            Ok(Some(()))
        });
        published.await.map(drop)
    }

    /// The charter of that name, in that version or the newest.
    pub async fn charter(
        &self,
        name: String,
        version: Option<i32>,
    ) -> Result<Option<CharterRow>, StoreError> {
        self.run(move |conn| {
            let mut query = charters::table
                .filter(charters::name.eq(name))
                .select(CharterRow::as_select())
                .into_boxed();
            if let Some(version) = version {
                query = query.filter(charters::version.eq(version));
            }
            Ok(query.order(charters::version.desc()).first(conn).optional()?)
        })
        .await
    }

    /// The newest version of each charter, by name.
    pub async fn charters(&self) -> Result<Vec<CharterRow>, StoreError> {
        self.run(|conn| {
            let newest = charters::table
                .distinct_on(charters::name)
                .order((charters::name, charters::version.desc()))
                .select(CharterRow::as_select());
            Ok(newest.load(conn)?)
        })
        .await
    }
}
