//! People and their sessions.

use crate::{
    StoreError,
    cell::{from_db, moment_of, to_db},
};
use sqlx::{PgPool, Row, postgres::PgRow};
use time::OffsetDateTime;
use zastrugi_core::{ids::PersonId, limits, moment::Moment, permits::Role};

#[derive(Debug, Clone)]
pub struct People {
    pool: PgPool,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Person {
    pub id: PersonId,
    pub name: String,
    pub role: Role,
    /// A PHC string; never shown.
    pub password: String,
    pub theme: String,
    pub active: bool,
    pub created: Moment,
    /// The password was drawn for them: it lets them choose their own, until then.
    pub one_time_until: Option<Moment>,
}

/// A session that has neither been idle too long nor lasted too long.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SessionRow {
    pub person: Person,
    pub csrf: String,
}

impl People {
    /// A session ends after this long without a request (safety: sessions).
    pub const IDLE_MINUTES: i32 = 30;
    /// And after this long in any case.
    pub const HOURS: i32 = 12;

    pub fn new(pool: PgPool) -> Self {
        Self { pool }
    }

    /// # Errors
    /// [`StoreError::Taken`] when the name is in use.
    pub async fn add(
        &self,
        name: &str,
        role: Role,
        password: &str,
    ) -> Result<PersonId, StoreError> {
        let id: i64 = sqlx::query_scalar(
            "insert into person (name, role, password) values ($1, $2, $3) returning id",
        )
        .bind(name)
        .bind(role.word())
        .bind(password)
        .fetch_one(&self.pool)
        .await?;
        Ok(PersonId(from_db(id)))
    }

    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn all(&self) -> Result<Vec<Person>, StoreError> {
        let rows = sqlx::query("select * from person order by lower(name)")
            .fetch_all(&self.pool)
            .await?;
        rows.iter().map(person).collect()
    }

    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn named(&self, name: &str) -> Result<Option<Person>, StoreError> {
        let row = sqlx::query("select * from person where lower(name) = lower($1)")
            .bind(name)
            .fetch_optional(&self.pool)
            .await?;
        row.as_ref().map(person).transpose()
    }

    /// Somebody who may sign in.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn active(&self, id: PersonId) -> Result<Option<Person>, StoreError> {
        let row =
            sqlx::query("select * from person where id = $1 and active and one_time_until is null")
                .bind(to_db(id.0))
                .fetch_optional(&self.pool)
                .await?;
        row.as_ref().map(person).transpose()
    }

    /// Changes role and whether the person may sign in; ends their sessions. The last active admin stays one.
    ///
    /// # Errors
    /// [`StoreError::Taken`] (“last admin”) when nobody would be left to run the place.
    pub async fn change(&self, id: PersonId, role: Role, active: bool) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query("lock table person in share row exclusive mode")
            .execute(&mut *tx)
            .await?;
        sqlx::query("update person set role = $2, active = $3 where id = $1")
            .bind(to_db(id.0))
            .bind(role.word())
            .bind(active)
            .execute(&mut *tx)
            .await?;
        let admins: i64 =
            sqlx::query_scalar("select count(*) from person where role = 'admin' and active")
                .fetch_one(&mut *tx)
                .await?;
        if admins == 0 {
            return Err(StoreError::Taken("last admin".into()));
        }
        sqlx::query("delete from session where person = $1")
            .bind(to_db(id.0))
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(())
    }

    /// Sets a password and ends the person's sessions. `one_time`: for so many hours, to choose their own by.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn set_password(
        &self,
        id: PersonId,
        password: &str,
        one_time: Option<i32>,
    ) -> Result<(), StoreError> {
        let mut tx = self.pool.begin().await?;
        sqlx::query(
            "update person set password = $2, one_time_until = now() + make_interval(hours => $3) where id = $1",
        )
        .bind(to_db(id.0))
        .bind(password)
        .bind(one_time)
        .execute(&mut *tx)
        .await?;
        sqlx::query("delete from session where person = $1")
            .bind(to_db(id.0))
            .execute(&mut *tx)
            .await?;
        tx.commit().await?;
        Ok(())
    }

    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn set_theme(&self, id: PersonId, theme: &str) -> Result<(), StoreError> {
        sqlx::query("update person set theme = $2 where id = $1")
            .bind(to_db(id.0))
            .bind(theme)
            .execute(&self.pool)
            .await?;
        Ok(())
    }

    /// `token` is the SHA-256 of what the cookie holds.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn open_session(
        &self,
        token: &[u8],
        person: PersonId,
        csrf: &str,
    ) -> Result<(), StoreError> {
        sqlx::query("insert into session (token, person, csrf) values ($1, $2, $3)")
            .bind(token)
            .bind(to_db(person.0))
            .bind(csrf)
            .execute(&self.pool)
            .await?;
        sqlx::query("delete from session where used < now() - interval '1 day'")
            .execute(&self.pool)
            .await?;
        // Of one person only so many: those that were used least lately end.
        sqlx::query(
            "delete from session where token in
             (select token from session where person = $1 order by used desc, created desc offset $2)",
        )
        .bind(to_db(person.0))
        .bind(i64::try_from(limits::SESSIONS.most).unwrap_or(i64::MAX))
        .execute(&self.pool)
        .await?;
        Ok(())
    }

    /// The session, if it is still good. `extend`: a request by a person, not a live stream.
    ///
    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn session(
        &self,
        token: &[u8],
        extend: bool,
    ) -> Result<Option<SessionRow>, StoreError> {
        let row = sqlx::query(
            "select p.*, s.csrf, s.used < now() - interval '1 minute' as old from session s
             join person p on p.id = s.person and p.active and p.one_time_until is null
             where s.token = $1 and s.used > now() - make_interval(mins => $2)
               and s.created > now() - make_interval(hours => $3)",
        )
        .bind(token)
        .bind(Self::IDLE_MINUTES)
        .bind(Self::HOURS)
        .fetch_optional(&self.pool)
        .await?;
        let Some(row) = row else { return Ok(None) };
        if extend && row.try_get::<bool, _>("old")? {
            sqlx::query("update session set used = now() where token = $1")
                .bind(token)
                .execute(&self.pool)
                .await?;
        }
        Ok(Some(SessionRow {
            person: person(&row)?,
            csrf: row.try_get("csrf")?,
        }))
    }

    /// # Errors
    /// [`StoreError::Unavailable`] when the database does not answer.
    pub async fn close_session(&self, token: &[u8]) -> Result<(), StoreError> {
        sqlx::query("delete from session where token = $1")
            .bind(token)
            .execute(&self.pool)
            .await?;
        Ok(())
    }
}

fn person(row: &PgRow) -> Result<Person, StoreError> {
    let role: String = row.try_get("role")?;
    Ok(Person {
        id: PersonId(from_db(row.try_get("id")?)),
        name: row.try_get("name")?,
        role: role.parse().unwrap_or(Role::Viewer),
        password: row.try_get("password")?,
        theme: row.try_get("theme")?,
        active: row.try_get("active")?,
        created: moment_of(row.try_get::<OffsetDateTime, _>("created")?),
        one_time_until: row
            .try_get::<Option<OffsetDateTime>, _>("one_time_until")?
            .map(moment_of),
    })
}
