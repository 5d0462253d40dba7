//! PostgreSQL's values as cells, from their binary form.

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use nepheline_core::{Cell, Cells, NativeText};
use rust_decimal::Decimal;
use tokio_postgres::Row;
use tokio_postgres::types::{FromSql, Kind, Type};
use uuid::Uuid;

use super::native::text_of;

/// The cells of one row, from left to right.
pub(crate) struct RowCells<'r> {
    row: &'r Row,
    key_cells: &'r [usize],
    next: usize,
    /// The text of the last cell, if its type has no cell of its own.
    native: NativeText,
}

impl<'r> RowCells<'r> {
    pub(super) fn new(row: &'r Row, key_cells: &'r [usize]) -> Self {
        RowCells { row, key_cells, next: 0, native: NativeText::default() }
    }
}

impl Cells for RowCells<'_> {
    #[inline]
    fn back(&mut self, cells: usize) {
        self.next -= cells;
    }

    fn go_to(&mut self, cell: usize) {
        self.next = cell;
    }

    fn width(&self) -> usize {
        self.row.len()
    }

    fn key_cells(&self) -> &[usize] {
        self.key_cells
    }

    #[inline]
    fn next_cell(&mut self) -> Cell<'_> {
        let position = self.next;
        self.next += 1;
        match self.row.try_get::<_, Arrived<'_>>(position) {
            Ok(Arrived(Some(cell))) => cell,
            _ => self.native_cell(position),
        }
    }
}

impl RowCells<'_> {
    /// Returns a cell whose type is less usual.
    #[cold]
    fn native_cell(&mut self, position: usize) -> Cell<'_> {
        let Some(column) = self.row.columns().get(position) else {
            return Cell::Unknown("no such column");
        };
        let sql_type = column.type_().name();
        match self.row.try_get::<_, ArrivedText>(position) {
            Ok(ArrivedText(Some(text))) => {
                self.native = NativeText { sql_type: sql_type.to_owned(), text };
                Cell::Native(&self.native)
            }
            _ => Cell::Unknown(sql_type),
        }
    }
}

/// The text of a cell, if it has one.
struct ArrivedText(Option<String>);

impl<'r> FromSql<'r> for ArrivedText {
    fn from_sql(ty: &Type, raw: &'r [u8]) -> Result<ArrivedText, Failure> {
        text_of(ty, raw).map(ArrivedText)
    }

    fn accepts(_: &Type) -> bool {
        true
    }
}

/// A cell, if its type is known.
pub(super) struct Arrived<'r>(pub(super) Option<Cell<'r>>);

type Failure = Box<dyn std::error::Error + Sync + Send>;

impl<'r> FromSql<'r> for Arrived<'r> {
    #[inline]
    fn from_sql(ty: &Type, raw: &'r [u8]) -> Result<Arrived<'r>, Failure> {
        let cell = match *ty {
            Type::INT8 => Cell::Int(i64::from_sql(ty, raw)?),
            Type::FLOAT8 => Cell::Float(f64::from_sql(ty, raw)?),
            Type::TEXT | Type::VARCHAR | Type::BPCHAR | Type::NAME | Type::JSON | Type::UNKNOWN => {
                Cell::Text(<&str>::from_sql(ty, raw)?)
            }
            Type::BOOL => Cell::Bool(bool::from_sql(ty, raw)?),
            Type::INT4 => Cell::Int(i32::from_sql(ty, raw)?.into()),
            Type::INT2 => Cell::Int(i16::from_sql(ty, raw)?.into()),
            Type::FLOAT4 => Cell::Float(f32::from_sql(ty, raw)?.into()),
            Type::BYTEA => Cell::Bytes(raw),
            Type::DATE => Cell::Date(Date::from_sql(ty, raw)?),
            Type::TIME => Cell::Time(Time::from_sql(ty, raw)?),
            Type::TIMESTAMP => Cell::DateTime(DateTime::from_sql(ty, raw)?),
            Type::TIMESTAMPTZ => Cell::Timestamp(Timestamp::from_sql(ty, raw)?),
            Type::UUID => Cell::Uuid(Uuid::from_sql(ty, raw)?),
            Type::NUMERIC => match numeric(raw) {
                Some(decimal) => Cell::Decimal(decimal),
                None => return Ok(Arrived(None)),
            },
            // The binary form of jsonb is its text after a version number.
            Type::JSONB => match raw.split_first() {
                Some((1, text)) => Cell::Text(std::str::from_utf8(text)?),
                _ => return Ok(Arrived(None)),
            },
            _ => match ty.kind() {
                // The name of the value, as text.
                Kind::Enum(_) => Cell::Text(std::str::from_utf8(raw)?),
                _ => return Ok(Arrived(None)),
            },
        };
        Ok(Arrived(Some(cell)))
    }

    fn from_sql_null(_: &Type) -> Result<Arrived<'r>, Failure> {
        Ok(Arrived(Some(Cell::Null)))
    }

    fn accepts(_: &Type) -> bool {
        true
    }
}

/// Reads a numeric without loss; `None` for more digits than fit, and for NaN and infinity. Zeros at the end that do not fit are
/// left out. The binary form has the number of its groups of four digits, the place of the first group, the sign, the number of
/// digits after the point, and the groups.
fn numeric(raw: &[u8]) -> Option<Decimal> {
    let words = raw.as_chunks::<2>().0;
    let mut words = words.iter().map(|word| i16::from_be_bytes(*word));
    let (groups, first, sign, shown) = (words.next()?, words.next()?, words.next()?, words.next()?);
    let mut digits = 0_i128;
    for group in words {
        digits = digits.checked_mul(10_000)?.checked_add(group.into())?;
    }
    let mut scale = if digits == 0 { 0 } else { (i32::from(groups) - 1 - i32::from(first)) * 4 };
    while scale > 0 && digits % 10 == 0 {
        (digits, scale) = (digits / 10, scale - 1);
    }
    while scale < i32::from(shown).min(MOST_DIGITS) {
        match digits.checked_mul(10).filter(|more| *more < LIMIT) {
            Some(more) => (digits, scale) = (more, scale + 1),
            None if scale >= 0 => break,
            None => return None,
        }
    }
    let digits = match sign {
        0 => digits,
        NEGATIVE => -digits,
        _ => return None,
    };
    Decimal::try_from_i128_with_scale(digits, u32::try_from(scale).ok()?).ok()
}

/// Returns the text of a numeric of any length.
pub(super) fn numeric_text(raw: &[u8]) -> Option<String> {
    let (head, groups) = raw.split_first_chunk::<8>()?;
    let word = |at: usize| i16::from_be_bytes([head[at], head[at + 1]]);
    let (first, sign, shown) = (word(2), word(4), word(6));
    let sign = match sign {
        0 => "",
        NEGATIVE => "-",
        _ => return Some("NaN or infinity".into()),
    };
    let groups = groups.as_chunks::<2>().0.iter();
    let groups: Vec<i16> = groups.map(|group| i16::from_be_bytes(*group)).collect();
    let group = |place: i32| {
        let at = usize::try_from(i32::from(first) - place);
        at.ok().and_then(|at| groups.get(at)).copied().unwrap_or(0)
    };
    let whole: String = (0..=i32::from(first)).rev().map(|place| format!("{:04}", group(place))).collect();
    let whole = match whole.trim_start_matches('0') {
        "" => "0",
        whole => whole,
    };
    let shown = usize::try_from(shown).ok()?;
    let groups_shown = i32::try_from(shown.div_ceil(4)).ok()?;
    let mut fraction: String = (1..=groups_shown).map(|place| format!("{:04}", group(-place))).collect();
    fraction.truncate(shown);
    let point = if shown > 0 { "." } else { "" };
    Some(format!("{sign}{whole}{point}{fraction}"))
}

/// The sign of negative numbers in the binary form.
const NEGATIVE: i16 = 0x4000;

/// The most digits of a decimal after the point.
const MOST_DIGITS: i32 = 28;

/// The least number that does not fit the 96 bits of a decimal.
const LIMIT: i128 = 1 << 96;
