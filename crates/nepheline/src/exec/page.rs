//! Pages: numbered ones with totals, and ones that go on after a row.

use std::fmt;
use std::str::FromStr;
use std::vec;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use nepheline_core::internal::{Asking, KeyPart, Keyset};
use nepheline_core::{BindValue, Error, SqlType, Storable};
use rust_decimal::Decimal;
use uuid::Uuid;

use super::cursor_keys::{self, CursorKeys};

/// Which page is wanted, and how many rows a page has.
///
/// ```
/// use nepheline::Paging;
/// let third = Paging::of(20).number(3);
/// ```
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Paging {
    size: u64,
    number: u64,
}

impl Paging {
    /// Pages of so many rows; the first of them.
    pub fn of(size: u64) -> Paging {
        Paging { size, number: 1 }
    }

    /// The page with this number, counted from 1.
    pub fn number(mut self, number: u64) -> Paging {
        self.number = number;
        self
    }

    /// Returns how many rows come before the page.
    pub(crate) fn offset(self) -> Result<u64, Error> {
        match (self.size, self.number) {
            (0, _) => Err(Error::unfit_page("a page has one row at least")),
            (_, 0) => Err(Error::unfit_page("pages are counted from 1")),
            (size, number) => Ok((number - 1).saturating_mul(size)),
        }
    }

    pub(crate) fn size(self) -> u64 {
        self.size
    }
}

/// Some of the rows of a query, and how many there are in all. It is what
/// [`read_page`](crate::Handle::read_page) gives.
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

    /// The rows of the page. Beyond the last page there are none.
    pub fn rows(&self) -> &[R] {
        &self.rows
    }

    /// The rows of the page.
    pub fn into_rows(self) -> Vec<R> {
        self.rows
    }

    /// The number of the page, from 1, as it was asked for.
    pub fn number(&self) -> u64 {
        self.paging.number
    }

    /// Returns how many rows the query has in all.
    pub fn all_rows(&self) -> u64 {
        self.all
    }

    /// Returns how many pages there are in all; none if there is no row.
    pub fn all_pages(&self) -> u64 {
        self.all.div_ceil(self.paging.size)
    }

    /// Returns whether there is a page before this one.
    pub fn has_before(&self) -> bool {
        self.paging.number > 1 && self.all > 0
    }

    /// Returns whether there is a page after this one.
    pub fn has_after(&self) -> bool {
        self.paging.number < self.all_pages()
    }
}

impl<R> IntoIterator for Page<R> {
    type Item = R;
    type IntoIter = vec::IntoIter<R>;

    fn into_iter(self) -> vec::IntoIter<R> {
        self.rows.into_iter()
    }
}

/// Some of the rows of a query in its order, and where to go on from there. It is what
/// [`read_after`](crate::Handle::read_after) gives.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Stretch<R> {
    rows: Vec<R>,
    before: Option<Cursor>,
    after: Option<Cursor>,
}

impl<R> Stretch<R> {
    /// The rows, in the order of the query.
    pub fn rows(&self) -> &[R] {
        &self.rows
    }

    /// The rows, in the order of the query.
    pub fn into_rows(self) -> Vec<R> {
        self.rows
    }

    /// The place for [`read_before`](crate::Handle::read_before), if there are rows before these.
    pub fn before(&self) -> Option<&Cursor> {
        self.before.as_ref()
    }

    /// The place for [`read_after`](crate::Handle::read_after), if there are rows after these.
    pub fn after(&self) -> Option<&Cursor> {
        self.after.as_ref()
    }
}

impl<R> IntoIterator for Stretch<R> {
    type Item = R;
    type IntoIter = vec::IntoIter<R>;

    fn into_iter(self) -> vec::IntoIter<R> {
        self.rows.into_iter()
    }
}

/// A place in the rows of a query, as text that can be part of a URL.
///
/// It holds the values by which the row there is ordered, so it stays right while rows come and go. It belongs to
/// queries of the same tables and order, whatever they filter and select, so that it also stays right when the program
/// gains a column; for any other query it is refused.
///
/// As it is, **whoever has it can read those values, and make another**: a digest detects only that it was cut or belongs
/// to another query. A handle that carries [`CursorKeys`] encrypts and authenticates its cursors, and takes no others.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Cursor(String);

impl fmt::Display for Cursor {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

/// Takes any text; whether it is a cursor of the query is seen when it is used.
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
                Error::unfit_page("an order by a value of this type has no cursor")
            })
        });
        let values: Vec<Option<String>> = values.collect::<Result<_, _>>()?;
        let payload = serde_json::to_vec(&values)
            .map_err(|err| Error::unfit_page("a cursor cannot be written").caused_by(err))?;
        let sealed = cursor_keys::seal(keys, structure, payload)?;
        Ok(Cursor(URL_SAFE_NO_PAD.encode(sealed)))
    }

    fn place(
        &self,
        structure: &str,
        keys: Option<&CursorKeys>,
        types: &[(SqlType, bool)],
    ) -> Result<Vec<BindValue>, Error> {
        let foreign = || Error::unfit_page("the cursor does not belong to this query");
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

/// A value as the text of a cursor, or that it is NULL; nothing if it has none.
fn text_of(bind: &BindValue) -> Option<Option<String>> {
    Some(Some(match bind {
        BindValue::Null(_) => return Some(None),
        BindValue::Bool(value) => value.to_string(),
        BindValue::Int(value) => value.to_string(),
        // The shortest text that is read as the same float again.
        BindValue::Float(value) => format!("{value:?}"),
        BindValue::Text(text) => text.to_string(),
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

/// Which way a stretch is read from its cursor.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Way {
    After,
    Before,
}

/// A stretch before it is read.
#[derive(Debug)]
pub(crate) struct Asked {
    pub(crate) keyset: Keyset,
    structure: String,
    cursor_keys: Option<CursorKeys>,
    types: Vec<SqlType>,
    rows: usize,
    way: Way,
    /// True if it begins at a cursor, and not at an end.
    from_cursor: bool,
}

impl Asked {
    pub(crate) fn new<Q: nepheline_core::internal::Selects>(
        query: &Q,
        asking: Asking<'_>,
        cursor: Option<&Cursor>,
        rows: u32,
        way: Way,
    ) -> Result<Asked, Error> {
        let ask = || {
            if rows == 0 {
                return Err(Error::unfit_page("a page has one row at least"));
            }
            let mut keyset = Keyset::of(query, false)?;
            let structure = keyset.structure(asking.grammar)?;
            let cursor_keys = asking.carried.get::<CursorKeys>();
            if way == Way::Before {
                keyset = Keyset::of(query, true)?;
            }
            let types: Vec<_> = keyset.types().collect();
            if let Some(cursor) = cursor {
                keyset = keyset.after(cursor.place(&structure, cursor_keys, &types)?);
            }
            let rows = rows as usize;
            Ok(Asked {
                // One more, to learn whether there is any.
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

    /// Returns whether there are more rows than were asked for; the one that says so is taken away.
    pub(crate) fn has_more<R>(&self, rows: &mut Vec<R>) -> bool {
        let more = rows.len() > self.rows;
        rows.truncate(self.rows);
        more
    }

    /// The stretch of these rows, whose places are `keys`, in the order in which they were read.
    pub(crate) fn stretch<R>(
        &self,
        mut rows: Vec<R>,
        keys: &[impl AsRef<[KeyPart]>],
        more: bool,
    ) -> Result<Stretch<R>, Error> {
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
        Ok(Stretch { rows, before, after })
    }
}
