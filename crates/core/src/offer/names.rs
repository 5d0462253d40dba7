//! The names of an offer without their closures: what each is, and what it may be used for.

use std::fmt;
use std::sync::Arc;

use indexmap::IndexMap;
use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use rust_decimal::Decimal;
use uuid::Uuid;

use super::class::Class;
use crate::cql2::Bounds;
use crate::model::{Accepted, BindValue, Cell, ColumnType, Error, Mismatch, SqlType, Storable};

/// A name of an offer, with its settings. A plain text is a name with every use.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::{Offer, Offered, OfferedUse};
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, top_m: f64 }
///
/// let offer = Offer::of::<Specimen>()
///     .value("depth", |s| s.top_m)
///     .value(
///         Offered::name("label")
///             .described("the label on the box")
///             .only([OfferedUse::Equal, OfferedUse::In])
///             .unsorted(),
///         |s| s.label,
///     )
///     .build()?;
///
/// let err = offer.cql2_text("label LIKE '%7'").unwrap_err();
/// assert_eq!(err.mistake().unwrap().message(), "LIKE is not offered for `label`, but only = and IN");
/// # Ok::<(), Error>(())
/// ```
#[derive(Debug, Clone)]
#[must_use = "a name does nothing until it is passed to an offer"]
pub struct Offered {
    pub(super) name: String,
    pub(super) description: Option<String>,
    pub(super) uses: Uses,
    pub(super) sorted: bool,
    pub(super) apart: bool,
}

impl Offered {
    /// Returns a name with every use that its type allows.
    ///
    /// It has letters, digits, `_` and dots, starts with a letter or `_`, and has at most 63 bytes.
    pub fn name(name: impl Into<String>) -> Offered {
        let uses = Uses::ALL;
        Offered { name: name.into(), description: None, uses, sorted: true, apart: false }
    }

    /// Describes the name for people, in the offer's JSON Schema.
    pub fn described(mut self, description: impl Into<String>) -> Offered {
        self.description = Some(description.into());
        self
    }

    /// Allows only these uses in filters and totals.
    pub fn only(mut self, uses: impl IntoIterator<Item = OfferedUse>) -> Offered {
        self.uses = uses.into_iter().fold(Uses(0), Uses::with);
        self
    }

    /// Allows no sort by this name.
    pub fn unsorted(mut self) -> Offered {
        self.sorted = false;
        self
    }

    /// Makes each term on these children stand for itself: `assays.ppm > 400 AND assays.element = 'Nd'` then means an
    /// assay of that grade and an assay of that element, which may be two. Without it, the terms that one AND joins mean the
    /// same child.
    pub fn each_apart(mut self) -> Offered {
        self.apart = true;
        self
    }
}

impl From<&str> for Offered {
    fn from(name: &str) -> Offered {
        Offered::name(name)
    }
}

impl From<String> for Offered {
    fn from(name: String) -> Offered {
        Offered::name(name)
    }
}

/// A use of a name in a filter or in totals.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
#[non_exhaustive]
pub enum OfferedUse {
    /// `=`
    Equal,
    /// `<>`
    NotEqual,
    /// `<`, `<=`, `>` and `>=`
    Ordered,
    /// `BETWEEN`
    Between,
    /// `IN`
    In,
    /// `LIKE`
    Like,
    /// `IS NULL`
    IsNull,
    /// `CASEI`
    CaseI,
    /// `T_AFTER` and the other temporal functions
    Temporal,
    /// Arithmetic and functions
    Computing,
    /// Group keys and totals
    Totals,
}

impl OfferedUse {
    const ALL: [OfferedUse; 11] = [
        OfferedUse::Equal,
        OfferedUse::NotEqual,
        OfferedUse::Ordered,
        OfferedUse::Between,
        OfferedUse::In,
        OfferedUse::Like,
        OfferedUse::IsNull,
        OfferedUse::CaseI,
        OfferedUse::Temporal,
        OfferedUse::Computing,
        OfferedUse::Totals,
    ];

    pub(super) fn as_str(self) -> &'static str {
        match self {
            OfferedUse::Equal => "=",
            OfferedUse::NotEqual => "<>",
            OfferedUse::Ordered => "<, <=, >, >=",
            OfferedUse::Between => "BETWEEN",
            OfferedUse::In => "IN",
            OfferedUse::Like => "LIKE",
            OfferedUse::IsNull => "IS NULL",
            OfferedUse::CaseI => "CASEI",
            OfferedUse::Temporal => "temporal functions",
            OfferedUse::Computing => "arithmetic and functions",
            OfferedUse::Totals => "totals",
        }
    }
}

/// A set of uses, as bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Uses(u16);

impl Uses {
    pub(super) const ALL: Uses = Uses(u16::MAX);

    fn with(self, one: OfferedUse) -> Uses {
        Uses(self.0 | 1 << one as u16)
    }

    pub(super) fn is_empty(self) -> bool {
        self.0 == 0
    }

    pub(super) fn allows(self, one: OfferedUse) -> bool {
        self.0 & 1 << one as u16 != 0
    }
}

/// Writes the uses as a list in words.
impl fmt::Display for Uses {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let uses = OfferedUse::ALL.into_iter().filter(|one| self.allows(*one));
        let uses: Vec<&str> = uses.map(OfferedUse::as_str).collect();
        match uses.split_last() {
            None => Ok(()),
            Some((last, [])) => f.write_str(last),
            Some((last, first)) => write!(f, "{} and {last}", first.join(", ")),
        }
    }
}

/// Reads a value of a type, from a literal or from a row, as it is bound.
pub(crate) type Accept = fn(Cell<'_>) -> Result<BindValue, Mismatch>;

/// The type of an offered value.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct ValueType {
    pub(crate) sql_type: SqlType,
    pub(crate) nullable: bool,
    pub(crate) accept: Accept,
    pub(crate) accepted: Accepted,
}

impl ValueType {
    pub(crate) fn of<T: ColumnType>() -> ValueType {
        ValueType {
            sql_type: T::Base::SQL_TYPE,
            nullable: T::NULLABLE,
            accept: |cell| <T::Base as Storable>::from_cell(cell).map(|value| value.to_bind()),
            accepted: T::Base::ACCEPTED,
        }
    }

    /// Returns the type of a column that is only known by its SQL type.
    pub(crate) fn of_sql_type(sql_type: SqlType, nullable: bool) -> ValueType {
        let of = match Class::of(sql_type) {
            Class::Boolean => ValueType::of::<bool>(),
            Class::Whole => match sql_type {
                SqlType::SmallInt => ValueType::of::<i16>(),
                SqlType::Integer => ValueType::of::<i32>(),
                _ => ValueType::of::<i64>(),
            },
            Class::Decimal => ValueType::of::<Decimal>(),
            Class::Float => ValueType::of::<f64>(),
            Class::Date => ValueType::of::<Date>(),
            Class::Time => ValueType::of::<Time>(),
            Class::DateTime => ValueType::of::<DateTime>(),
            Class::Timestamp => ValueType::of::<Timestamp>(),
            Class::Uuid => ValueType::of::<Uuid>(),
            Class::Text | Class::Enum(_) => ValueType::of::<String>(),
            Class::Opaque => match sql_type {
                SqlType::Bytes => ValueType::of::<Vec<u8>>(),
                SqlType::Json => ValueType::of::<serde_json::Value>(),
                _ => ValueType::of::<String>(),
            },
        };
        let accepted = match sql_type {
            SqlType::Enum(kind) => Accepted::Texts(kind.values()),
            _ => of.accepted,
        };
        ValueType { sql_type, nullable, accepted, ..of }
    }

    /// Returns whether values can be compared, so that rows can be sorted and grouped by them.
    pub(super) fn is_comparable(&self) -> bool {
        Class::of(self.sql_type) != Class::Opaque
    }

    /// Reads a value that arrived, or a literal as a cell.
    pub(super) fn read(&self, cell: Cell<'_>) -> Result<BindValue, Mismatch> {
        match (self.sql_type, cell) {
            (SqlType::Enum(kind), Cell::Text(text)) => kind
                .bind_of(text)
                .ok_or_else(|| Mismatch::expected("a value of the enum type")),
            (_, cell) => (self.accept)(cell),
        }
    }
}

/// One name.
#[derive(Debug)]
pub(crate) struct Entry {
    pub(super) name: Box<str>,
    pub(super) description: Option<String>,
    pub(super) uses: Uses,
    pub(super) sorted: bool,
    pub(super) kind: EntryKind,
}

#[derive(Debug)]
pub(crate) enum EntryKind {
    Value(ValueType),
    /// Rows with names of their own.
    Children {
        names: Arc<Names>,
        apart: bool,
    },
}

/// A function that filters may call.
#[derive(Debug)]
pub(crate) struct FunctionType {
    pub(super) parameters: Vec<ValueType>,
    pub(super) result: ValueType,
}

type Map<V> = IndexMap<Box<str>, V, foldhash::fast::FixedState>;

/// The longest name, in bytes.
const LONGEST: usize = 63;

/// The longest name of children of children, with dots between.
pub(super) const LONGEST_PATH: usize = (LONGEST + 1) * (MOST_LEVELS + 1);

/// The most levels of children of children. A route through them is one number.
const MOST_LEVELS: usize = 4;

/// The names of an offer.
#[derive(Debug)]
pub(crate) struct Names {
    pub(super) entries: Map<Entry>,
    pub(super) functions: Map<FunctionType>,
    pub(super) bounds: Bounds,
    /// More names for suggestions: those of a catalog, which are looked up only when they are used.
    pub(super) others: Vec<String>,
    /// The mistakes of the builder, for `check`.
    twice: Vec<String>,
}

impl Default for Names {
    fn default() -> Names {
        Names {
            entries: Map::default(),
            functions: Map::default(),
            bounds: Bounds::DEFAULT,
            others: Vec::new(),
            twice: Vec::new(),
        }
    }
}

impl Names {
    pub(crate) fn add(&mut self, offered: Offered, kind: EntryKind) {
        let Offered { name, description, uses, sorted, .. } = offered;
        let key: Box<str> = name.as_str().into();
        let entry = Entry { name: key.clone(), description, uses, sorted, kind };
        if self.entries.insert(key, entry).is_some() {
            self.twice.push(name);
        }
    }

    pub(super) fn add_function(&mut self, name: &str, function: FunctionType) {
        if self.functions.insert(name.into(), function).is_some() {
            self.twice.push(name.to_owned());
        }
    }

    /// Checks the names, once.
    pub(super) fn check(&self) -> Result<(), Error> {
        if let Some(name) = self.twice.first() {
            return Err(Error::invalid_offer(format!("`{name}` is offered twice")));
        }
        if let Some(name) = self
            .entries
            .keys()
            .chain(self.functions.keys())
            .find(|name| !is_name(name))
        {
            let message = format!(
                "`{name}` is no name: names have letters, digits, `_` and dots, start with a letter or `_`, and have at most {LONGEST} bytes"
            );
            return Err(Error::invalid_offer(message));
        }
        if self.entries.len() >= usize::from(u16::MAX) {
            return Err(Error::invalid_offer("the offer has too many names".to_owned()));
        }
        if self.levels() > MOST_LEVELS {
            let message =
                format!("children of children are offered over more than {MOST_LEVELS} levels");
            return Err(Error::invalid_offer(message));
        }
        // A name that begins with that of children would be read as one of theirs.
        for (children, entry) in &self.entries {
            if !matches!(entry.kind, EntryKind::Children { .. }) {
                continue;
            }
            let mut names = self.entries.keys();
            let hidden = names.find(|name| {
                let rest = name.strip_prefix(children.as_ref());
                rest.is_some_and(|rest| rest.starts_with('.'))
            });
            if let Some(hidden) = hidden {
                let message = format!("`{hidden}` reads like a name of the children `{children}`");
                return Err(Error::invalid_offer(message));
            }
        }
        Ok(())
    }

    /// Returns the number of levels of children.
    fn levels(&self) -> usize {
        let children = self.entries.values().filter_map(|entry| match &entry.kind {
            EntryKind::Children { names, .. } => Some(names.levels() + 1),
            EntryKind::Value(_) => None,
        });
        children.max().unwrap_or(0)
    }

    /// Visits all names of values, also those of children, for suggestions.
    pub(super) fn each_name(&self, prefix: &str, visit: &mut dyn FnMut(&str)) {
        if !self.others.is_empty() {
            return self.others.iter().for_each(|name| visit(name));
        }
        for (name, entry) in &self.entries {
            let name = match prefix {
                "" => name.to_string(),
                prefix => format!("{prefix}.{name}"),
            };
            match &entry.kind {
                EntryKind::Value(_) => visit(&name),
                EntryKind::Children { names, .. } => names.each_name(&name, visit),
            }
        }
    }

    /// Returns the name that is most like a wrong one.
    pub(super) fn nearest(&self, wrong: &str) -> Option<String> {
        let mut best: Option<(usize, String)> = None;
        // A longer text is no slip of the keyboard, and comparing it would take long.
        if wrong.len() > 64 {
            return None;
        }
        self.each_name("", &mut |name| {
            let distance = strsim::osa_distance(wrong, name);
            if distance <= 1 + name.len() / 4
                && best.as_ref().is_none_or(|(least, _)| distance < *least)
            {
                best = Some((distance, name.to_owned()));
            }
        });
        best.map(|(_, name)| name)
    }
}

fn is_name(name: &str) -> bool {
    let mut characters = name.chars();
    let first = characters.next();
    name.len() <= LONGEST
        && first.is_some_and(|first| first.is_alphabetic() || first == '_')
        && characters.all(|c| c.is_alphanumeric() || matches!(c, '_' | '.'))
        && !name.ends_with('.')
}
