//! Rows of any report as plain cells, so that ours and those by hand are compared.

use mysql_async::Value;
use nepheline::prelude::Decimal;
use rusqlite::types::ValueRef;
use tokio_postgres::types::Type;

/// One value. All numbers are floats, because engines give sums and counts in types of their own.
#[derive(Debug, Clone)]
pub(crate) enum Cell {
    Null,
    Number(f64),
    Text(String),
}

pub(crate) type Line = Vec<Cell>;

impl PartialEq for Cell {
    /// The last digits of float sums depend on the order of the rows.
    fn eq(&self, other: &Cell) -> bool {
        match (self, other) {
            (Cell::Null, Cell::Null) => true,
            (Cell::Number(a), Cell::Number(b)) => (a - b).abs() <= 1e-9 * a.abs().max(b.abs()),
            (Cell::Text(a), Cell::Text(b)) => a == b,
            _ => false,
        }
    }
}

/// The rows that ours reads.
pub(crate) trait IntoLine {
    fn into_line(self) -> Line;
}

pub(crate) trait IntoCell {
    fn into_cell(self) -> Cell;
}

impl IntoCell for i64 {
    fn into_cell(self) -> Cell {
        Cell::Number(self as f64)
    }
}

impl IntoCell for i32 {
    fn into_cell(self) -> Cell {
        Cell::Number(f64::from(self))
    }
}

impl IntoCell for f64 {
    fn into_cell(self) -> Cell {
        Cell::Number(self)
    }
}

impl IntoCell for Decimal {
    fn into_cell(self) -> Cell {
        Cell::Number(self.to_string().parse().unwrap())
    }
}

impl IntoCell for String {
    fn into_cell(self) -> Cell {
        Cell::Text(self)
    }
}

impl<T: IntoCell> IntoCell for Option<T> {
    fn into_cell(self) -> Cell {
        self.map_or(Cell::Null, T::into_cell)
    }
}

macro_rules! tuple_into_line {
    ($($name:ident: $index:tt),*) => {
        impl<$($name: IntoCell),*> IntoLine for ($($name,)*) {
            fn into_line(self) -> Line {
                vec![$(self.$index.into_cell()),*]
            }
        }
    };
}
tuple_into_line!(A: 0);
tuple_into_line!(A: 0, B: 1);
tuple_into_line!(A: 0, B: 1, C: 2);
tuple_into_line!(A: 0, B: 1, C: 2, D: 3);

pub(crate) fn of_sqlite(row: &rusqlite::Row<'_>) -> Line {
    let columns = row.as_ref().column_count();
    let cell = |n| match row.get_ref(n).unwrap() {
        ValueRef::Null => Cell::Null,
        ValueRef::Integer(value) => Cell::Number(value as f64),
        ValueRef::Real(value) => Cell::Number(value),
        ValueRef::Text(text) => Cell::Text(String::from_utf8(text.to_vec()).unwrap()),
        ValueRef::Blob(_) => panic!("no report has bytes"),
    };
    (0..columns).map(cell).collect()
}

pub(crate) fn of_postgres(row: &tokio_postgres::Row) -> Line {
    let cell = |n: usize| match *row.columns()[n].type_() {
        Type::INT4 => row.get::<_, Option<i32>>(n).into_cell(),
        Type::INT8 => row.get::<_, Option<i64>>(n).into_cell(),
        Type::FLOAT8 => row.get::<_, Option<f64>>(n).into_cell(),
        Type::NUMERIC => row.get::<_, Option<Decimal>>(n).into_cell(),
        _ => row.get::<_, Option<String>>(n).into_cell(),
    };
    (0..row.len()).map(cell).collect()
}

pub(crate) fn of_mariadb(row: mysql_async::Row) -> Line {
    let is_number: Vec<bool> = row
        .columns_ref()
        .iter()
        .map(|column| column.column_type().is_numeric_type())
        .collect();
    let cell = |(value, is_number): (Value, bool)| match value {
        Value::NULL => Cell::Null,
        Value::Int(value) => Cell::Number(value as f64),
        Value::UInt(value) => Cell::Number(value as f64),
        Value::Float(value) => Cell::Number(value.into()),
        Value::Double(value) => Cell::Number(value),
        Value::Bytes(text) => {
            let text = String::from_utf8(text).unwrap();
            if is_number { Cell::Number(text.parse().unwrap()) } else { Cell::Text(text) }
        }
        other => panic!("no report has {other:?}"),
    };
    row.unwrap().into_iter().zip(is_number).map(cell).collect()
}
