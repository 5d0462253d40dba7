//! The core of Nepheline: typed queries as values, and the SQL that they are in each dialect.
//!
//! **Applications depend on the crate `nepheline` instead**, which re-exports all of this and adds
//! the databases. This crate does no I/O, knows no driver, and never reads a clock or the environment.
//!
//! ```
//! use nepheline::prelude::*;
//!
//! #[derive(Debug, Clone, Table)]
//! struct Lab {
//!     #[nepheline(key, generated)]
//!     id: i64,
//!     name: String,
//!     accredited: bool,
//! }
//!
//! // A typed expression becomes a condition in a tree, and the tree becomes text in any dialect.
//! let query = Lab::rows().filter(|l| l.name.eq("Quartz & Sons") & l.accredited.eq(true));
//! assert_eq!(
//!     query.sql(Dialect::Sqlite)?.text(),
//!     r#"SELECT "lab"."id", "lab"."name", "lab"."accredited" FROM "lab" WHERE "lab"."name" COLLATE BINARY = ? AND "lab"."accredited" = ?"#,
//! );
//! assert_eq!(
//!     query.sql(Dialect::Postgres)?.text(),
//!     r#"SELECT "lab"."id", "lab"."name", "lab"."accredited" FROM "lab" WHERE "lab"."name" = $1 AND "lab"."accredited" = $2"#,
//! );
//! # Ok::<(), Error>(())
//! ```
//!
//! # How data flows
//!
//! | module | holds |
//! |---|---|
//! | `table` | descriptors that `#[derive(Table)]` writes: [`TableInfo`], [`ColumnInfo`] |
//! | `storable` | [`Storable`] Rust types, and [`BindValue`], what they travel as |
//! | `expr` | what users write about columns: [`Expression`], [`Condition`], [`Order`] |
//! | `function` | the functions and operators of SQL, each with its text in every dialect |
//! | `query` | what they compose: [`Query`], [`Scope`] |
//! | `write` | what changes rows: [`Insert`], [`Update`], [`Delete`] |
//! | `policy` | conditions that hold wherever a table appears: [`Policy`], put into a tree before it is compiled; and [`Carried`] |
//! | `tree` | the untyped syntax tree: written by `expr`, `query` and `write`, read by `compile` |
//! | `compile` | from the tree to [`Sql`]: one walker, and a small file of differences for each [`Dialect`] |
//! | `row` | from a driver's [`Cell`]s to typed rows, with checks |
//! | `error` | the one [`Error`], and every wording |
//!
//! Functions that can fail return a `Result`; nothing here panics on any input.

#[macro_use]
mod tuples;

mod build;
mod dialect;
mod model;
mod plan;
mod sql;
mod tree;

pub use build::expr::{
    Aggregate, AnyCase, Case, CaseStart, Column, Condition, Expr, Expression, Integer,
    JsonExpression, Level, Maybe, Number, NumberExpression, Order, Over, Pattern, PerGroup, PerRow,
    TextExpression, TimeExpression, TimeUnit, Verbatim, WindowFunction, all_of, all_true, any_of,
    any_true, avg, bind, case, coalesce, collected, count, count_distinct, count_of, dense_rank,
    first_value, joined, lag, lag_or, last_value, lead, lead_or, max, min, ntile, per, rank,
    rollup, row_number, sum,
};
pub use build::policy::Policy;
pub use build::query::{
    Alongside, MappedRows, NamedQuery, Query, Scope, Tables, all_scopes, any_scope, from, named,
    recursive,
};
pub use build::table::{Keyed, RowStruct, Table};
pub use build::write::{Delete, Insert, InsertFrom, Unsaved, Update, Upsert, Writes};
pub use dialect::Dialect;
pub use model::{
    BindValue, Carried, Cell, Cells, Clock, Collected, ColumnInfo, ColumnType, Error, ErrorKind,
    List, Mismatch, Origin, RowShape, SqlType, Storable, TableInfo,
};
pub use sql::{ByClause, Operation, Sql};
pub use tree::{Assignment, PolicyUse};

/// Traits and types that stand in the bounds of signatures, so that the compiler can say what fits where. Programs seldom
/// name them, and do not implement them.
pub mod bounds {
    pub use crate::build::expr::{
        Alternatives, Argument, BaseOf, Bounds, Choices, Divided, Follows, FollowsEither, HasDate,
        HasTime, HoldsAggregates, HoldsColumns, IntoOrders, KnownPerGroup, KnownPerRow, ListItem,
        Mapped, MaybeCondition, MaybeOperand, Operand, RowColumns, Selectable, ShapedFrom,
        StandsBeside,
    };
    pub use crate::build::query::{Append, Beside, JoinsTo, SumOf, Summed};
    pub use crate::build::table::{RefersTo, Retires};
    pub use crate::build::write::IntoAssignments;
    pub use crate::model::{InJson, MaybeNull, NeverNull, Nullable, Nullness};
}

/// What the crates beside this one rely on. It changes without notice: depend on `nepheline`.
#[doc(hidden)]
pub mod internal {
    pub use serde;

    pub use crate::build::compile::to_prepare;
    pub use crate::build::expr::{Gives, Selection, argument, can_fail, parameter};
    pub use crate::build::policy::condition_of;
    pub use crate::build::query::{
        AndThen, AtMostSole, Companion, Companions, Each, Found, Keyset, Lookup, Places, Selects,
        Sole, StandsAlongside, linked, linked_to_row,
    };
    /// The questions that a dialect answers, and what the answers are made of.
    pub mod dialect {
        pub use crate::dialect::{
            Collated, DistinctForm, Grammar, LimitForm, ListEncoding, ListForm, NullOrder,
            PatternForm, Placeholder, Quotes, ReturningForm, ReturningOf, TruthForm, UpsertForm,
        };
        pub use crate::tree::{JoinKind, Lock, SetOperator};
    }
    pub use crate::dialect::Grammar;
    pub use crate::model::error::Violation;
    pub use crate::model::{
        ColumnRole, Function, Key, KeyPart, KeyedRow, LentBind, Made, MissingValue, PolicyInfo,
        ReadColumn, Reference, Sent, SentType, fill_of, read_table,
    };
    pub use crate::plan::write::{Part, Parts, Step, Stretch, WantedBack, Written};
    pub use crate::plan::{Asking, Kept, Wanted};
    pub use crate::sql::{Copying, Statement, Template};
    pub use crate::tree::{PolicyCondition, RawColumn, Source, policy_id};
}
