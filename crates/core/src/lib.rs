//! The core of Nepheline: typed queries as values, and their SQL in each dialect.
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
//! Each folder uses those above it in this table, and none below.
//!
//! | folder | contents |
//! |---|---|
//! | `model` | tables, columns, types, bind values, cells of rows, SQL functions, the one [`Error`] |
//! | `tree` | the untyped syntax tree and the constructors of its nodes |
//! | `dialect` | the answers of each [`Dialect`] to the questions of the writer |
//! | `plan` | from tree to tree: applies policies, and splits a write into the statements that an engine needs |
//! | `sql` | from a planned tree to [`Sql`] and statements: one writer for all dialects |
//! | `cql2` | the tree of CQL2, its text and its JSON |
//! | `build` | the types that programs use: [`ExprExt`], [`Condition`], [`Query`], [`Scope`], [`Policy`], [`Insert`], [`Update`], [`Delete`] |
//! | `offer` | names for outsiders, and what arrives as text: [`Offer`], [`OfferedFilter`] |
//!
//! Functions that can fail return a `Result`; nothing here panics on any input.

#[macro_use]
mod tuples;

mod build;
pub mod cql2;
mod dialect;
mod model;
mod offer;
mod plan;
mod sql;
mod tree;

pub use build::call::{CursorCall, DatabaseCall, ProcedureCall};
pub use build::expr::{
    Aggregate, AnyCase, ArrayExt, Case, CaseStart, Collation, Column, Condition, Expr, ExprExt,
    InCollation, Integer, Interval, JsonExt, Level, Maybe, Number, NumberExt, Order, Over, Pattern,
    PerGroup, PerParent, PerRow, RangeExt, TextExt, TimeExt, TruncUnit, Verbatim, WindowFunction,
    all_of, all_true, any_given, any_of, any_true, array_agg, avg, avg_decimal, bind, case,
    coalesce, count, count_distinct, count_of, days, dense_rank, first_value, hours, is_subtotal,
    lag, lag_or, last_value, lead, lead_or, listagg, max, median, min, minutes, months, ntile, per,
    per_parent, rank, rollup, row_number, seconds, stddev_pop, stddev_samp, sum, var_pop, var_samp,
    weeks, years,
};
pub use build::policy::Policy;
pub use build::prepared::{BindParameters, Bound, Parameter, Prepared};
pub use build::query::{
    Alongside, Cte, MappedRows, OptionalParentBeside, ParentBeside, Query, RowsBeside, Scope,
    StatementAlongside, Tables, all_scopes, any_scope, cte, from, recursive,
};
pub use build::schema::create_table;
pub use build::script::Script;
pub use build::statement::{StatementRows, WholeStatement, from_statement};
pub use build::table::{RowStruct, Table};
pub use build::write::{
    ChangeValues, ComputedInsert, Delete, Insert, InsertFrom, InsertValues, Update, Upsert, Writes,
};
pub use dialect::Dialect;
pub use model::{
    Array, BindValue, Carried, Cell, Cells, Clock, ColumnInfo, ColumnType, EnumType, Error,
    ErrorKind, JsonDocument, List, Mismatch, Mistake, MistakeKind, NativeText, NativeType,
    NativeValue, Origin, RangeOf, RowShape, SqlType, Storable, TableInfo,
};
pub use offer::{
    NamedRows, NamedValues, Offer, OfferBuilder, Offered, OfferedFilter, OfferedProperties,
    OfferedSort, OfferedTotals, OfferedUse,
};
pub use sql::{ByClause, Operation, Sql};
pub use tree::{Assignment, PolicyUse};

/// Traits and types that stand in the bounds of signatures, so that the compiler can say what fits where. Programs seldom
/// name them, and do not implement them.
pub mod bounds {
    pub use crate::build::call::RowSets;
    pub use crate::build::expr::{
        Adds, Alternatives, Argument, BaseOf, Bounds, Choices, Constant, DateUnit, Divided, Exact,
        Follows, FollowsEither, Grouped, GroupedParent, HasDate, HasTime, HoldsAggregates,
        HoldsColumns, IntervalUnit, IntoOrders, IntoSelection, JsonScalar, KnownPerGroup,
        KnownPerRow, ListItem, Mapped, MaybeCondition, MaybeOperand, Operand, RowColumns,
        ShapedFrom, StandsBeside, unfit, unit,
    };
    pub use crate::build::prepared::{Prepares, RowCount};
    pub use crate::build::query::{
        Append, Beside, JoinTarget, SelectedRow, SumOf, Summed, WrittenTables,
    };
    pub use crate::build::table::{Keyed, RefersTo, Retires, Target};
    pub use crate::build::write::{Inserted, IntoAssignments};
    pub use crate::model::{
        CarriedFor, InJson, MaybeNull, NeverNull, Nullable, Nullness, RangeItem, StoredAsJson,
    };
    pub use crate::offer::FunctionArguments;
}

/// Items for the crates beside this one. They change without notice: depend on `nepheline`.
#[doc(hidden)]
pub mod internal {
    pub use std::{string, vec};

    pub use serde;

    pub use crate::build::call::{
        CallArgument, Callable, OutParameters, in_argument, in_out_argument, out_argument,
    };
    pub use crate::build::expr::{
        AsBind, AsSelected, GivenFields, NoLevel, Selection, Settles, Shape, ShapeField, ShapeRest,
        ShapeValue, Shaping, argument, can_fail, columns_of, literal, schema_name, shape_rest,
        shape_value,
    };
    pub use crate::build::policy::condition_of;
    pub use crate::build::prepared::{
        KeptCompanion, ParameterField, ParameterValues, Unfilled, list_parameter, list_value,
    };
    pub use crate::build::query::{
        AndThen, Bridge, Companion, Companions, Each, Found, InHand, Keyset, Lookup, OfParents,
        OptionalParent, Places, RequiredParent, Selects, StandsAlongside,
    };
    pub use crate::build::schema::create_and_drop;
    pub use crate::build::table::{Numbered, value_of};
    pub use crate::build::write::assignment;
    /// The questions that a dialect answers, and what the answers are made of.
    pub mod dialect {
        pub use crate::dialect::{
            Collated, DistinctForm, Grammar, LimitForm, ListEncoding, ListForm, NullOrder,
            PatternForm, Placeholder, Quotes, ReturningForm, ReturningOf, SchemaForm, ScriptForm,
            TruthForm, UpsertForm,
        };
        pub use crate::tree::{JoinKind, Lock, SetOperator};
    }
    pub use crate::dialect::Grammar;
    pub use crate::model::Accepted;
    pub use crate::model::error::Violation;
    pub use crate::model::{ByName, NoRow, WantedColumns, name_columns, type_columns};
    pub use crate::model::{
        ColumnRole, FieldValue, Function, Key, KeyPart, KeyedRow, LentBind, MissingValue,
        PolicyInfo, ReadColumn, ReadReference, ReadTable, Reference, Sent, SentType, TableSlot,
        TakesValues, ValueSource, carried_value, is_carried_by, is_float, is_mark, is_never_null,
        is_nullable, is_text, is_time, is_unique, is_whole_number, read_table, read_tables,
    };
    pub use crate::model::{deserialize_stored, exact_text, interval_text, missing_field};
    pub use crate::offer::{RawRow, RuntimeTable, RuntimeTables, ValueType};
    pub use crate::plan::write::{
        Checks, Part, Parts, RowRange, RowValues, Step, WriteShape, Written,
    };
    pub use crate::plan::{CompileContext, PolicySlot, ReadShape};
    pub use crate::sql::script::{ScriptPart, split as split_script};
    pub use crate::sql::{Copying, Statement};
    pub use crate::tree::{PolicyCondition, RawColumn, Source, is_function, policy_id};
}
