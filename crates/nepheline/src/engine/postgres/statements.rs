//! Running statements: prepared ones are kept, so that the server parses and plans each only once.

use std::iter;
use std::num::NonZeroUsize;
use std::sync::{Mutex, PoisonError};

use lru::LruCache;
use nepheline_core::Error;
use nepheline_core::internal::{LentBind, Statement};
use tokio_postgres::types::Type;
use tokio_postgres::{Client, RowStream};

use super::binds::{Bind, sql_type};
use super::fault::failed;

/// The statements that one connection keeps prepared.
#[derive(Debug)]
pub(super) struct Statements {
    kept: Mutex<LruCache<Box<str>, Prepared>>,
    /// True if nothing may be prepared under a name.
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

    /// Prepares nothing under a name, because the next statement may reach another session of the server.
    pub(super) fn unnamed() -> Statements {
        Statements { unnamed: true, ..Statements::keeping(1) }
    }

    /// Runs a statement; its rows are still to come.
    pub(super) async fn run(
        &self,
        client: &Client,
        statement: &Statement<'_>,
    ) -> Result<RowStream, tokio_postgres::Error> {
        // A prepared statement turns to a plan for any list on its sixth run, and searches the list
        // item by item; an unnamed one is planned for the list at hand each time.
        if self.unnamed || statement.is_of_once() || statement.binds().any(|bind| bind.is_list()) {
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
                // In a box of its own: it is rare, and its state would be moved with every query.
                Box::pin(self.prepare(client, statement.text(), types)).await?
            }
        };
        client
            .query_raw(&prepared, statement.binds().map(Bind))
            .await
    }

    /// Forgets a statement, so that it is prepared again.
    pub(super) fn forget(&self, text: &str) {
        let mut kept = self.kept.lock().unwrap_or_else(PoisonError::into_inner);
        kept.pop(text);
    }

    /// A statement of our own that binds values of these types, kept prepared.
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
