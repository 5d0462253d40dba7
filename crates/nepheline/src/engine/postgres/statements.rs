//! Runs statements. Prepared ones are cached, so that the server parses and plans each once.

use std::iter;
use std::num::NonZeroUsize;
use std::sync::{Mutex, PoisonError};

use lru::LruCache;
use nepheline_core::Error;
use nepheline_core::internal::{LentBind, SentType, Statement};
use tokio_postgres::types::Type;
use tokio_postgres::{Client, RowStream};

use super::binds::{Bind, sql_type};
use super::fault::failed;

/// The prepared statements that one connection caches.
#[derive(Debug)]
pub(super) struct Statements {
    kept: Mutex<LruCache<Box<str>, Prepared>>,
    /// True if no statement may be prepared under a name.
    unnamed: bool,
}

/// A prepared statement, and the types that its binds were prepared with.
#[derive(Debug)]
struct Prepared {
    statement: tokio_postgres::Statement,
    types: Box<[Type]>,
}

impl Statements {
    pub(super) fn keeping(most: usize) -> Statements {
        let most = NonZeroUsize::new(most).unwrap_or(NonZeroUsize::MIN);
        Statements { kept: Mutex::new(LruCache::new(most)), unnamed: false }
    }

    /// Returns a cache that prepares nothing under a name, because the next statement may reach another
    /// server session.
    pub(super) fn unnamed() -> Statements {
        Statements { unnamed: true, ..Statements::keeping(1) }
    }

    /// Runs a statement whose rows are read later.
    pub(super) async fn run(
        &self,
        client: &Client,
        statement: &Statement<'_>,
    ) -> Result<RowStream, tokio_postgres::Error> {
        // A prepared statement may switch to a plan for any values on its sixth run; an unnamed one is planned for
        // the given values each time.
        let is_enum_list = |bind: LentBind<'_>| bind.is_list() && bind.sql_type().sent() == SentType::Enum;
        let is_plain = self.unnamed || statement.is_of_once() || statement.plans_for_values();
        // Only a prepared statement knows the array type of an enum.
        if is_plain && !statement.binds().any(is_enum_list) {
            let typed = |bind| {
                let ty = sql_type(&bind);
                (Bind(bind), ty)
            };
            let binds: Vec<_> = statement.binds().map(typed).collect();
            return client.query_typed_raw(statement.text(), binds).await;
        }
        let prepared = match self.known(statement.text(), statement.binds()) {
            Some(prepared) => prepared,
            None => {
                let types = statement.binds().map(|bind| sql_type(&bind)).collect();
                // Boxed, because it is rare, and its state would be moved with every query.
                Box::pin(self.prepare(client, statement.text(), types)).await?
            }
        };
        client
            .query_raw(&prepared, statement.binds().map(Bind))
            .await
    }

    /// Removes a statement, so that it is prepared again.
    pub(super) fn forget(&self, text: &str) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.pop(text);
    }

    /// Returns a cached statement of the library with binds of these types.
    pub(super) async fn prepared(
        &self,
        client: &Client,
        text: &str,
        types: &[Type],
    ) -> Result<tokio_postgres::Statement, Error> {
        match self.known(text, iter::empty()) {
            Some(prepared) => Ok(prepared),
            None => self
                .prepare(client, text, types.into())
                .await
                .map_err(failed),
        }
    }

    fn known<'b>(
        &self,
        text: &str,
        binds: impl Iterator<Item = LentBind<'b>>,
    ) -> Option<tokio_postgres::Statement> {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        let known = kept.get(text)?;
        let mut types = known.types.iter().zip(binds);
        types
            .all(|(ty, bind)| *ty == sql_type(&bind))
            .then(|| known.statement.clone())
    }

    async fn prepare(
        &self,
        client: &Client,
        text: &str,
        types: Box<[Type]>,
    ) -> Result<tokio_postgres::Statement, tokio_postgres::Error> {
        let prepared = client.prepare_typed(text, &types).await?;
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.put(text.into(), Prepared { statement: prepared.clone(), types });
        Ok(prepared)
    }
}
