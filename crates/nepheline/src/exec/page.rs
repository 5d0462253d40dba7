//! Pages: numbered ones with totals, and keyset pagination.

use std::fmt;
use std::net::IpAddr;
use std::str::FromStr;
use std::sync::Arc;
use std::vec;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use nepheline_core::internal::{CompileContext, KeyPart, Keyset, Sent};
use nepheline_core::{BindValue, Error, NativeType, SqlType, Storable};
use nepheline_core::internal::serde::ser::{Serialize, SerializeStruct, Serializer};
use rust_decimal::Decimal;
use uuid::Uuid;

use super::cursor_keys::{self, CursorKeys};

/// The number and the size of a page.
///
/// ```
/// use nepheline::Paging;
/// let third = Paging::page_size(20).page(3);
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Paging {
    size: u64,
    number: u64,
}

impl Paging {
    /// Returns the first page of this size.
    pub fn page_size(size: u64) -> Paging {
        Paging { size, number: 1 }
    }

    /// Sets the number of the page, counted from 1.
    pub fn page(mut self, number: u64) -> Paging {
        self.number = number;
        self
    }

    /// Returns the number of rows before the page.
    pub(crate) fn offset(self) -> Result<u64, Error> {
        match (self.size, self.number) {
            (0, _) => Err(Error::invalid_page("a page size must be at least 1")),
            (_, 0) => Err(Error::invalid_page("pages are counted from 1")),
            (size, number) => Ok((number - 1).saturating_mul(size)),
        }
    }

    pub(crate) fn size(self) -> u64 {
        self.size
    }
}

/// A page of rows, with the total number of rows. [`read_page`](crate::RunsQueries::read_page) returns it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Page<R> {
    rows: Vec<R>,
    paging: Paging,
    all: u64,
}

impl<R> Page<R> {
    pub(crate) fn new(rows: Vec<R>, paging: Paging, all: u64) -> Page<R> {
        Page { rows, paging, all }
    }

    /// Returns the rows of the page. Beyond the last page there are none.
    pub fn rows(&self) -> &[R] {
        &self.rows
    }

    /// Returns the rows of the page.
    pub fn into_rows(self) -> Vec<R> {
        self.rows
    }

    /// Returns the number of the page, from 1, as it was requested.
    pub fn number(&self) -> u64 {
        self.paging.number
    }

    /// Returns the number of rows of the query, on all pages.
    pub fn total_rows(&self) -> u64 {
        self.all
    }

    /// Returns the number of pages; 0 if there is no row.
    pub fn total_pages(&self) -> u64 {
        self.all.div_ceil(self.paging.size)
    }

    /// Returns whether a page precedes this one.
    pub fn has_before(&self) -> bool {
        self.paging.number > 1 && self.all > 0
    }

    /// Returns whether a page follows this one.
    pub fn has_after(&self) -> bool {
        self.paging.number < self.total_pages()
    }
}

/// Writes `rows`, `page`, `total_pages` and `total_rows`.
impl<R: Serialize> Serialize for Page<R> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        let mut page = serializer.serialize_struct("Page", 4)?;
        page.serialize_field("rows", &self.rows)?;
        page.serialize_field("page", &self.number())?;
        page.serialize_field("total_pages", &self.total_pages())?;
        page.serialize_field("total_rows", &self.all)?;
        page.end()
    }
}

impl<R> IntoIterator for Page<R> {
    type Item = R;
    type IntoIter = vec::IntoIter<R>;

    fn into_iter(self) -> vec::IntoIter<R> {
        self.rows.into_iter()
    }
}

/// Rows of a query in its order, with cursors for the rows before and after them.
/// [`read_after`](crate::RunsQueries::read_after) returns it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct CursoredRows<R> {
    rows: Vec<R>,
    before: Option<Cursor>,
    after: Option<Cursor>,
}

impl<R> CursoredRows<R> {
    /// Returns the rows in the order of the query.
    pub fn rows(&self) -> &[R] {
        &self.rows
    }

    /// Returns the rows in the order of the query.
    pub fn into_rows(self) -> Vec<R> {
        self.rows
    }

    /// Returns the cursor for [`read_before`](crate::RunsQueries::read_before), if there are rows before
    /// these.
    pub fn before(&self) -> Option<&Cursor> {
        self.before.as_ref()
    }

    /// Returns the cursor for [`read_after`](crate::RunsQueries::read_after), if there are rows after these.
    pub fn after(&self) -> Option<&Cursor> {
        self.after.as_ref()
    }
}

impl<R> IntoIterator for CursoredRows<R> {
    type Item = R;
    type IntoIter = vec::IntoIter<R>;

    fn into_iter(self) -> vec::IntoIter<R> {
        self.rows.into_iter()
    }
}

/// A position in the rows of a query, as text that can be part of a URL.
///
/// It contains the values that the row is ordered by, so it stays valid while rows are added and removed. It
/// is accepted by queries with the same tables and order, whatever they filter and select, so it also stays
/// valid when the program gains a column. Any other query refuses it.
///
/// By default **everyone who has a cursor can read those values, and can make another one**: a digest only
/// detects that it was cut or belongs to another query. A handle that carries [`CursorKeys`] encrypts and
/// authenticates its cursors, and refuses others.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Cursor(String);

impl fmt::Display for Cursor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Accepts any text; it is checked when it is used.
impl FromStr for Cursor {
    type Err = std::convert::Infallible;

    fn from_str(text: &str) -> Result<Cursor, Self::Err> {
        Ok(Cursor(text.to_owned()))
    }
}

impl Cursor {
    fn of(
        structure: &str,
        keys: Option<&CursorKeys>,
        types: &[SqlType],
        place: &[KeyPart],
    ) -> Result<Cursor, Error> {
        let values = place.iter().zip(types).map(|(key, sql_type)| {
            let bind = key.to_bind(*sql_type);
            bind.and_then(|bind| text_of(&bind)).ok_or_else(|| {
                Error::invalid_page("an order by a value of this type has no cursor")
            })
        });
        let values: Vec<Option<String>> = values.collect::<Result<_, _>>()?;
        let payload = serde_json::to_vec(&values)
            .map_err(|err| Error::invalid_page("a cursor cannot be written").caused_by(err))?;
        let sealed = cursor_keys::seal(keys, structure, payload)?;
        Ok(Cursor(URL_SAFE_NO_PAD.encode(sealed)))
    }

    fn place(
        &self,
        structure: &str,
        keys: Option<&CursorKeys>,
        types: &[(SqlType, bool)],
    ) -> Result<Vec<BindValue>, Error> {
        let foreign = || Error::invalid_page("the cursor does not belong to this query, or was changed");
        let sealed = URL_SAFE_NO_PAD.decode(&self.0).map_err(|_| foreign())?;
        let payload = cursor_keys::open(keys, structure, &sealed).ok_or_else(foreign)?;
        let values: Vec<Option<String>> = serde_json::from_slice(&payload).map_err(|_| foreign())?;
        if values.len() != types.len() {
            return Err(foreign());
        }
        let place = values.iter().zip(types).map(|(value, (sql_type, nullable))| match value {
            Some(text) => bind_of(*sql_type, text),
            None => nullable.then_some(BindValue::Null(*sql_type)),
        });
        place.collect::<Option<_>>().ok_or_else(foreign)
    }
}

/// Returns a value as the text of a cursor, with `None` inside for NULL; `None` if it has no text.
fn text_of(bind: &BindValue) -> Option<Option<String>> {
    Some(Some(match bind {
        BindValue::Null(_) => return Some(None),
        BindValue::Bool(value) => value.to_string(),
        BindValue::Int(value) => value.to_string(),
        // The shortest text that reads back as the same float.
        BindValue::Float(value) => format!("{value:?}"),
        BindValue::Text(text) => text.to_string(),
        // The number would change its meaning when the type gets a value in between.
        BindValue::Enum(..) => match bind.sent() {
            Sent::Text(text) => text.to_owned(),
            _ => return None,
        },
        BindValue::Bytes(bytes) => URL_SAFE_NO_PAD.encode(bytes),
        other => other.plain_text()?,
    }))
}

fn bind_of(sql_type: SqlType, text: &str) -> Option<BindValue> {
    fn parsed<T: FromStr + Storable>(text: &str) -> Option<BindValue> {
        text.parse::<T>().ok().map(|value| value.to_bind())
    }
    match sql_type {
        SqlType::Boolean => parsed::<bool>(text),
        SqlType::SmallInt | SqlType::Integer | SqlType::BigInt => parsed::<i64>(text),
        SqlType::Real | SqlType::Double => parsed::<f64>(text),
        SqlType::Text => Some(BindValue::Text(text.into())),
        SqlType::Enum(kind) => kind.bind_of(text),
        SqlType::Native(NativeType::Inet) => parsed::<IpAddr>(text),
        SqlType::Bytes => URL_SAFE_NO_PAD.decode(text).ok().map(|bytes| bytes.to_bind()),
        SqlType::Date => parsed::<Date>(text),
        SqlType::Time => parsed::<Time>(text),
        SqlType::DateTime => parsed::<DateTime>(text),
        SqlType::Timestamp => parsed::<Timestamp>(text),
        SqlType::Uuid => parsed::<Uuid>(text),
        SqlType::Decimal => parsed::<Decimal>(text),
        _ => None,
    }
}

/// The direction in which rows are read from a cursor.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Way {
    After,
    Before,
}

/// A page of keyset pagination that has not been read yet.
#[derive(Debug)]
pub(crate) struct KeysetRead {
    pub(crate) keyset: Keyset,
    structure: Arc<str>,
    cursor_keys: Option<CursorKeys>,
    types: Vec<SqlType>,
    rows: usize,
    way: Way,
    /// True if it begins at a cursor instead of an end.
    from_cursor: bool,
}

impl KeysetRead {
    pub(crate) fn new<Q: nepheline_core::internal::Selects>(
        query: &Q,
        context: CompileContext<'_>,
        cursor: Option<&Cursor>,
        rows: u32,
        way: Way,
    ) -> Result<KeysetRead, Error> {
        let ask = || {
            if rows == 0 {
                return Err(Error::invalid_page("a page size must be at least 1"));
            }
            let mut keyset = Keyset::of(query, false)?;
            let structure = keyset.structure(query, context.grammar)?;
            let cursor_keys = context.carried.get::<CursorKeys>();
            if way == Way::Before {
                keyset = Keyset::of(query, true)?;
            }
            let types: Vec<_> = keyset.types().collect();
            if let Some(cursor) = cursor {
                keyset = keyset.after(cursor.place(&structure, cursor_keys, &types)?);
            }
            let rows = rows as usize;
            Ok(KeysetRead {
                // One row more, to learn whether there is any.
                keyset: keyset.limited(rows as u64 + 1),
                structure,
                cursor_keys: cursor_keys.cloned(),
                types: types.into_iter().map(|(sql_type, _)| sql_type).collect(),
                rows,
                way,
                from_cursor: cursor.is_some(),
            })
        };
        ask().map_err(|err| err.asked_at(query.asked_at()))
    }

    /// Returns whether there are more rows than requested, and removes the additional one.
    pub(crate) fn has_more<R>(&self, rows: &mut Vec<R>) -> bool {
        let more = rows.len() > self.rows;
        rows.truncate(self.rows);
        more
    }

    /// Returns the page of these rows, with the positions `keys`, in the order in which they were read.
    pub(crate) fn cursored<R>(
        &self,
        mut rows: Vec<R>,
        keys: &[impl AsRef<[KeyPart]>],
        more: bool,
    ) -> Result<CursoredRows<R>, Error> {
        let cursor = |keys: Option<&[KeyPart]>| {
            keys.map(|keys| Cursor::of(&self.structure, self.cursor_keys.as_ref(), &self.types, keys)).transpose()
        };
        let first = keys.first().map(AsRef::as_ref).filter(|_| self.from_cursor);
        let last = keys.last().map(AsRef::as_ref).filter(|_| more);
        let (mut before, mut after) = (cursor(first)?, cursor(last)?);
        if self.way == Way::Before {
            rows.reverse();
            std::mem::swap(&mut before, &mut after);
        }
        Ok(CursoredRows { rows, before, after })
    }
}
