//! From the tree to SQL: one walker for all dialects, and a small file of differences for each.

mod binds;
mod dialect;
mod form;
mod list;
mod names;
mod pattern;
mod sql;
mod writer;

use std::fmt;
use std::panic::Location;
use std::sync::OnceLock;

pub(crate) use binds::{Binds, LendsRows, RowBinds};
pub use dialect::Dialect;
use jiff::Timestamp;
use smallvec::SmallVec;
pub use sql::{ByClause, Sql};

use crate::error::{Error, ErrorKind};
use crate::origin::Origin;
use crate::policy::{Carried, Clock, Guard, PolicyUse};
use crate::query::Source;
use crate::storable::{BindValue, LentBind};
use crate::table::{ColumnInfo, TableInfo};
use crate::tree::{Asked, Lock, Node, RelationName, Select};
use crate::write::Target;
use writer::Writer;

/// What a reading verb wants of a query.
#[doc(hidden)]
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Wanted {
    /// All its rows.
    Rows,
    /// No more rows than this, which matters only where the query could have more.
    AtMost(u8),
    /// So many rows after the first so many.
    Page { after: u64, rows: u64 },
    /// How many rows it has.
    Count,
    /// Tells whether it has any row.
    Presence,
}

/// Who asks: in which dialect, and with which values for the policies.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct Asking<'a> {
    pub dialect: Dialect,
    pub carried: &'a Carried,
    /// What the time is, where nothing else is carried as the clock.
    pub time: fn() -> Timestamp,
    /// What it is for all statements of a write.
    pub stopped_at: Option<Timestamp>,
    /// True if many rows may be copied, where the engine does that faster.
    pub copies: bool,
    /// Where the policies of the statement stay, so that what they bind can be lent too.
    pub kept: Option<&'a Kept>,
}

/// Room for the policies that stand beside the filters of one statement.
#[doc(hidden)]
#[derive(Debug, Default)]
pub struct Kept(OnceLock<Policies>);

type Policies = SmallVec<[Asked<Node>; 2]>;

impl Kept {
    /// Leaves them here, unless there are those of another statement.
    fn keep(&self, policies: Policies) -> Result<&[Asked<Node>], Policies> {
        let mut given = Some(policies);
        let kept = self.0.get_or_init(|| given.take().unwrap_or_default());
        given.map_or(Ok(kept), Err)
    }
}

impl<'a> Asking<'a> {
    /// To look at SQL: the time is not known then, unless a clock is carried.
    pub(crate) fn to_show(dialect: Dialect, carried: &'a Carried) -> Asking<'a> {
        Asking {
            dialect,
            carried,
            time: || Timestamp::UNIX_EPOCH,
            stopped_at: None,
            copies: true,
            kept: None,
        }
    }

    /// The same, with this time for all that follows.
    pub fn stopped(self) -> Asking<'a> {
        Asking { stopped_at: Some(self.now()), ..self }
    }

    /// The same for one statement, whose policies stay there.
    pub fn keeping<'k>(self, kept: &'k Kept) -> Asking<'k>
    where
        'a: 'k,
    {
        Asking { kept: Some(kept), ..self }
    }

    /// Returns whether rows are copied into their table, if there are many.
    pub(crate) fn can_copy(&self) -> bool {
        self.copies && self.dialect.copies()
    }

    pub(crate) fn now(&self) -> Timestamp {
        let clock = || self.carried.get::<Clock>();
        self.stopped_at
            .unwrap_or_else(|| clock().map_or_else(self.time, Clock::now))
    }
}

/// New rows: of which columns, and how many.
pub(crate) struct NewRows<'a> {
    pub(crate) table: &'static TableInfo,
    pub(crate) columns: &'a [&'static ColumnInfo],
    pub(crate) rows: usize,
}

/// What becomes of a row that an insert comes across.
pub(crate) struct OnConflict {
    /// The columns by which it is known.
    pub(crate) known_by: Vec<&'static ColumnInfo>,
    /// What is set then, of which rows; nothing, if they stay.
    pub(crate) target: Option<Target>,
    /// Where the columns of the new row stand.
    pub(crate) new: Source,
}

/// What a statement does.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum Operation {
    /// It reads, or asks for a plan.
    Read,
    /// It inserts rows.
    Insert,
    /// It updates rows, or marks them as withdrawn.
    Update,
    /// It deletes rows.
    Delete,
    /// It is text of the program's own.
    Text,
    /// It begins a transaction.
    Begin,
    /// It commits a transaction.
    Commit,
    /// It undoes a transaction.
    Rollback,
    /// It sets a savepoint, where a transaction begins inside another.
    Savepoint,
    /// It keeps what was done since a savepoint.
    ReleaseSavepoint,
    /// It undoes what was done since a savepoint.
    RollbackToSavepoint,
    /// It prepares the session for the statements that follow: settings, or the lock before a `COPY`.
    Prepare,
}

impl Operation {
    /// Returns whether it begins, ends or prepares a transaction, rather than being a statement that the program asked for.
    pub fn is_of_transaction(self) -> bool {
        matches!(
            self,
            Operation::Begin
                | Operation::Commit
                | Operation::Rollback
                | Operation::Savepoint
                | Operation::ReleaseSavepoint
                | Operation::RollbackToSavepoint
                | Operation::Prepare
        )
    }

    /// Returns whether its effect may be stored although its answer was lost.
    #[doc(hidden)]
    pub fn may_write(self) -> bool {
        matches!(
            self,
            Operation::Insert
                | Operation::Update
                | Operation::Delete
                | Operation::Text
                | Operation::Commit
        )
    }
}

impl fmt::Display for Operation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Operation::Read => "SELECT",
            Operation::Insert => "INSERT",
            Operation::Update => "UPDATE",
            Operation::Delete => "DELETE",
            Operation::Text => "TEXT",
            Operation::Begin => "BEGIN",
            Operation::Commit => "COMMIT",
            Operation::Rollback => "ROLLBACK",
            Operation::Savepoint => "SAVEPOINT",
            Operation::ReleaseSavepoint => "RELEASE SAVEPOINT",
            Operation::RollbackToSavepoint => "ROLLBACK TO SAVEPOINT",
            Operation::Prepare => "PREPARE",
        })
    }
}

/// A place in the text where a clause begins, and who asked for it.
#[derive(Debug, Clone)]
struct Mark {
    at: usize,
    origin: Origin,
    /// The relations that the clause is there for, or that are asked in it.
    relations: SmallVec<[RelationName; 1]>,
}

/// A compiled query, ready for a driver. What it binds is lent by the query where nothing had to change.
#[doc(hidden)]
#[derive(Debug)]
pub struct Statement<'q> {
    dialect: Dialect,
    text: String,
    binds: Binds<'q>,
    marks: Vec<Mark>,
    origin: Origin,
    most_rows: usize,
    /// The numbers of the cells that tell to which other rows a row belongs.
    key_cells: SmallVec<[usize; 2]>,
    operation: Operation,
    /// The tables that it reads or writes, each once.
    tables: Tables,
    /// True if its text is of this one time, so that a driver need not keep what it prepares.
    once: bool,
    alters_session: bool,
    /// How it copies rows, if it does.
    copying: Option<Copying>,
}

/// What a driver needs to copy rows.
#[doc(hidden)]
#[derive(Debug, Clone)]
pub struct Copying {
    /// Of how many values a row is.
    pub columns: usize,
    /// The table, as it is written in statements.
    pub table: &'static str,
    /// A query whose columns are of the types of these values.
    pub types: Box<str>,
}

/// Room for what most statements are of, so that it needs no allocation.
pub(crate) type Tables = SmallVec<[&'static str; 2]>;

impl<'q> Statement<'q> {
    /// Compiles for a driver, which needs no more than the text and the binds.
    pub(crate) fn to_run(
        select: &'q Select,
        asking: Asking<'q>,
        wanted: Wanted,
    ) -> Result<Statement<'q>, Error> {
        if !select.is_under_policies() {
            return Writer::new(select, asking.dialect).write(wanted);
        }
        let beside = Guard::new(asking.carried).beside_filters(select);
        if let Some(conditions) = beside.map_err(|err| err.asked_at(select.asked_at))? {
            let kept = match asking.kept {
                Some(kept) => kept.keep(conditions),
                None => Err(conditions),
            };
            return match kept {
                Ok(conditions) => {
                    let writer = Writer::new(select, asking.dialect);
                    writer.guarded_by(conditions).write(wanted)
                }
                Err(conditions) => {
                    let writer = Writer::new(select, asking.dialect).guarded_by(&conditions);
                    Ok(writer.write(wanted)?.into_owned_binds())
                }
            };
        }
        let (guarded, _) = Statement::guarded(select, asking)?;
        let statement = Writer::new(&guarded, asking.dialect).write(wanted)?;
        Ok(statement.into_owned_binds())
    }

    /// Returns the text of a query that is never run, to compare it with others. It has none of its policies.
    pub(crate) fn text_of_order(select: &Select, dialect: Dialect) -> Result<String, Error> {
        Ok(Writer::new(select, dialect).write(Wanted::Rows)?.text)
    }

    /// The query with the policies of its tables in it, and which these are.
    fn guarded(select: &Select, asking: Asking<'_>) -> Result<(Select, Vec<PolicyUse>), Error> {
        let (mut guarded, mut guard) = (select.clone(), Guard::telling(asking.carried));
        // Whoever asked is told, not the policy inside of which it was found.
        guard
            .select(&mut guarded)
            .map_err(|err| err.asked_at(select.asked_at))?;
        Ok((guarded, guard.into_met()))
    }

    /// Compiles for people, who want to see where each clause begins and who asked for it.
    pub(crate) fn to_show(
        select: &'q Select,
        asking: Asking<'_>,
        wanted: Wanted,
    ) -> Result<Sql, Error> {
        if !select.is_under_policies() {
            let writer = Writer::new(select, asking.dialect).with_marks();
            return Ok(writer.write(wanted)?.into_sql());
        }
        let (guarded, policies) = Statement::guarded(select, asking)?;
        let writer = Writer::new(&guarded, asking.dialect).with_marks();
        let mut sql = writer.write(wanted)?.into_sql();
        sql.met(policies);
        Ok(sql)
    }

    /// An update or a delete, for a driver.
    pub(crate) fn to_change(
        target: &Target,
        asking: Asking<'_>,
        returning: bool,
    ) -> Result<Statement<'q>, Error> {
        let writer = Writer::new(&target.select, asking.dialect);
        Ok(writer.write_change(target, returning)?.into_owned_binds())
    }

    /// An update or a delete, for people.
    pub(crate) fn to_show_change(target: &Target, asking: Asking<'_>) -> Result<Sql, Error> {
        let writer = Writer::new(&target.select, asking.dialect).with_marks();
        let mut sql = writer.write_change(target, false)?.into_sql();
        sql.met(target.met.clone());
        Ok(sql)
    }

    pub(crate) fn to_insert(
        new: NewRows<'_>,
        binds: Binds<'q>,
        dialect: Dialect,
        at: Origin,
    ) -> Result<Statement<'q>, Error> {
        writer::insert(new, binds, dialect, at)
    }

    pub(crate) fn to_copy(
        new: &NewRows<'_>,
        binds: Binds<'q>,
        dialect: Dialect,
        at: Origin,
    ) -> Result<Statement<'q>, Error> {
        writer::copy(new, binds, dialect, at)
    }

    /// How it copies rows, if it does.
    pub fn copying(&self) -> Option<&Copying> {
        self.copying.as_ref()
    }

    /// The insert, with what becomes of rows that are there already.
    pub(crate) fn on_conflict(self, conflict: &OnConflict) -> Result<Statement<'q>, Error> {
        writer::on_conflict(self, conflict)
    }

    /// An insert of the rows that this reads.
    pub(crate) fn inserted_into<'o>(
        mut self,
        table: &'static TableInfo,
        columns: &[&'static ColumnInfo],
    ) -> Result<Statement<'o>, Error> {
        writer::insert_before(&mut self, table, columns);
        Ok(self.into_owned_binds())
    }

    /// The insert, its rows given back if they are wanted.
    pub(crate) fn returning(
        mut self,
        table: &'static TableInfo,
        wanted: bool,
    ) -> Result<Statement<'q>, Error> {
        if wanted {
            writer::return_inserted(&mut self, table)?;
        }
        Ok(self)
    }

    /// The upsert, which tells of each row whether it was inserted, where the engine does.
    pub(crate) fn telling_inserted(mut self) -> Statement<'q> {
        let form = self.dialect.grammar().upsert();
        self.text.push_str(form.tells_inserted.unwrap_or_default());
        self
    }

    /// A query whose values find rows again, which it locks where rows can be locked.
    pub(crate) fn to_find<'o>(
        mut select: Select,
        dialect: Dialect,
    ) -> Result<Statement<'o>, Error> {
        if dialect.grammar().lock(Lock::Wait).is_some() {
            select.lock = Some(Asked { what: Lock::Wait, at: select.asked_at });
        }
        let cells = select.values.as_ref().map_or(0, |values| values.what.len());
        let mut statement = Statement::to_read_back(select, dialect)?;
        statement.key_cells = (0..cells).collect();
        Ok(statement)
    }

    /// A query under no policies: they were asked before.
    pub(crate) fn to_read_back<'o>(
        select: Select,
        dialect: Dialect,
    ) -> Result<Statement<'o>, Error> {
        let written = Writer::new(&select, dialect).write(Wanted::Rows)?;
        Ok(written.into_owned_binds())
    }

    pub(crate) fn into_sql(self) -> Sql {
        let binds = self.binds.into_values();
        Sql::new(self.dialect, self.text, binds, self.marks, Vec::new())
    }

    /// Text of our own, or of a test: never of a user's value.
    #[track_caller]
    pub fn of_text(dialect: Dialect, text: impl Into<String>, binds: Vec<BindValue>) -> Self {
        Statement {
            dialect,
            text: text.into(),
            binds: Binds::of_values(binds),
            marks: Vec::new(),
            origin: Origin::of(Location::caller()),
            most_rows: usize::MAX,
            key_cells: SmallVec::new(),
            operation: Operation::Text,
            tables: Tables::new(),
            once: false,
            alters_session: true,
            copying: None,
        }
    }

    /// The same as a statement that does something else than it seems to.
    #[must_use]
    pub fn doing(mut self, operation: Operation) -> Self {
        self.operation = operation;
        self.alters_session = false;
        self
    }

    /// The statement that asks the engine for its plan of this one; with `analyze` it also runs it
    /// and measures.
    pub fn explained(mut self, analyze: bool) -> Result<Statement<'q>, Error> {
        let Some(verb) = self.dialect.grammar().explain(analyze) else {
            let way_out = "ask for the plan without running it";
            return Err(Error::unsupported("measuring a plan", self.dialect, way_out));
        };
        self.text.insert_str(0, verb);
        self.most_rows = usize::MAX;
        Ok(self)
    }

    /// The same with a comment at its end, of this one time. It is the caller's to see that the text cannot
    /// end the comment.
    pub fn comment(&mut self, text: &str) {
        self.text.push_str(" /*");
        self.text.push_str(text);
        self.text.push_str("*/");
        self.once = true;
    }

    /// The same, whose text will not be seen again.
    pub(crate) fn once(mut self) -> Self {
        self.once = true;
        self
    }

    /// Returns whether its text will not be seen again, so that what is prepared for it need not be kept.
    pub fn is_of_once(&self) -> bool {
        self.once
    }

    /// Returns whether hand-written text of it may change settings of the session, which outlast it.
    pub fn may_alter_session(&self) -> bool {
        self.alters_session
    }

    /// The same statement without what it borrowed.
    pub fn into_owned_binds<'o>(self) -> Statement<'o> {
        let Statement {
            dialect,
            text,
            binds,
            marks,
            origin,
            most_rows,
            key_cells,
            operation,
            tables,
            once,
            alters_session,
            copying,
        } = self;
        Statement {
            dialect,
            text,
            binds: binds.into_owned(),
            marks,
            origin,
            most_rows,
            key_cells,
            operation,
            tables,
            once,
            alters_session,
            copying,
        }
    }

    /// The same statement with its binds copied, for a driver that works on another thread.
    pub fn to_owned_binds(&self) -> Statement<'static> {
        Statement {
            dialect: self.dialect,
            text: self.text.clone(),
            binds: Binds::of_values(self.binds.iter().map(|bind| bind.to_value()).collect()),
            marks: self.marks.clone(),
            origin: self.origin,
            most_rows: self.most_rows,
            key_cells: self.key_cells.clone(),
            operation: self.operation,
            tables: self.tables.clone(),
            once: self.once,
            alters_session: self.alters_session,
            copying: self.copying.clone(),
        }
    }

    /// Adds to an error what was being run, and who asked for it.
    #[cold]
    pub fn context(&self, err: Error) -> Error {
        match err.kind() {
            ErrorKind::Mismatch | ErrorKind::RefusedValue | ErrorKind::PoolExhausted => err,
            _ => err.in_sql(&self.text),
        }
        .asked_at(self.origin)
    }

    pub fn text(&self) -> &str {
        &self.text
    }

    pub fn binds(&self) -> impl ExactSizeIterator<Item = LentBind<'_>> {
        self.binds.iter()
    }

    /// Gives each bind to `take`, in their order.
    #[inline]
    pub fn each_bind<'b>(&'b self, mut take: impl FnMut(LentBind<'b>)) {
        self.binds.each(&mut take);
    }

    /// How many rows need to be fetched at most; a driver does not ask for one beyond.
    pub fn most_rows(&self) -> usize {
        self.most_rows
    }

    /// The numbers of the cells that tell to which other rows a row belongs, in the order of the keys.
    pub fn key_cells(&self) -> &[usize] {
        &self.key_cells
    }

    pub fn dialect(&self) -> Dialect {
        self.dialect
    }

    pub fn operation(&self) -> Operation {
        self.operation
    }

    /// The tables that it reads or writes, each once, the one that it is of first.
    pub fn tables(&self) -> &[&'static str] {
        &self.tables
    }

    /// Where the query was begun.
    pub fn origin(&self) -> Origin {
        self.origin
    }
}
