//! The columns of hand-written statements, matched with what their rows are read into.

use crate::model::{Cell, Cells, ColumnInfo, Error, RowShape, SqlType};

/// The columns that a row type wants.
#[doc(hidden)]
#[derive(Debug, Clone)]
pub struct WantedColumns {
    names: Vec<Option<&'static str>>,
    ignores_others: bool,
}

impl WantedColumns {
    pub(crate) fn of<R: RowShape>() -> WantedColumns {
        let mut names = Vec::with_capacity(R::WIDTH);
        R::wanted(&mut names);
        WantedColumns { names, ignores_others: false }
    }

    pub(crate) fn ignoring_others(self) -> WantedColumns {
        WantedColumns { ignores_others: true, ..self }
    }

    /// Returns the place of each wanted column among those that arrive. Columns with names are found by them, if
    /// all have names; otherwise the columns stand in order, and the names are checked.
    pub(crate) fn places(&self, arrived: &[&str]) -> Result<Vec<usize>, Error> {
        let named: Option<Vec<&'static str>> = self.names.iter().copied().collect();
        match named {
            Some(names) if is_distinct(&names) => self.by_name(&names, arrived),
            _ => self.in_order(arrived),
        }
    }

    fn by_name(&self, names: &[&'static str], arrived: &[&str]) -> Result<Vec<usize>, Error> {
        let mut faults = Vec::new();
        let mut places = Vec::with_capacity(names.len());
        for name in names {
            let mut found = arrived
                .iter()
                .enumerate()
                .filter(|(_, column)| is_named(column, name));
            match (found.next(), found.next()) {
                (Some((place, _)), None) => places.push(place),
                (Some(_), Some(_)) => faults.push(format!("`{name}` is there twice")),
                (None, _) => faults.push(format!("`{name}` is missing")),
            }
        }
        let is_wanted = |column: &str| names.iter().any(|name| is_named(column, name));
        let others = arrived.iter().filter(|column| !is_wanted(column));
        if !self.ignores_others {
            faults.extend(others.map(|column| format!("`{column}` is not wanted")));
        }
        match faults.is_empty() {
            true => Ok(places),
            false => Err(Error::unfit_columns(&faults, &self.names, arrived)),
        }
    }

    fn in_order(&self, arrived: &[&str]) -> Result<Vec<usize>, Error> {
        let mut faults = Vec::new();
        let is_long = arrived.len() > self.names.len() && !self.ignores_others;
        if arrived.len() < self.names.len() || is_long {
            faults.push(format!("{} columns are wanted", self.names.len()));
        }
        for (place, (wanted, column)) in self.names.iter().zip(arrived).enumerate() {
            match wanted {
                Some(name) if !is_named(column, name) => {
                    faults.push(format!("column {} is `{column}` instead of `{name}`", place + 1));
                }
                _ => {}
            }
        }
        match faults.is_empty() {
            true => Ok((0..self.names.len()).collect()),
            false => Err(Error::unfit_columns(&faults, &self.names, arrived)),
        }
    }
}

/// Adds the types of columns; the derives call it.
#[doc(hidden)]
pub fn type_columns(columns: &'static [ColumnInfo], types: &mut Vec<(SqlType, bool)>) {
    types.extend(
        columns
            .iter()
            .map(|column| (column.sql_type(), column.is_nullable())),
    );
}

/// Adds the names of these columns; a derive calls it.
#[doc(hidden)]
pub fn name_columns(columns: &'static [ColumnInfo], names: &mut Vec<Option<&'static str>>) {
    names.extend(columns.iter().map(|column| Some(column.name())));
}

/// Returns whether a column has a name: alone, or after the alias that `{columns of T as t}` puts before it.
fn is_named(column: &str, name: &str) -> bool {
    column == name || column.rsplit_once('.').is_some_and(|(_, own)| own == name)
}

fn is_distinct(names: &[&str]) -> bool {
    names
        .iter()
        .enumerate()
        .all(|(number, name)| !names[..number].contains(name))
}

/// A row of a hand-written statement, whose columns were matched by name.
#[doc(hidden)]
#[derive(Debug)]
pub struct ByName<R>(R);

impl<R> ByName<R> {
    pub fn into_row(self) -> R {
        self.0
    }
}

impl<R: RowShape> RowShape for ByName<R> {
    const WIDTH: usize = R::WIDTH;
    const BY_NAME: bool = true;

    fn read<C: Cells>(cells: &mut C) -> Result<ByName<R>, Error> {
        R::read(&mut Matched { cells, next: 0 }).map(ByName)
    }

    fn wanted(names: &mut Vec<Option<&'static str>>) {
        R::wanted(names);
    }

    fn cell_types(types: &mut Vec<(SqlType, bool)>) {
        R::cell_types(types);
    }
}

/// A row that is read and dropped.
#[doc(hidden)]
#[derive(Debug, Clone, Copy)]
pub struct NoRow;

impl RowShape for NoRow {
    const WIDTH: usize = 0;

    fn read<C: Cells>(_: &mut C) -> Result<NoRow, Error> {
        Ok(NoRow)
    }
}

/// The cells of a row in the order in which they are wanted. The places of the wanted columns stand where other
/// statements have those of their keys.
struct Matched<'c, C> {
    cells: &'c mut C,
    next: usize,
}

impl<C: Cells> Cells for Matched<'_, C> {
    fn next_cell(&mut self) -> Cell<'_> {
        let place = self.cells.key_cells().get(self.next).copied();
        self.cells.go_to(place.unwrap_or(self.next));
        self.next += 1;
        self.cells.next_cell()
    }

    fn width(&self) -> usize {
        self.cells.key_cells().len()
    }

    fn back(&mut self, cells: usize) {
        self.next -= cells;
    }

    fn go_to(&mut self, cell: usize) {
        self.next = cell;
    }

    fn key_cells(&self) -> &[usize] {
        &[]
    }
}
