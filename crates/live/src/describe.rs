//! The description of a query, which the database gives without running it, and where rows do not fit.

use std::error::Error as _;
use std::fmt;
use std::iter;
use std::sync::Arc;

use nepheline::internal::{Describable, DescribedPart};
use nepheline::prelude::*;
use nepheline::{Dialect, ErrorKind, Readable, SqlType};
use serde::Serialize;

use crate::kind::{Fit, Kind};
use crate::verify::{Difference, DifferenceKind, Differences, Subject};

/// The description of a query, which a database gives without running it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct Description {
    /// The columns of its rows, from left to right.
    pub columns: Vec<DescribedColumn>,
    /// Its parameters, in the order of their numbers.
    pub parameters: Vec<DescribedParameter>,
}

/// A column of a query's rows. What the engine does not tell is `None`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct DescribedColumn {
    /// The name.
    pub name: String,
    /// The type as the driver names it: `int8` of PostgreSQL is its `bigint`. SQLite tells it of columns that are selected
    /// as they are.
    pub database_type: Option<String>,
    /// The Rust type, without `Option`.
    pub rust_type: Option<String>,
    /// True if it may be NULL. PostgreSQL tells only that it may, MariaDB and MySQL both, of columns that are selected as
    /// they are; SQLite tells nothing.
    pub nullable: Option<bool>,
}

/// A parameter of a query.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[non_exhaustive]
pub struct DescribedParameter {
    /// Its number, as the SQL of the engine writes it.
    pub name: String,
    /// The type as the driver names it. Only PostgreSQL tells it.
    pub database_type: Option<String>,
}

impl Description {
    pub(crate) fn of(dialect: Dialect, parts: Vec<DescribedPart>) -> Description {
        let known = |database_type: &str| {
            Some(database_type.to_owned()).filter(|database_type| !database_type.is_empty())
        };
        let (parameters, columns): (Vec<_>, Vec<_>) =
            parts.into_iter().partition(|part| part.is_parameter);
        let columns = columns.into_iter().map(|part| DescribedColumn {
            database_type: known(&part.database_type),
            rust_type: known(&part.database_type)
                .and_then(|database_type| Kind::of_result(dialect, &database_type).rust_type()),
            name: part.name,
            nullable: part.nullable,
        });
        let parameters = parameters.into_iter().map(|part| DescribedParameter {
            database_type: known(&part.database_type),
            name: part.name,
        });
        Description { columns: columns.collect(), parameters: parameters.collect() }
    }
}

/// A query of a program, under the name that the differences give it.
#[derive(Clone)]
pub(crate) struct ExpectedQuery {
    name: String,
    query: Arc<dyn Describable>,
}

impl fmt::Debug for ExpectedQuery {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "ExpectedQuery({:?})", self.name)
    }
}

impl ExpectedQuery {
    pub(crate) fn new(name: String, query: impl Readable + 'static) -> ExpectedQuery {
        ExpectedQuery { name, query: Arc::new(query) }
    }

    pub(crate) fn query(&self) -> &dyn Describable {
        &*self.query
    }

    /// Tells of a table that its plan reads as a whole.
    pub(crate) fn tell_scan(&self, table: &str, rows: i64, found: &mut Vec<Difference>) {
        let difference = Difference {
            subject: Subject::Query(self.name.clone()),
            column: None,
            kind: DifferenceKind::LongScan,
            message: format!(
                "its plan reads all of the about {rows} rows of `{table}`; add an index for its conditions, or leave it out of the list"
            ),
        };
        // A table that is joined with itself is read twice.
        if !found.contains(&difference) {
            found.push(difference);
        }
    }

    /// Compares what the database tells of the query with what its rows are read into; returns whether it prepares.
    ///
    /// # Errors
    ///
    /// Those of the connection. What the database says against the query is a difference.
    pub(crate) fn compare(
        &self,
        dialect: Dialect,
        described: Result<Vec<DescribedPart>, Error>,
        found: &mut Vec<Difference>,
    ) -> Result<bool, Error> {
        compare(&self.name, self.query(), dialect, described, found)
    }
}

/// Returns the differences of one query.
pub(crate) fn differences(
    query: &dyn Describable,
    dialect: Dialect,
    described: Result<Vec<DescribedPart>, Error>,
) -> Result<Differences, Error> {
    let mut found = Differences::default();
    compare(&query.asked_at().to_string(), query, dialect, described, &mut found.0)?;
    Ok(found)
}

/// Compares what the database tells of a query with what its rows are read into; returns whether it prepares.
fn compare(
    name: &str,
    query: &dyn Describable,
    dialect: Dialect,
    described: Result<Vec<DescribedPart>, Error>,
    found: &mut Vec<Difference>,
) -> Result<bool, Error> {
    let mut tell = |column: Option<&str>, kind, message| {
        found.push(Difference {
            subject: Subject::Query(name.to_owned()),
            column: column.map(str::to_owned),
            kind,
            message,
        });
    };
    let parts = match described {
        Ok(parts) => parts,
        Err(error) if is_of_connection(error.kind()) => return Err(error),
        Err(error) => {
            let mut causes = iter::successors(error.source(), |&cause| cause.source());
            // The driver of PostgreSQL says "db error", and has the message of the server as its cause.
            let cause = causes.find(|cause| cause.to_string() != "db error");
            let cause = cause.map_or(String::new(), |cause| format!("{cause}; "));
            let message = format!("it does not prepare: {cause}{error}");
            tell(None, DifferenceKind::RefusedQuery, message);
            return Ok(false);
        }
    };
    let cells = query.row_cells();
    for part in &parts {
        let cell = part.cell.and_then(|cell| usize::try_from(cell).ok());
        let Some(&(sql_type, may_be_null)) = cell.and_then(|cell| cells.types.get(cell)) else {
            continue;
        };
        let kind = Kind::of_result(dialect, &part.database_type);
        let column = Some(part.name.as_str());
        let its_type = || match kind.rust_type() {
            Some(rust) => format!("its Rust type is `{rust}`"),
            None => "no Rust type stores it: cast it".to_owned(),
        };
        let is = &part.database_type;
        match fit_of_result(&kind, dialect, sql_type) {
            Fit::No => {
                let message =
                    format!("the row reads {sql_type}, and the column is `{is}`; {}", its_type());
                tell(column, DifferenceKind::OtherType, message);
            }
            Fit::Wider => {
                let message =
                    format!("the column is `{is}`, and the row holds less; {}", its_type());
                tell(column, DifferenceKind::WiderColumn, message);
            }
            Fit::Yes | Fit::Exact | Fit::Affinity | Fit::Unknown => {}
        }
        // The types of composed queries carry NULL; hand-written rows are claimed to.
        if cells.by_name && !may_be_null && part.nullable == Some(true) {
            let message =
                "the column may be NULL, and the row may not; write `Option<..>`, or COALESCE";
            tell(column, DifferenceKind::NullableColumn, message.into());
        }
    }
    Ok(true)
}

/// Compares the type of a result with that of a cell. It says no only where no cast or conversion may stand between them.
fn fit_of_result(kind: &Kind, dialect: Dialect, sql_type: SqlType) -> Fit {
    let is_number = |sql_type| {
        matches!(
            sql_type,
            SqlType::Boolean
                | SqlType::SmallInt
                | SqlType::Integer
                | SqlType::BigInt
                | SqlType::Real
                | SqlType::Double
                | SqlType::Decimal
        )
    };
    let is_moment =
        matches!(sql_type, SqlType::Date | SqlType::Time | SqlType::DateTime | SqlType::Timestamp);
    match (dialect, kind) {
        (Dialect::Sqlite | Dialect::Postgres, _) => kind.fit(dialect, sql_type, false),
        // MariaDB computes with the widest integers and with decimals, and answers UUIDs, JSON, enums and addresses as texts.
        (_, Kind::Text | Kind::Bytes) if !is_number(sql_type) && !is_moment => Fit::Yes,
        (_, Kind::Boolean | Kind::Whole { .. } | Kind::Single | Kind::Double | Kind::Decimal)
            if is_number(sql_type) =>
        {
            Fit::Unknown
        }
        _ => kind.fit(dialect, sql_type, false),
    }
}

/// Returns whether an error says nothing about the query.
fn is_of_connection(kind: ErrorKind) -> bool {
    matches!(
        kind,
        ErrorKind::Connection
            | ErrorKind::ConnectionLost
            | ErrorKind::PoolExhausted
            | ErrorKind::StatementTimeout
            | ErrorKind::Conflict
            | ErrorKind::Locked
            | ErrorKind::TransactionEnded
            | ErrorKind::TransactionBusy
            | ErrorKind::TransactionResolutionUnknown
            | ErrorKind::PoliciesRequired
    )
}
